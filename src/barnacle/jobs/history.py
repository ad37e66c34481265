"""The history, and taking changes back."""

from __future__ import annotations

from barnacle.book import lists, share_state, shares, undo
from barnacle.book.store import Book
from barnacle.book.undo import HistoryEntry, Touched
from barnacle.core.errors import NotFoundError
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk


class Shown(NamedTuple):
    """Changes, the latest first, and how many there are in all; `about` says to what or since when, where that was
    asked."""

    entries: list[HistoryEntry]
    total: int
    about: str


def history(desk: Desk, most: int | None, what: str = "", since: str = "") -> Shown:
    """What was changed: all, since a day, or of `what`: a list or a person, also such as are gone, a message, or a
    change by its number; a day is understood as well. Raises NotFoundError, AmbiguousError, UnclearError."""
    with desk.open() as book:
        if not what and not since:
            return Shown(*undo.history(book, most), "")
        wanted = _asked(desk, book, what, since)
        entries, total = undo.history(book, most, wanted.touched, wanted.words, wanted.since)
    if wanted.words and not total:
        raise NotFoundError(
            f"No list and nobody in the book is called `{visible(what, 60)}`, nor does any change name it. "
            "`barnacle history` shows the last changes."
        )
    return Shown(entries, total, wanted.about)


class _Asked(NamedTuple):
    touched: Touched | None
    words: str
    since: str
    about: str


def _asked(desk: Desk, book: Book, what: str, since: str) -> _Asked:
    from barnacle.core.moments import since_when  # not needed by whoever wants all
    from barnacle.jobs.desk.resolve import find_contact, find_list

    touched, words, about = None, "", ""
    _, begun, day = since_when("", since)
    if what and (one := find_list(desk, book, what)) is not None:
        touched, about = Touched("list", one.id), f"to {visible(one.title, 60)}"
    elif what and not since and not (when := since_when(what, ""))[0]:
        _, begun, day = when
    elif what.isdecimal():
        touched, about = Touched("action", int(what[:18])), "of that number"
    elif what[:1] in ("m", "M") and what[1:].isdecimal():
        touched, about = Touched("message", int(what[1:19])), f"to {what[:19].lower()}"
    elif what and (person := find_contact(desk, book, what)) is not None:
        touched, about = Touched("contact", person.id), f"to {visible(person.contact.title, 60)}"
    elif what:
        words, about = what, f"that name `{visible(what, 60)}`"
    return _Asked(touched, words, begun, f"{about} since {day}".strip() if begun else about)


class TakenBack(NamedTuple):
    """What was undone, in words; the number of the last change that came from others since and stays; and the titles of
    shared lists, of which it goes to the others."""

    title: str
    stays: int | None
    waits: list[str]


def take_back(desk: Desk, number: int | None) -> TakenBack:
    """Undo one's last change, or that one. Raises NotFoundError, UndoRefusedError."""
    with desk.open() as book:
        before = _waiting(book)
        done = undo.undo(book, number)
        stays = undo.received_since(book, done.number) if number is None else None
        waits = [title for title, changes in _waiting(book).items() if changes and changes != before.get(title)]
        return TakenBack(done.title, stays, waits)


def _waiting(book: Book) -> dict[str, int]:
    """How many changes to each shared list wait to go out, by its title here."""
    found = ((lists.get(book, one.row), one) for one in shares.every(book))
    return {here.title: share_state.waiting(book, one) for here, one in found if here is not None}
