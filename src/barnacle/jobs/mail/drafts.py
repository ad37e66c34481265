"""Handing a message to one's own mail program instead of sending it: a draft in a file or in the mailbox, or a link."""

from __future__ import annotations

import re
from urllib.parse import quote

from barnacle.core.errors import MailError, StoppedError
from barnacle.core.mail.audience import Audience
from barnacle.core.mail.message import Mode
from barnacle.core.text import count
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.letters import Mailing
from barnacle.net.server import Server, read_mailbox

if TYPE_CHECKING:
    from barnacle.net.credentials import Credentials
    from barnacle.net.imap import Drafts


# RFC 6068 gives no bound; systems hand over some 2,000 characters of a link and cut the rest.
LINK_LIMIT = 2000


def draft_of(mailing: Mailing, audience: Audience) -> str:
    """A message as a draft with its recipients in Bcc (RFC 5322 section 3.6.3), for one's own mail program alone, which
    takes that field out when it sends. Raises StoppedError."""
    if mailing.message.mode == Mode.EACH:
        raise StoppedError(
            "A draft is a single message, and this one goes to each separately. Send it from here, or make it blind."
        )
    text = mailing.raw(everybody=audience.recipients).decode("ascii")
    if mailing.message.mode == Mode.BLIND:
        # One address on each line (RFC 5322 section 2.1.1 bounds lines; section 3.6 leaves the order of fields free).
        text = "Bcc: " + ",\r\n ".join(r.address for r in audience.recipients) + "\r\n" + text
    return text


def open_drafts(desk: Desk) -> Drafts:
    """The folder for drafts of the mailbox in the settings. Raises MailError."""
    from barnacle.jobs.mail.sign_in import credentials
    from barnacle.net.imap import Drafts

    server = mailbox(desk)
    return Drafts(server, credentials(desk, server))


def mailbox(desk: Desk) -> Server:
    """The mailbox of the settings. Raises MailError."""
    url = desk.setting("mail.mailbox")
    if not url:
        raise MailError(
            "Barnacle doesn't know your mailbox yet. Name it with `barnacle setup --mailbox imaps://USER@HOST`."
        )
    return read_mailbox(url)


def try_mailbox(server: Server, let_in: Credentials) -> tuple[str, str]:
    """Connect to a mailbox and log in, without changing anything: the folder for drafts, empty where there is none, and
    why one is not let in, if one is not."""
    from barnacle.net.imap import Mailbox

    try:
        with Mailbox(server, let_in) as box:
            return box.drafts() or "", ""
    except MailError as error:
        return "", str(error)


def mail_link(mailing: Mailing, audience: Audience) -> str:
    """A `mailto:` link (RFC 6068) that opens the message in one's mail program, its recipients in Bcc. Raises
    StoppedError where it is too long to arrive whole, or has what a link cannot carry."""
    message = mailing.message
    if message.content.enclosures or message.mode != Mode.BLIND:
        raise StoppedError(
            "A link can carry only a blind message without attachments. Write a draft instead: --draft-to FILE.eml."
        )
    fields = {
        "bcc": ",".join(r.address for r in audience.recipients),
        "subject": message.subject,
        "body": re.sub(r"\r?\n", "\r\n", message.content.text),
    }
    to = quote(message.content.sender.address, safe="@")
    link = f"mailto:{to}?" + "&".join(f"{name}={quote(value, safe='@')}" for name, value in fields.items())
    if len(link) > LINK_LIMIT:
        addresses = count(len(audience.recipients), "address", "addresses")
        raise StoppedError(
            f"The link would have {len(link):,} characters for {addresses}, and many systems cut off links after "
            f"{LINK_LIMIT:,}. Write a draft (--draft-to FILE.eml), or send it from here."
        )
    return link
