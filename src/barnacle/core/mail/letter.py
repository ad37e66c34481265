"""A message as it goes on the wire (RFC 5322, MIME RFC 2045 to 2049), the same bytes every time it is built."""

from __future__ import annotations

import hashlib
import re
from base64 import encodebytes
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from email.header import Header
from email.headerregistry import Address as HeaderAddress
from email.headerregistry import Group
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from barnacle.core.addresses import Mailbox, address_key, ascii_domain
from barnacle.core.mail.list_id import id_of_lists
from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple

# How much of a token stands in the subject of an opt-out.
OPT_OUT_DIGITS = 16
_EOL = "\r\n"
# 7-bit safe whatever the server offers, so that the bytes never depend on it (RFC 5321 section 4.5.3.1.6 and
# RFC 5322 section 2.1.1 bound a line at 998 octets; the policy folds at 78).
_POLICY = SMTP.clone(cte_type="7bit")


class Attachment(NamedTuple):
    """A file that goes along: its name as recipients see it, its MIME type (RFC 2046), its content."""

    name: str
    kind: str
    data: bytes


def attached(name: str, kind: str, data: bytes) -> Attachment:
    """A file to go along. A message as an attachment must not be 8-bit (RFC 2046 section 5.2.1); as octets it goes as
    it is, and so does whatever is of no known kind."""
    is_plain = kind and not kind.startswith(("message/", "multipart/"))
    return Attachment(tidy(name, 200), kind if is_plain else "application/octet-stream", data)


@dataclass(slots=True)
class Letter:
    """What a message is built from.

    `token` is random and the only thing that Message-ID, MIME boundaries and opt-out reference are derived from, so
    that no list title and no recipient shows in them. `to` is `me` (the sender), `none` (an empty group) or `title`.
    With `recipients` these stand in To instead: one for a message of its own, all for an open one. `html` goes along
    as an alternative to the text.
    """

    token: str
    sender: Mailbox
    subject: str
    text: str
    date: datetime
    to: str = "me"
    to_title: str = ""
    recipients: Sequence[Mailbox] = ()
    html: str = ""
    attachments: Sequence[Attachment] = ()
    reply_to: str = ""  # where answers go, if not to the sender
    calendar: tuple[str, str] | None = None  # method and text of an entry (RFC 5545)


def build(letter: Letter) -> bytes:
    """The message in wire format, lines ended by CRLF. No hidden recipient is in it; those stand in the envelope."""
    sender = _in_header(letter.sender)
    # One address on each line, each folded by itself: of several at once the library's folding can lose some.
    to = [_line("To", _in_header(one))[3:].strip() for one in letter.recipients]
    head = (
        _line("From", sender),
        _line("Reply-To", letter.reply_to or sender),
        f"To: {f',{_EOL} '.join(to)}{_EOL}" if to else _line("To", _to_line(letter) or sender),
        _line("Subject", letter.subject),
        _line("Date", format_datetime(letter.date)),
        f"Message-ID: {message_id(letter)}\r\n",
        # RFC 2919. Filters take half of a list's fields, in what goes from oneself to oneself, for a mark of spam.
        f"List-Id: <{id_of_lists(letter.sender.address)}>\r\n",
        # RFC 2369 section 3.2: a way out, by a message to the sender alone.
        f"List-Unsubscribe: <mailto:{_ascii(letter.sender)}?subject=opt-out%20{letter.token[:OPT_OUT_DIGITS]}>\r\n",
    )
    return "".join(head).encode("ascii") + _body(letter)


def _line(name: str, value: str) -> str:
    """A header field, folded and encoded by the library; the plainest are what it would make of them anyway."""
    if len(name) + len(value) < 70 and _PLAIN_VALUE[name](value):
        return f"{name}: {value}\r\n"
    if name == "Subject" and "=?" in value:
        # Read as an encoded word, it would arrive as what it says; it is meant as it stands.
        return f"{name}: {_as_it_stands(value, len(name) + 2)}\r\n"
    return str(_POLICY.fold(name, _POLICY.header_factory(name, value)))


def _as_it_stands(value: str, behind: int = 0) -> str:
    """Text in encoded words throughout (RFC 2047 section 5)."""
    return Header(value, "utf-8", maxlinelen=75, header_name="x" * behind).encode(linesep=_EOL)


