"""Lists that others keep up, elsewhere, and of which it is not known here what has changed lately."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from barnacle.book import directory_links, lists, rule_members, shares
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core.moments import in_utc, in_words
from barnacle.core.rules import directory_filters_in, lists_in
from barnacle.core.text import listed

# So long one may go on without asking before it is said: colleagues change lists daily, a directory does not.
_EXCHANGED, _REFRESHED = timedelta(hours=24), timedelta(days=7)


def stale(book: Book, asked: Callable[[int], bool] = lambda number: True) -> list[str]:
    """A sentence for the shared lists, and one for those that follow the directory, that were not brought up to date
    lately; of all lists, or of those asked about by their numbers and those that their rules refer to."""
    exchanged = [share for share in shares.every(book) if share.at < _before(_EXCHANGED)]
    refreshed = directory_links.last_refresh(book)
    if refreshed is not None and refreshed >= _before(_REFRESHED):
        refreshed = None
    if not exchanged and refreshed is None:
        return []
    rules = rule_members.all_rules(book)
    meant = {row for row in lists.numbers(book) if asked(row)}
    for row in reversed(rules):  # a list stands after those that its rule refers to
        if row in meant:
            meant.update(lists_in(rules[row]))
    said = []
    if some := [share for share in exchanged if share.row in meant]:
        said.append(_shared(book, some))
    following = [row for row, rule in rules.items() if row in meant and any(directory_filters_in(rule))]
    if refreshed is not None and following:
        said.append(_following(book, following, refreshed))
    return said


def _shared(book: Book, some: list[Share]) -> str:
    by_day: dict[str, list[int]] = {}
    for share in some:
        by_day.setdefault(_day(share.at) if share.at else "", []).append(share.row)
    said = [f"{_titles(book, rows)} {_last(day, len(rows) > 1)}" for day, rows in by_day.items()]
    return f"{' and '.join(said)}; `barnacle sync` brings what they have changed since."


def _last(day: str, several: bool) -> str:
    if not day:
        return f"{'have' if several else 'has'} not been exchanged with colleagues yet"
    return f"{'were' if several else 'was'} last exchanged with colleagues on {day}"


def _following(book: Book, rows: list[int], at: str) -> str:
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
