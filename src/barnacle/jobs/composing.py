"""Composing a message into the outbox, and looking at it before it is sent."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from barnacle.book import outbox
from barnacle.book.outbox import Kept
from barnacle.book.store import Book
from barnacle.core.addresses import Mailbox, address_key, check_address
from barnacle.core.audience import Audience, LeftOut, Recipient
from barnacle.core.delivery import batch_count
from barnacle.core.errors import FileError, NotFound, Stopped, Unclear
from barnacle.core.message import Letter, build
from barnacle.core.picking import Choice
from barnacle.core.privacy import Leak, find_leaks
from barnacle.core.text import count, listed, people, plain_body, plain_value, visible
from barnacle.jobs import choosing, messages
from barnacle.jobs.desk import Desk

BODY_LIMIT = 5_000_000


@dataclass(slots=True)
class Wish:
    """What the user asks `compose` for, in the words of the command line."""

    wanted: Sequence[str]
    subject: str
    text: str
    without: Sequence[str] = ()
    within: str | None = None
    also: Sequence[str] = ()
    allowed: Sequence[str] = ()
    to: str = "me"
    copy_me: bool = False
    pick: Callable[[str, list[Choice], set[str]], set[str] | None] | None = None


@dataclass(slots=True)
class Composed:
    """A message in the outbox with the audience it has now. `held` says why it cannot be sent as it is."""

    message: Kept
    audience: Audience
    batches: int
    held: str | None


def read_body(path: Path | None, text: str | None) -> str:
    """The text of a message from a file or the command line. Raises FileError, Unclear."""
    if path is None:
        return plain_body(text or "", "The text")
    try:
        with path.open("rb") as file:
            raw = file.read(BODY_LIMIT + 1)
        if len(raw) > BODY_LIMIT:
            raise FileError(f"{visible(str(path))} is too long for the text of a message (over 5 MB).")
        return plain_body(raw.decode("utf-8-sig"), visible(path.name))
    except UnicodeDecodeError:
        raise FileError(f"{visible(str(path))} is not a text file in UTF-8. Save it as UTF-8 and try again.") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be read: {error.strerror}.") from error


def compose(desk: Desk, wish: Wish) -> Composed:
    """Make a message in the outbox. One that cannot be sent as it is is kept there too, as held, with the reason.

    Raises Unclear, NotFound, Ambiguous, BadAddress.
    """
    subject = plain_value(wish.subject, "The subject", 900)
    if not subject:
        raise Unclear("The message needs a subject: --subject TEXT.")
    me = desk.me
    with desk.open() as book, book.action("compose") as action:
        choice = choosing.understand(desk, book, wish.wanted, wish.without, wish.within, wish.also)
        doc: dict[str, Any] = {
            "sender": list(me), "text": wish.text, **choice.as_doc(), "to": wish.to, "copy_me": wish.copy_me,
            "allowed": [address_key(check_address(a)) for a in wish.allowed],
        }  # fmt: skip
        if wish.pick is not None:
            _pick(book, subject, choice, wish.pick)
        message = outbox.add(book, secrets.token_hex(16), subject, "blind", doc)
        audience = messages.audience_of(book, message)
        held = why_held(message, audience)
        doc["composed_for"] = [r.address for r in audience.recipients]
        if held:
            doc["held"] = held
        outbox.save_doc(book, message)
        action.title = f"Composed {message.number}, {subject}, for {people(audience.people)}"
        return Composed(message, audience, batches_of(desk, audience), held)


def _pick(
    book: Book, subject: str, choice: choosing.Choice, pick: Callable[[str, list[Choice], set[str]], set[str] | None]
) -> None:
    """Let the user untick some of the audience; they are left out of this message alone."""
    recipients = choosing.audience(book, choice, None).recipients
    people = {p.uid or r.address: (p, r.address) for r in recipients for p in r.people}
    lines = [Choice(key, f"{p.title} · {address}" if p.called else address) for key, (p, address) in people.items()]
    ticked = pick(subject, lines, set(people))
    if ticked is None:
        raise Stopped("Nothing was composed.")
    for key, (person, address) in people.items():
        if key not in ticked:
            name = {"contact": person.uid, "name": person.title} if person.uid else {"address": address, "name": ""}
            choice.without.append(name)


def batches_of(desk: Desk, audience: Audience) -> int:
    """How many mail transactions the audience takes."""
    return batch_count(len(audience.recipients), desk.setting("mail.per_message"))


def why_held(message: Kept, audience: Audience, allowed: Sequence[str] = ()) -> str | None:
    """Why the message cannot be sent as it is: nobody to send it to, or it shows somebody's address."""
    if not audience.recipients:
        why = _in_short(audience.left_out)
        return f"Nobody would get this message{why}. Nothing was sent."
    sender = address_key(message.doc["sender"][1])
    free = {sender, *message.doc["allowed"], *allowed}
    guarded = {key: owner for key, owner in audience.guarded.items() if key not in free}
    leaks = find_leaks(raw_of(message), guarded)
    return _leak_sentence(message, leaks) if leaks else None


