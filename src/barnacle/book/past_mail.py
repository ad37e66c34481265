"""What past mail tells of addresses: when somebody was last heard from or written to. Facts, outside the journal."""

from __future__ import annotations

from collections.abc import Iterable

from barnacle.book.store import Book


def remember(book: Book, seen: Iterable[tuple[str, str, str]]) -> None:
    """Keep for each comparable address when it was last heard from and last written to (ISO 8601, or empty), inside a
    running transaction."""
    book.db.executemany(
        "INSERT INTO past_mail(key, heard, sent) VALUES(?, ?, ?) ON CONFLICT(key) DO UPDATE SET"
        " heard = max(heard, excluded.heard), sent = max(sent, excluded.sent)",
        seen,
    )


def last_seen(book: Book) -> dict[str, tuple[str, str]]:
    """When each comparable address was last heard from and written to, as far as past mail was read."""
    return {key: (heard, sent) for key, heard, sent in book.db.execute("SELECT key, heard, sent FROM past_mail")}
