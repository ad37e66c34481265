"""SQLite files: what stands in their tables, and what was deleted and is still in the file."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from barnacle.files.contents.bounds import Found, Trail
from barnacle.files.contents.words import addresses_in, as_text

_AT_ONCE = 1000


def tables(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """Every value of every table, and whatever looks like an address anywhere in the file."""
    yield from trail.passage(addresses_in(data), "the text")
    with sqlite3.connect(":memory:") as db:
        # A file in write-ahead mode cannot be read from memory: what its header says of that is put back (1).
        db.deserialize(data[:18] + b"\x01\x01" + data[20:])
        db.execute("PRAGMA trusted_schema = OFF")
        db.text_factory = lambda octets: octets.decode("utf-8", "replace")
        found = db.execute("SELECT name, sql FROM sqlite_schema WHERE type = 'table'").fetchall()
        for table, sql in found:
            if str(sql).upper().startswith("CREATE VIRTUAL"):
                continue
            trail.bounds.one_more()
            cursor = db.execute(f'SELECT * FROM "{str(table).replace(chr(34), chr(34) * 2)}"')
            while rows := cursor.fetchmany(_AT_ONCE):
                lines = "\n".join("\t".join(_spoken(value) for value in row) for row in rows)
                trail.bounds.take(len(lines))
                yield from trail.passage(lines, f"the table {table}")


def _spoken(value: object) -> str:
    return as_text(value) if isinstance(value, bytes) else str(value)
