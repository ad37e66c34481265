"""Making one contact of several, with all that hangs on them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from barnacle.book import contacts, lists, shares
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key
from barnacle.core.merging import merge
from barnacle.core.phones import phone_key
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk


class Merged(NamedTuple):
    """The contact that is left, its name, how many were made one, and what followed for lists."""

    uid: str
    name: str
    number: int
    notes: list[str]


def make_one(desk: Desk, book: Book, members: Sequence[StoredContact], theirs: Collection[str] | None = None) -> Merged:
    """Make one contact of several inside a running action; the first stays. Each list keeps the address it used."""
    kept, *others = members
    notes: list[str] = []
    with book.taking_over():  # two who are one are so on a list too that one may only read
        for other in others:
            notes += _move_memberships(book, kept, other)
            contacts.remove(book, other.id)
            shares.merged(book, other.id, kept.id)
            merge(kept.contact, other.contact, other.id, lambda number: phone_key(number, desk.region), theirs)
    contacts.save(book, kept.id, kept.contact)
    return Merged(kept.contact.uid, kept.contact.title, len(members), notes)


def _move_memberships(book: Book, kept: StoredContact, other: StoredContact) -> list[str]:
    notes = []
    mine = {on.id: address for on, address, *_ in lists.memberships(book, kept.id)}
    preferred = kept.contact.preferred
    for on, address, since, by in lists.memberships(book, other.id):
        used = address or other.contact.preferred
        if on.id not in mine and by == "rule":
            if used and address:
                lists.choose_address(book, on.id, kept.id, address)
        elif on.id not in mine:
            chosen = used if used and (preferred is None or address_key(used) != address_key(preferred)) else None
            lists.add_member(book, on.id, kept.id, by, chosen, since)
            notes.append(f"{on.title} still uses {used or 'no address'}.")
    for row in lists.exceptions(book, other.id):
        lists.keep_off(book, row, kept.id, "contact merge")
    lists.drop_contact(book, other.id)
    return notes
