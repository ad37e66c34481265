"""Files that go along with messages: each content once, whatever it is called."""

from __future__ import annotations

from collections.abc import Iterable
from hashlib import sha256

from barnacle.book.store import Book
from barnacle.core.mail.letter import Attachment
from barnacle.core.mail.message import Enclosure


def keep(book: Book, some: Iterable[Attachment]) -> list[Enclosure]:
    """Keep the contents; gives what a message remembers of each."""
    book.need_action()
    kept = []
    for one in some:
        digest = sha256(one.data).hexdigest()
        book.db.execute("INSERT OR IGNORE INTO attachment(digest, data) VALUES(?, ?)", (digest, one.data))
        kept.append(Enclosure(one.name, one.kind, digest, len(one.data)))
    return kept


def of(book: Book, kept: Iterable[Enclosure]) -> list[Attachment]:
    """The files that a message remembers."""
    result = []
    for one in kept:
        row = book.db.execute("SELECT data FROM attachment WHERE digest = ?", (one.digest,)).fetchone()
        result.append(Attachment(one.name, one.kind, row[0] if row else b""))
    return result
