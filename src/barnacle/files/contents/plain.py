"""Texts of any kind. What makes one HTML, XML, a calendar or a card is read when it is searched."""

from __future__ import annotations

import binascii
import re
from base64 import b64decode
from collections.abc import Iterator
from urllib.parse import unquote_to_bytes

from barnacle.files.contents.bounds import Found, Locked, Trail
from barnacle.files.contents.words import as_text

_DATA_URL = re.compile(r"data:([\w.+-]+/[\w.+-]+)?((?:;[\w.+-]+=[^;,\"']*)*)(;base64)?,([^\"'<>)]*)")
_ENCRYPTED = "-----BEGIN PGP MESSAGE-----"


def plain(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """A file of text. Raises Locked."""
    trail.bounds.take(len(data))
    if data[:200].lstrip(b"\xef\xbb\xbf \t\r\n").upper().startswith(b"BEGIN:V"):
        # Calendars and cards (RFC 5545, RFC 6350): some programs fold a line in the middle of a letter.
        yield from trail.passage(as_text(re.sub(rb"\r?\n[ \t]", b"", data)), "the text")
    text = as_text(data)
    if _ENCRYPTED in text[:65536]:
        raise Locked
    yield from in_text(text, trail)


def in_text(text: str, trail: Trail) -> Iterator[Found]:
    """A text, and what stands in its data: URLs (RFC 2397)."""
    yield from trail.passage(text, "" if trail.office else "the text")
    for number, match in enumerate(_DATA_URL.finditer(text) if "data:" in text else (), 1):
        octets = unquote_to_bytes(match[4])
        if match[3]:
            try:
                octets = b64decode(b"".join(octets.split()) + b"===")
            except (binascii.Error, ValueError):
                continue
        trail.bounds.one_more()
        yield from trail.as_document().open(f"data {number}", octets)
