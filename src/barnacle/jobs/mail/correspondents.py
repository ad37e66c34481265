"""Gathering people from past mail: everybody one wrote to or heard from, and how often."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.book import contacts, lists, mail_state, past_mail
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import FileError
from barnacle.core.moments import plain_day
from barnacle.core.names import turned
from barnacle.core.text import people, tidy, visible
from barnacle.core.typed import Any
from barnacle.files.mailbox import Mail, is_automatic, mails
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import find_list
from barnacle.jobs.desk.senders import own_addresses
from barnacle.jobs.mail.inbox import Inbox, Place
from barnacle.jobs.people.contacts import keep

# A year of mail of a busy office has some ten thousand correspondents.
_MOST = 200_000


@dataclass(slots=True)
class Correspondent:
    """Somebody in past mail: the address as written first, how often each name was written, how many messages went
    there and came from there, the last days of both (ISO 8601), and what the contact is called who has the address."""

    address: str
    names: Counter[str] = field(default_factory=Counter)
    sent: int = 0
    heard: int = 0
    last_sent: str = ""
    last_heard: str = ""
    known: str | None = None

    @property
    def name(self) -> str:
        """The name that was written most often, the longer one first; possibly empty."""
        best = max(self.names.items(), key=lambda item: (item[1], len(item[0]), item[0]), default=("", 0))
        return best[0]

    @property
    def count(self) -> int:
        """In how many messages."""
        return self.sent + self.heard

    @property
    def last(self) -> str:
        """When last, whichever way."""
        return max(self.last_sent, self.last_heard)


@dataclass(slots=True)
class Correspondence:
    """What past mail came to. `people` are ordered by how often, then how lately; `unread` says, in sentences, of which
    messages not everything could be read, `new` how many of a mailbox's messages were read now (None: all)."""

    messages: int
    people: list[Correspondent]
    automatic: int
    unread: list[str] = field(default_factory=list)
    new: int | None = None


def gather(desk: Desk, place: Place) -> Correspondence:
    """Everybody one wrote to or heard from, in files or in one's own mailbox. One's own addresses, mailing lists and
    machines are left out.

    Remembers for `check` when the book's people were last heard from. Raises FileError, MailError, NotFoundError,
    UnclearError.
    """
    since = place.since = plain_day(place.since) if place.since else ""
    with nullcontext() if place.paths else Inbox(desk, place) as inbox, desk.open() as book:
        own = _own_keys(desk, book)
        boxes: dict[str, _Tally] = defaultdict(_Tally)
        unread: list[str] = []
        for box, mail in inbox.messages(book) if inbox else place.files(headers_only=True):
            unread += mail.unread(box)
            if mail.date >= since:
                boxes[box].count(mail, own)
        new = sum(one.messages for one in boxes.values())
        all_of_it = _Tally()
        changed: dict[str, dict[str, Any]] = {}
        for box in list(inbox.goes_on if inbox else boxes):
            tally = boxes[box]
            if inbox:
                seen = {*tally.found, *tally.machines}
                if inbox.goes_on[box]:
                    tally.join(_Tally.of(mail_state.people_in(book, inbox.at, box)))
                changed[box] = tally.doc(seen)
            all_of_it.join(tally)
        found = all_of_it.found
        for one in found.values():
            holders = contacts.by_address(book, one.address)
            one.known = holders[0].contact.title if holders else None
        with book.transaction():
            past_mail.remember(book, [(key, one.last_heard, one.last_sent) for key, one in found.items() if one.known])
            if inbox and not since:
                inbox.remember(book)
                for box, doc in changed.items():
                    mail_state.keep_people(book, inbox.at, box, doc, not inbox.goes_on[box])
    ordered = sorted(found.values(), key=lambda o: o.address)
    ordered.sort(key=lambda o: (o.count, o.last), reverse=True)
    machines = len(all_of_it.machines - set(found))
    return Correspondence(all_of_it.messages, ordered, machines, unread, new if inbox else None)


