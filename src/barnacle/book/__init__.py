"""The store: one SQLite file, the journal that undo reads, and the queries. All SQL on a book stands here.

May import `core` alone.
"""
