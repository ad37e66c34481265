"""Lists: made, filled, kept by rules, looked over.

May import `jobs.desk` and `jobs.people`.
"""
