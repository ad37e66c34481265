"""Whom a message to a list would reach: as many as its audience has."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from barnacle.book import contacts, lists
from barnacle.book.lists import Member
from barnacle.book.store import Book
from barnacle.book.stored_contact import address_at, keys_of
from barnacle.core.contact import Contact
from barnacle.core.typed import TYPE_CHECKING

if TYPE_CHECKING:
    from barnacle.core.mail.audience import Audience


def audience(book: Book, people: Iterable[tuple[int, Contact, str | None]]) -> Audience:
    """The audience of a message to contacts, each with its number and the address that is chosen for it."""
    from barnacle.core.mail.audience import Candidate, work_out  # only where somebody may not be reached

    candidates = (Candidate(contact, number, "", chosen=address) for number, contact, address in people)
    return work_out(candidates, opted_out_at=lambda keys: contacts.opted_out_at(book, keys))


def members(some: Iterable[Member]) -> Iterable[tuple[int, Contact, str | None]]:
    """Members as `audience` takes them."""
    return ((member.id, member.contact, member.address) for member in some)


def sharers(book: Book) -> set[int]:
    """Everybody who has an address of somebody who opted out."""
    rows = book.db.execute(
        "SELECT f.* FROM contact c JOIN contact_facts f ON f.contact = c.id WHERE c.opted_out"
    ).fetchall()
    places = {address_at(key) for _, *facts in rows for key in keys_of(facts)}
    found: set[int] = set()
    for place in places:
        found |= {
            contact
            for (contact,) in book.db.execute(
                "SELECT contact FROM contact_address WHERE domain = ? AND hash = ?", place
            )
        }
    return found


def why_not(book: Book, number: int, sharing: Collection[int] | None = None) -> dict[int, str]:
    """Whom of a list's members a message to it would not reach, by number, and why. Only those are looked at whom it
    may not: the others have a card against which nothing stands, and are not among the `sharers`."""
    doubtful = list(lists.doubtful(book, number, sharers(book) if sharing is None else sharing))
    if not doubtful:
        return {}
    return {one.who: one.reason for one in audience(book, members(doubtful)).left_out if one.who is not None}
