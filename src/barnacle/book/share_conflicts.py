"""What is in conflict on shared lists, and waits for a choice."""

from __future__ import annotations

import json

from barnacle.book.store import Book, now
from barnacle.core.typed import Any, NamedTuple

# What the book has of a field, where that is not known: no value of a field is written so.
_UNKNOWN = "{}"


class Open(NamedTuple):
    """A conflict that nobody has settled. `mine` and `theirs` are values of the field, None for "taken off"; `holds` is
    what the book had when it arose, a dict where that is not known."""

    number: int
    row: int
    contact: int
    name: str
    field: str
    mine: Any
    theirs: Any
    holds: Any


def add(book: Book, row: int, contact: int, name: str, field: str, mine: Any, theirs: Any, holds: Any) -> None:
    """Keep a conflict to look at. A newer one about the same field takes the place of an older one, unless a value of
    that would then stand nowhere else."""
    values = [json.dumps(value, ensure_ascii=False) for value in (mine, theirs, holds)]
    book.db.execute(
        "DELETE FROM share_conflict WHERE list = ?1 AND contact = ?2 AND field = ?3"
        " AND ((mine = ?4 AND name = ?6) OR (holds != ?4 AND holds != ?5))",
        (row, contact, field, values[0], _UNKNOWN, name),
    )
    book.db.execute(
        "INSERT INTO share_conflict(list, contact, name, field, mine, theirs, holds, since)"
        " VALUES(?, ?, ?, ?, ?, ?, ?, ?)",
        (row, contact, name, field, *values, now()),
    )


def take_back(book: Book, row: int, name: str, field: str) -> None:
    """What a card said, and was asked about, it says no more."""
    book.db.execute("DELETE FROM share_conflict WHERE list = ? AND name = ? AND field = ?", (row, name, field))


def every(book: Book, row: int | None = None) -> list[Open]:
    """Open conflicts, of one list or all, oldest first."""
    rows = book.db.execute(
        "SELECT number, list, contact, name, field, mine, theirs, holds FROM share_conflict"
        " WHERE ?1 IS NULL OR list = ?1 ORDER BY number",
        (row,),
    )
    return [Open(*found[:5], *(json.loads(value) for value in found[5:])) for found in rows]


def hold(book: Book, contact: int, field: str, value: Any) -> None:
    """What the book has of a field that is in conflict, in whichever list, has changed from outside; where it is one's
    own value now, nothing is left to ask."""
    where = " WHERE contact = ?2 AND field = ?3"
    values = (json.dumps(value, ensure_ascii=False), contact, field)
    book.db.execute(f"DELETE FROM share_conflict{where} AND mine = ?1", values)
    book.db.execute(f"UPDATE share_conflict SET holds = ?1{where}", values)


def known_now(book: Book, number: int, value: Any) -> None:
    """What the book has of the field of a conflict which came with a merge."""
    text = json.dumps(value, ensure_ascii=False)
    book.db.execute("UPDATE share_conflict SET holds = ? WHERE number = ?", (text, number))


def merged(book: Book, old: int, new: int) -> None:
    """A contact was merged into another: what waits for a choice is about that one from now on."""
    book.db.execute("UPDATE share_conflict SET contact = ?, holds = ? WHERE contact = ?", (new, _UNKNOWN, old))


def settle(book: Book, number: int) -> None:
    """Take a conflict away."""
    book.db.execute("DELETE FROM share_conflict WHERE number = ?", (number,))
