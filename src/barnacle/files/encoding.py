"""Which encoding a text file is in."""

from __future__ import annotations

import codecs
from pathlib import Path
from typing import NamedTuple

from barnacle.core.errors import FileError
from barnacle.core.text import visible

_BLOCK = 1 << 20
_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig", "UTF-8 with a mark"),
    (codecs.BOM_UTF16_LE, "utf-16", "UTF-16"),
    (codecs.BOM_UTF16_BE, "utf-16", "UTF-16"),
)
# What people most often name .csv and is none, by its first bytes.
_OTHERS = (
    (b"PK\x03\x04", "a spreadsheet workbook or a zip archive"),
    (b"\xd0\xcf\x11\xe0", "an old spreadsheet or document"),
    (b"%PDF", "a PDF"),
    (b"\x89PNG", "a picture"),
    (b"\xff\xd8\xff", "a picture"),
    (b"SQLite format 3", "a database"),
)


class Encoding(NamedTuple):
    """The codec's name for Python and a name for people."""

    codec: str
    label: str


def find_encoding(path: Path) -> Encoding:
    """UTF-8 with or without mark, UTF-16 with or without mark, else Windows-1252.

    Raises FileError where the file is missing, unreadable or not text.
    """
    shown = visible(path.name)
    try:
        if path.is_dir():
            raise FileError(f"{shown} is a folder, not a file.")
        with path.open("rb") as file:
            head = file.read(4096)
            for mark, codec, label in _MARKS:
                if head.startswith(mark):
                    return Encoding(codec, label)
            for magic, what in _OTHERS:
                if head.startswith(magic):
                    raise FileError(f"{shown} is {what}, not a text file. Save the table as CSV and take that in.")
            wide = _utf16(head)
            if wide:
                return wide
            # A stray control character or two are cleaned from their cell later; this many are no text.
            if sum(octet < 32 and octet not in b"\t\n\r\f" for octet in head) > len(head) * 0.03:
                raise FileError(f"{shown} is not a text file: it holds binary data.")
            file.seek(0)
            decoder = codecs.getincrementaldecoder("utf-8")()
            is_utf8 = True
            while block := file.read(_BLOCK):
                if is_utf8:
                    try:
                        decoder.decode(block)
                    except UnicodeDecodeError:
                        is_utf8 = False
            if is_utf8:
                try:
                    decoder.decode(b"", final=True)
                    return Encoding("utf-8", "UTF-8")
                except UnicodeDecodeError:
                    pass
            return Encoding("cp1252", "Windows-1252")
    except FileNotFoundError:
        raise FileError(f"There is no file {visible(str(path))}.") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be read: {error.strerror}.") from error


def _utf16(head: bytes) -> Encoding | None:
    """UTF-16 without a mark: in Latin text every other byte is zero."""
    even, odd = head[0::2], head[1::2]
    if len(head) >= 4 and odd.count(0) > len(odd) * 0.4 and not even.count(0):
        return Encoding("utf-16-le", "UTF-16")
    if len(head) >= 4 and even.count(0) > len(even) * 0.4 and not odd.count(0):
        return Encoding("utf-16-be", "UTF-16")
    return None
