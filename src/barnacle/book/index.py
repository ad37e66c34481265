"""What is worked out from each contact so that it is found quickly: by address, domain, label, words, rules."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from barnacle.book.stored_contact import FACTS, Indexed, address_at, index_of, keys_of, stored_from, words_of
from barnacle.core.contact_fields import FIELDS, TEXTS

_AT_ONCE = 2000
_NO_END = (1 << 63) - 1
# How much the text index gathers in memory before it writes a part of itself, and how many parts of a size it lets
# stand: fewer and later joined are less to write.
_USUALLY = {"hashsize": 1 << 20, "automerge": 4}
_IN_BULK = {"hashsize": 24 << 20, "automerge": 16}
_SEVERAL = (field.name for field in FIELDS if not field.is_text)
_WORDS_TEXT = " || char(10) || ".join(f"f.{name}" for name in (*(field.name for field in TEXTS), *_SEVERAL, "own"))


def write(db: sqlite3.Connection, rows: Sequence[tuple[int, Indexed]]) -> None:
    """Keep what was worked out for contacts that have nothing kept yet."""
    facts = [(row, *one.facts) for row, one in rows]
    db.executemany(f"INSERT INTO contact_facts VALUES(?{', ?' * len(FACTS)})", facts)
    due = _due(db)
    _write_words(db, ((row, words_of(one.facts)) for row, one in rows if not any(row in some for some in due)))
    # In the order of their place addresses are written faster: neighbours stand together.
    places = sorted([(*place, row) for row, one in rows for place in one.addresses])
    db.executemany("INSERT OR IGNORE INTO contact_address(domain, hash, contact) VALUES(?, ?, ?)", places)
    labels = [(value, row) for row, one in rows for value in one.labels]
    db.executemany("INSERT OR IGNORE INTO contact_label(key, contact) VALUES(?, ?)", labels)
    own = [(title, value, row) for row, one in rows for title, value in one.own]
    db.executemany("INSERT OR IGNORE INTO contact_own(title, value, contact) VALUES(?, ?, ?)", own)
    former = [(value, row) for row, one in rows for value in one.former]
    db.executemany("INSERT OR IGNORE INTO contact_former(uid, contact) VALUES(?, ?)", former)


def erase(db: sqlite3.Connection, row: int) -> None:
    """Forget what is kept beside a contact's card."""
    facts = db.execute("SELECT * FROM contact_facts WHERE contact = ?", (row,)).fetchone()
    if facts is not None:
        facts = facts[1:]
        if not any(row in some for some in _due(db)):
            db.execute(
                "INSERT INTO contact_text(contact_text, rowid, words) VALUES('delete', ?, ?)", (row, words_of(facts))
            )
        db.executemany(
            "DELETE FROM contact_address WHERE domain = ? AND hash = ? AND contact = ?",
            [(*address_at(key), row) for key in keys_of(facts)],
        )
    for table in ("contact_label", "contact_own", "contact_former", "contact_facts"):
        db.execute(f"DELETE FROM {table} WHERE contact = ?", (row,))


def erase_many(db: sqlite3.Connection, gone: str) -> None:
    """Forget what is kept beside the cards of many contacts that are gone; `gone` asks for their numbers."""
    tables = "contact_address", "contact_label", "contact_own", "contact_former", "contact_facts"
    if db.execute("SELECT 1 FROM contact LIMIT 1").fetchone() is None:  # the first import is taken back
        db.execute("INSERT INTO contact_text(contact_text) VALUES('delete-all')")
        for table in (*tables, "contact_text_due"):
            db.execute(f"DELETE FROM {table}")
        return
    due = "".join(f" AND NOT contact BETWEEN {some.start} AND {some.stop - 1}" for some in _due(db))
    facts = db.execute(f"SELECT * FROM contact_facts WHERE contact IN {gone}{due}")
    words = ((row, words_of(its)) for row, *its in facts)
    db.executemany("INSERT INTO contact_text(contact_text, rowid, words) VALUES('delete', ?, ?)", words)
    for table in tables:
        db.execute(f"DELETE FROM {table} WHERE contact IN {gone}")


def rebuild(db: sqlite3.Connection) -> None:
    """Work everything out anew, for all contacts."""
    cursor = db.execute("SELECT id, uid, card, sum FROM contact ORDER BY id")
    while rows := cursor.fetchmany(_AT_ONCE):
        write(db, [(row[0], index_of(stored_from(row).contact)) for row in rows])


