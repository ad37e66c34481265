"""Lists that others keep up, elsewhere, and of which it is not known here what has changed lately."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from barnacle.book import directory_links, lists, rule_members, shares
from barnacle.book.store import Book
from barnacle.core.moments import in_utc, in_words
from barnacle.core.rules import directory_filters_in
from barnacle.core.text import listed

# So long one may go on without asking before it is said: colleagues change lists daily, a directory does not.
_EXCHANGED, _REFRESHED = timedelta(hours=24), timedelta(days=7)


def stale(book: Book, asked: Callable[[int], bool] = lambda number: True) -> list[str]:
    """A sentence for the shared lists, and one for those that follow the directory, that were not brought up to date
    lately; of all lists, or of those asked about by their numbers."""
    return [sentence for sentence in (_shared(book, asked), _by_directory(book, asked)) if sentence]


def _shared(book: Book, asked: Callable[[int], bool]) -> str:
    by_day: dict[str, list[int]] = {}
    for share in shares.every(book):
        if share.at < _before(_EXCHANGED) and asked(share.row):
            by_day.setdefault(_day(share.at) if share.at else "", []).append(share.row)
    said = [f"{_titles(book, rows)} {_last(day, len(rows) > 1)}" for day, rows in by_day.items()]
    return f"{' and '.join(said)}; `barnacle sync` brings what they have changed since." if said else ""


def _last(day: str, several: bool) -> str:
    if not day:
        return f"{'have' if several else 'has'} not been exchanged with colleagues yet"
    return f"{'were' if several else 'was'} last exchanged with colleagues on {day}"


def _by_directory(book: Book, asked: Callable[[int], bool]) -> str:
    at = directory_links.last_refresh(book)
    if at is None or at >= _before(_REFRESHED):
        return ""
    rows = [row for row, rule in rule_members.all_rules(book).items() if asked(row) and any(directory_filters_in(rule))]
    if not rows:
        return ""
    follow = "follow" if len(rows) > 1 else "follows"
    return (
        f"{_titles(book, rows)} {follow} the directory as it was on {_day(at)}; `barnacle directory refresh` brings "
        "what has changed there since."
    )


def _titles(book: Book, rows: list[int]) -> str:
    return listed([one.title for row in rows if (one := lists.get(book, row))])


def _before(while_ago: timedelta) -> str:
    return in_utc(datetime.now(UTC) - while_ago)


def _day(at: str) -> str:
    return in_words(datetime.fromisoformat(at).astimezone().date())
