"""Contacts in the book: kept, found by name or address, and made searchable."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import NamedTuple

from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact, comparable_numbers, from_doc, search_text, to_doc
from barnacle.core.text import fold, words

_COLUMNS = "c.id, c.uid, c.card"
_NATIONAL_DIGITS = 9


class Kept(NamedTuple):
    """A contact with its number in the book."""

    id: int
    contact: Contact


def kept_from(row: tuple[int, str, str]) -> Kept:
    """The contact of a row of number, uid and card."""
    return Kept(row[0], from_doc(row[1], json.loads(row[2])))


def _values(contact: Contact) -> tuple[str, str, str, int, str]:
    doc = json.dumps(to_doc(contact), ensure_ascii=False, separators=(",", ":"))
    return contact.uid, contact.name, fold(contact.title), contact.opt_out is not None, doc


def add(book: Book, contact: Contact) -> int:
    """Keep a new contact; gives it a uid (RFC 9562 version 4) where it has none. Returns its number."""
    contact.uid = contact.uid or new_uid()
    row = book.db.execute(
        "INSERT INTO contact(uid, name, name_key, opted_out, card) VALUES(?, ?, ?, ?, ?)", _values(contact)
    ).lastrowid
    assert row is not None and book.current is not None
    _index(book, row, contact)
    return row


def new_uid() -> str:
    """A random uid (RFC 9562 section 5.4), without what the library's module costs to load."""
    octets = bytearray(os.urandom(16))
    octets[6] = octets[6] & 0x0F | 0x40
    octets[8] = octets[8] & 0x3F | 0x80
    text = octets.hex()
    return "-".join((text[:8], text[8:12], text[12:16], text[16:20], text[20:]))


def save(book: Book, row: int, contact: Contact) -> None:
    """Write a changed contact back."""
    assert book.current is not None
    book.db.execute(
        "UPDATE contact SET uid = ?, name = ?, name_key = ?, opted_out = ?, card = ? WHERE id = ?",
        (*_values(contact), row),
    )
    reindex(book, row)


def remove(book: Book, row: int) -> None:
    """Remove a contact that is on no list any more."""
    assert book.current is not None
    book.db.execute("DELETE FROM contact WHERE id = ?", (row,))
    _unindex(book, row)


def reindex(book: Book, row: int) -> None:
    """Work out anew what is derived from a contact, or drop it when the contact is gone."""
    _unindex(book, row)
    kept = get(book, row)
    if kept is not None:
        _index(book, row, kept.contact)


def _unindex(book: Book, row: int) -> None:
    for table in ("contact_address", "contact_label", "contact_former", "contact_phone", "contact_facts"):
        book.db.execute(f"DELETE FROM {table} WHERE contact = ?", (row,))
    book.db.execute("DELETE FROM contact_text WHERE rowid = ?", (row,))


def _index(book: Book, row: int, contact: Contact) -> None:
    insert = book.db.executemany
    if contact.addresses:
        insert(
            "INSERT OR IGNORE INTO contact_address(key, contact, domain, folded) VALUES(?, ?, ?, ?)",
            [
                (key, row, fold(key.rpartition("@")[2]), fold(a.address))
                for key, a in zip(contact.address_keys(), contact.addresses, strict=True)
            ],
        )
    if contact.phones:
        insert(
            "INSERT OR IGNORE INTO contact_phone(number, contact) VALUES(?, ?)",
            [(number, row) for number in comparable_numbers(contact)],
        )
    if contact.labels:
        insert(
            "INSERT OR IGNORE INTO contact_label(key, contact) VALUES(?, ?)",
            [(fold(label), row) for label in contact.labels],
        )
    if contact.former:
        insert(
            "INSERT OR IGNORE INTO contact_former(uid, contact) VALUES(?, ?)",
            [(former.uid, row) for former in contact.former],
        )
    given, family = contact.parts()
    texts = (contact.called, given, family, contact.org, contact.job, contact.web, contact.note, contact.source)
    reachable = bool(contact.addresses) and contact.opt_out is None
    book.db.execute(
        "INSERT INTO contact_facts VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (row, *map(fold, texts), contact.added, reachable),
    )
    book.db.execute("INSERT INTO contact_text(rowid, text) VALUES(?, ?)", (row, search_text(contact)))


def get(book: Book, row: int) -> Kept | None:
    """The contact with that number."""
    found = book.db.execute(f"SELECT {_COLUMNS} FROM contact c WHERE c.id = ?", (row,)).fetchone()
    return kept_from(found) if found else None


def by_uid(book: Book, uid: str) -> Kept | None:
    """The contact with that uid, now or before it was merged."""
    found = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact c WHERE c.uid = ?"
        f" UNION ALL SELECT {_COLUMNS} FROM contact_former f JOIN contact c ON c.id = f.contact WHERE f.uid = ?",
        (uid, uid),
    ).fetchone()
    return kept_from(found) if found else None


def by_address(book: Book, address: str) -> list[Kept]:
    """Everybody who has that address, longest known first."""
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact_address a JOIN contact c ON c.id = a.contact WHERE a.key = ? ORDER BY c.id",
        (address_key(address),),
    )
    return [kept_from(row) for row in rows]


def by_label(book: Book, label: str) -> list[Kept]:
    """Everybody with that label, capitals and accents aside, by name."""
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact_label l JOIN contact c ON c.id = l.contact WHERE l.key = ?"
        " ORDER BY c.name_key, c.id",
        (fold(label),),
    )
    return [kept_from(row) for row in rows]