class _Tally:
    """Who is in a box of mail, how often, and which addresses are machines'."""

    def __init__(self) -> None:
        self.found: dict[str, Correspondent] = {}
        self.machines: set[str] = set()
        self.messages = 0

    def count(self, mail: Mail, own: set[str]) -> None:
        """Count whom a message of one's own went to, or whom another one came from."""
        self.messages += 1
        mine = any(address_key(p.address) in own for p in mail.people.get("From", []))
        headers = ("To", "Cc", "Bcc") if mine else ("From",)
        for person in (p for header in headers for p in mail.people.get(header, [])):
            key = address_key(person.address)
            if key in own:
                continue
            if is_automatic(person.address) or (mail.automatic and not mine):
                self.machines.add(key)
                continue
            one = self._one(key, person.address)
            name = turned(tidy(person.name, 200))
            if name and address_key(name) != key:
                one.names[name] += 1
            if mine:
                one.sent, one.last_sent = one.sent + 1, max(one.last_sent, mail.date)
            else:
                one.heard, one.last_heard = one.heard + 1, max(one.last_heard, mail.date)

    def _one(self, key: str, address: str) -> Correspondent:
        if len(self.found) >= _MOST and key not in self.found:
            raise FileError(
                f"There are over {_MOST:,} addresses in this mail; choose a smaller part of it, or --since DATE."
            )
        return self.found.setdefault(key, Correspondent(address))

    def join(self, other: _Tally) -> None:
        """Add what another box has."""
        self.messages += other.messages
        self.machines |= other.machines
        for key, theirs in other.found.items():
            one = self._one(key, theirs.address)
            one.names += theirs.names
            one.sent, one.heard = one.sent + theirs.sent, one.heard + theirs.heard
            one.last_sent = max(one.last_sent, theirs.last_sent)
            one.last_heard = max(one.last_heard, theirs.last_heard)

    def doc(self, keys: set[str]) -> dict[str, Any]:
        """These as they are kept, by comparable address; machines have nothing, and the empty one has the number of
        messages."""
        people = {
            key: [one.address, dict(one.names), one.sent, one.heard, one.last_sent, one.last_heard]
            for key in keys
            if (one := self.found.get(key)) is not None
        }
        return {**dict.fromkeys(self.machines & keys), **people, "": self.messages}

    @staticmethod
    def of(doc: Mapping[str, Any]) -> _Tally:
        """What `doc` gave."""
        tally = _Tally()
        for key, value in doc.items():
            if key == "":
                tally.messages = value
            elif value is None:
                tally.machines.add(key)
            else:
                address, names, *rest = value
                tally.found[key] = Correspondent(address, Counter(names), *rest)
        return tally


def _own_keys(desk: Desk, book: Book) -> set[str]:
    """One's own addresses: those that one sends from, and all of the contacts that have them."""
    own: set[str] = set()
    for address in own_addresses(desk):
        own.add(address_key(address))
        for kept in contacts.by_address(book, address):
            own |= set(kept.contact.address_keys())
    return own


@dataclass(slots=True)
class TakenIn:
    """What became of those chosen: how many are new contacts, gained something, or came to the list."""

    added: int = 0
    updated: int = 0
    members: int = 0
    title: str | None = None


def take(desk: Desk, chosen: Iterable[Correspondent], into: str | None, labels: Sequence[str]) -> TakenIn:
    """Make contacts of those chosen, and put them on a list, made where it is not there."""
    chosen = list(chosen)
    result = TakenIn()
    with desk.open() as book, book.action("gather") as action:
        target = None
        if into is not None:
            target = find_list(desk, book, into) or lists.new(book, into)
            result.title = target.title
        for one in chosen:
            row, kept = keep(desk, book, Contact(name=one.name, addresses=[Address(one.address)], labels=list(labels)))
            result.added += kept.added
            result.updated += kept.changed and not kept.added
            if target is not None:
                result.members += lists.add_member(book, target.id, row, "gather", _chosen(kept.contact, one.address))
        past_mail.remember(book, [(address_key(one.address), one.last_heard, one.last_sent) for one in chosen])
        on = f" to {result.title}" if result.title else ""
        action.title = f"Added {people(len(chosen))} from past mail, {result.added} of them new{on}"
    return result


def _chosen(contact: Contact, address: str) -> str | None:
    """The address that the list shall use, where it is not the preferred one anyway."""
    own = contact.find_address(address)
    return own if own != contact.preferred else None


def recipients_of(desk: Desk, path: Path) -> list[str]:
    """Everybody whom a message names, but oneself, as `NAME <ADDRESS>`. Raises FileError."""
    mail = next(mails(path, headers_only=True), None)
    with desk.open() as book:
        own = _own_keys(desk, book)
    found: dict[str, str] = {}
    for people_ in mail.people.values() if mail else ():
        for person in people_:
            key = address_key(person.address)
            if key not in own and not is_automatic(person.address):
                name = re.sub(r"[<>]", "", turned(tidy(person.name, 200)))
                found.setdefault(key, f"{name} <{person.address}>" if name else person.address)
    if not found:
        raise FileError(f"{visible(path.name)} names nobody except you. Is it a message?")
    return list(found.values())
