"""Who is on a list: put on it, picked, taken off."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from barnacle.book import contacts, lists
from barnacle.book.lists import ContactList
from barnacle.book.lists import Member as Member
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.checklist import Line
from barnacle.core.contact import Contact
from barnacle.core.errors import NotFoundError
from barnacle.core.references import ListRef
from barnacle.core.text import listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk import address_slips
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import (
    brought_in,
    find_contact,
    meant_by,
    need_contact,
    need_list,
    says_address,
    several_meant,
    told_apart,
    understand,
)
from barnacle.jobs.desk.separate_names import one_by_one
from barnacle.jobs.lists.changes import ListChange
from barnacle.jobs.people.contacts import keep, read_person
from barnacle.jobs.people.removal import drop


def add(desk: Desk, title: str, who: Sequence[str], list_only: bool = False) -> ListChange:
    """Put people on a list, all of them or, on an error, none.

    They may be contacts, another list, a label, a sent message (its recipients), or `NAME <ADDRESS>`, which makes the
    contact too; with `list_only` that contact lives on this list alone.
    """
    with desk.open() as book, book.action("list add") as action:
        target = need_list(desk, book, title)
        result = put_on(desk, book, target, who, "list add", list_only)
        action.title = f"Added {listed(result.done) or 'nobody new'} to {target.title}"
        return result


class _Somebody(NamedTuple):
    kept: StoredContact
    address: str | None
    notes: list[str]


def put_on(desk: Desk, book: Book, target: ContactList, who: Sequence[str], by: str, list_only: bool) -> ListChange:
    try:
        return _put_on(desk, book, target, one_by_one(book, who), by, list_only)
    except NotFoundError as error:
        if not any(says_address(text) and " " not in text for text in who):
            raise
        together = 'A name and an address stand together in quotation marks: "NAME ADDRESS".'
        raise NotFoundError(f"{error} {together}") from None


def _put_on(desk: Desk, book: Book, target: ContactList, who: Sequence[str], by: str, list_only: bool) -> ListChange:
    result = ListChange(target, [], [], [], 0)
    by_address: dict[int, Contact] = {}
    for text in who:
        for one in _meant(desk, book, text, list_only, result.notes):
            contact = one.kept.contact
            if contact.list_only and one.kept.id not in contacts.added_now(book):
                contact.list_only = False  # on a second list it is somebody of the book
                contacts.save(book, one.kept.id, contact)
            result.notes.extend(one.notes)
            if says_address(text):
                by_address[one.kept.id] = contact
            added = lists.add_member(book, target.id, one.kept.id, by, one.address)
            (result.done if added else result.already).append(contact.title)
            if one.address:
                result.notes.append(f"{target.title} writes to {visible(contact.title)} at {one.address}.")
            if not contact.addresses:
                result.notes.append(f"{visible(contact.title)} has no address, so they cannot be written to.")
    new = contacts.added_now(book) if by_address else set()
    typed = [a.address for number, contact in by_address.items() if number in new for a in contact.addresses]
    result.notes.extend(address_slips.told(book, typed))
    return result._replace(members=lists.count(book, target.id))


def _meant(desk: Desk, book: Book, text: str, list_only: bool, notes: list[str]) -> Iterator[_Somebody]:
    """Who is meant by one word of the command line, with the address that the list shall use."""
    if says_address(text):
        yield _at_address(desk, book, text, list_only)
        return
    ref = understand(desk, book, text)
    if isinstance(ref, ListRef) and (meant := meant_by(text, ref)):
        notes.append(f"{meant}.")
    for candidate in brought_in(book, ref, ""):
        contact, explicit = candidate.contact, candidate.explicit
        if candidate.person is None:
            yield _at_address(desk, book, explicit or "", list_only)
        else:
            chosen = candidate.chosen or (explicit if explicit != contact.preferred else None)
            yield _Somebody(StoredContact(candidate.person, contact), chosen, [])


def _at_address(desk: Desk, book: Book, text: str, list_only: bool) -> _Somebody:
    """Somebody named by an address, added where nobody has it or a name stands beside it."""
    notes: list[str] = []
    person = read_person(text)
    kept = None if person.name else find_contact(desk, book, text)
    if kept is None:
        person.list_only = list_only
        row, result = keep(desk, book, person)
        kept, notes = StoredContact(row, result.contact), result.notes if result.added or result.changed else []
    own = kept.contact.find_address(person.addresses[0].address)
    return _Somebody(kept, own if own != kept.contact.preferred else None, notes)


def pick(desk: Desk, title: str, choose: Callable[[str, list[Line], set[str]], set[str] | None]) -> Picked | None:
    """Let the user tick see who is on a list, over all contacts. None where nothing was taken."""
    with desk.open() as book:
        target = need_list(desk, book, title)
        on = {m.contact.uid: StoredContact(m.id, m.contact) for m in lists.members(book, target.id)}
        everybody = {k.contact.uid: k for k in contacts.search(book, "")}
        everybody = {**on, **everybody}  # who is on it stands first
        lines = told_apart([kept.contact for kept in everybody.values()])
        ticked = choose(target.title, [Line(*pair) for pair in zip(everybody, lines, strict=True)], set(on))
        if ticked is None:
            return None
        with book.action("list pick") as action:
            added = [everybody[uid] for uid in everybody if uid in ticked and uid not in on]
            taken = [kept for uid, kept in on.items() if uid not in ticked]
            for kept in added:
                lists.add_member(book, target.id, kept.id, "list pick")
            for kept in taken:
                lists.take_member(book, target.id, kept.id, "list pick")
            put, off = ([k.contact.title for k in some] for some in (added, taken))
            action.title = f"Chose who is on {target.title}: {len(added)} added, {len(taken)} taken off"
        return Picked(target, put, off, lists.count(book, target.id))


class Picked(NamedTuple):
    """What picking changed on a list."""

    target: ContactList
    added: list[str]
    taken: list[str]
    members: int


def take(desk: Desk, title: str, who: Sequence[str]) -> ListChange:
    """Take people off a list; the contacts stay. Raises NotFoundError for somebody who is not on it."""
    with desk.open() as book, book.action("list take") as action:
        target = need_list(desk, book, title)
        done: list[str] = []
        on = {m.id: m for m in lists.members(book, target.id)}
        notes: list[str] = []
        for text in one_by_one(book, who):
            several = several_meant(desk, book, text)
            some = (
                [kept for kept in several if kept.id in on]
                if several is not None
                else [_member(desk, book, target, on, text)]
            )
            if not some:
                raise NotFoundError(
                    f"None of `{visible(text, 60)}` is on {visible(target.title)}; nothing was changed."
                )
            for kept in some:
                lists.take_member(book, target.id, kept.id)
                if kept.contact.list_only:
                    drop(book, kept.id)
                    notes.append(f"{visible(kept.contact.title)} was only on this list, and has left the book with it.")
                on.pop(kept.id)
                done.append(kept.contact.title)
        action.title = f"Took {listed(done)} off {target.title}"
        return ListChange(target, done, [], notes, len(on))


def _member(desk: Desk, book: Book, target: ContactList, on: dict[int, Member], text: str) -> StoredContact:
    """The member meant: a namesake who is not on the list is not in question."""
    found = need_contact(desk, book, text, among=on)
    if found.id not in on:
        raise NotFoundError(
            f"{visible(found.contact.title)} is not on {visible(target.title)}; nothing was changed. "
            f'`barnacle list show "{visible(target.title)}"` shows who is.'
        )
    return found
