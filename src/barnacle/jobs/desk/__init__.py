"""Where a person's things are, what is set, and what a name of theirs means.

May import book, files, net and core, and nothing else of `jobs`.
"""
