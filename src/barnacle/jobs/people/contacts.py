"""The people in the book: added, shown, removed."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, lists, outbox
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.core.addresses import check_address, looks_like_address, typed_mailbox
from barnacle.core.contact import Address, Contact, check_name, join
from barnacle.core.errors import UnclearError
from barnacle.core.names import turned
from barnacle.core.patterns import pattern
from barnacle.core.phones import LEAST_DIGITS, phone_key
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk import address_slips
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import describe, find_list, need_contact

# What a number behind a name or an address is made of.
_BEHIND = pattern(r"[\s,;][0-9()+ ./-]{6,30}$")


class AddedPerson(NamedTuple):
    """What became of a person to add: the contact as it stands now, whether it is new, and what there is to say."""

    contact: Contact
    added: bool
    changed: bool
    lists: list[str]
    notes: list[str]


def read_person(text: str) -> Contact:
    """A new contact from `NAME <ADDRESS>`, `ADDRESS` or `NAME`, also with phone numbers between. Raises UnclearError,
    BadAddressError."""
    text = check_name(text)
    if not text:
        raise UnclearError('Who is it? Write "NAME <ADDRESS>".')
    if text.count("@") > 1 and len(text.split()) > 1:
        raise UnclearError(
            'That is more than one address. One person at a time: write "NAME <ADDRESS>", and what there is besides '
            "with --address. `barnacle list new` and `list add` take several people, in quotation marks each."
        )
    if person := _with_phones(text):
        return person
    behind = _BEHIND.search(text)
    if behind and sum(map(str.isdigit, behind[0])) >= LEAST_DIGITS:
        phone = behind[0].strip(" ,;")
        raise UnclearError(f'Is `{phone}` a phone number? Then write --phone "{phone}".')
    if not looks_like_address(text):
        return Contact(name=text)
    mailbox = typed_mailbox(text)
    return Contact(name=turned(mailbox.name), addresses=[Address(mailbox.address)])


def _with_phones(text: str) -> Contact | None:
    """Somebody with an address and phone numbers, where all of a text is understood: `Bo Lund, 07700 900010, bo@…`."""
    if "@" not in text or sum(map(str.isdigit, text)) < LEAST_DIGITS:
        return None
    from barnacle.files.tables.text_line import people_of  # slow to load

    told = people_of(text)[0]
    if not (told.name and told.phones):
        return None
    if beside := ", ".join((*told.rest, *([told.org] if told.org else []))):
        who = f'"{visible(turned(told.name), 60)} <{visible(told.address, 80)}>"'
        phones = "".join(f' --phone "{one.number}"' for one in told.phones)
        raise UnclearError(
            f"`{visible(beside, 60)}` is neither a name, an address nor a phone number. "
            f'`barnacle contact add {who}{phones} --note "{visible(beside, 60)}"` keeps it.'
        )
    own = Address(check_address(told.address), told.kind)
    return Contact(name=turned(told.name), addresses=[own], phones=[*told.phones])


def add_contact(desk: Desk, person: Contact, into: Sequence[str] = ()) -> AddedPerson:
    """Add somebody, or what is new about somebody who is known by address; put it on lists, made where they are
    not there yet. Raises BookError, AmbiguousError."""
    with desk.open() as book, book.action("contact add") as action:
        row, result = keep(desk, book, person)
        result.notes.extend(address_slips.told(book, [a.address for a in person.addresses] if result.changed else ()))
        for title in into:
            target = find_list(desk, book, title) or lists.new(book, title)
            if lists.add_member(book, target.id, row, "contact add"):
                result.lists.append(target.title)
        on = f" to {listed(result.lists)}" if result.lists else ""
        action.title = f"Added {result.contact.title}{on}"
        if not result.added:
            action.title = f"Updated {result.contact.title}{on}"
        return result


def keep(desk: Desk, book: Book, person: Contact) -> tuple[int, AddedPerson]:
    """Add a person inside a running action, or join it to the contact it is. Returns that contact's number."""
    from barnacle.jobs.people import identify  # not needed to look at somebody, and slow to load

    found, sharers = identify.by_address(book, person)
    if found is not None:
        contact = found.contact
        changed, differences = join(contact, person, lambda n: phone_key(n, desk.region))
        if changed:
            contacts.save(book, found.id, contact)
        notes = [f"{contact.title} is in the book already" + (", and was updated." if changed else ".")]
        notes += [f"The {d.field} is still {visible(d.book)}, not {visible(d.file)}." for d in differences]
        return found.id, AddedPerson(contact, False, changed, [], notes)
    notes = [f"{visible(k.contact.title)} has the same address, so the two share it." for k in sharers]
    if not sharers and person.name:
        same = [k for k in contacts.called(book, person.name) if fold(k.contact.name) == fold(person.name)]
        notes += [f"There is another contact of that name: {describe(k.contact)}." for k in same]
    person.source, person.added = book.running.command, book.running.at
    row = contacts.add(book, person)
    return row, AddedPerson(person, True, True, [], notes)


class Membership(NamedTuple):
    """A list that a contact is on: the address it uses there, since when, and by which command it came."""

    list: ContactList
    address: str | None
    since: str
    by: str


class ContactCard(NamedTuple):
    """Everything there is to say about a contact."""

    contact: Contact
    lists: list[Membership]
    written: list[tuple[str, str, str, str]]


def show_contact(desk: Desk, who: str) -> ContactCard:
    """The card of whoever is meant. Raises NotFoundError, AmbiguousError."""
    with desk.open() as book:
        found = need_contact(desk, book, who)
        memberships = [
            Membership(on, found.contact.used_at(address), since, by)
            for on, address, since, by in lists.memberships(book, found.id)
        ]
        return ContactCard(found.contact, memberships, outbox.written_to(book, found))
