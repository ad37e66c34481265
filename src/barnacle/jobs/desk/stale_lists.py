"""Shared lists of which it is not known what colleagues have changed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from barnacle.book import lists, shares
from barnacle.book.store import Book
from barnacle.core.moments import in_utc, in_words
from barnacle.core.text import listed

# So long one may go on without an exchange before it is said.
_LATELY = timedelta(hours=24)


def stale(book: Book, asked: Callable[[int], bool] = lambda number: True) -> str:
    """Which shared lists, of all or of those asked about by their numbers, were not exchanged for over a day, as a
    sentence; nothing where all were."""
    before = in_utc(datetime.now(UTC) - _LATELY)
    by_day: dict[str, list[str]] = {}
    for share in shares.every(book):
        if share.at < before and asked(share.row) and (one := lists.get(book, share.row)):
            day = in_words(datetime.fromisoformat(share.at).astimezone().date()) if share.at else ""
            by_day.setdefault(day, []).append(one.title)
    if not by_day:
        return ""
    said = [f"{listed(titles)} {_last(day, len(titles) > 1)}" for day, titles in by_day.items()]
    return f"{' and '.join(said)}; `barnacle sync` brings what they have changed since."


def _last(day: str, several: bool) -> str:
    if not day:
        return f"{'have' if several else 'has'} not been exchanged with colleagues yet"
    return f"{'were' if several else 'was'} last exchanged with colleagues on {day}"
