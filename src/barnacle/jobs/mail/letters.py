"""A message as each recipient gets it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

from barnacle.book import attachments
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import Mailbox
from barnacle.core.mail import merge_fields
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.invitation import invitation
from barnacle.core.mail.message import Attachment, Letter, build, token_for
from barnacle.core.text import listed, tidy, visible

BLIND, EACH, OPEN = "blind", "each", "open"


class Mailing(NamedTuple):
    """A message with its attachments, ready to be made into letters."""

    message: StoredMessage
    attachments: list[Attachment]

    @staticmethod
    def of(book: Book, message: StoredMessage) -> Mailing:
        """The message with what goes along."""
        return Mailing(message, attachments.of(book, message.doc.get("attachments", [])))

    def raw(self, recipient: Recipient | None = None, everybody: Sequence[Recipient] = ()) -> bytes:
        """The message in wire format, the same bytes each time: for one recipient of a message that goes to each by
        itself; with `everybody` in To of an open one."""
        message, doc = self.message, self.message.doc
        date = datetime.fromisoformat(message.begun or message.created)
        title = ", ".join(ref["title"] for ref in doc["for"] if "title" in ref)
        letter = Letter(message.token, Mailbox(*doc["sender"]), message.subject, doc["text"], date, doc["to"], title)
        letter.attachments = self.attachments
        if message.mode == EACH and recipient is not None:
            values = merge_fields.values_of(recipient.people, recipient.address)
            letter.token = token_for(message.token, recipient.address)
            letter.subject = tidy(merge_fields.fill(merge_fields.pieces(message.subject), values))
            letter.text = merge_fields.fill(merge_fields.pieces(doc["text"]), values)
            # RFC 6531: a local part that is no ASCII would need headers that not every server takes.
            letter.recipients = [_mailbox(recipient)] if recipient.address.isascii() else []
        elif message.mode == OPEN:
            letter.recipients = [_mailbox(one) for one in everybody if one.address.isascii()]
        if calendar := doc.get("invite"):
            # Those in To are named: in a blind message nobody, in one's own that person alone.
            letter.calendar = invitation(calendar, letter.sender, letter.recipients)
        if doc.get("markdown"):
            letter.html = self._html(recipient)
        return build(letter)

    def _html(self, recipient: Recipient | None) -> str:
        from barnacle.core.mail.markdown import as_html, quoted

        text = self.message.doc["text"]
        if self.message.mode == EACH and recipient is not None:
            values = merge_fields.values_of(recipient.people, recipient.address)
            text = merge_fields.fill(merge_fields.pieces(text), values, quoted)
        return as_html(text)


def _mailbox(recipient: Recipient) -> Mailbox:
    return Mailbox(visible(listed(recipient.names)), recipient.address)