@contextmanager
def later(db: sqlite3.Connection, first: int) -> Iterator[None]:
    """Around an action that adds contacts, numbered from `first` on: the text index has them at its end or, where they
    are many, since it takes a third of an import's time, with the next search that has use for it."""
    db.execute("INSERT INTO contact_text_due VALUES(?, ?)", (first, _NO_END))
    yield
    number, last = db.execute(
        "SELECT count(*), max(contact) FROM contact_facts WHERE contact >= ?", (first,)
    ).fetchone()
    if number > _AT_ONCE:
        db.execute("UPDATE contact_text_due SET last = ? WHERE first = ?", (last, first))
    else:
        _take_in(db, first, last)


def _due(db: sqlite3.Connection) -> list[range]:
    """The numbers of contacts that the text index does not have yet."""
    return [range(first, last + 1) for first, last in db.execute("SELECT first, last FROM contact_text_due")]


def catch_up(db: sqlite3.Connection) -> None:
    """Give the text index all whom it does not have yet, unless another command writes: they are found without it,
    only not as fast."""
    if db.in_transaction or not _due(db):
        return
    wait = db.execute("PRAGMA busy_timeout").fetchone()[0]
    db.execute("PRAGMA busy_timeout = 0")
    with suppress(sqlite3.OperationalError), db:
        db.execute("BEGIN IMMEDIATE")
        _set(db, _IN_BULK)
        for some in _due(db):
            _take_in(db, some.start, some.stop - 1)
        _set(db, _USUALLY)
    db.execute(f"PRAGMA busy_timeout = {wait}")


def _take_in(db: sqlite3.Connection, first: int, last: int) -> None:
    rows = db.execute("SELECT * FROM contact_facts WHERE contact BETWEEN ? AND ?", (first, last))
    _write_words(db, ((row, words_of(facts)) for row, *facts in rows))
    db.execute("DELETE FROM contact_text_due WHERE first = ?", (first,))


def _write_words(db: sqlite3.Connection, words: Iterable[tuple[int, str]]) -> None:
    # Several in a statement would make the text index write what it has gathered after each.
    db.executemany("INSERT INTO contact_text(rowid, words) VALUES(?, ?)", words)


def _set(db: sqlite3.Connection, settings: dict[str, int]) -> None:
    db.executemany("INSERT INTO contact_text(contact_text, rank) VALUES(?, ?)", settings.items())


def with_words(db: sqlite3.Connection, fragments: Iterable[str]) -> tuple[str, str, list[str]]:
    """How contacts with all these fragments are found among `contact_facts f`: a condition that none of them fails,
    the text to look through, since others may pass it, and the condition's values."""
    conditions, values = [], []
    domains = _domains(db)
    due = "".join(f" OR f.contact BETWEEN {some.start} AND {some.stop - 1}" for some in _due(db))
    for fragment in fragments:
        local, at, domain = fragment.partition("@")
        if at and len(local) > 1:
            conditions.append(f"(f.contact IN ({_MATCHING}){due})")
            values.append(_grams(local + at))
        elif at and domain:
            # What has a domain that is no ASCII stands whole in the words.
            conditions.append(f"(f.keys != '' OR f.contact IN ({_AT_DOMAINS}))")
            values.append(json.dumps([one for one in domains if one.startswith(domain)]))
        elif len(fragment) > 2:
            within = [one for one in domains if fragment in one]
            conditions.append(f"(f.contact IN ({_MATCHING}{f' UNION ALL {_AT_DOMAINS}' if within else ''}){due})")
            values += [_grams(fragment), *([json.dumps(within)] if within else [])]
    return " AND ".join(conditions) or "1", _WORDS_TEXT, values


_MATCHING = "SELECT rowid FROM contact_text WHERE contact_text MATCH ?"
_AT_DOMAINS = "SELECT contact FROM contact_address WHERE domain IN (SELECT value FROM json_each(?))"


def _grams(fragment: str) -> str:
    grams = {fragment[i : i + 3] for i in range(len(fragment) - 2)}
    return " AND ".join('"' + g.replace('"', '""') + '"' for g in sorted(grams))


def _domains(db: sqlite3.Connection) -> list[str]:
    """Every domain once, by a step through the index for each, not for each address."""
    rows = db.execute(
        "WITH RECURSIVE step(domain) AS (SELECT min(domain) FROM contact_address UNION ALL"
        " SELECT (SELECT min(a.domain) FROM contact_address a WHERE a.domain > step.domain) FROM step"
        " WHERE step.domain IS NOT NULL) SELECT domain FROM step WHERE domain IS NOT NULL"
    )
    return [domain for (domain,) in rows]
