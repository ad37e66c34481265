"""The store: one SQLite file, the journal that undo reads, and the queries."""
