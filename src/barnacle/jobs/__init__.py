"""One function for each thing a person does; what another front end would call.

The only place where book, files and net meet. The folders stand in the order in which they may import each other:
`desk`, `people`, `lists`, `imports`, `mail`, `sharing`, and the single modules last.
"""
