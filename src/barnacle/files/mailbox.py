"""Past mail: messages in mbox files (RFC 4155), Maildirs and single files (RFC 5322), read for who is in them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC
from email import message_from_bytes
from email.errors import MessageError
from email.message import Message
from email.parser import BytesHeaderParser
from email.policy import Compat32
from email.utils import getaddresses, parsedate_to_datetime
from pathlib import Path

from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import BadAddressError, FileError
from barnacle.core.mail.decoding import decoded_header
from barnacle.core.mail.list_id import id_of_lists, list_id
from barnacle.core.moments import in_utc
from barnacle.core.names import turned
from barnacle.core.text import count, has_unsafe, tidy, visible
from barnacle.core.typed import BinaryIO, NamedTuple
from barnacle.files.drafts import Defect, Draft, cleaned
from barnacle.files.encoding import Encoding, first_octets
from barnacle.files.mail_heads import begins_message, is_mailbox

# Of a message, as much as its header and a delivery report need; attachments behind that are passed over.
_MESSAGE_LIMIT = 1 << 20
_LINE_LIMIT = 1 << 16
_RECIPIENTS_LIMIT = 5000
# Characters of a header that are read, and of one in which people stand.
_HEADER_LIMIT, _PEOPLE_LIMIT = 1 << 16, 1 << 19
# The library holds each line against the boundary of each part around it: so many comparisons are made.
_COMPARISONS = 3_000_000
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
    header, what of it could not be read or is no address (`column` is the header), whether a machine or a mailing list
    sent it, and the message itself."""

    number: int
    date: str
    people: dict[str, list[MailPerson]]
    odd: list[Defect]
    automatic: bool
    message: Message

    def unread(self, box: str) -> list[str]:
        """What could not be read, in sentences for people."""
        return [f"message {one.row} in {visible(box)}: {one.reason}" for one in self.odd if not one.value]


class _Raw(NamedTuple):
    """The octets of a message, and what is odd about how it stands in its mailbox."""

    octets: bytes
    odd: str = ""


class _Bounded(Compat32):
    """The library's rules for headers of mail as it is found, with no header longer than is read."""

    def header_source_parse(self, sourcelines: list[str]) -> tuple[str, str]:
        name, value = super().header_source_parse(sourcelines)
        return name, value[: _PEOPLE_LIMIT if name.title() in _HEADERS else _HEADER_LIMIT]


