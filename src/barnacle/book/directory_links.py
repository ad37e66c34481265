"""Which contacts are whom in the organisation's directory, what it said of them, and whom its filters found. Facts,
outside the journal: they hold for a contact's uid, also after it was merged."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.typed import Any, NamedTuple


class Link(NamedTuple):
    """A contact's entry in the directory: its number there (RFC 4530), what it said when it was looked at last, when
    that was (ISO 8601), since when it is gone, and what is different there and was not taken over."""

    uid: str
    entry: str
    said: Mapping[str, Any]
    at: str
    gone: str = ""
    differs: Sequence[str] = ()


def put(book: Book, link: Link) -> None:
    """Keep a link, over the one of before; inside a running transaction."""
    doc = [json.dumps(value, ensure_ascii=False) for value in (link.said, list(link.differs))]
    book.db.execute(
        "INSERT OR REPLACE INTO directory_link(uid, entry, said, at, gone, differs) VALUES(?, ?, ?, ?, ?, ?)",
        (link.uid, link.entry, doc[0], link.at, link.gone, doc[1]),
    )


def every(book: Book) -> list[tuple[Link, StoredContact]]:
    """All links of contacts that are in the book."""
    found = []
    rows = book.db.execute("SELECT uid, entry, said, at, gone, differs FROM directory_link ORDER BY uid").fetchall()
    for uid, entry, said, at, gone, differs in rows:
        if (kept := contacts.by_uid(book, uid)) is not None:
            found.append((Link(uid, entry, json.loads(said), at, gone, json.loads(differs)), kept))
    return found


def last_refresh(book: Book) -> str | None:
    """When all entries were looked at last (ISO 8601, UTC), as far as it is known; None where there are none."""
    (at,) = book.db.execute("SELECT min(at) FROM directory_link JOIN contact USING (uid)").fetchone()
    return None if at is None else str(at)


def of_entry(book: Book, entry: str) -> StoredContact | None:
    """The contact that is this entry."""
    for (uid,) in book.db.execute("SELECT uid FROM directory_link WHERE entry = ?", (entry,)).fetchall():
        if (kept := contacts.by_uid(book, uid)) is not None:
            return kept
    return None


def found_by(book: Book, filter_text: str, entries: Iterable[str]) -> None:
    """Keep whom a filter found, in place of whom it found before; inside a running action, at whose end the rules with
    that filter are worked out anew."""
    book.db.execute("DELETE FROM directory_match WHERE filter = ?", (filter_text,))
    book.db.executemany(
        "INSERT OR IGNORE INTO directory_match(filter, entry) VALUES(?, ?)", [(filter_text, one) for one in entries]
    )
    book.directory_changed = True


def saw(book: Book, people: Iterable[tuple[str, str]], at: str) -> None:
    """Remember names and addresses for completion, for a day; inside a running transaction."""
    book.db.execute("DELETE FROM directory_seen WHERE at < datetime(?, '-1 day')", (at,))
    book.db.executemany(
        "INSERT OR REPLACE INTO directory_seen(name, address, at) VALUES(?, ?, datetime(?))",
        [(name, address, at) for name, address in people if name],
    )


def seen_beginning(book: Book, at: str) -> list[str]:
    """Names seen within the last day."""
    rows = book.db.execute(
        "SELECT DISTINCT name FROM directory_seen WHERE at >= datetime(?, '-1 day') ORDER BY name", (at,)
    )
    return [name for (name,) in rows]
