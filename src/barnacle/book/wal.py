"""The write-ahead log beside a book (SQLite file format, section 4): whether it belongs to it. Services that keep
folders alike copy file by file, and may leave the log of an older state beside a newer book."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from barnacle.core.typed import Any

_HEADER = 32
_ACTIONS = "SELECT id, at, command FROM action"


def is_stale(path: Path) -> bool:
    """Whether the log would take a book back to before its last change. The log is looked at, not applied."""
    log = path.with_name(f"{path.name}-wal")
    try:
        if log.stat().st_size <= _HEADER:
            return False
    except OSError:
        return False
    place = path.resolve().as_uri()
    try:
        alone = _asked(f"{place}?immutable=1", f"{_ACTIONS} ORDER BY id DESC LIMIT 1")
        both = _asked(f"{place}?mode=ro", f"{_ACTIONS} WHERE id = ?", alone[0]) if alone else None
    except sqlite3.Error:
        return False  # half of the log may have been taken over when the machine stopped: applying it mends that
    return alone is not None and both != alone


def _asked(uri: str, question: str, *values: Any) -> tuple[Any, ...] | None:
    with closing(sqlite3.connect(uri, uri=True)) as db:
        found: tuple[Any, ...] | None = db.execute(question, values).fetchone()
        return found
