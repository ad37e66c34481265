"""Removing people from the book and from all lists."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.text import listed
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import people_meant


class Removed(NamedTuple):
    """Somebody who was removed, and the lists that lost a member."""

    name: str
    lists: list[str]


def remove(desk: Desk, who: Sequence[str], agree: Callable[[list[str]], bool]) -> list[Removed]:
    """Remove contacts from the book and from all lists. People who were not named one by one go only where `agree`,
    given all names, says so; else nobody does."""
    with desk.open() as book, book.action("contact remove") as action:
        result = []
        going = people_meant(desk, book, who)
        if len(going) > len(who) and not agree([kept.contact.title for kept in going]):
            return []
        for kept in going:
            result.append(Removed(kept.contact.title, drop(book, kept.id)))
        action.title = f"Removed {listed([one.name for one in result])}"
        return result


def drop(book: Book, row: int) -> list[str]:
    """Take a contact off all lists and out of the book, inside a running action. Returns the lists' titles."""
    left = [on for on, *_ in lists.memberships(book, row)]
    lists.drop_contact(book, row)
    contacts.remove(book, row)
    return [on.title for on in left]
