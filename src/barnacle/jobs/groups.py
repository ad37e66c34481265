"""Lists: made, filled, looked at, removed."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from barnacle.book import contacts, lists, outbox
from barnacle.book.contacts import Kept
from barnacle.book.lists import ContactList, Overview
from barnacle.book.lists import Member as Member
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, looks_like_address
from barnacle.core.delivery import State
from barnacle.core.errors import NotFound, Unclear
from barnacle.core.picking import Choice
from barnacle.core.text import fold, listed, people, plain_title, plain_value, visible
from barnacle.jobs import shared_state
from barnacle.jobs.desk import Desk
from barnacle.jobs.desk import describe as describe_contact
from barnacle.jobs.people import keep, read_person
from barnacle.jobs.shared_state import Told
from barnacle.jobs.upkeep import drop


class Changed(NamedTuple):
    """What a change of a list came to: names added or taken, names that were on it already, and notes."""

    target: ContactList
    done: list[str]
    already: list[str]
    notes: list[str]
    members: int


class Seen(NamedTuple):
    """A list as the overview shows it: its counts, when it was last written to, and one's role where it is shared."""

    one: Overview
    written: str | None
    shared: str | None


def overview(desk: Desk) -> list[Seen]:
    """All lists with their counts."""
    with desk.open() as book:
        last, roles = outbox.last_written(book), shared_state.roles(book)
        return [Seen(one, last.get(one.list.id), roles.get(one.list.id)) for one in lists.overview(book)]


class Shown(NamedTuple):
    """A list with its members; for one that follows a rule also the rule as text, the part of it that brings each
    member in, by the member's number, and whom a hand keeps off; for one that is shared, how."""

    target: ContactList
    members: list[Member]
    rule: str | None
    reasons: dict[int, str]
    kept_off: list[str]
    shared: Told | None = None


def show(desk: Desk, title: str) -> Shown:
    """A list with its members. Raises NotFound, Ambiguous."""
    with desk.open() as book:
        found = desk.need_list(book, title)
        members = lists.members(book, found.id)
        shared = shared_state.told(book, found.id)
        if found.rule is None:
            return Shown(found, members, None, {}, [], shared)
        from barnacle.jobs import ruling  # only for lists that follow a rule

        text, why = ruling.as_text(book, found.rule), ruling.reasons(book, found, members)
        return Shown(found, members, text, why, lists.kept_off(book, found.id), shared)


def new(
    desk: Desk, title: str, who: Sequence[str], about: str, list_only: bool = False, where: str | None = None
) -> Changed:
    """Make a list, with people on it if any are named, and with a rule (`where`) that brings people in by itself.

    Raises Unclear, Taken, NotFound, Ambiguous.
    """
    with desk.open() as book:
        with book.action("list new") as action:
            made = lists.new(book, title, plain_value(about, "The description"))
            if where is not None:
                from barnacle.jobs import ruling

                rule = ruling.understand(desk, book, where, made)
                lists.set_rule(book, made.id, rule)
            result = _put_on(desk, book, made, who, "list new", list_only)
            action.title = f"Made the list {made.title}" + (f" with {people(len(result.done))}" if who else "")
        return result._replace(members=lists.count(book, made.id))


def add(desk: Desk, title: str, who: Sequence[str], list_only: bool = False) -> Changed:
    """Put people on a list, all of them or, on an error, none.

    They may be contacts, another list, a label, a sent message (its recipients), or `NAME <ADDRESS>`, which makes the
    contact too; with `list_only` that contact lives on this list alone.
    """
    with desk.open() as book, book.action("list add") as action:
        target = desk.need_list(book, title)
        result = _put_on(desk, book, target, who, "list add", list_only)
        action.title = f"Put {listed(result.done) or 'nobody new'} on {target.title}"
        return result


class _Somebody(NamedTuple):
    kept: Kept
    address: str | None
    notes: list[str]


def _put_on(desk: Desk, book: Book, target: ContactList, who: Sequence[str], by: str, list_only: bool) -> Changed:
    result = Changed(target, [], [], [], 0)
    for text in who:
        for one in _meant(desk, book, target, text, list_only):
            contact = one.kept.contact
            if contact.list_only and one.kept.id not in _new_here(book):
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


def _new_here(book: Book) -> set[int]:
    """The contacts that the running action added."""
    rows = book.db.execute(
        "SELECT row FROM journal WHERE action = ? AND tbl = 'contact' AND before IS NULL", (book.action_id,)
    )
    return {row for (row,) in rows}


