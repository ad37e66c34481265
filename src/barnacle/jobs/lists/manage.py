"""Lists: all of them, one of them, made, copied, compared, removed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

from barnacle.book import lists, reach, share_state, shares
from barnacle.book.lists import ContactList, Overview
from barnacle.book.lists import Member as Member
from barnacle.book.share_state import Told as Told
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core import field_values
from barnacle.core.errors import UnclearError
from barnacle.core.text import fold, people, plain_title, plain_value
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list, need_own_title
from barnacle.jobs.lists.changes import ListChange


class ListLine(NamedTuple):
    """A list as the overview shows it: its counts, when it was last written to, and one's role where it is shared."""

    one: Overview
    written: str | None
    shared: str | None


def overview(desk: Desk) -> list[ListLine]:
    """All lists with their counts."""
    with desk.open() as book:
        last, roles = lists.last_written(book), share_state.roles(book)
        return [ListLine(one, last.get(one.list.id), roles.get(one.list.id)) for one in lists.overview(book)]


class Shown(NamedTuple):
    """A list with its members; for one that follows a rule also the rule as text, the part of it that brings each
    member in, by the member's number, and whom a hand keeps off; for one that is shared, how; why a message to the
    list would not reach somebody, by the member's number; what the rule cannot tell; the fields that were asked for,
    and their values."""

    target: ContactList
    members: list[Member]
    rule: str | None
    reasons: dict[int, str]
    kept_off: list[str]
    shared: Told | None
    why_not: dict[int, str]
    notes: Sequence[str] = ()
    columns: Sequence[str] = ()
    values: Mapping[int, Sequence[str]] = MappingProxyType({})


def show(desk: Desk, title: str, fields: Sequence[str] = ()) -> Shown:
    """A list with its members, and with fields of theirs. Raises NotFoundError, AmbiguousError."""
    shown = _show(desk, title, fields)
    values = {m.id: [field_values.text_of(m.contact, name) for name in shown.columns] for m in shown.members}
    return shown._replace(values=values)


def _show(desk: Desk, title: str, fields: Sequence[str]) -> Shown:
    with desk.open() as book:
        found = need_list(desk, book, title)
        columns = [name if field_values.is_common(name) else need_own_title(book, name) for name in fields]
        members = lists.members(book, found.id)
        shared = share_state.told(book, found.id)
        why_not = reach.why_not(book, found.id)
        if found.rule is None:
            return Shown(found, members, None, {}, [], shared, why_not, columns=columns)
        from barnacle.jobs.lists import rules

        text, why = rules.as_text(book, found.rule), rules.reasons(book, found, members)
        notes = rules.unclear(book, found.rule, found.id)
        return Shown(found, members, text, why, lists.kept_off(book, found.id), shared, why_not, notes, columns)


def new(
    desk: Desk, title: str, who: Sequence[str], about: str, list_only: bool = False, where: str | None = None
) -> ListChange:
    """Make a list, with people on it if any are named, and with a rule (`where`) that brings people in by itself.

    Raises UnclearError, Taken, NotFoundError, AmbiguousError.
    """
    with desk.open() as book:
        with book.action("list new") as action:
            made = lists.new(book, title, plain_value(about, "The description"))
            if where is not None:
                from barnacle.jobs.lists import rules

                rule = rules.understand(desk, book, where, made)
                lists.set_rule(book, made.id, rule)
            from barnacle.jobs.lists.members import put_on  # not needed to look at lists

            result = put_on(desk, book, made, who, "list new", list_only)
            action.title = f"Made the list {made.title}" + (f" with {people(len(result.done))}" if who else "")
        notes = result.notes
        if where is not None:
            notes = [*rules.unclear(book, rule, made.id), *notes]
        return result._replace(members=lists.count(book, made.id), notes=notes)


class Removal(NamedTuple):
    """What removing a list would do: its members, the messages of the outbox that are for it, and, where contacts go
    along, who would go and who would stay because another list has them; the lists whose rules refer to it; and whether
    it is shared, so that one leaves it."""

    target: ContactList
    members: int
    messages: list[str]
    going: list[StoredContact]
    staying: list[str]
    asked_by: list[str]
    shared: bool


def removal(desk: Desk, title: str, with_contacts: bool = False, even_if_on_others: bool = False) -> Removal:
    """What would go with a list. Raises NotFoundError, AmbiguousError."""
    with desk.open() as book:
        return _removal(book, need_list(desk, book, title), with_contacts, even_if_on_others)


