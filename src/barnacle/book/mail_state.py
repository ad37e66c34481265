"""What is known of one's own mailbox: how far its folders were read, and which copies of sent mail are still to go
there. Facts, outside the journal."""

from __future__ import annotations

import json
from collections.abc import Mapping

from barnacle.book.store import Book
from barnacle.core.typed import Any, NamedTuple


class UpTo(NamedTuple):
    """Which folder it was (RFC 9051 section 2.3.1.1), the number of the last message that was read, and how the folder
    stood then (HIGHESTMODSEQ, RFC 7162); zeros where nothing was, or the server does not say."""

    validity: int = 0
    last: int = 0
    modseq: int = 0


def read_up_to(book: Book, place: str, folder: str, purpose: str) -> UpTo:
    """How far a folder was read for a purpose."""
    row = book.db.execute(
        "SELECT validity, last, modseq FROM mailbox_read WHERE place = ? AND folder = ? AND purpose = ?",
        (place, folder, purpose),
    ).fetchone()
    return UpTo(*row) if row else UpTo()


def remember(book: Book, place: str, folder: str, purpose: str, read: UpTo) -> None:
    """Keep that, inside a running transaction."""
    book.db.execute(
        "INSERT OR REPLACE INTO mailbox_read(place, folder, purpose, validity, last, modseq) VALUES(?, ?, ?, ?, ?, ?)",
        (place, folder, purpose, *read),
    )


def people_in(book: Book, place: str, folder: str) -> dict[str, Any]:
    """What was kept of a folder, by comparable address."""
    rows = book.db.execute("SELECT key, doc FROM mailbox_person WHERE place = ? AND folder = ?", (place, folder))
    return {key: json.loads(doc) for key, doc in rows}


def keep_people(book: Book, place: str, folder: str, people: Mapping[str, Any], anew: bool) -> None:
    """Keep that, in place of all that was kept (`anew`) or of these alone; inside a running transaction."""
    if anew:
        book.db.execute("DELETE FROM mailbox_person WHERE place = ? AND folder = ?", (place, folder))
    book.db.executemany(
        "INSERT OR REPLACE INTO mailbox_person(place, folder, key, doc) VALUES(?, ?, ?, ?)",
        ((place, folder, key, json.dumps(doc, ensure_ascii=False)) for key, doc in people.items()),
    )


def owe_copy(book: Book, message: int) -> None:
    """A copy of a message is to go to the folder for sent mail, unless it has been there; inside a transaction."""
    book.db.execute("INSERT OR IGNORE INTO sent_copy(message, done) VALUES(?, 0)", (message,))


def copies_owed(book: Book) -> list[int]:
    """The messages whose copy is still to go."""
    return [row for (row,) in book.db.execute("SELECT message FROM sent_copy WHERE NOT done ORDER BY message")]


def copy_made(book: Book, message: int) -> None:
    """The copy is there; inside a transaction."""
    book.db.execute("UPDATE sent_copy SET done = 1 WHERE message = ?", (message,))
