"""A copy of what was sent, in the folder for sent mail of one's own mailbox (RFC 6154, \\Sent)."""

from __future__ import annotations

import re

from barnacle.book import mail_state, outbox
from barnacle.book.store import Book
from barnacle.core.errors import BarnacleError, NotFoundError
from barnacle.core.mail.delivery import State
from barnacle.core.mail.message import Mode
from barnacle.core.text import count, listed
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.outbox import audience_of, recipients_of

_ID = re.compile(rb"(?im)^Message-ID:\s*(<[^>\r\n]+>)")


def owe(desk: Desk, book: Book, message: int) -> None:
    """Remember that a message of which something was sent is to be copied, where the settings want that."""
    if desk.setting("mail.mailbox") and desk.setting("mail.sent_copy"):
        with book.transaction():
            mail_state.owe_copy(book, message)


def make(desk: Desk, book: Book) -> list[str]:
    """Put the copies that are owed into the mailbox. What was sent does not suffer where that fails: it is made up for
    the next time. Returns what to say of it, in sentences."""
    owed = mail_state.copies_owed(book)
    if not owed or not desk.setting("mail.mailbox"):
        return []
    from barnacle.jobs.mail.drafts import mailbox
    from barnacle.jobs.mail.sign_in import credentials
    from barnacle.net.imap import Mailbox

    done: list[str] = []
    try:
        server = mailbox(desk)
        with Mailbox(server, credentials(desk, server)) as box:
            folder = box.sent()
            for number in owed:
                try:
                    raw = copy_of(desk, book, number)
                except NotFoundError:
                    raw = None  # the message is there no more
                found = _ID.search(raw) if raw else None
                # Some servers keep a copy by themselves; and one may have gone before its answer was lost.
                if raw and found and not box.has(folder, found[1].decode("ascii")):
                    box.add_sent(folder, raw)
                    done.append(f"m{number}")
                with book.transaction():
                    mail_state.copy_made(book, number)
    except BarnacleError as error:
        left = len(mail_state.copies_owed(book))
        return [
            f"No copy is in your folder for sent mail yet ({count(left, 'message')} to go): {error} "
            "The next `barnacle send` or `barnacle returns` tries it again; `barnacle settings mail.sent_copy false` "
            "does without copies."
        ]
    return [f"A copy of {listed(done)} is in {folder} of your mailbox."] if done else []


def copy_of(desk: Desk, book: Book, number: int) -> bytes | None:
    """A message as it goes there; of one that went to each by itself, the first one that was accepted, or none."""
    message = outbox.get(book, f"m{number}")
    mailing = Mailing.of(book, message)
    accepted = outbox.addresses_in(book, message.id, [State.ACCEPTED])
    if message.mode == Mode.EACH:
        if not desk.setting("mail.sent_each") or not accepted:
            return None
        return mailing.raw(recipients_of(book, message, accepted[:1])[0])
    raw = mailing.raw(everybody=audience_of(book, message).recipients if message.mode == Mode.OPEN else [])
    if message.mode == Mode.BLIND and desk.setting("mail.sent_bcc"):
        # One address on each line (RFC 5322 section 2.1.1 bounds lines).
        raw = b"Bcc: " + ",\r\n ".join(accepted).encode("utf-8") + b"\r\n" + raw if accepted else raw
    return raw
