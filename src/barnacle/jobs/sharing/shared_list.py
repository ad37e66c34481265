"""A shared list while it is exchanged: what each part of the exchange must know of it."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field

from barnacle.book import contacts, derived, lists, share_conflicts, shares
from barnacle.book.shares import OFF, Share, SharedMember, Trace
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core import sharing
from barnacle.core.sharing import Clash, Fields
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk
from barnacle.net.hub import Client

Tick = Callable[[int, int | None], None]


@dataclass(slots=True)
class Exchanged:
    """What an exchange did for one list: whose cards came in new, changed, or were taken off (numbers of contacts), how
    many members went out, and how many conflicts arose. `met` are those who were in the book before and stay as they
    are. `role` is a role that has changed to that, `ended` says that one's role is over, `refused` why something could
    not go out or come in, `unreadable` what of whose card could not be read, `stayed` of whom one's
    own changes were not handed on, `taken_back` what of these was put right, since one may only read the list."""

    title: str
    came: set[int] = field(default_factory=set)
    changed: set[int] = field(default_factory=set)
    off: set[int] = field(default_factory=set)
    met: set[int] = field(default_factory=set)
    sent: int = 0
    conflicts: int = 0
    role: str = ""
    ended: bool = False
    refused: str = ""
    unreadable: list[str] = field(default_factory=list)
    stayed: list[str] = field(default_factory=list)
    taken_back: list[str] = field(default_factory=list)

    @property
    def received(self) -> int:
        """How many members are otherwise than before."""
        return len(self.came | self.changed | self.off)


class SharedList:
    """One list, its hub, and what has become of it so far."""

    def __init__(self, desk: Desk, book: Book, client: Client, share: Share, result: Exchanged, tick: Tick) -> None:
        self.desk = desk
        self.book = book
        self.client = client
        self.share = share
        self.names = sharing.named(share.fields)
        self.result = result
        self.tick = tick
        self.held_changed = False
        self.look_again = False  # something is to go out that was changed long ago

    @property
    def row(self) -> int:
        return self.share.row

    def fields(self, kept: StoredContact) -> Fields:
        """What of a contact is shared."""
        return fields_on(self.book, self.row, kept, self.names)

    def as_shared(self, link: SharedMember) -> SharedMember:
        """What was agreed of the fields that are shared now: one that is no longer was not emptied by anybody."""
        here, there = (sharing.narrowed(side, self.names) for side in (link.here, link.there))
        return link._replace(here=here, there=there)

    def may_change(self, link: SharedMember) -> bool:
        """Whether what the list says of somebody is taken over: a contact follows the list that it has followed
        longest, and none that has only met it."""
        return link.own and not shares.follows_another(self.book, self.row, link.contact, link.since)

    def is_on(self, contact: int) -> bool:
        return lists.is_on(self.book, self.row, contact)

    def apply(self, kept: StoredContact, old: Fields, new: Fields) -> None:
        """Take changed fields over into a contact of one's own."""
        if old == new:
            return
        if len(shares.links_of(self.book, self.row, kept.id)) > 1:
            self.look_again = True  # what one card says goes to the other
        address = sharing.put_on_contact(kept.contact, old, new)
        contacts.save(self.book, kept.id, kept.contact)
        if address is not None and self.is_on(kept.id):
            lists.choose_address(self.book, self.row, kept.id, address)
        for name in sharing.differing(old, new):  # no later edit of one's own, which would settle a conflict about it
            share_conflicts.hold(self.book, kept.id, name, new.get(name))

    def ask(self, contact: int, name: str, clash: Clash, holds: Any) -> None:
        """Keep something for a person to decide."""
        share_conflicts.add(self.book, self.row, contact, name, *clash, holds)
        self.result.conflicts += 1

    def save(self, link: SharedMember) -> None:
        """Keep what was agreed of a member. What the card of somebody whom it may not change says of an opt-out counts
        for this list."""
        held = "" if self.may_change(link) else link.there.get("opt_out", "")
        self.held_changed |= link.held != held
        shares.save_link(self.book, self.row, link._replace(held=held))

    def is_off(self, link: SharedMember, mine: Fields) -> None:
        """Remember what was agreed of somebody who was taken off, and what is in the book, should he come again."""
        trace = Trace(link.name, link.contact, OFF, link.own, link.since, link.here, link.there, mine)
        shares.save_traces(self.book, self.row, [trace])

    def recount(self) -> None:
        """Count anew whom a message to the list reaches, where its cards now say otherwise."""
        if self.held_changed:
            derived.count(self.book, [self.row])
            self.held_changed = False

    def remember(self, token: str, action: int) -> None:
        """How far the exchange has come."""
        self.share = self.share._replace(token=token, at=now(), action=0 if self.look_again else action)
        self.look_again = False
        shares.save(self.book, self.share)


def fields_on(book: Book, row: int, kept: StoredContact, names: Collection[str]) -> Fields:
    """What of a contact is shared with those who have a list."""
    return sharing.fields_of(kept.contact, shares.chosen_address(book, row, kept), names)


def who(fields: Fields) -> str | None:
    """Whom a card is of, in words."""
    return sharing.in_text(fields.get("name") or fields.get("org") or fields.get("address"))
