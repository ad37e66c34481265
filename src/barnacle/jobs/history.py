"""The history, and taking changes back."""

from __future__ import annotations

from barnacle.book import undo
from barnacle.book.undo import HistoryEntry
from barnacle.jobs.desk.desk import Desk


def history(desk: Desk, most: int | None) -> list[HistoryEntry]:
    """What was changed, latest first."""
    with desk.open() as book:
        return undo.history(book, most)


def take_back(desk: Desk, number: int | None) -> str:
    """Undo the last change, or that one. Returns its sentence. Raises NotFoundError, UndoRefusedError."""
    with desk.open() as book:
        return undo.undo(book, number)
