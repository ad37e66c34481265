"""Lists: made, filled, looked at, removed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from barnacle.book import contacts, lists, outbox
from barnacle.book.contacts import Kept
from barnacle.book.lists import ContactList, Overview
from barnacle.book.lists import Member as Member
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, looks_like_address
from barnacle.core.errors import NotFound
from barnacle.core.text import listed, people, plain_value, visible
from barnacle.jobs.desk import Desk
from barnacle.jobs.people import keep, read_person


class Changed(NamedTuple):
    """What a change of a list came to: names added or taken, names that were on it already, and notes."""

    target: ContactList
    done: list[str]
    already: list[str]
    notes: list[str]
    members: int


def overview(desk: Desk) -> list[tuple[Overview, str | None]]:
    """All lists with their counts and when each was last written to."""
    with desk.open() as book:
        last = outbox.last_written(book)
        return [(one, last.get(one.list.id)) for one in lists.overview(book)]


def show(desk: Desk, title: str) -> tuple[ContactList, list[Member]]:
    """A list with its members. Raises NotFound, Ambiguous."""
    with desk.open() as book:
        found = desk.need_list(book, title)
        return found, lists.members(book, found.id)


def new(desk: Desk, title: str, who: Sequence[str], about: str) -> Changed:
    """Make a list, with people on it if any are named. Raises Unclear, Taken, NotFound, Ambiguous."""
    with desk.open() as book, book.action("list new") as action:
        made = lists.new(book, title, plain_value(about, "The description"))
        result = _put_on(desk, book, made, who, "list new")
        action.title = f"Made the list {made.title}" + (f" with {people(len(result.done))}" if who else "")
        return result


def add(desk: Desk, title: str, who: Sequence[str]) -> Changed:
    """Put people on a list; `NAME <ADDRESS>` makes the contact too. All of them or, on an error, none."""
    with desk.open() as book, book.action("list add") as action:
        target = desk.need_list(book, title)
        result = _put_on(desk, book, target, who, "list add")
        action.title = f"Put {listed(result.done) or 'nobody new'} on {target.title}"
        return result


def _put_on(desk: Desk, book: Book, target: ContactList, who: Sequence[str], by: str) -> Changed:
    result = Changed(target, [], [], [], 0)
    for text in who:
        kept, notes = _somebody(desk, book, text)
        result.notes.extend(notes)
        chosen = _chosen_address(kept, text)
        added = lists.add_member(book, target.id, kept.id, by, chosen)
        (result.done if added else result.already).append(kept.contact.title)
        if chosen:
            result.notes.append(f"{target.title} writes to {visible(kept.contact.title)} at {chosen}.")
        if not kept.contact.addresses:
            result.notes.append(f"{visible(kept.contact.title)} has no address and can't be written to.")
    return result._replace(members=len(lists.members(book, target.id)))


def _somebody(desk: Desk, book: Book, text: str) -> tuple[Kept, list[str]]:
    """The contact meant; `NAME <ADDRESS>`, or an address that nobody has, makes it first."""
    if looks_like_address(text) and ("<" in text or desk.find_contact(book, text) is None):
        row, result = keep(desk, book, read_person(text))
        return Kept(row, result.contact), result.notes if result.added or result.changed else []
    return desk.need_contact(book, text), []


def _chosen_address(kept: Kept, text: str) -> str | None:
    """An address by which somebody was named, where it is not the preferred one: the list shall use it."""
    if not looks_like_address(text):
        return None
    named = address_key(read_person(text).addresses[0].address)
    own = next((a.address for a in kept.contact.addresses if address_key(a.address) == named), None)
    return own if own != kept.contact.addresses[0].address else None


def take(desk: Desk, title: str, who: Sequence[str]) -> Changed:
    """Take people off a list; the contacts stay. Raises NotFound for somebody who is not on it."""
    with desk.open() as book, book.action("list take") as action:
        target = desk.need_list(book, title)
        done: list[str] = []
        on = {m.id: m for m in lists.members(book, target.id)}
        for text in who:
            member = _member(desk, book, target, on, text)
            lists.take_member(book, target.id, member.id)
            on.pop(member.id)
            done.append(member.contact.title)
        action.title = f"Took {listed(done)} off {target.title}"
        return Changed(target, done, [], [], len(on))


def _member(desk: Desk, book: Book, target: ContactList, on: dict[int, Member], text: str) -> Kept:
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
        raise NotFound(
            f"{visible(found.contact.title)} is not on {visible(target.title)}; nothing was changed. "
            f'`barnacle list show "{visible(target.title)}"` shows who is.'
        )
    return found


class Removal(NamedTuple):
    """What removing a list would do."""

    target: ContactList
    members: int
    messages: list[str]


def removal(desk: Desk, title: str) -> Removal:
    """What would go with a list. Raises NotFound, Ambiguous."""
    with desk.open() as book:
        found = desk.need_list(book, title)
        waiting = [m.number for m in outbox.every(book) if m.begun is None and _is_for(m, found.id)]
        return Removal(found, len(lists.members(book, found.id)), waiting)


def _is_for(message: outbox.Kept, list_row: int) -> bool:
    return any(ref.get("list") == list_row for ref in message.doc.get("for", ()))


def remove(desk: Desk, title: str) -> ContactList:
    """Remove a list; everybody on it stays in the book."""
    with desk.open() as book, book.action("list remove") as action:
        found = desk.need_list(book, title)
        lists.remove(book, found.id)
        action.title = f"Removed the list {found.title}"
        return found