def _removal(book: Book, found: ContactList, with_contacts: bool, even_if_on_others: bool) -> Removal:
    from barnacle.book import outbox  # not needed to look at lists

    waiting = [m.number for m in outbox.unfinished(book) if m.begun is None and m.content.choice.has_list(found.id)]
    members = lists.members(book, found.id)
    going, staying = [], []
    for member in members:
        elsewhere = [on for on, *_ in lists.memberships(book, member.id) if on.id != found.id]
        if member.contact.list_only or (with_contacts and (even_if_on_others or not elsewhere)):
            going.append(StoredContact(member.id, member.contact))
        elif with_contacts:
            staying.append(member.contact.title)
    shared = shares.of(book, found.id) is not None
    return Removal(found, len(members), waiting, going, staying, _asked_by(book, found), shared)


def _asked_by(book: Book, found: ContactList) -> list[str]:
    """The lists whose rules refer to this one."""
    if all(one.list.rule is None for one in lists.overview(book)):
        return []
    from barnacle.book import rule_members

    return [
        other.title for row in rule_members.refers_to(book, found.id) if (other := lists.get(book, row)) is not None
    ]


def remove(desk: Desk, title: str, with_contacts: bool = False, even_if_on_others: bool = False) -> Removal:
    """Remove a list. Its people stay in the book, but for those who lived on it alone and those who shall go along."""
    with desk.open() as book, book.action("list remove") as action:
        plan = _removal(book, need_list(desk, book, title), with_contacts, even_if_on_others)
        lists.remove(book, plan.target.id)
        from barnacle.jobs.people.removal import drop  # not needed to look at lists

        for kept in plan.going:
            drop(book, kept.id)
        along = f" and {people(len(plan.going))}" if plan.going else ""
        action.title = f"Removed the list {plan.target.title}{along}"
        return plan


def rename(desk: Desk, title: str, new_title: str) -> tuple[str, str]:
    """Give a list another title. Returns the old and the new one. Raises Taken, UnclearError."""
    with desk.open() as book, book.action("list rename") as action:
        found = need_list(desk, book, title)
        renamed = found._replace(title=plain_title(new_title))
        lists.change(book, renamed)
        action.title = f"{found.title} is now called {renamed.title}"
        return found.title, renamed.title


def describe(desk: Desk, title: str, about: str) -> ContactList:
    """Say what a list is for."""
    with desk.open() as book, book.action("list about") as action:
        found = need_list(desk, book, title)._replace(about=plain_value(about, "The description"))
        lists.change(book, found)
        action.title = f"Described {found.title}"
        return found


def find(desk: Desk, title: str) -> ContactList:
    """A list as it is. Raises NotFoundError, AmbiguousError."""
    with desk.open() as book:
        return need_list(desk, book, title)


def set_sender(desk: Desk, title: str, sender: str) -> ContactList:
    """Say as whom one usually writes to a list. Raises NotFoundError."""
    from barnacle.jobs.desk import senders

    name = senders.need(desk, sender).name
    with desk.open() as book, book.action("list sender") as action:
        found = need_list(desk, book, title)._replace(sender=None if name == senders.ME else name)
        lists.change(book, found)
        action.title = f"Set the usual sender of {found.title}"
        return found


def pin(desk: Desk, title: str, pinned: bool) -> ContactList:
    """Show a list before the others, or no longer."""
    with desk.open() as book, book.action("list pin" if pinned else "list unpin") as action:
        found = need_list(desk, book, title)._replace(pinned=pinned)
        lists.change(book, found)
        action.title = f"{'Pinned' if pinned else 'Unpinned'} {found.title}"
        return found


def copy(desk: Desk, title: str, new_title: str) -> ListChange:
    """A new list with the same people, each at the same address."""
    with desk.open() as book, book.action("list copy") as action:
        found = need_list(desk, book, title)
        made = lists.new(book, new_title, found.about)
        members = lists.members(book, found.id)
        if found.rule is not None:
            lists.set_rule(book, made.id, found.rule)
            lists.copy_exceptions(book, found.id, made.id)
        for member in members if found.rule is None else []:
            lists.add_member(book, made.id, member.id, "list copy", member.address)
        action.title = f"Copied {found.title} to {made.title}"
        return ListChange(made, [m.contact.title for m in members], [], [], len(members))


class Compared(NamedTuple):
    """Lists side by side: who is on all of them, who on one alone, and (of three and more) on some."""

    titles: list[str]
    on_all: list[str]
    only_on: dict[str, list[str]]
    on_some: dict[str, list[str]]


def compare(desk: Desk, titles: Sequence[str]) -> Compared:
    """Who is on all of the lists, on one alone, or on some. Raises UnclearError where they are one list."""
    with desk.open() as book:
        found = list({one.id: one for one in (need_list(desk, book, title) for title in titles)}.values())
        if len(found) < 2:
            raise UnclearError("Name at least two different lists to compare.")
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
