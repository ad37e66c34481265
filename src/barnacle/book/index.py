"""What is worked out from each contact so that it is found quickly: by address, domain, label, words, rules."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterable, Sequence
from functools import cache
from typing import TYPE_CHECKING, Any, NamedTuple

from barnacle.core.contact import Contact, comparable_numbers, from_doc
from barnacle.core.text import fold

if TYPE_CHECKING:
    from hashlib import blake2b

_AT_ONCE = 2000
# Of the facts: how many come from a field each, and where the addresses and their keys stand.
_OWN, _ADDRESSES, _KEYS = 8, 10, 13
_DOMAINS = re.compile("@[^\n]*")
# White space that folding would change.
_UNEVEN = ("  ", " \n", "\n ", "\t")
_WORDS_TEXT = " || char(10) || ".join(
    f"f.{name}" for name in ("name", "given", "family", "org", "job", "web", "note", "addresses", "phones", "labels")
)


class Indexed(NamedTuple):
    """What the book keeps beside a contact's card. `facts` are folded, as rules compare them; fields of several
    values are one text in which each stands on a line of its own. `addresses` are pairs of domain and hash."""

    facts: tuple[Any, ...]
    addresses: list[tuple[str, int]]
    labels: list[str]
    former: list[str]


def address_hash(key: str) -> int:
    """A comparable address as 64 bits. In place of the text they keep a million addresses' index in memory; whoever
    looks up by them must compare the address itself."""
    return int.from_bytes(_blake2b()(key.encode("utf-8", "replace"), digest_size=8).digest(), "big", signed=True)


@cache
def _blake2b() -> type[blake2b]:
    from hashlib import blake2b  # not needed to look at lists, and slow to load

    return blake2b


def address_at(key: str) -> tuple[str, int]:
    """Where a comparable address stands in the index: its domain and its hash."""
    return key.rpartition("@")[2], address_hash(key)


def index_of(contact: Contact) -> Indexed:
    """What to keep beside a contact's card."""
    given, family = contact.parts()
    plain = [contact.called, given, family, contact.org, contact.job, contact.web, contact.note, contact.source]
    plain += [a.address for a in contact.addresses]
    joined = "\n".join(plain)  # names begin and addresses end it: neither with a space
    folded = joined.lower().split("\n")
    if joined.isascii() and len(folded) == len(plain) and not any(sign in joined for sign in _UNEVEN):
        addresses = keys = folded[_OWN:]
    else:
        folded = [fold(value) for value in plain]
        addresses, keys = folded[_OWN:], contact.address_keys()
    labels = [fold(label) for label in contact.labels]
    facts = (
        *folded[:_OWN],
        contact.added,
        bool(keys) and contact.opt_out is None,
        _lines(addresses),
        _lines(comparable_numbers(contact)) if contact.phones else "",
        _lines(labels),
        "" if keys == addresses else _lines(keys),
    )
    return Indexed(facts, [address_at(key) for key in keys], labels, [f.uid for f in contact.former])


def words_of(facts: Sequence[Any]) -> str:
    """What the text index holds of a contact, from its facts alone: to forget it there takes the very same text.

    Of an address in ASCII it is the part up to the @; its domain is found by the index of addresses.
    """
    name, given, family, *rest = facts[:7]
    addresses = facts[_ADDRESSES]
    if not facts[_KEYS]:
        addresses = _DOMAINS.sub("@", addresses)
    parts = [name, *rest, addresses, *facts[11:13]]
    if not (name.startswith(given) and name.endswith(family)):
        parts += [given, family]
    return "\n".join(filter(None, parts))


def _lines(values: list[str]) -> str:
    return "\n" + "\n".join(values) + "\n" if values else ""


def write(db: sqlite3.Connection, rows: Sequence[tuple[int, Indexed]]) -> None:
    """Keep what was worked out for contacts that have nothing kept yet."""
    facts = [(row, *one.facts) for row, one in rows]
    db.executemany(f"INSERT INTO contact_facts VALUES({', '.join('?' * 15)})", facts)
    words = [(row, words_of(one.facts)) for row, one in rows]
    db.executemany("INSERT INTO contact_text(rowid, words) VALUES(?, ?)", words)
    # In the order of their place addresses are written faster: neighbours stand together.
    places = sorted([(*place, row) for row, one in rows for place in one.addresses])
    db.executemany("INSERT OR IGNORE INTO contact_address(domain, hash, contact) VALUES(?, ?, ?)", places)
    labels = [(value, row) for row, one in rows for value in one.labels]
    db.executemany("INSERT OR IGNORE INTO contact_label(key, contact) VALUES(?, ?)", labels)
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
            [(*address_at(key), row) for key in (facts[_KEYS] or facts[_ADDRESSES]).split()],
        )
    for table in ("contact_label", "contact_former", "contact_facts"):
        db.execute(f"DELETE FROM {table} WHERE contact = ?", (row,))


def rebuild(db: sqlite3.Connection) -> None:
    """Work everything out anew, for all contacts."""
    cursor = db.execute("SELECT id, uid, card FROM contact ORDER BY id")
    while rows := cursor.fetchmany(_AT_ONCE):
        write(db, [(row, index_of(from_doc(uid, json.loads(card)))) for row, uid, card in rows])


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
