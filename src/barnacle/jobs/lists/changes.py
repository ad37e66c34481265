"""What a change of a list came to."""

from __future__ import annotations

from barnacle.book.lists import ContactList
from barnacle.core.typed import NamedTuple


class ListChange(NamedTuple):
    """What a change of a list came to: names added or taken, names that were on it already, and notes."""

    target: ContactList
    done: list[str]
    already: list[str]
    notes: list[str]
    members: int
