"""The history, taking changes back, and where things stand."""

from __future__ import annotations

from dataclasses import dataclass

from barnacle.book import contacts, lists, undo
from barnacle.book.undo import Entry
from barnacle.jobs import sending
from barnacle.jobs.desk import Desk


def history(desk: Desk, most: int | None) -> list[Entry]:
    """What was changed, latest first."""
    with desk.open() as book:
        return undo.history(book, most)


def take_back(desk: Desk, number: int | None) -> str:
    """Undo the last change, or that one. Returns its sentence. Raises NotFound, UndoRefused."""
    with desk.open() as book:
        return undo.undo(book, number)


@dataclass(slots=True)
class Standing:
    """What `barnacle` alone tells: how much is in the book, and the messages that are not done."""

    contacts: int
    lists: int
    open_messages: list[sending.Outcome]


def standing(desk: Desk) -> Standing | None:
    """Where things stand; None where there is no book yet."""
    if not desk.path.exists():
        return None
    with desk.open() as book:
        totals = contacts.count(book), len(lists.overview(book))
    return Standing(*totals, [o for o in sending.every(desk) if o.state not in ("sent", "refused")])
