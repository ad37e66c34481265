"""What is true about contacts, addresses, lists, audiences and messages: pure, without input or output."""
