"""What a person said of contacts that look alike. By uid, so that it outlives edits, imports and merges."""

from __future__ import annotations

from barnacle.book.store import Book

APART, LATER = "apart", "later"
Pair = frozenset[str]


def say(book: Book, one: str, other: str, verdict: str) -> bool:
    """Remember a verdict on two uids; False where it was known already."""
    if said(book, verdict).get(frozenset((one, other))):
        return False
    book.db.execute(
        "INSERT INTO judged(one, other, verdict, since) VALUES(?, ?, ?, ?)"
        " ON CONFLICT(one, other) DO UPDATE SET verdict = excluded.verdict, since = excluded.since",
        (*sorted((one, other)), verdict, book.running.at),
    )
    return True


def forget(book: Book, one: str, other: str) -> bool:
    """Forget what was said of two contacts, by their uids of now; False where nothing was."""
    book.need_action()
    pair = frozenset((one, other))
    rows = [row for row, uids, _, _ in _resolved(book) if uids == pair]
    book.db.executemany("DELETE FROM judged WHERE id = ?", [(row,) for row in rows])
    return bool(rows)


def said(book: Book, verdict: str) -> dict[Pair, str]:
    """The pairs of uids, as they are now, with that verdict, and since when (ISO 8601). What was said of a contact that
    has been merged counts for the one that it became."""
    return {uids: since for _, uids, its, since in _resolved(book) if its == verdict and len(uids) == 2}


def _resolved(book: Book) -> list[tuple[int, Pair, str, str]]:
    rows = book.db.execute("SELECT id, one, other, verdict, since FROM judged ORDER BY id").fetchall()
    if not rows:
        return []
    now: dict[str, str] = dict(
        book.db.execute("SELECT f.uid, c.uid FROM contact_former f JOIN contact c ON c.id = f.contact")
    )
    return [(row, frozenset((now.get(a, a), now.get(b, b))), verdict, since) for row, a, b, verdict, since in rows]
