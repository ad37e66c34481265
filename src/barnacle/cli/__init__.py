"""The command line: arguments, tables, questions, JSON, exit codes."""
