"""The history, taking changes back, and where things stand."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from barnacle.book import contacts, lists, undo
from barnacle.book.undo import Entry
from barnacle.jobs.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.messages import Outcome


def history(desk: Desk, most: int | None) -> list[Entry]:
    """What was changed, latest first."""
    with desk.open() as book:
        return undo.history(book, most)


def take_back(desk: Desk, number: int | None) -> str:
    """Undo the last change, or that one. Returns its sentence. Raises NotFound, UndoRefused."""
    with desk.open() as book:
        return undo.undo(book, number)


class Standing(NamedTuple):
    """What `barnacle` alone tells: how much is in the book, and the messages that are not done."""

    contacts: int
    lists: int
    open_messages: list[Outcome]


def standing(desk: Desk) -> Standing | None:
    """Where things stand; None where there is no book yet."""
    if not desk.path.exists():
        return None
    from barnacle.jobs import messages

    with desk.open() as book:
        totals = contacts.count(book), len(lists.overview(book))
    return Standing(*totals, [o for o in messages.every(desk) if o.state not in ("sent", "refused")])
