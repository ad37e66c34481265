"""What comes back: delivery reports and opt-out replies, marked on the contacts that they are about."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from barnacle.book import contacts, lists, outbox
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key
from barnacle.core.contact import Failing, OptOut
from barnacle.core.mail.letter import OPT_OUT_DIGITS, token_for
from barnacle.core.mail.message import Mode
from barnacle.core.text import listed, people
from barnacle.files.delivery_reports import Undelivered, undelivered
from barnacle.files.mailbox import Mail, mails
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact

# An address that was put off in this many reports is taken for one that fails for good.
TIMES_PUT_OFF = 3
_OPT_OUT = re.compile(r"\s*(?:re:\s*|aw:\s*|fwd?:\s*)*opt-out\b\s*(?P<token>[0-9a-f]*)", re.IGNORECASE)


class Marked(NamedTuple):
    """An address or contact that was marked: who, the address, what it is now, why, and the lists that it is on."""

    name: str
    address: str
    state: str
    why: str
    lists: list[str]


@dataclass(slots=True)
class Returned:
    """What mailboxes came to: how many messages were read, what was marked, and addresses that nobody has."""

    messages: int = 0
    marked: list[Marked] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    already: int = 0


def read_returns(desk: Desk, paths: Sequence[Path]) -> Returned:
    """Mark failing addresses and opt-outs. Reading the same mailbox again marks nothing again. Raises FileError."""
    result = Returned()
    with desk.open() as book, book.action("returns") as action:
        own = address_key(desk.setting("me.address") or "")
        reports: list[tuple[str, Undelivered]] = []
        requests: list[tuple[str, str, str]] = []
        for path in paths:
            for mail in mails(path):
                result.messages += 1
                reports += [(mail.date, one) for one in undelivered(mail.message)]
                if (asking := _asks_out(mail, own)) is not None:
                    requests.append((mail.date or book.running.at, *asking))
        for date, one in sorted(reports, key=lambda r: r[0]):
            _mark_failing(book, date, one, result)
        written_to = _own_tokens(book) if any(token for _, _, token in requests) else {}
        for date, address, token in sorted(requests):
            _mark_opted_out(book, date, written_to.get(token, address), result)
        names = [one.name for one in result.marked]
        action.title = f"Read returned mail: {listed(names, 3) or 'nothing new'}"
    return result


def _own_tokens(book: Book) -> dict[str, str]:
    """The address that each copy of a message to each by itself went to, by the token in its way out: somebody may ask
    from another address than the one that was written to."""
    return {
        token_for(message.token, delivery.address)[:OPT_OUT_DIGITS]: delivery.address
        for message in outbox.every(book)
        if message.mode == Mode.EACH and message.begun is not None
        for delivery in outbox.deliveries(book, message.id)
    }


def _asks_out(mail: Mail, own: str) -> tuple[str, str] | None:
    """The address of somebody who asks, by a message to oneself with the agreed subject, not to be written to; and the
    token in that subject."""
    to_me = any(address_key(p.address) == own for h in ("To", "Cc") for p in mail.people.get(h, []))
    sender = mail.people.get("From", [])
    asked = _OPT_OUT.match(str(mail.message.get("Subject", "")))
    if to_me and sender and not mail.automatic and asked:
        return sender[0].address, asked["token"].lower()
    return None


def _mark_failing(book: Book, date: str, one: Undelivered, result: Returned) -> None:
    key = address_key(one.address)
    holders = contacts.by_address(book, one.address)
    if not holders and one.address not in result.unknown:
        result.unknown.append(one.address)
    for kept in holders:
        contact = kept.contact
        before = next((f for f in contact.failing if address_key(f.address) == key), None)
        if before is not None and before.last >= date:  # read before; one without a date counts once
            result.already += 1
            continue
        times = (before.times if before else 0) + 1
        for_good = one.for_good or times >= TIMES_PUT_OFF or bool(before and before.for_good)
        spelt = contact.find_address(one.address) or one.address
        contact.failing = [f for f in contact.failing if address_key(f.address) != key]
        contact.failing.append(Failing(spelt, for_good, times, date or book.running.at, one.why))
        contacts.save(book, kept.id, contact)
        state = "fails" if for_good else "put off"
        counted = f"{one.why} ({times} reports)" if times > 1 else one.why
        _marked(book, result, Marked(contact.title, spelt, state, counted, _lists(book, kept)))


def _marked(book: Book, result: Returned, one: Marked) -> None:
    """One line for each address, the last one."""
    result.marked = [m for m in result.marked if (m.name, m.address) != (one.name, one.address)] + [one]


def _mark_opted_out(book: Book, date: str, address: str, result: Returned) -> None:
    holders = contacts.by_address(book, address)
    if not holders and address not in result.unknown:
        result.unknown.append(address)
    for kept in holders:
        if kept.contact.opt_out is not None:
            result.already += 1
            continue
        kept.contact.opt_out = OptOut(date, "asked by mail")
        contacts.save(book, kept.id, kept.contact)
        _marked(book, result, Marked(kept.contact.title, address, "opted out", "asked by mail", _lists(book, kept)))


def _lists(book: Book, kept: StoredContact) -> list[str]:
    return [on.title for on, *_ in lists.memberships(book, kept.id)]


def works_again(desk: Desk, who: Sequence[str]) -> list[str]:
    """Forget what delivery reports said of somebody's addresses. Returns the names of those who had such a mark."""
    with desk.open() as book, book.action("returns") as action:
        cleared = []
        for text in who:
            kept = need_contact(desk, book, text)
            if kept.contact.failing:
                kept.contact.failing = []
                contacts.save(book, kept.id, kept.contact)
                cleared.append(kept.contact.title)
        action.title = f"Forgot failed deliveries of {people(len(cleared))}"
        return cleared