def _meant(desk: Desk, book: Book, target: ContactList, text: str, list_only: bool) -> Iterator[_Somebody]:
    """Who is meant by one word of the command line, with the address that the list shall use."""
    if looks_like_address(text):
        if "<" in text or desk.find_contact(book, text) is None:
            person = read_person(text)
            person.list_only = list_only
            row, result = keep(desk, book, person)
            kept, notes = Kept(row, result.contact), result.notes if result.added or result.changed else []
        else:
            kept, notes = desk.need_contact(book, text), []
        yield _Somebody(kept, _chosen_address(kept, text), notes)
        return
    if text.lower().startswith("find:"):
        found = contacts.search(book, text[5:])
        if not found:
            raise NotFound(f"Nobody has all of `{visible(text[5:], 60)}`. `barnacle find` shows what it finds.")
        for kept in found:
            yield _Somebody(kept, None, [])
        return
    if match := re.fullmatch(r"(m\d+)(?::([a-z]+))?", text):
        message = outbox.get(book, match[1])
        recipients = outbox.people_of(book, message.id)
        if not recipients:
            raise NotFound(f"{message.number} has not been sent, so it has no recipients yet.")
        if match[2] is not None:
            recipients = _in_state(book, message, match[2], recipients)
        for address, number in recipients:
            known = contacts.get(book, number) if number is not None else None
            if known is None:
                yield from _meant(desk, book, target, address, list_only)
            else:
                yield _Somebody(known, _chosen_address(known, address), [])
        return
    from barnacle.jobs import choosing  # not needed to look at lists, and slow to load

    for candidate in choosing.candidates_of(book, choosing.ref_of(desk, book, text), ""):
        if candidate.person is not None:
            yield _Somebody(Kept(candidate.person, candidate.contact), candidate.chosen, [])


def _in_state(
    book: Book, message: outbox.Kept, state: str, recipients: list[tuple[str, int | None]]
) -> list[tuple[str, int | None]]:
    """The recipients of a message who are in a state, by its name. Raises Unclear, NotFound."""
    known = [s.value for s in State if s is not State.SENDING]
    if state not in known:
        raise Unclear(f"`{visible(state, 30)}` is no state of a recipient; states are {listed(known, len(known))}.")
    inside = {d.address for d in outbox.deliveries(book, message.id) if d.state == state}
    if not inside:
        raise NotFound(f"Nobody of {message.number} is {state}. `barnacle outbox show {message.number}` shows all.")
    return [one for one in recipients if one[0] in inside]


def _chosen_address(kept: Kept, text: str) -> str | None:
    """An address by which somebody was named, where it is not the preferred one: the list shall use it."""
    named = address_key(read_person(text).addresses[0].address)
    own = next((a.address for a in kept.contact.addresses if address_key(a.address) == named), None)
    return own if own != kept.contact.addresses[0].address else None


def pick(desk: Desk, title: str, choose: Callable[[str, list[Choice], set[str]], set[str] | None]) -> Picked | None:
    """Let the user tick who is on a list, over all contacts. None where nothing was taken."""
    with desk.open() as book:
        target = desk.need_list(book, title)
        on = {m.contact.uid: Kept(m.id, m.contact) for m in lists.members(book, target.id)}
        everybody = {k.contact.uid: k for k in contacts.search(book, "")}
        everybody = {**on, **everybody}  # who is on it stands first
        ticked = choose(
            target.title, [Choice(uid, describe_contact(k.contact)) for uid, k in everybody.items()], set(on)
        )
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


def take(desk: Desk, title: str, who: Sequence[str]) -> Changed:
    """Take people off a list; the contacts stay. Raises NotFound for somebody who is not on it."""
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
    """What removing a list would do: its members, the messages of the outbox that are for it, and, where contacts go
    along, who would go and who would stay because another list has them; the lists whose rules refer to it."""

    target: ContactList
    members: int
    messages: list[str]
    going: list[Kept]
    staying: list[str]
    asked_by: list[str]


def removal(desk: Desk, title: str, with_contacts: bool = False, even_if_on_others: bool = False) -> Removal:
    """What would go with a list. Raises NotFound, Ambiguous."""
    with desk.open() as book:
        return _removal(book, desk.need_list(book, title), with_contacts, even_if_on_others)


