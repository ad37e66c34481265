"""What stands in a compound file ([MS-CFB]): documents of the old kinds, and messages that mail programs saved."""

from __future__ import annotations

from pathlib import Path

# What the library raises for a file that is none, or damaged.
DAMAGED = (OSError, ValueError, IndexError, RecursionError, MemoryError)


def has_stream(path: Path, name: str) -> bool:
    """Whether there is a stream of that name at the top of a compound file."""
    import olefile

    try:
        with olefile.OleFileIO(path) as ole:
            return bool(ole.exists(name))
    except DAMAGED:
        return False
