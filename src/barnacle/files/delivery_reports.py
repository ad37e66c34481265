"""Reports of mail servers: of delivery (RFC 3464, RFC 6533, or in plain words) and of complaints (RFC 5965)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from email import message_from_string
from email.message import Message

from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import BadAddressError
from barnacle.core.mail.decoding import decoded_header
from barnacle.core.mail.returned import Verdict, verdict
from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple
from barnacle.files.contents.words import as_text

# What is read of the text of one message, and how far behind an address its reason may stand.
_TEXT_LIMIT = 200_000
_REASON = 800
_STATUS_TYPES = ("message/delivery-status", "message/global-delivery-status")
_RETURNED_TYPES = ("message/rfc822", "message/global", "text/rfc822-headers", "message/global-headers")
_TOKEN = re.compile(r"(?<![0-9a-f])([0-9a-f]{32})@")
_OPT_OUT_TOKEN = re.compile(r"opt-out(?:%20| )([0-9a-f]{16})(?![0-9a-f])")
_ADDRESS = re.compile(r"(?<![\w.!#$%&'*+/=?^`{|}~-])[\w.!#$%&'*+/=?^`{|}~-]++@[\w-]++(?:\.[\w-]++)++")
_RETURNED_IN_TEXT = re.compile(
    r"(?im)^-{2,}+.*(?:original|copy of (?:the|your)|returned|below this line).*$|^Return-Path:|^Received: "
)
_PARAGRAPH = re.compile(r"\S[^\n]*\n\s*\n")
_MACHINE = re.compile(r"mailer-daemon|postmaster|mail delivery|mail.?system|bounce|mdaemon|no-?reply", re.IGNORECASE)
_SUBJECT = re.compile(
    r"undeliver|delivery (?:status|fail|report|has failed|notification|incomplete)|returned mail|mail delivery|"
    r"failure notice|"
    r"could not be delivered|delayed|unzustellbar|nicht zugestellt|non remis|échec|no entregado|non recapitato|"
    r"onbestelbaar|"
    r"kunde inte levereras|kunne ikke leveres",
    re.IGNORECASE,
)


class Undelivered(NamedTuple):
    """A recipient whom a message did not reach, or not yet: what that says of the mailbox, and the server's words.
    `final` is where the mail was passed on to, if it was."""

    address: str
    verdict: Verdict
    why: str
    final: str = ""

    @property
    def for_good(self) -> bool:
        """Whether the mailbox is not there."""
        return self.verdict is Verdict.GONE


@dataclass(slots=True)
class Report:
    """What a message tells as a report: of whom, which messages of ours it may belong to (tokens in what it returns and
    refers to), whether it is a complaint, and whether it has the form of a report or only its words."""

    recipients: list[Undelivered] = field(default_factory=list)
    tokens: set[str] = field(default_factory=set)
    complaint: bool = False
    formal: bool = False
    text: str = ""


def may_be_report(message: Message, automatic: bool) -> bool:
    """Whether a message may be a report, by its header alone."""
    sender = f"{decoded_header(str(message.get('From', '')))} {message.get('Return-Path', '')}"
    machine = bool(_MACHINE.search(sender) or "<>" in str(message.get("Return-Path", "")))
    named = _SUBJECT.search(decoded_header(str(message.get("Subject", ""))))
    failed = message.get("X-Failed-Recipients")
    return message.get_content_type() == "multipart/report" or machine or bool(automatic and (named or failed))


def read_report(message: Message, automatic: bool) -> Report | None:
    """The report that a message is; None where it is none."""
    kind = message.get_content_type()
    report_type = str(message.get_param("report-type", "") or "").lower()
    parts = list(_own_parts(message))
    status = [part for part in parts if part.get_content_type() in _STATUS_TYPES]
    feedback = [part for part in parts if part.get_content_type() == "message/feedback-report"]
    if kind == "multipart/report" and (feedback or report_type == "feedback-report"):
        return _complaint(message, parts, feedback)
    sender = f"{decoded_header(str(message.get('From', '')))} {message.get('Return-Path', '')}"
    failed = decoded_header(str(message.get("X-Failed-Recipients", "")))
    like_one = bool(_MACHINE.search(sender) or "<>" in str(message.get("Return-Path", "")) or automatic)
    named = _SUBJECT.search(decoded_header(str(message.get("Subject", ""))))
    if not (status and kind == "multipart/report") and not (like_one and (failed or status or named)):
        return None
    report = Report(tokens=_tokens(message), formal=bool(status) and kind == "multipart/report", text=_text_of(parts))
    for part in status:
        report.recipients += _blocks(part)
    if report.formal and not report.recipients and not failed:
        return Report()  # of what went well, or of what only a machine can want to know
    # Some servers give no reason but in the words that they write for people.
    report.recipients = [_with_reason(one, report.text) for one in report.recipients]
    known = {address_key(one.address) for one in report.recipients}
    for text in _ADDRESS.findall(failed):
        if address_key(text) not in known:
            report.recipients.append(Undelivered(text, *reason_for(text, report.text)))
    return report


def _with_reason(one: Undelivered, text: str) -> Undelivered:
    found, why = reason_for(one.address, text) if one.verdict is Verdict.UNCLEAR else (Verdict.UNCLEAR, "")
    return one if found is Verdict.UNCLEAR else Undelivered(one.address, found, why, one.final)


def _own_parts(message: Message) -> Iterator[Message]:
    """The parts of a message itself, not those of messages that stand in it."""
    children = message.get_payload()
    if message.get_content_maintype() != "multipart" or not isinstance(children, list):
        yield message
        return
    for child in children:
        if isinstance(child, Message):
            yield from _own_parts(child) if child.get_content_maintype() == "multipart" else iter((child,))


def _blocks(part: Message) -> list[Undelivered]:
    """The recipients of a delivery status. In base64 or quoted-printable it is not taken apart by the library."""
    payload = part.get_payload()
    blocks = [one for one in payload if isinstance(one, Message)] if isinstance(payload, list) else []
    joined = "\n\n".join(one.as_string().strip() for one in blocks)
    if blocks and not any(one.get("Action") for one in blocks) and "Content-Transfer-Encoding" in part:
        joined = _decoded(part, joined)
    elif not blocks:
        joined = _decoded(part, "")
    blocks = [message_from_string(text.strip()) for text in re.split(r"\r?\n\s*\r?\n", joined)]
    return [one for block in blocks if (one := _recipient(block)) is not None]


def _decoded(part: Message, inside: str) -> str:
    if not inside:
        octets = part.get_payload(decode=True)
        return as_text(octets) if isinstance(octets, bytes) else str(part.get_payload())
    carrier = Message()
    carrier["Content-Transfer-Encoding"] = str(part["Content-Transfer-Encoding"])
    carrier.set_payload(inside)
    octets = carrier.get_payload(decode=True)
    return as_text(octets) if isinstance(octets, bytes) else ""


def _recipient(block: Message) -> Undelivered | None:
    action = str(block.get("Action", "")).strip().lower()
    final, original = (_address(block.get(name)) for name in ("Final-Recipient", "Original-Recipient"))
    address = original or final
    if action not in ("failed", "delayed") or not address:
        return None
    status = str(block.get("Status", "")).strip()
    diagnostic = " ".join(str(block.get("Diagnostic-Code", "")).partition(";")[2].split())
    code = re.match(r"[245]\.\d{1,3}\.\d{1,3}", status)
    why = tidy(f"{code[0] if code else ''} {diagnostic}".strip() or action, 200)
    return Undelivered(address, verdict(action, status, diagnostic), why, final if final != address else "")


def _address(value: object) -> str:
    """The address of a field such as `rfc822; bo@kelp.example`, or `utf-8; …` with its escapes (RFC 6533 section 3)."""
    if value is None:
        return ""
    text = decoded_header(str(value)).partition(";")[2].strip().strip("<>")
    text = re.sub(r"\\x\{([0-9A-Fa-f]{2,6})\}", lambda match: chr(min(int(match[1], 16), 0x10FFFF)), text)
    try:
        return check_address(text)
    except BadAddressError:
        return ""


def _complaint(message: Message, parts: list[Message], feedback: list[Message]) -> Report | None:
    fields = "\n".join(
        _decoded(part, "") if isinstance(part.get_payload(), str) else part.as_string() for part in feedback
    )
    if re.search(r"(?im)^Feedback-Type:\s*not-spam", fields):
        return None
    named = re.findall(r"(?im)^(?:Original-Rcpt-To|Removal-Recipient):\s*<?([^\s<>]+@[^\s<>]+)", fields)
    people = [Undelivered(one, Verdict.UNCLEAR, "complained to the mail service") for one in dict.fromkeys(named)]
    return Report(people, _tokens(message), complaint=True, formal=bool(feedback), text=_text_of(parts))


def _tokens(message: Message) -> set[str]:
    """What may be tokens of ours: in the returned message and its fields, and in what the report refers to."""
    found: set[str] = set()
    texts = [" ".join(str(message.get(name, "")) for name in ("In-Reply-To", "References"))]
    for part in message.walk():
        texts += [str(value) for name, value in part.items() if name.lower() in ("message-id", "list-unsubscribe")]
        if not part.is_multipart():
            octets = part.get_payload(decode=True)
            texts.append(as_text(octets)[:_TEXT_LIMIT] if isinstance(octets, bytes) else "")
    for text in texts:
        found |= {*_TOKEN.findall(text), *_OPT_OUT_TOKEN.findall(text)}
    return found


def _text_of(parts: list[Message]) -> str:
    """The words of a report, without the message that it returns."""
    texts = []
    for part in parts:
        if part.get_content_maintype() == "text" and part.get_content_type() not in _RETURNED_TYPES:
            octets = part.get_payload(decode=True)
            text = as_text(octets, part.get_content_charset()) if isinstance(octets, bytes) else ""
            if part.get_content_subtype() == "html":
                text = re.sub(r"<[^<>]*>", " ", text)
            texts.append(text[:_TEXT_LIMIT])
    text = "\n".join(texts)
    begins = _RETURNED_IN_TEXT.search(text)
    return text[: begins.start()] if begins else text


def reason_for(address: str, text: str) -> tuple[Verdict, str]:
    """What a report in plain words says of an address: the lines behind it, up to the next address or a blank line."""
    at = text.lower().find(address.lower())
    if at < 0:
        return Verdict.UNCLEAR, "named without a reason"
    behind = text[at + len(address) : at + len(address) + _REASON]
    following = [m.start() for m in _ADDRESS.finditer(behind) if m.group().lower() != address.lower()]
    blank = _PARAGRAPH.search(behind)
    end = min([*following, blank.end() if blank else _REASON])
    said = " ".join(behind[:end].split())
    # What stands before it in the same paragraph, and behind no other address.
    before = " ".join(re.split(r"\n\s*\n", _ADDRESS.sub("\n\n", text[max(0, at - 200) : at]))[-1].split())
    found = verdict("", "", said)
    if found is Verdict.UNCLEAR:
        found, said = verdict("", "", f"{before} {said}"), f"{said or before[-120:]}"
    return found, tidy(said.strip(" :>,;"), 200) or "named without a reason"


def addresses_named(text: str) -> list[str]:
    """What may be addresses in the words of a report."""
    return [found.strip("'.") for found in _ADDRESS.findall(text)]


def text_of(message: Message) -> str:
    """The words of a message, for whoever reads it."""
    return _text_of(list(_own_parts(message)))
