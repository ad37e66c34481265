"""Many new contacts at once: prepared without the book, and written together."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import compress, groupby
from operator import itemgetter

from barnacle.book import index
from barnacle.book.opening import use_log
from barnacle.book.schema import NAME_INDEX, added_trigger
from barnacle.book.store import Book
from barnacle.book.stored_contact import COLUMNS, FACTS, index_of, plain_facts, row_of
from barnacle.book.sums import row_sums
from barnacle.core.contact import Contact
from barnacle.core.typed import Any

_CACHE_KIB = 64 * 1024
_TABLES = ("contact", "member")
_TOGETHER = 10


# An address of a contact: its domain, its hash, the contact's number.
Place = tuple[str, int, int]


@dataclass(slots=True)
class PlainPeople:
    """New people with nothing but a name, organisation, addresses and phones, column by column, since so they are
    made and handed over fastest: number, uid, name, comparable name, card and its checksum; what `contact_facts`
    holds of them, where the rest is the same for all."""

    numbers: list[int] = field(default_factory=list)
    uids: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    low: list[str] = field(default_factory=list)
    cards: list[str] = field(default_factory=list)
    sums: list[int] = field(default_factory=list)
    given: list[str] = field(default_factory=list)
    family: list[str] = field(default_factory=list)
    orgs: list[str] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)
    phones: list[str] = field(default_factory=list)

    def columns(self) -> list[list[Any]]:
        """All columns, in order."""
        return [getattr(self, name) for name in self.__slots__]

    def extend(self, others: PlainPeople) -> None:
        """Add others."""
        for column, more in zip(self.columns(), others.columns(), strict=True):
            column += more

    def sort(self) -> None:
        """Bring them in the order of their numbers, while they have no uids."""
        order = sorted(range(len(self.numbers)), key=self.numbers.__getitem__)
        for column in self.columns():
            column[:] = [column[place] for place in order] if column else []

    def identify(self, uids: list[str]) -> None:
        """Give them their uids."""
        self.uids = uids
        self.sums = row_sums(uids, self.cards)

    def only(self, chosen: list[bool]) -> PlainPeople:
        """Those who are chosen."""
        return PlainPeople(*(list(compress(column, chosen)) for column in self.columns()))


@dataclass(slots=True)
class Rows:
    """New contacts as rows of the book's tables, each with the number the contact will have; `people` are those of
    the plain kind, with their source (folded) and when they were added in `stamp`. Places in the order of their
    domains are written faster: neighbours stand together."""

    contacts: list[tuple[Any, ...]] = field(default_factory=list)
    facts: list[tuple[Any, ...]] = field(default_factory=list)
    labels: list[tuple[str, int]] = field(default_factory=list)
    own: list[tuple[str, str, int]] = field(default_factory=list)
    places: list[Place] = field(default_factory=list)
    people: PlainPeople = field(default_factory=PlainPeople)
    stamp: tuple[str, str] = "", ""

    def add(self, number: int, contact: Contact) -> None:
        """A contact that has a uid and was in no book before."""
        indexed = index_of(contact)
        self.contacts.append((number, *row_of(contact)))
        self.facts.append((number, *indexed.facts))
        for place in indexed.addresses:
            self.places.append((*place, number))
        for label in indexed.labels:
            self.labels.append((label, number))
        self.own += [(title, value, number) for title, value in indexed.own]

    def cards(self) -> Iterator[tuple[int, str, str]]:
        """Number, uid and card of everybody."""
        for row in self.contacts:
            yield row[0], row[1], row[5]
        yield from zip(self.people.numbers, self.people.uids, self.people.cards, strict=True)

    def __len__(self) -> int:
        return len(self.contacts) + len(self.people.numbers)

    def without(self, numbers: set[int]) -> Rows:
        """The rows of all other contacts."""
        return Rows(
            [row for row in self.contacts if row[0] not in numbers],
            [row for row in self.facts if row[0] not in numbers],
            [row for row in self.labels if row[1] not in numbers],
            [row for row in self.own if row[2] not in numbers],
            [place for place in self.places if place[2] not in numbers],
            self.people.only([number not in numbers for number in self.people.numbers]),
            self.stamp,
        )


def first_number(book: Book) -> int:
    """The lowest number that no contact has or ever had."""
    return _last(book, "contact") + 1


def _last(book: Book, table: str) -> int:
    row = book.db.execute("SELECT seq FROM sqlite_sequence WHERE name = ?", (table,)).fetchone()
    return row[0] if row else 0


@contextmanager
def filling(book: Book) -> Iterator[None]:
    """Around an action that fills a book with nobody in it yet: pages go straight into its file. The log would write
    all of them a second time, for the sake of readers, who must wait meanwhile."""
    use_log(book.db, False)
    try:
        yield
    finally:
        use_log(book.db)


@contextmanager
def adding(book: Book, anew: bool = False) -> Iterator[None]:
    """Lets many contacts and members be added inside a running action; `anew` says that so far there are hardly any.

    A trigger for each row would take as long as all the rest: the journal's entries of the new rows are written at
    the end, in one go, and stand for all that happened to these rows within the action. With `anew` so does the index
    of names: `need_names` makes it sooner. The text index has them when it is next searched (`index.catch_up`).
    """
    book.need_action()
    book.db.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
    if anew:
        book.db.execute("DROP INDEX contact_name")
    first = {table: _last(book, table) + 1 for table in _TABLES}
    for table in _TABLES:
        book.db.execute(f"DROP TRIGGER {table}_added")
    with index.later(book.db, first["contact"]):
        yield
    need_names(book)
    for table in _TABLES:
        book.db.execute(
            "DELETE FROM journal WHERE action = ? AND tbl = ? AND row >= ?", (book.running.id, table, first[table])
        )
        book.db.execute(
            f"INSERT INTO journal(action, tbl, row) SELECT ?, ?, id FROM {table} WHERE id >= ? ORDER BY id",
            (book.running.id, table, first[table]),
        )
        book.db.execute(added_trigger(table))


def need_names(book: Book) -> None:
    """Contacts will be looked for by name."""
    book.db.execute(NAME_INDEX)


def write(book: Book, rows: Rows) -> None:
    """Write new contacts."""
    some = rows.people
    source, added = book.db.execute("SELECT quote(?), quote(?)", rows.stamp).fetchone()
    into_contact = f"OR FAIL INTO contact(id, {', '.join(COLUMNS)})"
    _insert(book, into_contact, "?, ?, ?, ?, ?, ?, ?", zip(*rows.contacts, strict=True))
    contacts = some.numbers, some.uids, some.names, some.low, some.cards, some.sums
    _insert(book, into_contact, "?, ?, ?, ?, 0, ?, ?", contacts)
    _insert(book, "OR FAIL INTO contact_facts", "?" + ", ?" * len(FACTS), zip(*rows.facts, strict=True))
    facts = some.numbers, some.low, some.given, some.family, some.orgs, some.keys, some.phones
    _insert(book, "OR FAIL INTO contact_facts", plain_facts(f"{source}, {added}"), facts)
    places, labels, own = (zip(*one, strict=True) for one in (rows.places, rows.labels, rows.own))
    _insert(book, "OR IGNORE INTO contact_address(domain, hash, contact)", "?, ?, ?", places)
    _insert(book, "OR IGNORE INTO contact_label(key, contact)", "?, ?", labels)
    _insert(book, "OR IGNORE INTO contact_own(title, value, contact)", "?, ?, ?", own)


def _insert(book: Book, into: str, values: str, columns: Iterable[Sequence[Any]]) -> None:
    """Insert rows, given column by column, some with each statement, which is faster; `into` may say what to do where
    there is such a row. One that fails leaves those before it, for the whole action to be undone."""
    columns = list(columns)
    number = len(columns[0]) if columns else 0
    whole = number - number % _TOGETHER
    for start, end, some in ((0, whole, _TOGETHER), (whole, number, 1)):
        statement = f"INSERT {into} VALUES" + ", ".join([f"({values})"] * some)
        parts = [column[start + k : end : some] for k in range(some) for column in columns]
        book.db.executemany(statement, zip(*parts, strict=True))


def wanted(addresses: Iterable[Place]) -> str:
    """The question of `holders` for these places, which stand in the order of their domains."""
    return json.dumps({domain: [place[1] for place in some] for domain, some in groupby(addresses, itemgetter(0))})


# A contact that has an address: its number and its card.
Holder = tuple[int, str]


def holders(book: Book, question: str) -> dict[int, list[Holder]]:
    """Who has addresses at the places asked for, by the place's hash, longest known first."""
    found: dict[int, list[Holder]] = {}
    if question != "{}":
        held = book.db.execute(
            # The order of the joins as it stands: no other one uses the index.
            "SELECT a.hash, a.contact FROM json_each(?) d CROSS JOIN json_each(d.value) h"
            " CROSS JOIN contact_address a WHERE a.domain = d.key AND a.hash = h.value",
            (question,),
        ).fetchall()
        # Their cards in the order in which they stand in the book, which takes less than one here and one there.
        wanted = "SELECT c.id, c.card FROM json_each(?) i CROSS JOIN contact c WHERE c.id = i.value"
        cards = dict(book.db.execute(wanted, (json.dumps(sorted({number for _, number in held})),)))
        for value, number in held:
            if number in cards:
                found.setdefault(value, []).append((number, cards[number]))
    return found
