"""A message as each recipient gets it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from barnacle.book import attachments
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import Mailbox
from barnacle.core.mail import markdown, merge_fields
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.invitation import invitation
from barnacle.core.mail.letter import Attachment, Letter, build, token_for
from barnacle.core.mail.message import Mode
from barnacle.core.references import ListRef
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import NamedTuple


class Mailing(NamedTuple):
    """A message with its attachments, ready to be made into letters."""

    message: StoredMessage
    attachments: list[Attachment]

    @staticmethod
    def of(book: Book, message: StoredMessage) -> Mailing:
        """The message with what goes along."""
        return Mailing(message, attachments.of(book, message.content.enclosures))

    def raw(self, recipient: Recipient | None = None, everybody: Sequence[Recipient] = ()) -> bytes:
        """The message in wire format, the same bytes each time: for one recipient of a message that goes to each by
        itself; with `everybody` in To of an open one."""
        message, content = self.message, self.message.content
        date = datetime.fromisoformat(message.begun or message.created)
        title = ", ".join(ref.title for ref in content.choice.wanted if isinstance(ref, ListRef))
        text = markdown.as_plain(content.text) if content.markdown else content.text
        letter = Letter(message.token, content.sender, message.subject, text, date, content.to, title)
        letter.attachments = self.attachments
        letter.reply_to = content.reply_to or ""
        if message.mode == Mode.EACH and recipient is not None:
            values = merge_fields.values_of(recipient.people, recipient.address)
            letter.token = token_for(message.token, recipient.address)
            letter.subject = tidy(merge_fields.fill(merge_fields.pieces(message.subject), values))
            letter.text = merge_fields.fill(merge_fields.pieces(text), values)
            # RFC 6531: a local part that is no ASCII would need headers that not every server takes.
            letter.recipients = [_mailbox(recipient)] if recipient.address.isascii() else []
        elif message.mode == Mode.OPEN:
            letter.recipients = [_mailbox(one) for one in everybody if one.address.isascii()]
        if content.invite:
            # Those in To are named: in a blind message nobody, in one's own that person alone.
            letter.calendar = invitation(content.invite, letter.sender, letter.recipients)
        if content.markdown:
            letter.html = self._html(recipient)
        return build(letter)

    def _html(self, recipient: Recipient | None) -> str:
        text = self.message.content.text
        if self.message.mode == Mode.EACH and recipient is not None:
            values = merge_fields.values_of(recipient.people, recipient.address)
            text = merge_fields.fill(merge_fields.pieces(text), values, markdown.quoted)
        return markdown.as_html(text)


def _mailbox(recipient: Recipient) -> Mailbox:
    return Mailbox(visible(listed(recipient.names)), recipient.address)
