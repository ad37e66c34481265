"""Who is on a list: put on it, picked, taken off."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from barnacle.book import contacts, lists, outbox
from barnacle.book.contacts import StoredContact
from barnacle.book.lists import ContactList
from barnacle.book.lists import Member as Member
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, looks_like_address
from barnacle.core.checklist import Line
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.mail.delivery import State
from barnacle.core.text import listed, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.desk import describe as describe_contact
from barnacle.jobs.people.contacts import keep, read_person
from barnacle.jobs.people.removal import drop


class ListChange(NamedTuple):
    """What a change of a list came to: names added or taken, names that were on it already, and notes."""

    target: ContactList
    done: list[str]
    already: list[str]
    notes: list[str]
    members: int


def add(desk: Desk, title: str, who: Sequence[str], list_only: bool = False) -> ListChange:
    """Put people on a list, all of them or, on an error, none.

    They may be contacts, another list, a label, a sent message (its recipients), or `NAME <ADDRESS>`, which makes the
    contact too; with `list_only` that contact lives on this list alone.
    """
    with desk.open() as book, book.action("list add") as action:
        target = desk.need_list(book, title)
        result = put_on(desk, book, target, who, "list add", list_only)
        action.title = f"Put {listed(result.done) or 'nobody new'} on {target.title}"
        return result


class _Somebody(NamedTuple):
    kept: StoredContact
    address: str | None
    notes: list[str]


def put_on(desk: Desk, book: Book, target: ContactList, who: Sequence[str], by: str, list_only: bool) -> ListChange:
    result = ListChange(target, [], [], [], 0)
    for text in who:
        for one in _meant(desk, book, target, text, list_only):
            contact = one.kept.contact
            if contact.list_only and one.kept.id not in contacts.added_now(book):
                contact.list_only = False  # on a second list it is somebody of the book
                contacts.save(book, one.kept.id, contact)
            result.notes.extend(one.notes)
            added = lists.add_member(book, target.id, one.kept.id, by, one.address)
            (result.done if added else result.already).append(contact.title)
            if one.address:
                result.notes.append(f"{target.title} writes to {visible(contact.title)} at {one.address}.")
            if not contact.addresses:
                result.notes.append(f"{visible(contact.title)} has no address and can't be written to.")
    return result._replace(members=lists.count(book, target.id))


def _meant(desk: Desk, book: Book, target: ContactList, text: str, list_only: bool) -> Iterator[_Somebody]:
    """Who is meant by one word of the command line, with the address that the list shall use."""
    if looks_like_address(text):
        if "<" in text or desk.find_contact(book, text) is None:
            person = read_person(text)
            person.list_only = list_only
            row, result = keep(desk, book, person)
            kept, notes = StoredContact(row, result.contact), result.notes if result.added or result.changed else []
        else:
            kept, notes = desk.need_contact(book, text), []
        yield _Somebody(kept, _chosen_address(kept, text), notes)
        return
    if text.lower().startswith("find:"):
        found = contacts.search(book, text[5:])
        if not found:
            raise NotFoundError(f"Nobody has all of `{visible(text[5:], 60)}`. `barnacle find` shows what it finds.")
        for kept in found:
            yield _Somebody(kept, None, [])
        return
    if match := re.fullmatch(r"(m\d+)(?::([a-z]+))?", text):
        message = outbox.get(book, match[1])
        recipients = outbox.people_of(book, message.id)
        if not recipients:
            raise NotFoundError(f"{message.number} has not been sent, so it has no recipients yet.")
        if match[2] is not None:
            recipients = _in_state(book, message, match[2], recipients)
        for address, number in recipients:
            known = contacts.get(book, number) if number is not None else None
            if known is None:
                yield from _meant(desk, book, target, address, list_only)
            else:
                yield _Somebody(known, _chosen_address(known, address), [])
        return
    from barnacle.jobs.desk import resolve

    for candidate in resolve.candidates_of(book, resolve.ref_of(desk, book, text), ""):
        if candidate.person is not None:
            yield _Somebody(StoredContact(candidate.person, candidate.contact), candidate.chosen, [])


def _in_state(
    book: Book, message: outbox.StoredMessage, state: str, recipients: list[tuple[str, int | None]]
) -> list[tuple[str, int | None]]:
    """The recipients of a message who are in a state, by its name. Raises UnclearError, NotFoundError."""
    known = [s.value for s in State if s is not State.SENDING]
    if state not in known:
        raise UnclearError(
            f"`{visible(state, 30)}` is no state of a recipient; states are {listed(known, len(known))}."
        )
    inside = {d.address for d in outbox.deliveries(book, message.id) if d.state == state}
    if not inside:
        raise NotFoundError(
            f"Nobody of {message.number} is {state}. `barnacle outbox show {message.number}` shows all."
        )
    return [one for one in recipients if one[0] in inside]


def _chosen_address(kept: StoredContact, text: str) -> str | None:
    """An address by which somebody was named, where it is not the preferred one: the list shall use it."""
    named = address_key(read_person(text).addresses[0].address)
    own = next((a.address for a in kept.contact.addresses if address_key(a.address) == named), None)
    return own if own != kept.contact.addresses[0].address else None


def pick(desk: Desk, title: str, choose: Callable[[str, list[Line], set[str]], set[str] | None]) -> Picked | None:
    """Let the user tick who is on a list, over all contacts. None where nothing was taken."""
    with desk.open() as book:
        target = desk.need_list(book, title)
        on = {m.contact.uid: StoredContact(m.id, m.contact) for m in lists.members(book, target.id)}
        everybody = {k.contact.uid: k for k in contacts.search(book, "")}
        everybody = {**on, **everybody}  # who is on it stands first
        ticked = choose(target.title, [Line(uid, describe_contact(k.contact)) for uid, k in everybody.items()], set(on))
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
            action.title = f"Picked for {target.title}: {len(added)} on, {len(taken)} off"
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
        target = desk.need_list(book, title)
        done: list[str] = []
        on = {m.id: m for m in lists.members(book, target.id)}
        for text in who:
            member = _member(desk, book, target, on, text)
            lists.take_member(book, target.id, member.id)
            if member.contact.list_only:
                drop(book, member.id)
            on.pop(member.id)
            done.append(member.contact.title)
        action.title = f"Took {listed(done)} off {target.title}"
        return ListChange(target, done, [], [], len(on))


def _member(desk: Desk, book: Book, target: ContactList, on: dict[int, Member], text: str) -> StoredContact:
    """The member meant: a namesake who is not on the list is not in question."""
    if not looks_like_address(text):
        named = [k for k in contacts.by_name(book, text) if k.id in on]
        if len(named) == 1:
            return named[0]
    else:
        sharing = [k for k in contacts.by_address(book, read_person(text).addresses[0].address) if k.id in on]
        if len(sharing) == 1:
            return sharing[0]
    found = desk.need_contact(book, text)
    if found.id not in on:
        raise NotFoundError(
            f"{visible(found.contact.title)} is not on {visible(target.title)}; nothing was changed. "
            f'`barnacle list show "{visible(target.title)}"` shows who is.'
        )
    return found
