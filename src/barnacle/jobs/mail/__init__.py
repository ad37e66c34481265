"""Messages: composed, looked at, held back, sent, and what comes back.

May import `jobs.desk`, `jobs.people` and `jobs.lists`.
"""
