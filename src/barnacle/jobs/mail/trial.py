"""A message sent to oneself first, just as a recipient would get it; the message itself stays as it is."""

from __future__ import annotations

import secrets

from barnacle.book import outbox
from barnacle.book.store import Book, now
from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import StoppedError, UnclearError
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.delivery import Answer, State
from barnacle.core.mail.message import Mode
from barnacle.core.text import listed
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact
from barnacle.jobs.desk.senders import own_addresses
from barnacle.jobs.mail import holds
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.limits import most_at_once
from barnacle.jobs.mail.outbox import audience_of
from barnacle.jobs.mail.servers import connector, mail_server
from barnacle.net.smtp_line import LineLostError, SenderRefusedError


class Tried(NamedTuple):
    """What became of it: to which address, as whose copy (empty: all get the same), and what the server said."""

    number: str
    to: str
    as_whom: str
    answer: Answer


def send_test(desk: Desk, number: str, to: str | None, as_whom: str | None) -> Tried:
    """Send what a recipient will get to oneself, or `to` another address: once more composed at this moment, with a
    Message-ID of its own and a way out that leads nowhere, so that neither program nor person takes it for the real
    one. Nothing of it is kept.

    Raises StoppedError, MailError, NotFoundError, UnclearError.
    """
    with desk.open() as book:
        message = outbox.get(book, number)
        address = check_address(to) if to else desk.me.address
        audience = audience_of(book, message)
        mailing = Mailing.of(book, message)
        mine = {address_key(one) for one in own_addresses(desk)}
        if address_key(address) not in mine and (
            held := holds.examine(book, mailing, audience, most_at_once(desk)).held
        ):
            raise StoppedError(f"{held} A test to somebody else would show it to them; send it to yourself.")
        who = _recipient(desk, book, audience.recipients, message.mode, as_whom)
        trial = message._replace(token=secrets.token_hex(16), begun=now())
        raw = mailing._replace(message=trial).raw(who, audience.recipients)
        names = listed(who.names) if message.mode == Mode.EACH else ""
        sender = message.content.sender.address
        server = mail_server(desk, sender)
    submission = connector(desk, server)(" Nothing was sent.")
    try:
        (answer,) = submission.transact(sender, [address], raw, lambda taken: None)
    except LineLostError as error:
        state = State.DOUBTFUL if error.after_dot else State.DEFERRED
        answer = Answer(address, state, None, error.why or "the connection broke")
    except SenderRefusedError as error:
        answer = Answer(address, State.NOT_TAKEN, error.code, error.reply)
    submission.close()
    return Tried(message.number, address, names, answer)


def _recipient(desk: Desk, book: Book, recipients: list[Recipient], mode: Mode, as_whom: str | None) -> Recipient:
    """Whose copy it is. Raises StoppedError, UnclearError, NotFoundError, AmbiguousError."""
    if not recipients:
        raise StoppedError("Nobody would get this message, so there is nothing to test.")
    if as_whom is None:
        return recipients[0]
    if mode != Mode.EACH:
        raise UnclearError("All get the same message; --as is for one that goes to each separately.")
    who = need_contact(desk, book, as_whom)
    for one in recipients:
        if any(person.uid == who.contact.uid for person in one.people):
            return one
    raise StoppedError(f"{who.contact.title} is not among those who would get it.")
