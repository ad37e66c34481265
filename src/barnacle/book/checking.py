"""Whether a book is sound: the file itself, its checksums, and that what is worked out fits what it was worked out
from."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from hashlib import sha256
from itertools import groupby
from operator import itemgetter

from barnacle.book import lists
from barnacle.book.schema import TRACKED
from barnacle.book.store import Book
from barnacle.book.stored_contact import index_of, of_card
from barnacle.book.sums import OF, OF_DELIVERY
from barnacle.core.mail.delivery import State
from barnacle.core.mail.message import Mode, from_doc
from barnacle.core.text import count, fold
from barnacle.core.typed import Any, NamedTuple

MOST = 200
_KINDS = ("on", "off", "address")


class Finding(NamedTuple):
    """Something that is wrong with a book: what it concerns, and what, in words."""

    about: str
    what: str


class Checked(NamedTuple):
    """What a check found: how many contacts, lists, memberships, messages and recipients were looked at, and what is
    wrong, the first `MOST`."""

    counts: dict[str, int]
    findings: list[Finding]


def check(book: Book) -> Checked:
    """Look at everything, inside one reading transaction."""
    found: list[Finding] = []
    counts: dict[str, int] = {}
    book.db.execute("BEGIN")
    try:
        for look in _LOOKS:
            if len(found) < MOST:
                try:
                    found += look(book.db)
                except (sqlite3.DatabaseError, UnicodeDecodeError) as error:
                    found.append(Finding("the file", f"cannot be read everywhere ({error})"))
        for table in ("contact", "list", "on_list", "message", "delivery"):
            try:
                counts[table] = book.db.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
            except sqlite3.DatabaseError:
                counts[table] = 0
        if not found:  # of a damaged book nothing is worked out
            found += _counts(book)
    finally:
        book.db.execute("ROLLBACK")
    return Checked(counts, found[:MOST])


def first_finding(book: Book) -> Finding | None:
    """What is wrong with a book, if anything; for whoever met something that should not be."""
    try:
        if book.db.in_transaction:
            book.db.execute("ROLLBACK")
        return next(iter(check(book).findings), None)
    except (sqlite3.DatabaseError, ValueError, LookupError, TypeError) as error:
        return Finding("the file", str(error))


def _file(db: sqlite3.Connection) -> Iterator[Finding]:
    for (text,) in db.execute(f"PRAGMA integrity_check({MOST})"):
        if text != "ok":
            yield Finding("the file", text)
    for table, row, parent, _ in db.execute("PRAGMA foreign_key_check").fetchmany(MOST):
        yield Finding(f"{table} {row}", f"belongs to a {parent} that is not there")


def _sums(db: sqlite3.Connection) -> Iterator[Finding]:
    for table, columns, name in (*((table, columns, "id") for table, columns in OF.items()),
                                 ("delivery", OF_DELIVERY, "address")):  # fmt: skip
        wrong = db.execute(f"SELECT {name} FROM {table} WHERE sum IS NOT row_sum({columns})").fetchmany(MOST)
        for (which,) in wrong:
            yield Finding(f"{table} {which}", "is not as it was written")


def _cards(db: sqlite3.Connection) -> Iterator[Finding]:
    """Each contact against its columns and all that is worked out from its card."""
    by_address, by_label = _Kept(db, "contact_address", "hash"), _Kept(db, "contact_label", "key")
    for number, uid, name, key, opted_out, card in db.execute(
        "SELECT id, uid, name, name_key, opted_out, card FROM contact ORDER BY id"
    ):
        try:
            contact = of_card(number, uid, card).contact
        except (ValueError, TypeError, LookupError, AttributeError):
            yield Finding(f"contact {number}", "has a card that cannot be read")
            continue
        if (name, key, bool(opted_out)) != (contact.name, fold(contact.title), contact.opt_out is not None):
            yield Finding(f"contact {number}", "has columns that do not fit its card")
        now = index_of(contact)
        facts = db.execute("SELECT * FROM contact_facts WHERE contact = ?", (number,)).fetchone()
        if facts is None or facts[1:] != tuple(now.facts):
            yield Finding(f"contact {number}", "is not kept for searching as its card says")
        for what, kept, values in (
            ("address", by_address, {value for _, value in now.addresses}),
            ("label", by_label, set(now.labels)),
        ):
            if kept.of(number) != values:
                yield Finding(f"contact {number}", f"is not found by its {what} as its card says")


class _Kept:
    """What a table keeps for contacts, asked for one after the other in the order of their numbers: the table has no
    index by them, and is read once."""

    def __init__(self, db: sqlite3.Connection, table: str, column: str) -> None:
        rows = db.execute(f"SELECT contact, {column} FROM {table} ORDER BY contact")
        self._groups = groupby(rows, itemgetter(0))
        self._next = self._step()

    def _step(self) -> tuple[int, set[object]] | None:
        found = next(self._groups, None)
        return found and (found[0], {value for _, value in found[1]})

    def of(self, number: int) -> set[object]:
        """The values of a contact; its number is above that of the last one."""
        while self._next is not None and self._next[0] < number:
            self._next = self._step()
        return self._next[1] if self._next is not None and self._next[0] == number else set()


def _kept_for_nobody(db: sqlite3.Connection) -> Iterator[Finding]:
    for table in ("contact_facts", "contact_address", "contact_label", "contact_own", "rule_member"):
        (number,) = db.execute(f"SELECT count(*) FROM {table} WHERE contact NOT IN (SELECT id FROM contact)").fetchone()
        if number:
            yield Finding(table, f"{count(number, 'row')} of contacts that are not there")


def _memberships(db: sqlite3.Connection) -> Iterator[Finding]:
    for number, kind in db.execute("SELECT id, kind FROM member WHERE kind NOT IN (?, ?, ?)", _KINDS).fetchmany(MOST):
        yield Finding(f"membership {number}", f"is of a kind `{kind}` that is not known")
    for number, title, key, rule in db.execute("SELECT id, title, title_key, rule FROM list"):
        if fold(title) != key:
            yield Finding(f"list {number}", "has a title that does not fit what it is found by")
        if rule is not None and not _reads(rule):
            yield Finding(f"list {number}", "has a rule that cannot be read")


def _messages(db: sqlite3.Connection) -> Iterator[Finding]:
    for number, mode, doc in db.execute("SELECT id, mode, doc FROM message"):
        try:
            Mode(mode)
            from_doc(json.loads(doc))
        except (ValueError, TypeError, LookupError, AttributeError):
            yield Finding(f"m{number}", "cannot be read")
    known = [state.value for state in State]
    marks = ", ".join("?" * len(known))
    for number, address, state in db.execute(
        f"SELECT message, address, state FROM delivery WHERE state NOT IN ({marks})", known
    ).fetchmany(MOST):
        yield Finding(f"m{number}", f"has a recipient {address} in a state `{state}` that is not known")
    for digest, data in db.execute("SELECT digest, data FROM attachment"):
        if sha256(data).hexdigest() != digest:
            yield Finding(f"attachment {digest[:12]}", "is not as it was kept")


def _journal(db: sqlite3.Connection) -> Iterator[Finding]:
    known = (*TRACKED, "settings")
    marks = ", ".join("?" * len(known))
    (lost,) = db.execute("SELECT count(*) FROM journal WHERE action NOT IN (SELECT id FROM action)").fetchone()
    if lost:
        yield Finding("the history", f"{count(lost, 'change')} of commands that are not there")
    (odd,) = db.execute(f"SELECT count(*) FROM journal WHERE tbl NOT IN ({marks})", known).fetchone()
    if odd:
        yield Finding("the history", f"{count(odd, 'change')} of tables that are not known")
    for number, before, after in db.execute("SELECT id, before, after FROM journal"):
        if not all(image is None or _reads(image) for image in (before, after)):
            yield Finding(f"change {number} of the history", "cannot be read")


def _reads(text: Any) -> bool:
    try:
        json.loads(text)
    except (ValueError, TypeError):
        return False
    return True


def _counts(book: Book) -> Iterator[Finding]:
    """How many are on each list, and whom a message would reach, as kept and as counted now."""
    from barnacle.book import reach

    kept = {row: (all_, some) for row, all_, some in book.db.execute("SELECT * FROM list_count")}
    sharing = reach.sharers(book)
    for number in lists.numbers(book):
        members = lists.count(book, number)
        now = members, members - len(reach.why_not(book, number, sharing))
        if kept.get(number) != now:
            yield Finding(f"list {number}", "is not counted as it is: its members, or whom a message would reach")


_LOOKS = (_file, _sums, _cards, _kept_for_nobody, _memberships, _messages, _journal)
