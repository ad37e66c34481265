"""Many new contacts at once: prepared without the book, and written together."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from barnacle.book import index
from barnacle.book.contacts import values_of
from barnacle.book.schema import added_trigger
from barnacle.book.store import Book
from barnacle.core.contact import Contact

_CACHE_KIB = 96 * 1024
_TABLES = ("contact", "member")


@dataclass(slots=True)
class Rows:
    """New contacts as rows of the book's tables, each with the number the contact will have.

    Addresses in the order of their place are written faster: neighbours stand together.
    """

    contacts: list[tuple[Any, ...]] = field(default_factory=list)
    facts: list[tuple[Any, ...]] = field(default_factory=list)
    words: list[tuple[int, str]] = field(default_factory=list)
    addresses: list[tuple[str, int, int]] = field(default_factory=list)
    labels: list[tuple[str, int]] = field(default_factory=list)

    def add(self, number: int, contact: Contact) -> list[int]:
        """A contact that has a uid and was in no book before. Returns the hashes of its addresses."""
        indexed = index.index_of(contact)
        self.contacts.append((number, *values_of(contact)))
        self.facts.append((number, *indexed.facts))
        self.words.append((number, index.words_of(indexed.facts)))
        for domain, value in indexed.addresses:
            self.addresses.append((domain, value, number))
        for label in indexed.labels:
            self.labels.append((label, number))
        return [value for _, value in indexed.addresses]

    def without(self, numbers: set[int]) -> Rows:
        """The rows of all other contacts."""
        return Rows(
            [row for row in self.contacts if row[0] not in numbers],
            [row for row in self.facts if row[0] not in numbers],
            [row for row in self.words if row[0] not in numbers],
            [row for row in self.addresses if row[2] not in numbers],
            [row for row in self.labels if row[1] not in numbers],
        )


def first_number(book: Book) -> int:
    """The lowest number that no contact has or ever had."""
    return _last(book, "contact") + 1


def _last(book: Book, table: str) -> int:
    row = book.db.execute("SELECT seq FROM sqlite_sequence WHERE name = ?", (table,)).fetchone()
    return row[0] if row else 0


@contextmanager
def adding(book: Book) -> Iterator[None]:
    """Lets many contacts and members be added inside a running action.

    A trigger for each row would take as long as all the rest: the journal's entries of the new rows are written at
    the end, in one go, and stand for all that happened to these rows within the action.
    """
    assert book.current is not None
    book.db.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
    first = {table: _last(book, table) + 1 for table in _TABLES}
    for table in _TABLES:
        book.db.execute(f"DROP TRIGGER {table}_added")
    yield
    for table in _TABLES:
        book.db.execute(
            "DELETE FROM journal WHERE action = ? AND tbl = ? AND row >= ?", (book.action_id, table, first[table])
        )
        book.db.execute(
            f"INSERT INTO journal(action, tbl, row) SELECT ?, ?, id FROM {table} WHERE id >= ? ORDER BY id",
            (book.action_id, table, first[table]),
        )
        book.db.execute(added_trigger(table))


def write(book: Book, rows: Rows) -> None:
    """Write new contacts."""
    book.db.executemany(
        "INSERT INTO contact(id, uid, name, name_key, opted_out, card) VALUES(?, ?, ?, ?, ?, ?)", rows.contacts
    )
    index.insert(book.db, rows.facts, rows.words, rows.addresses, rows.labels, [])


Holder = tuple[int, str, str]


def wanted(addresses: list[tuple[str, int, int]]) -> str:
    """The question of `holders` for these rows of addresses."""
    return json.dumps({value: domain for domain, value, _ in addresses})


def holders(book: Book, question: str) -> dict[int, list[Holder]]:
    """Who has addresses at the places asked for, by the place's hash, longest known first: number, uid and card."""
    found: dict[int, list[Holder]] = {}
    rows = book.db.execute(
        "SELECT a.hash, c.id, c.uid, c.card FROM json_each(?) j JOIN contact_address a"
        " ON a.domain = j.value AND a.hash = CAST(j.key AS INTEGER) JOIN contact c ON c.id = a.contact ORDER BY c.id",
        (question,),
    )
    for value, *row in rows:
        found.setdefault(value, []).append((row[0], row[1], row[2]))
    return found
