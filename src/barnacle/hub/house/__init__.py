"""House lists: shared lists with an address of their own."""
