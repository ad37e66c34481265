"""The write-ahead log beside a book (SQLite file format, section 4): whether it belongs to it. Services that keep
folders alike copy file by file, and may leave the log of an older state beside a newer book."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from barnacle.core.typed import Any

_HEADER = 32
_ACTIONS = "SELECT id, at, command FROM action"


def uri_of(path: Path, how: str) -> str:
    """A file as SQLite is told of it, with a parameter such as `mode=ro` (https://www.sqlite.org/uri.html). As pathlib
    says it, Python 3.14 loads all of HTTP for it."""
    place = str(path.resolve()).replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    return f"file://{place}?{how}"


def is_stale(path: Path) -> bool:
    """Whether the log would take a book back to before its last change. The log is looked at, not applied."""
    log = path.with_name(f"{path.name}-wal")
    try:
        if log.stat().st_size <= _HEADER:
            return False
    except OSError:
        return False
    try:
        alone = _asked(uri_of(path, "immutable=1"), f"{_ACTIONS} ORDER BY id DESC LIMIT 1")
        both = _asked(uri_of(path, "mode=ro"), f"{_ACTIONS} WHERE id = ?", alone[0]) if alone else None
    except sqlite3.Error:
        return False  # half of the log may have been taken over when the machine stopped: applying it mends that
    return alone is not None and both != alone


def _asked(uri: str, question: str, *values: Any) -> tuple[Any, ...] | None:
    with closing(sqlite3.connect(uri, uri=True)) as db:
        found: tuple[Any, ...] | None = db.execute(question, values).fetchone()
        return found
