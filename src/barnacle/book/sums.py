"""Checksums of what matters in a book (CRC-32, ISO/IEC 3309), so that damage is noticed where it is read."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterable

from barnacle.core.errors import BookError

# The columns that a row's checksum is of.
OF_CONTACT = "uid, card"
OF_MESSAGE = "token, subject, mode, doc, created"
OF_LIST = "title, about, pinned, created, rule, sender"
OF_DELIVERY = "message, address, people, state, code, reply, tried"
# Those of rows that have a number.
OF = {"contact": OF_CONTACT, "message": OF_MESSAGE, "list": OF_LIST}


def row_sum(*values: object) -> int:
    """The checksum of a row's values, in their order."""
    text = "\x1f".join("" if value is None else str(value) for value in values)
    return zlib.crc32(text.encode("utf-8", "surrogatepass"))


def contact_sum(uid: str, card: str) -> int:
    """The checksum of a contact's row."""
    return zlib.crc32(f"{uid}\x1f{card}".encode("utf-8", "surrogatepass"))


def row_sums(ones: Iterable[str], others: Iterable[str]) -> list[int]:
    """The checksums of rows of two texts in ASCII."""
    return list(map(zlib.crc32, map(str.encode, map("\x1f".join, zip(ones, others, strict=True)))))


def renew(db: sqlite3.Connection, table: str, row: int) -> None:
    """Write the checksum of a row that has changed."""
    columns = OF[table]
    db.execute(f"UPDATE {table} SET sum = row_sum({columns}) WHERE id = ?", (row,))


def teach(db: sqlite3.Connection) -> None:
    """Let SQL call `row_sum`."""
    db.create_function("row_sum", -1, row_sum, deterministic=True)


class DamagedError(BookError):
    """A row is not as it was written. `opening.told_of_damage` says what to do."""
