"""What is worked out from each contact so that it is found quickly: by address, domain, label, words, rules."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence

from barnacle.book.stored_contact import FACTS, Indexed, address_at, index_of, keys_of, stored_from, words_of
from barnacle.core.contact_fields import FIELDS, TEXTS

_AT_ONCE = 2000
_SEVERAL = (field.name for field in FIELDS if not field.is_text)
_WORDS_TEXT = " || char(10) || ".join(f"f.{name}" for name in (*(field.name for field in TEXTS), *_SEVERAL, "own"))


def write(db: sqlite3.Connection, rows: Sequence[tuple[int, Indexed]]) -> None:
    """Keep what was worked out for contacts that have nothing kept yet."""
    facts = [(row, *one.facts) for row, one in rows]
    db.executemany(f"INSERT INTO contact_facts VALUES(?{', ?' * len(FACTS)})", facts)
    words = [(row, words_of(one.facts)) for row, one in rows]
    db.executemany("INSERT INTO contact_text(rowid, words) VALUES(?, ?)", words)
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
        db.execute(
            "INSERT INTO contact_text(contact_text, rowid, words) VALUES('delete', ?, ?)", (row, words_of(facts))
        )
        db.executemany(
            "DELETE FROM contact_address WHERE domain = ? AND hash = ? AND contact = ?",
            [(*address_at(key), row) for key in keys_of(facts)],
        )
    for table in ("contact_label", "contact_own", "contact_former", "contact_facts"):
        db.execute(f"DELETE FROM {table} WHERE contact = ?", (row,))


def rebuild(db: sqlite3.Connection) -> None:
    """Work everything out anew, for all contacts."""
    cursor = db.execute("SELECT id, uid, card, sum FROM contact ORDER BY id")
    while rows := cursor.fetchmany(_AT_ONCE):
        write(db, [(row[0], index_of(stored_from(row).contact)) for row in rows])


def with_words(db: sqlite3.Connection, fragments: Iterable[str]) -> tuple[str, str, list[str]]:
    """How contacts with all these fragments are found among `contact_facts f`: a condition that none of them fails,
    the text to look through, since others may pass it, and the condition's values."""
    conditions, values = [], []
    domains = _domains(db)
    for fragment in fragments:
        local, at, domain = fragment.partition("@")
        if at and len(local) > 1:
            conditions.append(f"f.contact IN ({_MATCHING})")
            values.append(_grams(local + at))
        elif at and domain:
            # What has a domain that is no ASCII stands whole in the words.
            conditions.append(f"(f.keys != '' OR f.contact IN ({_AT_DOMAINS}))")
            values.append(json.dumps([one for one in domains if one.startswith(domain)]))
        elif len(fragment) > 2:
            within = [one for one in domains if fragment in one]
            conditions.append(f"f.contact IN ({_MATCHING}{f' UNION ALL {_AT_DOMAINS}' if within else ''})")
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
