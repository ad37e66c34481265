"""The parts of a workbook, which is a zip archive: unpacked within bounds and whatever their checksums say, and their
tags one by one."""

from __future__ import annotations

import re
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import suppress
from html import unescape
from pathlib import Path

from barnacle.core.typed import NamedTuple

_BLOCK = 1 << 16
# What comes of an archive that is damaged; whoever reads the cells says so.
DAMAGED = (zipfile.BadZipFile, zlib.error, OSError, EOFError, KeyError, ValueError)
_LONGEST_TAG, _LONGEST_VALUE = 1 << 16, 1 << 13
_NAME = re.compile(r"</?([\w:-]+)").match
_PLACE = re.compile(r"([A-Za-z]{1,3})([0-9]{1,7})").match
_OPEN = r"<table:(?:table|table-row|table-cell|covered-table-cell)\b(?!-)[^<>]*>"


def names_of_parts(path: Path) -> set[str]:
    """What the parts are called; nothing of a file that is no archive, or a damaged one."""
    with suppress(*DAMAGED):
        if zipfile.is_zipfile(path):
            with zipfile.ZipFile(path) as archive:
                return set(archive.namelist())
    return set()


def unpacked(path: Path, part: str | zipfile.ZipInfo) -> Iterator[bytes]:
    """The octets of a part, a block at a time, as far as they can be unpacked."""
    with zipfile.ZipFile(path) as archive, path.open("rb") as raw:
        info = archive.getinfo(part) if isinstance(part, str) else part
        raw.seek(info.header_offset + 26)
        lengths = raw.read(4)
        raw.seek(int.from_bytes(lengths[:2], "little") + int.from_bytes(lengths[2:], "little"), 1)
        left, unpack = info.compress_size, zlib.decompressobj(-15)
        while left > 0 and (block := raw.read(min(left, _BLOCK))):
            left -= len(block)
            if info.compress_type == zipfile.ZIP_STORED:
                yield block
            while block and info.compress_type == zipfile.ZIP_DEFLATED:
                try:
                    data = unpack.decompress(block, 1 << 20)
                except zlib.error:
                    return
                yield data
                block = unpack.unconsumed_tail


def tags(path: Path, part: str, pattern: bytes) -> Iterator[str]:
    """The tags of a part that match. The pattern must not go beyond the next `<`."""
    search = re.compile(pattern)
    rest = b""
    for block in unpacked(path, part):
        data = rest + block
        end = 0
        for hit in search.finditer(data):
            yield hit.group().decode("utf-8", "replace")
            end = hit.end()
        cut = data.rfind(b"<")
        rest = data[max(end, cut) :] if cut >= 0 else b""
        rest = rest[-_LONGEST_TAG:]


def value(tag: str, name: str) -> str:
    """The value of an attribute, whose name is a pattern; empty where it has none."""
    hit = re.search(rf"""\s{name}\s*=\s*(?:"([^"]*)"|'([^']*)')""", tag[:_LONGEST_VALUE])
    return (hit[1] or hit[2] or "") if hit else ""


def contains(path: Path, part: str, pattern: bytes) -> bool:
    """Whether a part has what matches somewhere, on which `tags` says more."""
    return next(tags(path, part, pattern), None) is not None


def name_of(tag: str) -> str:
    """What a tag is called, with its prefix."""
    hit = _NAME(tag)
    return hit[1] if hit else ""


def parts_of_sheets(path: Path, names: set[str]) -> dict[str, str]:
    """The part of each sheet of an Office Open XML workbook, by its title; `names` are the archive's parts."""
    parts = {}
    for tag in tags(path, "xl/_rels/workbook.xml.rels", rb"<(?:\w+:)?Relationship\b[^<>]*>"):
        target = value(tag, "Target").lstrip("/")
        parts[value(tag, "Id")] = target if target.startswith("xl/") else f"xl/{target}"
    found = {}
    for tag in tags(path, "xl/workbook.xml", rb"<(?:\w+:)?sheet\b[^<>]*>"):
        if (part := parts.get(value(tag, r"\w+:id"), "")) in names:
            found[unescape(value(tag, "name"))] = part
    return found


def place_of(reference: str) -> tuple[int, int] | None:
    """The row (counted from 1) and the column (counted from 0) of a cell, or of the first of several: `B7`, `B7:C9`."""
    hit = _PLACE(reference)
    return (int(hit[2]), column_of(hit[1])) if hit else None


def column_of(letters: str) -> int:
    """The place of a column, counted from 0, by its name."""
    number = 0
    for letter in letters.upper():
        number = 26 * number + ord(letter) - 64
    return number - 1


class OpenCell(NamedTuple):
    """Where a tag stands in an OpenDocument workbook: the sheet's title, the row (counted from 1) and the column (from
    0), and of how many rows and columns alike they are the first."""

    sheet: str
    row: int
    rows: int
    column: int
    columns: int
    tag: str


def open_cells(path: Path, within: str = "") -> Iterator[OpenCell]:
    """The cells of an OpenDocument workbook, each with the tags in it that match the pattern `within` behind it; in the
    order of the file."""
    sheet, row, rows, column, columns = "", 1, 0, 0, 0
    for tag in tags(path, "content.xml", "|".join(filter(None, (_OPEN, within))).encode()):
        name = name_of(tag)
        if name == "table:table":
            sheet, row, rows = unescape(value(tag, "table:name")), 1, 0
        elif name == "table:table-row":
            row, column, columns = row + rows, 0, 0
            rows = int(value(tag, "table:number-rows-repeated") or 1)
        else:
            if name.startswith("table:"):
                column += columns
                columns = int(value(tag, "table:number-columns-repeated") or 1)
            yield OpenCell(sheet, row, rows, column, columns, tag)
