"""Whether somebody who comes in is in the book already."""

from __future__ import annotations

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.contact import Contact
from barnacle.core.matching.closeness import born_apart
from barnacle.core.matching.forms import is_birthday, own_of
from barnacle.core.matching.naming import contradicts
from barnacle.core.phones import phone_key
from barnacle.core.text import fold

# So many of one name are looked at one by one; more are no person's (`Guest`), and one of them is named.
_CROWD = 25


def find(
    book: Book, person: Contact, region: str, first: int | None = None
) -> tuple[StoredContact | None, list[StoredContact]]:
    """Who in the book the person is, by uid (also one that was merged), address, or without an address by name; and,
    where nobody, who is like it. Contacts numbered from `first` on came in with the same sheets."""
    kept = contacts.by_uid(book, person.uid) if person.uid else None
    if kept is not None:
        return kept, []
    return by_address(book, person) if person.addresses else by_name(book, person, region, first)


def by_address(book: Book, person: Contact) -> tuple[StoredContact | None, list[StoredContact]]:
    """Who in the book the person is, and, where nobody, who has one of its addresses under another name.

    Among those who share an address the name decides: the same name first, then one that does not contradict.
    """
    holders: dict[int, StoredContact] = {}
    for address in person.addresses:
        for kept in contacts.by_address(book, address.address):
            holders.setdefault(kept.id, kept)
    fitting = [k for k in holders.values() if _fits(k.contact, person.called) and not born_apart(k.contact, person)]
    if fitting:
        return min(fitting, key=lambda k: fold(k.contact.called) != fold(person.called)), []
    return None, list(holders.values())


def _fits(contact: Contact, name: str) -> bool:
    """Whether a name may be a contact's, or that of one which was merged into it."""
    names = [contact.called, *(f.name for f in contact.former if f.name)]
    return any(not contradicts(one, name) for one in names)


def told_apart(known: Contact, person: Contact) -> str:
    """The title of a field of their own by which two of one name are two people, a birthday first; empty for none."""
    its = dict(own_of(known))
    other = [title for title, value in own_of(person) if its.get(title, value) != value]
    days = [title for title in other if is_birthday(its[title])]
    return next(iter(days or other), "")


def by_name(
    book: Book, person: Contact, region: str, first: int | None = None
) -> tuple[StoredContact | None, list[StoredContact]]:
    """For a person without an address: who it is, and, where nobody for sure, who has the same name.

    It is somebody with the same name who has the same phone, or who has no address either; of several the one of whom
    most is the same besides. It is not who was born on another day, nor who came in with the same sheets (is numbered
    from `first` on) and has something else in a field of its own: a sheet has everybody once.
    """
    if not person.called:
        return None, []
    key = fold(person.called)
    namesakes = [k for k in contacts.namesakes(book, person, _CROWD) if fold(k.contact.called) == key]
    numbers = {phone_key(p.number, region) for p in person.phones}
    own = dict(own_of(person)) if person.extra else {}
    fitting: list[tuple[int, StoredContact]] = []
    for kept in namesakes:
        theirs = {phone_key(p.number, region) for p in kept.contact.phones}
        if not (theirs & numbers) and (kept.contact.addresses or (theirs and numbers)):
            continue
        its = dict(own_of(kept.contact)) if own else {}
        other = sum(value != its[title] for title, value in own.items() if title in its)
        if born_apart(kept.contact, person) or (other and first is not None and kept.id >= first):
            continue
        fitting.append((sum(its.get(title) == value for title, value in own.items()) - other, kept))
    if fitting:
        return max(fitting, key=lambda one: one[0])[1], []
    return None, namesakes if len(namesakes) < _CROWD else namesakes[:1]
