"""The search for addresses that a message must not reveal, in every form a mail program would decode."""

from __future__ import annotations

import base64
import binascii
import contextlib
import html
import quopri
import re
from collections.abc import Iterator, Mapping
from email import message_from_bytes, message_from_string, policy
from email.header import decode_header, make_header
from email.message import EmailMessage, Message
from typing import NamedTuple
from urllib.parse import unquote

from barnacle.core.addresses import address_key

# Characters that may stand in an address as people use it. Others of RFC 5322's atext (' = / ? and so on) are
# more often punctuation around an address than part of it, so both readings are tried.
_BEFORE = re.compile(r"[^\s<>()\[\]\\,;:\"@]+\Z")
_AFTER = re.compile(r"(?:[^\W_]|[.-])+")
_SHARED_SIGNS = re.compile(r"[!#$%&'*/=?^`{|}~]")
_BASE64_BLOCK = re.compile(r"(?:[A-Za-z0-9+/_-]{20,}\r?\n)*[A-Za-z0-9+/_-]{8,}={0,2}")
_DEPTH = 4


class Leak(NamedTuple):
    """An address that must not be seen, where it stands, and whose it is."""

    address: str
    where: str
    owner: str


def find_leaks(raw: bytes, guarded: Mapping[str, str]) -> list[Leak]:
    """Every guarded address in a message in wire format; `guarded` maps address keys to their owners' names.

    Header fields, texts, file names and text-like attachments are searched after decoding encoded-words
    (RFC 2047), transfer encodings (RFC 2045), parameters (RFC 2231), percent signs, HTML entities and UTF-16.
    """
    found: dict[tuple[str, str], Leak] = {}
    if guarded:
        for where, text in _texts(message_from_bytes(raw, policy=policy.default), ""):
            for form in _forms(text):
                for key in _addresses(form):
                    if key in guarded:
                        found.setdefault((key, where), Leak(key, where, guarded[key]))
    return list(found.values())


def _texts(part: Message, place: str, depth: int = 0) -> Iterator[tuple[str, str]]:
    """Each place of a message, or of a part of one, with its decoded text."""
    for name, value in part.items():
        yield f"the {name} line{place}", _decoded_header(str(value))
    filename = part.get_filename()
    if filename:
        yield "the name of an attachment", f"{filename} {filename.rpartition('.')[0]}"
        place = f" of the attachment {filename}"
    if depth == _DEPTH:
        yield f"the text{place}", part.as_string()
        return
    children = part.get_payload()
    if part.is_multipart() and isinstance(children, list):
        for child in children:
            if isinstance(child, Message):
                yield from _texts(child, place, depth + 1)
        return
    text = _decoded(part)
    yield f"the text{place}", text
    if filename and filename.lower().endswith(".eml"):
        yield from _texts(message_from_string(text, policy=policy.default), place, depth + 1)


def _decoded_header(value: str) -> str:
    try:
        return str(make_header(decode_header(value)))
    except (LookupError, ValueError, UnicodeError, binascii.Error):
        return value


def _decoded(part: Message) -> str:
    payload = part.get_payload(decode=True)
    if not isinstance(payload, bytes):
        return ""
    charset = part.get_content_charset()
    if not (isinstance(part, EmailMessage) and part.get_content_maintype() == "text"):
        charset = None
    if payload[:2] in (b"\xff\xfe", b"\xfe\xff"):
        charset = "utf-16"
    elif payload[1:8:2] == b"\0\0\0\0":
        charset = "utf-16-le"
    elif payload[0:8:2] == b"\0\0\0\0":
        charset = "utf-16-be"
    try:
        return payload.decode(charset or "utf-8")
    except (LookupError, UnicodeDecodeError):
        return payload.decode("latin-1")


def _forms(text: str) -> Iterator[str]:
    """`text` and what it becomes when decoded once or twice by a reader's program."""
    seen: set[str] = set()
    todo = [text]
    for _ in range(_DEPTH):
        fresh = [t for t in dict.fromkeys(todo) if t not in seen]
        seen.update(fresh)
        yield from fresh
        todo = [decoded for t in fresh for decoded in _one_step(t) if decoded != t]


def _one_step(text: str) -> Iterator[str]:
    if "%" in text:
        yield unquote(text)
    if "&" in text:
        yield html.unescape(text)
    if "=?" in text:
        yield _decoded_header(text)
    if "=" in text:
        yield quopri.decodestring(text.encode("utf-8", "replace")).decode("utf-8", "replace")
    if "<" in text:
        yield re.sub(r"<[^<>@]*>", "", text)  # ada<b></b>@tidewick.example
    for block in _BASE64_BLOCK.findall(text):
        bare = "".join(block.split()).rstrip("=").replace("-", "+").replace("_", "/")
        with contextlib.suppress(binascii.Error, ValueError):
            decoded = base64.b64decode(bare + "=" * (-len(bare) % 4))
            if b"@" in decoded:
                yield decoded.decode("utf-8", "replace")


def _addresses(text: str) -> Iterator[str]:
    """The keys of all readings of everything around an @ sign."""
    text = text.replace("\u200b", "").replace("\u00ad", "")  # unseen, and often put there on purpose
    at = text.find("@")
    while at >= 0:
        before = _BEFORE.search(text[max(0, at - 80) : at])
        after = _AFTER.match(text, at + 1, at + 256)
        if before and after:
            local, domain = before.group(), after.group().strip(".-")
            starts = [0, *(m.end() for m in _SHARED_SIGNS.finditer(local))]
            for start in starts:
                if local[start:].strip("."):
                    yield address_key(f"{local[start:]}@{domain}")
                    yield address_key(f"{local[start:].lstrip('.')}@{domain}")
        at = text.find("@", at + 1)