def _removal(book: Book, found: ContactList, with_contacts: bool, even_if_on_others: bool) -> Removal:
    waiting = [m.number for m in outbox.every(book) if m.begun is None and _is_for(m, found.id)]
    members = lists.members(book, found.id)
    going, staying = [], []
    for member in members:
        elsewhere = [on for on, *_ in lists.memberships(book, member.id) if on.id != found.id]
        if member.contact.list_only or (with_contacts and (even_if_on_others or not elsewhere)):
            going.append(Kept(member.id, member.contact))
        elif with_contacts:
            staying.append(member.contact.title)
    return Removal(found, len(members), waiting, going, staying, _asked_by(book, found))


def _asked_by(book: Book, found: ContactList) -> list[str]:
    """The lists whose rules refer to this one."""
    if all(one.list.rule is None for one in lists.overview(book)):
        return []
    from barnacle.book import rules

    return [other.title for row in rules.refers_to(book, found.id) if (other := lists.get(book, row)) is not None]


def _is_for(message: outbox.Kept, list_row: int) -> bool:
    return any(ref.get("list") == list_row for ref in message.doc.get("for", ()))


def remove(desk: Desk, title: str, with_contacts: bool = False, even_if_on_others: bool = False) -> Removal:
    """Remove a list. Its people stay in the book, but for those who lived on it alone and those who shall go along."""
    with desk.open() as book, book.action("list remove") as action:
        plan = _removal(book, desk.need_list(book, title), with_contacts, even_if_on_others)
        lists.remove(book, plan.target.id)
        for kept in plan.going:
            drop(book, kept.id)
        along = f" and {people(len(plan.going))}" if plan.going else ""
        action.title = f"Removed the list {plan.target.title}{along}"
        return plan


def rename(desk: Desk, title: str, new_title: str) -> tuple[str, str]:
    """Give a list another title. Returns the old and the new one. Raises Taken, Unclear."""
    with desk.open() as book, book.action("list rename") as action:
        found = desk.need_list(book, title)
        renamed = found._replace(title=plain_title(new_title))
        lists.change(book, renamed)
        action.title = f"{found.title} is called {renamed.title} now"
        return found.title, renamed.title


def describe(desk: Desk, title: str, about: str) -> ContactList:
    """Say what a list is for."""
    with desk.open() as book, book.action("list about") as action:
        found = desk.need_list(book, title)._replace(about=plain_value(about, "The description"))
        lists.change(book, found)
        action.title = f"Said what {found.title} is for"
        return found


def pin(desk: Desk, title: str, pinned: bool) -> ContactList:
    """Show a list before the others, or no longer."""
    with desk.open() as book, book.action("list pin" if pinned else "list unpin") as action:
        found = desk.need_list(book, title)._replace(pinned=pinned)
        lists.change(book, found)
        action.title = f"{'Pinned' if pinned else 'Unpinned'} {found.title}"
        return found


def copy(desk: Desk, title: str, new_title: str) -> Changed:
    """A new list with the same people, each at the same address."""
    with desk.open() as book, book.action("list copy") as action:
        found = desk.need_list(book, title)
        made = lists.new(book, new_title, found.about)
        members = lists.members(book, found.id)
        if found.rule is not None:
            lists.set_rule(book, made.id, found.rule)
            lists.copy_exceptions(book, found.id, made.id)
        for member in members if found.rule is None else []:
            lists.add_member(book, made.id, member.id, "list copy", member.address)
        action.title = f"Copied {found.title} to {made.title}"
        return Changed(made, [m.contact.title for m in members], [], [], len(members))


class Compared(NamedTuple):
    """Lists side by side: who is on all of them, who on one alone, and (of three and more) on some."""

    titles: list[str]
    on_all: list[str]
    only_on: dict[str, list[str]]
    on_some: dict[str, list[str]]


def compare(desk: Desk, titles: Sequence[str]) -> Compared:
    """Who is on all of the lists, on one alone, or on some. Raises Unclear where they are one list."""
    with desk.open() as book:
        found = list({one.id: one for one in (desk.need_list(book, title) for title in titles)}.values())
        if len(found) < 2:
            raise Unclear("Name at least two different lists to compare.")
        names: dict[int, str] = {}
        on: dict[int, list[str]] = {}
        for one in found:
            for member in lists.members(book, one.id):
                names[member.id] = member.contact.title
                on.setdefault(member.id, []).append(one.title)
        order = sorted(on, key=lambda row: fold(names[row]))
        return Compared(
            [one.title for one in found],
            [names[row] for row in order if len(on[row]) == len(found)],
            {one.title: [names[row] for row in order if on[row] == [one.title]] for one in found},
            {names[row]: on[row] for row in order if 1 < len(on[row]) < len(found)},
        )
