"""Many new contacts at once: prepared without the book, and written together."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import chain, groupby
from operator import itemgetter
from typing import Any

from barnacle.book import index
from barnacle.book.contacts import values_of
from barnacle.book.schema import NAME_INDEX, added_trigger
from barnacle.book.store import Book
from barnacle.core.contact import Contact

_CACHE_KIB = 64 * 1024
_TABLES = ("contact", "member")
_TOGETHER = 10
# How much the text index gathers in memory before it writes a part of itself, and how many parts of a size it lets
# stand: fewer and later joined are less to write.
_USUALLY = {"hashsize": 1 << 20, "automerge": 4}
_IN_BULK = {"hashsize": 8 << 20, "automerge": 16}


# An address of a contact: its domain, its hash, the contact's number.
Place = tuple[str, int, int]


@dataclass(slots=True)
class Rows:
    """New contacts as rows of the book's tables, each with the number the contact will have.

    `plain_facts` are those of people with nothing but a name, organisation, addresses and phones: folded name, given
    and family name, organisation, addresses and phones; the rest is the same for all of them, and `stamp` says their
    source (folded) and when they were added. Their words may be missing. Addresses in the order of their domains are
    written faster: neighbours stand together.
    """

    contacts: list[tuple[Any, ...]] = field(default_factory=list)
    facts: list[tuple[Any, ...]] = field(default_factory=list)
    plain_facts: list[tuple[Any, ...]] = field(default_factory=list)
    words: list[tuple[int, str]] = field(default_factory=list)
    addresses: list[Place] = field(default_factory=list)
    labels: list[tuple[str, int]] = field(default_factory=list)
    stamp: tuple[str, str] = "", ""

    def add(self, number: int, contact: Contact) -> None:
        """A contact that has a uid and was in no book before."""
        indexed = index.index_of(contact)
        self.contacts.append((number, *values_of(contact)))
        self.facts.append((number, *indexed.facts))
        self.words.append((number, index.words_of(indexed.facts)))
        for domain, value in indexed.addresses:
            self.addresses.append((domain, value, number))
        for label in indexed.labels:
            self.labels.append((label, number))

    def without(self, numbers: set[int]) -> Rows:
        """The rows of all other contacts."""
        return Rows(
            [row for row in self.contacts if row[0] not in numbers],
            [row for row in self.facts if row[0] not in numbers],
            [row for row in self.plain_facts if row[0] not in numbers],
            [row for row in self.words if row[0] not in numbers],
            [row for row in self.addresses if row[2] not in numbers],
            [row for row in self.labels if row[1] not in numbers],
            self.stamp,
        )


def first_number(book: Book) -> int:
    """The lowest number that no contact has or ever had."""
    return _last(book, "contact") + 1


def _last(book: Book, table: str) -> int:
    row = book.db.execute("SELECT seq FROM sqlite_sequence WHERE name = ?", (table,)).fetchone()
    return row[0] if row else 0


@contextmanager
def adding(book: Book, anew: bool = False) -> Iterator[None]:
    """Lets many contacts and members be added inside a running action; `anew` says that so far there are hardly any.

    A trigger for each row would take as long as all the rest: the journal's entries of the new rows are written at
    the end, in one go, and stand for all that happened to these rows within the action. With `anew` so does the index
    of names: `need_names` makes it sooner.
    """
    assert book.current is not None
    book.db.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
    _set_words(book, _IN_BULK)
    if anew:
        book.db.execute("DROP INDEX contact_name")
    first = {table: _last(book, table) + 1 for table in _TABLES}
    for table in _TABLES:
        book.db.execute(f"DROP TRIGGER {table}_added")
    yield
    need_names(book)
    _set_words(book, _USUALLY)
    for table in _TABLES:
        book.db.execute(
            "DELETE FROM journal WHERE action = ? AND tbl = ? AND row >= ?", (book.action_id, table, first[table])
        )
        book.db.execute(
            f"INSERT INTO journal(action, tbl, row) SELECT ?, ?, id FROM {table} WHERE id >= ? ORDER BY id",
            (book.action_id, table, first[table]),
        )
        book.db.execute(added_trigger(table))


def need_names(book: Book) -> None:
    """Contacts will be looked for by name."""
    book.db.execute(NAME_INDEX)


def _set_words(book: Book, settings: dict[str, int]) -> None:
    book.db.executemany("INSERT INTO contact_text(contact_text, rank) VALUES(?, ?)", settings.items())


def write(book: Book, rows: Rows) -> None:
    """Write new contacts."""
    source, added = book.db.execute("SELECT quote(?), quote(?)", rows.stamp).fetchone()
    same = f"'', '', '', {source}, {added}, 1"  # what is the same in all of them is not handed over with each
    _insert(book.db, "FAIL INTO contact(id, uid, name, name_key, opted_out, card)", "?, ?, ?, ?, ?, ?", rows.contacts)
    _insert(book.db, "FAIL INTO contact_facts", f"?, ?, ?, ?, ?, {same}, ?, ?, '', ''", rows.plain_facts)
    _insert(book.db, "IGNORE INTO contact_address(domain, hash, contact)", "?, ?, ?", rows.addresses)
    words = rows.words
    if len(words) < len(rows.contacts):
        words = [*words, *((row[0], index.words_of(_all_facts(row))) for row in rows.plain_facts)]
    index.insert(book.db, rows.facts, words, [], rows.labels, [])


def _all_facts(plain: tuple[Any, ...]) -> tuple[Any, ...]:
    return *plain[1:5], "", "", "", "", "", True, *plain[5:], "", ""


def _insert(db: sqlite3.Connection, into: str, values: str, rows: Sequence[tuple[Any, ...]]) -> None:
    """Insert rows, some with each statement, which is faster; `into` begins with what to do where there is such a row.
    One that fails leaves those before it, for the whole action to be undone."""
    whole = len(rows) // _TOGETHER * _TOGETHER
    for some, number in ((rows[:whole], _TOGETHER), (rows[whole:], 1)):
        parts = zip(*[iter(some)] * number, strict=True)
        statement = f"INSERT OR {into} VALUES" + ", ".join([f"({values})"] * number)
        db.executemany(statement, (tuple(chain.from_iterable(part)) for part in parts))


Holder = tuple[int, str]


def wanted(addresses: list[Place]) -> str:
    """The question of `holders` for these rows of addresses, which stand in the order of their domains."""
    return json.dumps({domain: [place[1] for place in some] for domain, some in groupby(addresses, itemgetter(0))})


def holders(book: Book, question: str) -> dict[int, list[Holder]]:
    """Who has addresses at the places asked for, by the place's hash, longest known first: number and card."""
    if question == "{}":
        return {}
    held = book.db.execute(
        # The order of the joins as it stands: no other one uses the index.
        "SELECT a.hash, a.contact FROM json_each(?) d CROSS JOIN json_each(d.value) h CROSS JOIN contact_address a"
        " WHERE a.domain = d.key AND a.hash = h.value",
        (question,),
    ).fetchall()
    who = json.dumps(sorted({number for _, number in held}))
    cards = dict(
        book.db.execute("SELECT c.id, c.card FROM json_each(?) j JOIN contact c ON c.id = j.value", (who,)).fetchall()
    )
    found: dict[int, list[Holder]] = {}
    for value, number in held:
        found.setdefault(value, []).append((number, cards[number]))
    return found
