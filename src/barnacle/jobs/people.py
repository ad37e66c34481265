"""The people in the book: added, found, looked up."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from barnacle.book import contacts, lists, outbox
from barnacle.book.contacts import Kept
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.core.addresses import looks_like_address, parse_mailbox
from barnacle.core.contact import Address, Contact, check_name, join
from barnacle.core.errors import Unclear
from barnacle.core.names import turned
from barnacle.core.phones import phone_key
from barnacle.core.text import fold, listed, visible
from barnacle.jobs import known
from barnacle.jobs.desk import Desk, describe


class AddedPerson(NamedTuple):
    """What became of a person to add: the contact as it stands now, whether it is new, and what there is to say."""

    contact: Contact
    added: bool
    changed: bool
    lists: list[str]
    notes: list[str]


def read_person(text: str) -> Contact:
    """A new contact from `NAME <ADDRESS>`, `ADDRESS` or `NAME`. Raises Unclear, BadAddress."""
    text = check_name(text)
    if not text:
        raise Unclear('Say who it is: "NAME <ADDRESS>".')
    if not looks_like_address(text):
        return Contact(name=text)
    mailbox = parse_mailbox(text)
    return Contact(name=turned(mailbox.name), addresses=[Address(mailbox.address)])


def add_contact(desk: Desk, person: Contact, into: Sequence[str] = ()) -> AddedPerson:
    """Add somebody, or what is new about somebody who is known by address; put it on lists, made where they are
    not there yet. Raises BookError, Ambiguous."""
    with desk.open() as book, book.action("contact add") as action:
        row, result = keep(desk, book, person)
        for title in into:
            target = desk.find_list(book, title) or lists.new(book, title)
            if lists.add_member(book, target.id, row, "contact add"):
                result.lists.append(target.title)
        on = f" to {listed(result.lists)}" if result.lists else ""
        action.title = f"Added {result.contact.title}{on}"
        if not result.added:
            action.title = f"Added to what is known of {result.contact.title}{on}"
        return result


def keep(desk: Desk, book: Book, person: Contact) -> tuple[int, AddedPerson]:
    """Add a person inside a running action, or join it to the contact it is. Returns that contact's number."""
    found, sharers = known.by_address(book, person)
    if found is not None:
        contact = found.contact
        changed, differences = join(contact, person, lambda n: phone_key(n, desk.region))
        if changed:
            contacts.save(book, found.id, contact)
        notes = [f"{contact.title} is in the book already" + (", and has what was new now." if changed else ".")]
        notes += [f"The {d.field} stays {visible(d.book)}, not {visible(d.file)}." for d in differences]
        return found.id, AddedPerson(contact, False, changed, [], notes)
    notes = [f"{visible(k.contact.title)} has the same address: they are two contacts that share it." for k in sharers]
    if not sharers and person.name:
        same = [k for k in contacts.by_name(book, person.name) if fold(k.contact.name) == fold(person.name)]
        notes += [f"There is another contact of that name: {describe(k.contact)}." for k in same]
    assert book.current is not None
    person.source, person.added = book.current.command, book.current.at
    row = contacts.add(book, person)
    return row, AddedPerson(person, True, True, [], notes)


class Membership(NamedTuple):
    """A list that a contact is on: the address it uses there, since when, and by which command it came."""

    list: ContactList
    address: str | None
    since: str
    by: str


class Card(NamedTuple):
    """Everything there is to say about a contact."""

    contact: Contact
    lists: list[Membership]
    written: list[tuple[str, str, str, str]]


def card(book: Book, row: int, contact: Contact) -> Card:
    """The contact with its lists and what was sent to it."""
    preferred = contact.addresses[0].address if contact.addresses else None
    memberships = [
        Membership(on, (contact.find_address(address) if address else None) or preferred, since, by)
        for on, address, since, by in lists.memberships(book, row)
    ]
    return Card(contact, memberships, outbox.written_to(book, [row, *(f.number for f in contact.former)]))


def show_contact(desk: Desk, who: str) -> Card:
    """The card of whoever is meant. Raises NotFound, Ambiguous."""
    with desk.open() as book:
        found = desk.need_contact(book, who)
        return card(book, found.id, found.contact)


class Found(NamedTuple):
    """What a search found: contacts with the titles of their lists, best first, and lists. `more` says that there are
    more contacts than were asked for."""

    contacts: list[tuple[Contact, list[str]]]
    lists: list[lists.Overview]
    more: bool


class Search(NamedTuple):
    """What to find: words, and a label, a list or a rule that contacts have to fit; at most so many."""

    text: str
    label: str | None = None
    in_list: str | None = None
    where: str | None = None
    most: int | None = None


def find(desk: Desk, wish: Search) -> Found:
    """Contacts and lists that have all the words; no words: everybody.

    Raises NotFound for an unknown list, Unclear for a mistake in the rule.
    """
    with desk.open() as book:
        narrowed = any(part is not None for part in (wish.label, wish.in_list, wish.where))
        if wish.most is None or narrowed:
            found = _narrowed(desk, book, wish, contacts.search(book, wish.text))
        else:
            found = contacts.search_some(book, wish.text, wish.most + 1)
        wanted = fold(wish.text).split()
        found.sort(key=lambda k: _rank(k.contact, wanted))
        more = wish.most is not None and len(found) > wish.most
        titled = [one for one in lists.overview(book) if wanted and all(w in fold(one.list.title) for w in wanted)]
        shown = found[: wish.most]
        return Found([(k.contact, [m[0].title for m in lists.memberships(book, k.id)]) for k in shown], titled, more)


def _narrowed(desk: Desk, book: Book, wish: Search, found: list[Kept]) -> list[Kept]:
    if wish.label is not None:
        key = fold(wish.label)
        found = [k for k in found if key in map(fold, k.contact.labels)]
    if wish.in_list is not None:
        on = {m.id for m in lists.members(book, desk.need_list(book, wish.in_list).id)}
        found = [k for k in found if k.id in on]
    if wish.where is not None:
        from barnacle.book import rules
        from barnacle.jobs import ruling

        fitting = rules.fitting(book, ruling.understand(desk, book, wish.where))
        found = [k for k in found if k.id in fitting]
    return found


def _rank(contact: Contact, wanted: list[str]) -> int:
    """Matches in the name first, then in an address, then elsewhere."""
    if all(w in fold(contact.called) for w in wanted):
        return 0
    return 1 if all(any(w in a.address.casefold() for a in contact.addresses) for w in wanted) else 2
