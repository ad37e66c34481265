"""What is true about contacts, addresses, lists, audiences and messages: pure, without input or output.

May import nothing of the program but itself.
"""