_PLAIN_ADDRESS = re.compile(
    r"(?:[A-Za-z0-9]+(?: [A-Za-z0-9]+)* )?<?[A-Za-z0-9]+(?:[.+_-][A-Za-z0-9]+)*@[A-Za-z0-9.-]+>?"
)
_PLAIN_VALUE: dict[str, Callable[[str], object]] = {
    **dict.fromkeys(("From", "Reply-To", "To"), _PLAIN_ADDRESS.fullmatch),
    "Subject": re.compile(r"[A-Za-z0-9,.!?'-]+(?: [A-Za-z0-9,.!?'-]+)*").fullmatch,
    "Date": str.isascii,
}


def _body(letter: Letter) -> bytes:
    """The content with the fields that describe it (MIME)."""
    text = letter.text if letter.text.endswith("\n") else letter.text + "\n"
    if _encoding(text) == "7bit" and not (letter.html or letter.attachments or letter.calendar):
        return _PLAIN_BODY + text.replace("\n", "\r\n").encode("ascii")
    message = EmailMessage(policy=_POLICY)
    message.set_content(text, cte=_encoding(text))
    if letter.html:
        message.add_alternative(letter.html, subtype="html", cte=_encoding(letter.html))
    if letter.calendar:
        # RFC 6047 section 2.4: an alternative with the method as a parameter is what programs offer as an invitation.
        method, entry = letter.calendar
        message.add_alternative(
            entry.replace("\r\n", "\n"), subtype="calendar", cte="base64", params={"method": method}
        )
    large: list[tuple[bytes, bytes]] = []
    for number, one in enumerate(letter.attachments):
        kind, _, sub = one.kind.partition("/")
        data = one.data
        if len(data) > _LARGE:
            # The library takes eight times the size of what it encodes: a mark goes through it, and is replaced.
            data = f"apart {letter.token} {number}".encode()
            large.append((data, one.data))
        message.add_attachment(data, maintype=kind, subtype=sub, filename=one.name)
    for number, part in enumerate(p for p in message.walk() if p.is_multipart()):
        # RFC 2046 section 5.1.1: a line that stands nowhere else. "=_" is in no base64 and no quoted-printable.
        part.set_boundary(f"=_{letter.token[:24]}_{number}")
    raw = message.as_bytes()
    for mark, data in large:
        before, found, behind = raw.partition(b"".join(_in_base64(mark)))
        assert found, "the library writes a part in Base64 as it is written here"
        raw = b"".join([before, *_in_base64(data), behind])
    return raw


def _in_base64(data: bytes) -> Iterator[bytes]:
    """Blocks in lines of 76 characters (RFC 2045 section 6.8)."""
    blocks = (data[start : start + _BLOCK] for start in range(0, len(data), _BLOCK))
    return (encodebytes(block).replace(b"\n", b"\r\n") for block in blocks)


# A part that is larger is encoded here; a block is of whole lines.
_LARGE, _BLOCK = 1 << 20, 57 * 10_000
_PLAIN_BODY = (
    b'Content-Type: text/plain; charset="utf-8"\r\nContent-Transfer-Encoding: 7bit\r\nMIME-Version: 1.0\r\n\r\n'
)


def _encoding(text: str) -> str:
    # "From " at a line's start is changed by some mail stores; quoted-printable keeps it whole (RFC 2045, 6.7).
    plain = text.isascii() and not re.search(r"(?m)^From |.{79}", text)
    return "7bit" if plain else "quoted-printable"


def token_for(token: str, address: str) -> str:
    """The token of the copy that goes to one address: opaque, and the same each time."""
    return hashlib.blake2b(address_key(address).encode(), key=token.encode(), digest_size=16).hexdigest()


def message_id(letter: Letter) -> str:
    """RFC 5322 section 3.6.4: random left of the @, the sender's domain right of it."""
    return f"<{letter.token}@{_ascii(letter.sender).rpartition('@')[2]}>"


def _ascii(sender: Mailbox) -> str:
    local, _, domain = sender.address.rpartition("@")
    return f"{local}@{ascii_domain(domain)}"


def _in_header(mailbox: Mailbox) -> str:
    """A mailbox as it stands in a header field (RFC 5322 section 3.4), quoted by the library; the plainest are what it
    would make of them anyway."""
    plain = f"{mailbox.name} <{mailbox.address}>" if mailbox.name else mailbox.address
    if _PLAIN_ADDRESS.fullmatch(plain):
        return plain
    if "=?" in mailbox.name:
        return f"{_as_it_stands(mailbox.name)} <{_ascii(mailbox)}>"
    return str(HeaderAddress(display_name=mailbox.name, addr_spec=_ascii(mailbox)))


def _to_line(letter: Letter) -> str:
    if letter.to == "none":
        return str(Group("undisclosed-recipients", ()))
    if letter.to == "title" and letter.to_title:
        return str(Group(letter.to_title, ()))
    return ""
