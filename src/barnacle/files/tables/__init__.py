"""Contacts as rows: comma-separated values and workbooks, what their columns hold, and what becomes of a row.

May import `core`, and of `files` what every reader needs: encodings and drafts.
"""
