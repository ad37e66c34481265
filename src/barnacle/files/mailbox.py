"""Past mail: messages in mbox files (RFC 4155), Maildirs and single files (RFC 5322), read for who is in them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC
from email import message_from_bytes
from email.errors import MessageError
from email.message import Message
from email.utils import getaddresses, parsedate_to_datetime
from pathlib import Path
from typing import NamedTuple

from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import BadAddressError, FileError
from barnacle.core.mail.decoding import decoded_header
from barnacle.core.moments import in_utc
from barnacle.core.names import turned
from barnacle.core.text import has_unsafe, tidy, visible
from barnacle.files.drafts import Defect, Draft, cleaned
from barnacle.files.encoding import Encoding, first_octets

# Of a message, as much as its header and a delivery report need; attachments behind that are passed over.
_MESSAGE_LIMIT = 1 << 20
_LINE_LIMIT = 1 << 16
_RECIPIENTS_LIMIT = 5000
_HEADERS = ("From", "To", "Cc", "Bcc")
_TO_MANY = ("bulk", "list", "junk")
_AUTOMATIC = re.compile(
    r"(?:no|do-?not|dont)[-_.]?reply|mailer-daemon|postmaster|bounces?|.*-bounces?|owner-.*|.*-request|.*\+bounces?",
    re.IGNORECASE,
)


class MailPerson(NamedTuple):
    """Somebody in a header: the name as it was written, possibly empty, and the address, checked."""

    name: str
    address: str


class Mail(NamedTuple):
    """A message: its place in the mailbox, when it was written (ISO 8601, UTC; empty where unknown), who is in which
    header, addresses that are none, whether a machine or a mailing list sent it, and the message itself."""

    number: int
    date: str
    people: dict[str, list[MailPerson]]
    broken: list[tuple[str, str, str]]
    automatic: bool
    message: Message


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Everybody in From, To, Cc and Bcc, message by message."""
    seen: set[str] = set()
    for mail in mails(path):
        draft = Draft(mail.number)
        for people in mail.people.values():
            for person in people:
                key = address_key(person.address) + "\n" + person.name
                if key in seen:
                    continue
                seen.add(key)
                if has_unsafe(person.name):
                    draft.cleaned.append(cleaned(mail.number, "", person.name))
                name = turned(tidy(person.name, 200))
                draft.people.append(Contact(name=name, addresses=[Address(person.address)]))
        for header, text, reason in mail.broken:
            draft.refused.append(Defect(mail.number, header, tidy(text, 80), reason))
        if draft.people or draft.refused:
            yield draft


def mails(path: Path) -> Iterator[Mail]:
    """The messages of an mbox file, a Maildir or a single file. Raises FileError where it is none of these."""
    number = 0
    for raw in _raw(path):
        number += 1
        try:
            message = message_from_bytes(raw)
        except (MessageError, ValueError, LookupError):
            continue
        yield _mail(number, message)


def _raw(path: Path) -> Iterator[bytes]:
    if path.is_dir():
        if not (path / "cur").is_dir() and not (path / "new").is_dir():
            raise FileError(f"{visible(path.name)} is a folder but not a Maildir: it has neither cur nor new in it.")
        for folder in ("cur", "new"):
            for file in sorted((path / folder).glob("*")) if (path / folder).is_dir() else ():
                if file.is_file():
                    yield first_octets(file, _MESSAGE_LIMIT)
        return
    head = first_octets(path)
    if not head.strip():
        raise FileError(f"{visible(path.name)} is empty.")
    if head.startswith(b"From "):
        yield from _mbox(path)
        return
    if not re.match(rb"[!-9;-~]+:", head):
        raise FileError(f"{visible(path.name)} is not mail: it begins like neither a message nor a mailbox.")
    yield first_octets(path, _MESSAGE_LIMIT)


def _mbox(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        lines: list[bytes] = []
        size, blank = 0, True
        while line := file.readline(_LINE_LIMIT):
            if blank and line.startswith(b"From "):
                if lines:
                    yield b"".join(lines)
                lines, size = [], 0
            elif size < _MESSAGE_LIMIT:
                # Body lines that begin so were marked by whoever wrote the file.
                line = line[1:] if line.startswith(b">From ") else line
                lines.append(line)
                size += len(line)
            blank = not line.strip()
        if lines:
            yield b"".join(lines)


def _mail(number: int, message: Message) -> Mail:
    people: dict[str, list[MailPerson]] = {}
    broken: list[tuple[str, str, str]] = []
    for header in _HEADERS:
        values = [str(value) for value in message.get_all(header, [])]
        for name, text in getaddresses(values)[:_RECIPIENTS_LIMIT]:
            text = text.strip()
            if not text:
                continue
            try:
                people.setdefault(header, []).append(MailPerson(_decoded(name), check_address(text)))
            except BadAddressError as error:
                broken.append((header, text, error.reason))
    precedence = str(message.get("Precedence", "")).lower()
    listed = any(message.get(name) for name in ("List-Id", "List-Post")) or precedence in _TO_MANY
    machine = str(message.get("Auto-Submitted", "no")).lower().partition(";")[0].strip() != "no"
    return Mail(number, _date(message), people, broken, bool(listed or machine), message)


def is_automatic(address: str) -> bool:
    """Whether an address is one that no person reads: no-reply and the like."""
    return _AUTOMATIC.fullmatch(address.rpartition("@")[0]) is not None


def _decoded(name: str) -> str:
    """A display name with its encoded words (RFC 2047) decoded; not before the addresses were told apart, so that a
    comma in it adds nobody."""
    return decoded_header(name).strip().strip("'\"")


def _date(message: Message) -> str:
    try:
        found = parsedate_to_datetime(str(message.get("Date", "")))
    except (ValueError, TypeError, IndexError, OverflowError):
        return ""
    try:
        moment = found if found.tzinfo else found.replace(tzinfo=UTC)
        return in_utc(moment)
    except (ValueError, OverflowError):
        return ""
