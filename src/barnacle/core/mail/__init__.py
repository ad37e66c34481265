"""Messages and their audiences: who gets one, its form on the wire, what it must not reveal, what became of it.

May import the rest of `core`, which imports nothing from here.
"""
