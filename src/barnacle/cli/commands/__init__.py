"""One module a command, named after it: its arguments, and what it prints.

May import `cli.console`; another command only to share its options.
"""
