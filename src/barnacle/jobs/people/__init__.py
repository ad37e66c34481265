"""People in the book: added, changed, told apart, merged, removed.

May import `jobs.desk`.
"""