def labels(book: Book) -> dict[str, int]:
    """The labels in use, as most contacts spell them, and how many contacts have each."""
    spelt: dict[str, dict[str, int]] = {}
    rows = book.db.execute(
        "SELECT value, count(*) FROM contact, json_each(card, '$.labels') GROUP BY value ORDER BY count(*) DESC"
    )
    for label, number in rows:
        spelt.setdefault(fold(label), {})[label] = number
    return {next(iter(one)): sum(one.values()) for _, one in sorted(spelt.items())}


def by_name(book: Book, text: str) -> list[Kept]:
    """Who may be meant by `text`: the name to the letter, else whole words of it, else beginnings of words.

    Capitals and accents aside. The closest kind of match that there is, is given.
    """
    key = fold(text)
    exact = book.db.execute(f"SELECT {_COLUMNS} FROM contact c WHERE c.name_key = ? ORDER BY c.id", (key,)).fetchall()
    if exact or not words(text):
        return [kept_from(row) for row in exact]
    wanted = words(text)
    whole, begun = [], []
    for kept in _containing(book, wanted):
        have = words(f"{kept.contact.name} {kept.contact.org if not kept.contact.name else ''}")
        if all(w in have for w in wanted):
            whole.append(kept)
        elif all(any(h.startswith(w) for h in have) for w in wanted):
            begun.append(kept)
    return whole or begun


def search(book: Book, text: str) -> list[Kept]:
    """Contacts that have every word of `text` in any part of any field, by name; no words: all."""
    wanted = fragments(text)
    if not wanted:
        rows = book.db.execute(f"SELECT {_COLUMNS} FROM contact c ORDER BY c.name_key, c.id")
        return [kept_from(row) for row in rows]
    return list(_containing(book, wanted))


def search_some(book: Book, text: str, most: int) -> list[Kept]:
    """Up to `most` of what `search` finds, without going through all of it: first those who have the words in their
    name, in the order of the names, then, if there is room, others."""
    wanted = fragments(text)
    conditions = " AND ".join(["instr(c.name_key, ?) > 0"] * len(wanted)) or "1"
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact c WHERE {conditions} ORDER BY c.name_key, c.id LIMIT ?", (*wanted, most)
    )
    found = {kept.id: kept for kept in map(kept_from, rows)}
    if wanted and len(found) < most:
        for kept in islice(_containing(book, wanted, in_order=False), most):
            found.setdefault(kept.id, kept)
    return list(found.values())[:most]


def fragments(text: str) -> list[str]:
    """The words of a search, folded; numbers without their punctuation."""
    return [_bare_number(word) for word in fold(text).split()]


def _bare_number(word: str) -> str:
    """A word of a phone number without its punctuation, so that `(01632)` is found; other words as they are."""
    bare = re.sub(r"[()+./-]", "", word)
    # +44 1632 960123 is written 01632 960123 at home: what follows the code is the same in both.
    return bare[-_NATIONAL_DIGITS:] if bare.isdigit() else word


def _containing(book: Book, fragments: list[str], in_order: bool = True) -> Iterator[Kept]:
    """Contacts whose search text has each fragment. Three letters and more go through the trigram index."""
    order = " ORDER BY c.name_key, c.id" if in_order else ""
    grams = {f[i : i + 3] for f in fragments for i in range(len(f) - 2)}
    if grams:
        query = " AND ".join('"' + g.replace('"', '""') + '"' for g in sorted(grams))
        rows = book.db.execute(
            f"SELECT {_COLUMNS}, t.text FROM contact_text t JOIN contact c ON c.id = t.rowid"
            f" WHERE contact_text MATCH ?{order}",
            (query,),
        )
    else:
        rows = book.db.execute(f"SELECT {_COLUMNS}, t.text FROM contact c JOIN contact_text t ON c.id = t.rowid{order}")
    for *columns, text in rows:
        if all(f in text for f in fragments):
            yield kept_from((columns[0], columns[1], columns[2]))


def opted_out_at(book: Book, keys: Iterable[str]) -> dict[str, Contact]:
    """Which of these address keys somebody has who opted out, and who that is."""
    result: dict[str, Contact] = {}
    for key in keys:
        row = book.db.execute(
            f"SELECT {_COLUMNS} FROM contact_address a JOIN contact c ON c.id = a.contact"
            " WHERE a.key = ? AND c.opted_out LIMIT 1",
            (key,),
        ).fetchone()
        if row:
            result[key] = kept_from(row).contact
    return result


def beginning(book: Book, prefix: str, most: int) -> list[str]:
    """Names that begin so, capitals and accents aside; with an @ in it, addresses. By the index alone."""
    key = fold(prefix)
    table, column, shown = ("contact_address", "key", "key") if "@" in key else ("contact", "name_key", "name")
    rows = book.db.execute(
        f"SELECT {shown} FROM {table} WHERE {column} >= ? AND {column} < ? AND {shown} != '' ORDER BY {column} LIMIT ?",
        (key, key + chr(0x10FFFF), most),
    )
    return [name for (name,) in rows]


def address_keys(book: Book) -> list[str]:
    """The comparable form of every address of every contact."""
    return [key for (key,) in book.db.execute("SELECT key FROM contact_address")]


def count(book: Book) -> int:
    """How many contacts there are."""
    return int(book.db.execute("SELECT count(*) FROM contact").fetchone()[0])
