"""The command line: arguments, tables, questions, JSON, exit codes.

Reaches book, files and net only through `jobs`.
"""