_RULES = _Bounded()


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Everybody in From, To, Cc and Bcc, message by message."""
    seen: set[str] = set()
    for mail in mails(path, headers_only=True):
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
        draft.refused += [one for one in mail.odd if one.value]
        draft.doubtful += [one for one in mail.odd if not one.value]
        if not mail.people and not draft.refused:
            draft.left_out.append(Defect(mail.number, "", "", "the message names nobody in its header"))
        if draft.people or draft.refused or draft.left_out or draft.doubtful:
            yield draft


def mails(path: Path, headers_only: bool = False) -> Iterator[Mail]:
    """The messages of an mbox file, a Maildir or a single file. Raises FileError where it is none of these.

    Of a message that is made so that it cannot be read whole, its header is.
    """
    for number, raw in enumerate(_raw(path), 1):
        yield _mail(number, raw, headers_only)


def mail_of(number: int, octets: bytes, headers_only: bool) -> Mail:
    """A message from its octets, or from those of its header alone."""
    return _mail(number, _Raw(octets), headers_only)


def _raw(path: Path) -> Iterator[_Raw]:
    if path.is_dir():
        if not (path / "cur").is_dir() and not (path / "new").is_dir():
            raise FileError(f"{visible(path.name)} is a folder but not a Maildir: it has neither cur nor new in it.")
        for folder in ("cur", "new"):
            for file in sorted((path / folder).glob("*")) if (path / folder).is_dir() else ():
                if file.is_file():
                    yield _Raw(first_octets(file, _MESSAGE_LIMIT))
        return
    head = first_octets(path, _LINE_LIMIT)
    if not head.strip():
        raise FileError(f"{visible(path.name)} is empty.")
    if not is_mailbox(head) and not re.match(rb"\0*[!-9;-~]{1,80}:", head):
        raise FileError(f"{visible(path.name)} is not mail: it begins like neither a message nor a mailbox.")
    yield from _mbox(path)


def _mbox(path: Path) -> Iterator[_Raw]:
    """The messages of a file. A single one is a mailbox whose first line is missing."""
    with path.open("rb") as file:
        lines: list[bytes] | None = None
        number, size, blank = 0, 0, True
        odd = zeros = ""  # what is to be said of this message, and of the next
        while line := file.readline(_LINE_LIMIT):
            if line.startswith(b"\0"):
                bare = line.lstrip(b"\0")
                zeros = zeros or f"{len(line) - len(bare):,} octets of zeros stand before it"
                line = bare or b"\n"
            if line.startswith(b"From ") and begins_message(line, blank, _following(file)):
                if lines is not None:
                    number += 1
                    yield _beginning(lines, odd, number)
                lines, size, odd, zeros = [], 0, zeros, ""
            elif size < _MESSAGE_LIMIT:
                lines = [] if lines is None else lines
                # Body lines that begin so were marked by whoever wrote the file.
                lines.append(line[1:] if line.startswith(b">From ") else line)
                size += len(line)
            blank = not line.strip()
        if lines:
            yield _beginning(lines, odd, number + 1)


def _following(file: BinaryIO) -> bytes:
    place = file.tell()
    following = file.read(100)
    file.seek(place)
    return following


def _beginning(lines: list[bytes], odd: str, number: int) -> _Raw:
    """A message of these lines. The very first one may have junk before its header."""
    junk = 0 if odd or number > 1 else next((n for n, line in enumerate(lines) if _is_head(line)), 0)
    if junk and all(line.strip() and not line.startswith((b" ", b"\t")) for line in lines[:junk]):
        shown = visible(lines[0].decode("utf-8", "replace").strip(), 60)
        return _Raw(b"".join(lines[junk:]), f"{count(junk, 'line')} before it were left out, such as `{shown}`")
    return _Raw(b"".join(lines), odd)


def _is_head(line: bytes) -> bool:
    return re.match(rb"[!-9;-~]{1,80}:", line) is not None


def _parsed(octets: bytes, headers_only: bool) -> tuple[Message, str]:
    """A message, and what is to be said where only its header could be read."""
    why = ""
    if not headers_only:
        boundaries = len(re.findall(rb"(?i)boundary", octets))
        if boundaries * octets.count(b"\n") <= _COMPARISONS:
            try:
                return message_from_bytes(octets, policy=_RULES), ""
            except (MessageError, ValueError, LookupError, RecursionError):
                pass
        why = "its parts stand too deep in each other or are broken; only its header was read"
    return BytesHeaderParser(policy=_RULES).parsebytes(octets), why


def _mail(number: int, raw: _Raw, headers_only: bool) -> Mail:
    message, why = _parsed(raw.octets, headers_only)
    people: dict[str, list[MailPerson]] = {}
    odd = [Defect(number, "", "", reason) for reason in (raw.odd, why) if reason]
    for header in _HEADERS:
        for value in message.get_all(header, []):
            _people_of(str(value), header, number, people, odd)
    head, end, _ = raw.octets.partition(b"\r\n\r\n" if b"\r\n\r\n" in raw.octets[:_LINE_LIMIT] else b"\n\n")
    if not end and len(head) >= _MESSAGE_LIMIT - _LINE_LIMIT:
        odd.append(Defect(number, "", "", f"its header has over {_MESSAGE_LIMIT >> 20} MB; the rest was not read"))
    elif not end:
        last = next((p[-1].address for h in reversed(message.keys()) if (p := people.get(h.title()))), "")
        about = f"; is {last} whole?" if last and not head.endswith(b"\n") else ""
        odd.append(Defect(number, "", "", f"the message was cut off within its header{about}"))
    precedence = str(message.get("Precedence", "")).lower()
    of_list = list_id(str(message.get("List-Id", "")))
    if of_list and of_list in {id_of_lists(one.address) for one in people.get("From", ())}:
        of_list = ""  # whoever writes to lists with this program is a person all the same
    listed = of_list or message.get("List-Post") or precedence in _TO_MANY
    machine = str(message.get("Auto-Submitted", "no")).lower().partition(";")[0].strip() != "no"
    return Mail(number, _date(message), people, odd, bool(listed or machine), message)


def _people_of(value: str, header: str, number: int, people: dict[str, list[MailPerson]], odd: list[Defect]) -> None:
    """The people of one header; what is none, or too much, goes to what is odd."""
    if len(value) >= _PEOPLE_LIMIT:
        odd.append(Defect(number, header, "", f"{header} has over {_PEOPLE_LIMIT:,} characters; the rest was not read"))
        value = value.rpartition(",")[0]
    try:
        found = getaddresses([value])
    except (RecursionError, ValueError, IndexError):
        odd.append(Defect(number, header, "", f"{header} is written so that nobody can be made out"))
        return
    if len(found) > _RECIPIENTS_LIMIT:
        reason = f"{header} names {len(found):,}; only the first {_RECIPIENTS_LIMIT:,} were read"
        odd.append(Defect(number, header, "", reason))
    some = False
    for name, text in found[:_RECIPIENTS_LIMIT]:
        if text := text.strip():
            some = True
            try:
                people.setdefault(header, []).append(MailPerson(_decoded(name), check_address(text)))
            except BadAddressError as error:
                odd.append(Defect(number, header, visible(text, 80), error.reason))
    if not some and "@" in value:
        odd.append(Defect(number, header, "", f"{header} is written so that nobody can be made out"))


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
