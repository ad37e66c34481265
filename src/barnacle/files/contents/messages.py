"""Messages (RFC 5322, MIME): every field and every part of one, and messages that stand in it."""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from email import message_from_bytes
from email.message import Message

from barnacle.core.mail.decoding import decoded_header
from barnacle.files.contents.bounds import MOST_DEEP, Found, Locked, Trail
from barnacle.files.contents.plain import in_text
from barnacle.files.contents.words import as_text

_FIELD = re.compile(rb"[!-9;-~]+:")
_MBOX = re.compile(rb"From [^\n]+\n[!-9;-~]+:")
# RFC 1847 section 2.2; S/MIME says it in a parameter (RFC 8551 section 3.2.2).
_ENCRYPTED = ("multipart/encrypted",)


def is_message(name: str, head: bytes) -> bool:
    """Whether a file is a message or a mailbox of them."""
    lower = name.lower()
    kept = lower.endswith((".eml", ".mbox", ".mht", ".mhtml", "message"))
    return bool(_MBOX.match(head)) or bool(kept and _FIELD.match(head.lstrip()))


def message(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """A message in a file, or each of a mailbox."""
    trail.bounds.take(len(data))
    if data.startswith(b"From "):
        for part in re.split(rb"(?m)^From [^\r\n]+\r?\n", data)[1:]:
            trail.bounds.one_more()
            yield from in_message(message_from_bytes(part), trail)
        return
    yield from in_message(message_from_bytes(data), trail)


def _octets(part: Message, trail: Trail) -> object:
    content = part.get_payload()
    if isinstance(content, str) and (apart := trail.apart.get(content.strip())) is not None:
        try:
            return binascii.a2b_base64(apart)
        except binascii.Error:
            part.set_payload(bytes(apart).decode("ascii", "surrogateescape"))
    return part.get_payload(decode=True)


def in_message(part: Message, trail: Trail, depth: int = 0) -> Iterator[Found]:
    """The fields and parts of a message. A part with a name is a file of its own."""
    trail.bounds.one_more()
    for name, value in part.items():
        text = str(value)
        yield from trail.passage(f"{decoded_header(text)}\n{text}", f"the {name} line")
    for note in (part.preamble, part.epilogue):
        if note and note.strip():
            yield from trail.passage(str(note), "the text between the parts")
    if part.get_content_type() in _ENCRYPTED or str(part.get_param("smime-type")).lower() == "enveloped-data":
        raise Locked
    children = part.get_payload()
    if part.is_multipart() and isinstance(children, list):
        for child in children:
            if depth > MOST_DEEP * 3:
                yield trail.unsearched("messages are nested too deeply")
                return
            if isinstance(child, Message):
                yield from in_message(child, trail, depth + 1)
        return
    octets = _octets(part, trail)
    if not isinstance(octets, bytes):
        return
    name = decoded_header(part.get_filename() or "")
    if not name and part.get_content_maintype() == "text":
        yield from in_text(as_text(octets, part.get_content_charset()), trail)
        return
    if part.get_content_maintype() == "text" and (charset := part.get_content_charset()):
        octets = as_text(octets, charset).encode("utf-8", "surrogatepass")
    yield from trail.open(name or f"a part ({part.get_content_type()})", octets)
