"""Whether somebody who comes in is in the book already."""

from __future__ import annotations

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.contact import Contact
from barnacle.core.matching.naming import contradicts
from barnacle.core.phones import phone_key
from barnacle.core.text import fold


def find(book: Book, person: Contact, region: str) -> tuple[StoredContact | None, list[StoredContact]]:
    """Who in the book the person is, by uid (also one that was merged), address, or without an address by name; and,
    where nobody, who is like it."""
    kept = contacts.by_uid(book, person.uid) if person.uid else None
    if kept is not None:
        return kept, []
    return by_address(book, person) if person.addresses else by_name(book, person, region)


def by_address(book: Book, person: Contact) -> tuple[StoredContact | None, list[StoredContact]]:
    """Who in the book the person is, and, where nobody, who has one of its addresses under another name.

    Among those who share an address the name decides: the same name first, then one that does not contradict.
    """
    holders: dict[int, StoredContact] = {}
    for address in person.addresses:
        for kept in contacts.by_address(book, address.address):
            holders.setdefault(kept.id, kept)
    fitting = [k for k in holders.values() if _fits(k.contact, person.called)]
    if fitting:
        return min(fitting, key=lambda k: fold(k.contact.called) != fold(person.called)), []
    return None, list(holders.values())


def _fits(contact: Contact, name: str) -> bool:
    """Whether a name may be a contact's, or that of one which was merged into it."""
    names = [contact.called, *(f.name for f in contact.former if f.name)]
    return any(not contradicts(one, name) for one in names)


def by_name(book: Book, person: Contact, region: str) -> tuple[StoredContact | None, list[StoredContact]]:
    """For a person without an address: who it is, and, where nobody for sure, who has the same name.

    It is somebody with the same name who has the same phone, or who has no address either.
    """
    if not person.called:
        return None, []
    key = fold(person.called)
    namesakes = [k for k in contacts.called(book, person.called) if fold(k.contact.called) == key]
    numbers = {phone_key(p.number, region) for p in person.phones}
    for kept in namesakes:
        theirs = {phone_key(p.number, region) for p in kept.contact.phones}
        if theirs & numbers or (not kept.contact.addresses and not (theirs and numbers)):
            return kept, []
    return None, namesakes