def _in_short(left_out: list[LeftOut]) -> str:
    if not left_out:
        return ": the lists it is for are empty"
    return ": " + listed([f"{visible(one.name)} ({visible(one.reason)})" for one in left_out], 3)


def _leak_sentence(message: Kept, leaks: list[Leak]) -> str:
    first = leaks[0]
    more = f" and {count(len(leaks) - 1, 'more place')}" if len(leaks) > 1 else ""
    return (
        f"{message.number} would show {visible(first.address)} ({visible(first.owner)}) to everybody, "
        f"in {visible(first.where)}{more}. Nothing was sent. Take it out, or let it through by name: "
        f"`barnacle send {message.number} --allow-mention {visible(first.address)}`."
    )


def raw_of(message: Kept) -> bytes:
    """The message in wire format, the same bytes each time."""
    begun = message.begun or message.created
    doc = message.doc
    title = ", ".join(ref["title"] for ref in doc["for"] if "title" in ref)
    date = datetime.strptime(begun, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC)
    return build(Letter(message.token, Mailbox(*doc["sender"]), message.subject, doc["text"], date, doc["to"], title))


@dataclass(slots=True)
class Preview:
    """What one recipient will see."""

    message: Kept
    recipient: Recipient
    raw: bytes
    people: int
    recipients: int
    held: str | None
    left_out: list[LeftOut] = field(default_factory=list)


def preview(desk: Desk, number: str, who: str | None) -> Preview:
    """What a recipient of a message sees: `who`, or the first. Raises NotFound with the reason for somebody who
    does not get it, Stopped when nobody does."""
    with desk.open() as book:
        message = outbox.get(book, number)
        audience = messages.audience_of(book, message)
        if not audience.recipients:
            raise Stopped(why_held(message, audience) or "Nobody would get this message.")
        chosen = audience.recipients[0] if who is None else _recipient(desk, book, message, audience, who)
        held = why_held(message, audience) if message.begun is None else None
        return Preview(
            message,
            chosen,
            raw_of(message),
            audience.people,
            len(audience.recipients),
            held,
            audience.left_out,
        )


def _recipient(desk: Desk, book: Book, message: Kept, audience: Audience, who: str) -> Recipient:
    key = address_key(who) if "@" in who else None
    for recipient in audience.recipients:
        if key is not None and address_key(recipient.address) == key:
            return recipient
    kept = desk.need_contact(book, who)
    for recipient in audience.recipients:
        if any(p.uid == kept.contact.uid for p in recipient.people):
            return recipient
    name = visible(kept.contact.title)
    for one in audience.left_out:
        if one.name == kept.contact.title:
            raise NotFound(f"{name} does not get {message.number}: {visible(one.reason)}.")
    raise NotFound(f"{name} does not get {message.number}: not in what it is for.")
