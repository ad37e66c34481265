"""Whose turn it is to write to a database in a file, among all processes of a hub."""

from __future__ import annotations

import os
import time
from pathlib import Path

# How often a writer looks whether it is its turn, in seconds.
_GLANCE = 0.0005


class WritersTurns:
    """A lock on a file. SQLite lets a writer that waits sleep longer and longer, while one that writes all the time, as
    whoever passes mail on does, comes first each time. Nobody waits longer than `patience`, in seconds."""

    def __init__(self, path: Path, patience: float) -> None:
        self.path = path
        self.patience = patience

    def place(self) -> int | None:
        """What one connection waits with; None where the system has no such locks."""
        try:
            import fcntl  # noqa: F401
        except ImportError:
            return None
        return os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)

    def wait(self, place: int | None) -> None:
        """Until it is one's turn; after that the database itself says that it is not."""
        if place is None:
            return
        import fcntl

        end = time.monotonic() + self.patience
        while time.monotonic() < end:
            try:
                fcntl.flock(place, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return
            except OSError:
                time.sleep(_GLANCE)

    def give_up(self, place: int | None) -> None:
        """Let the next one."""
        if place is not None:
            import fcntl

            fcntl.flock(place, fcntl.LOCK_UN)

    def close(self, place: int | None) -> None:
        """A connection is gone."""
        if place is not None:
            os.close(place)
