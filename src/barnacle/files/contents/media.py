"""Pictures, sounds and films: what is written beside what they show (EXIF, XMP, PNG and GIF texts)."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator

from barnacle.files.contents.bounds import Found, Trail, Unread
from barnacle.files.contents.words import addresses_in, as_text

_PICTURES = (
    b"\x89PNG\r\n\x1a\n",
    b"\xff\xd8\xff",
    b"GIF8",
    b"II*\0",
    b"MM\0*",
    b"BM",
    b"\0\0\1\0",
    b"\xd7\xcd\xc6\x9a",
    b"\1\0\0\0",
)
_SOUNDS = (b"ID3", b"fLaC", b"OggS", b"\xff\xfb", b"\xff\xf3", b"\xff\xf2", b"\x1aE\xdf\xa3", b"MThd")
_PNG_LIMIT = 4_000_000
_TEXT_CHUNKS = (b"tEXt", b"zTXt", b"iTXt", b"eXIf")


def is_media(data: bytes) -> bool:
    """Whether a file is a picture, a sound or a film, by how it begins."""
    return (
        data.startswith(_SOUNDS)
        or (data.startswith(_PICTURES) and (data[:2] != b"BM" or data[6:10] == b"\0\0\0\0") and _is_metafile(data))
        or data[4:8] == b"ftyp"
        or (data[:4] == b"RIFF" and data[8:12] in (b"WEBP", b"WAVE", b"AVI "))
    )


def _is_metafile(data: bytes) -> bool:
    # An enhanced metafile begins with a record number that other files may begin with too.
    return data[:4] != b"\1\0\0\0" or data[40:44] == b" EMF"


def metadata(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The texts beside a picture. What it shows is not read."""
    trail.bounds.take(len(data))
    yield from trail.passage(addresses_in(data), "the properties")
    if data.startswith(b"\x89PNG"):
        for text in _png_texts(data):
            trail.bounds.take(len(text))
            yield from trail.passage(as_text(text), "the properties")
    elif not data.startswith(_SOUNDS):
        # XMP is XML: an address may be in pieces there.
        for packet in re.findall(rb"<x:xmpmeta.*?</x:xmpmeta>", data, re.DOTALL):
            yield from trail.passage(as_text(packet), "the properties")
    yield Unread("what pictures show" if not data.startswith(_SOUNDS) else "what recordings say", trail.file)


def _png_texts(data: bytes) -> Iterator[bytes]:
    """The texts of a PNG (ISO 15948 section 11.3.4), unpacked."""
    at = 8
    while at + 8 <= len(data):
        size, kind = int.from_bytes(data[at : at + 4], "big"), data[at + 4 : at + 8]
        chunk = data[at + 8 : at + 8 + size]
        at += size + 12
        word, _, rest = chunk.partition(b"\0")
        yield word if kind in _TEXT_CHUNKS else b""
        if kind in (b"tEXt", b"eXIf"):
            yield rest
        elif kind == b"zTXt":
            yield _unpacked(rest[1:])
        elif kind == b"iTXt":
            language, _, behind = rest[2:].partition(b"\0")
            translated, _, text = behind.partition(b"\0")
            yield language + b" " + translated
            yield _unpacked(text) if rest[:1] == b"\1" else text


def _unpacked(packed: bytes) -> bytes:
    return zlib.decompressobj().decompress(packed, _PNG_LIMIT)
