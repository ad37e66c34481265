"""Files of people, in and out: what kind a file is, and a reader or a writer for each.

May import `core` alone.
"""
