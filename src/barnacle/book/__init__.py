"""The store: one SQLite file, the journal that undo reads, and the queries. All SQL on a book stands here.

May import `core`, and of `files` the one way to write a file whole.
"""
