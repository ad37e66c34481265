"""Looking at a message as a recipient will see it."""

from __future__ import annotations

from dataclasses import dataclass, field

from barnacle.book import outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.errors import NotFoundError, StoppedError
from barnacle.core.mail.audience import Audience, LeftOut, Recipient
from barnacle.core.text import visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact
from barnacle.jobs.mail import holds, letters
from barnacle.jobs.mail.limits import most_at_once
from barnacle.jobs.mail.outbox import audience_of


@dataclass(slots=True)
class Preview:
    """What one recipient will see."""

    message: StoredMessage
    recipient: Recipient
    raw: bytes
    people: int
    recipients: int
    examined: holds.Examined
    left_out: list[LeftOut] = field(default_factory=list)


def preview(desk: Desk, number: str | None, who: str | None) -> Preview:
    """What a recipient of a message, or of the last one composed, sees: `who`, or the first. Raises NotFoundError with
    the reason for somebody who does not get it, StoppedError when nobody does."""
    with desk.open() as book:
        message = outbox.get(book, number) if number else outbox.last(book)
        audience = audience_of(book, message)
        mailing = letters.Mailing.of(book, message)
        if not audience.recipients:
            why = holds.examine(book, mailing, audience, most_at_once(desk)).held
            raise StoppedError(why or "Nobody would get this message.")
        chosen = audience.recipients[0] if who is None else _recipient(desk, book, message, audience, who)
        examined = holds.Examined()
        if message.begun is None:
            examined = holds.examine(book, mailing, audience, most_at_once(desk))
        return Preview(
            message,
            chosen.loaded(),
            mailing.raw(chosen, audience.recipients),
            audience.people,
            len(audience.recipients),
            examined,
            audience.left_out,
        )


def _recipient(desk: Desk, book: Book, message: StoredMessage, audience: Audience, who: str) -> Recipient:
    key = address_key(who) if "@" in who else None
    for recipient in audience.recipients:
        if key is not None and address_key(recipient.address) == key:
            return recipient
    kept = need_contact(desk, book, who)
    for recipient in audience.recipients:
        if any(p.uid == kept.contact.uid for p in recipient.people):
            return recipient
    name = visible(kept.contact.title)
    for one in audience.left_out:
        if one.name == kept.contact.title:
            raise NotFoundError(f"{name} does not get {message.number}: {visible(one.reason)}.")
    raise NotFoundError(f"{name} does not get {message.number}: not in what it is for.")
