"""The write-ahead log beside a book (SQLite file format, section 4): whether it belongs to it. Services that keep
folders alike copy file by file, and may leave the log of an older state beside a newer book."""

from __future__ import annotations

import sqlite3
from pathlib import Path

_HEADER = 32
_LAST = "SELECT id, at, command FROM action ORDER BY id DESC LIMIT 1"


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
        alone = _last(f"{place}?immutable=1")
        both = _at(f"{place}?mode=ro", alone[0]) if alone else None
    except sqlite3.Error:
        return False  # half of the log may have been taken over when the machine stopped: applying it mends that
    return alone is not None and both != alone


def _last(uri: str) -> tuple[int, str, str] | None:
    db = sqlite3.connect(uri, uri=True)
    try:
        found: tuple[int, str, str] | None = db.execute(_LAST).fetchone()
        return found
    finally:
        db.close()


def _at(uri: str, number: int) -> tuple[int, str, str] | None:
    db = sqlite3.connect(uri, uri=True)
    try:
        found: tuple[int, str, str] | None = db.execute(
            "SELECT id, at, command FROM action WHERE id = ?", (number,)
        ).fetchone()
        return found
    finally:
        db.close()
