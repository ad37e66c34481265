"""Formulas of a workbook whose results do not stand in it, as programs write them that do not work them out (ISO/IEC
29500-1 section 18.3.1.40; ODF 1.3 section 19.642). Their cells are read as empty, which is to be said."""

from __future__ import annotations

import re
from contextlib import suppress
from html import unescape
from itertools import chain
from pathlib import Path

from barnacle.core.typed import NamedTuple
from barnacle.files.tables.archive import DAMAGED, column_of, names_of_parts, parts_of_sheets, tags, unpacked, value
from barnacle.files.tables.links import address_in

_CELLS = rb"<(?:\w+:)?(?:c\s[^<>]*>|[fv]\b[^<>]*>[^<]*)"
_OF_ODS = rb"<table:(?:table|table-row|table-cell|covered-table-cell)\b(?!-)[^<>]*>"
_NAME = re.compile(r"<([\w:-]+)").match
_PLACE = re.compile(r"([A-Z]{1,3})([0-9]{1,7})").fullmatch
_MOST = 16_384  # columns, as many as a sheet can have


class Unworked(NamedTuple):
    """How many cells of a column have a formula without a result, and the row (counted from 1) of the first."""

    number: int
    first: int


def unworked(path: Path) -> dict[str, dict[int, Unworked]]:
    """By the sheets' titles and their columns (counted from 0)."""
    names = names_of_parts(path)
    found: dict[str, dict[int, Unworked]] = {}
    with suppress(*DAMAGED):
        if "xl/workbook.xml" in names:
            for title, part in parts_of_sheets(path, names).items():
                if any(b"<f" in block or b":f" in block for block in unpacked(path, part)):
                    found[title] = _of_part(path, part)
        elif "content.xml" in names and any(b"table:formula" in block for block in unpacked(path, "content.xml")):
            _of_ods(path, found)
    return {title: dict(sorted(columns.items())) for title, columns in found.items() if columns}


def _count(found: dict[int, Unworked], column: int, row: int) -> None:
    if column in found:
        found[column] = found[column]._replace(number=found[column].number + 1)
    elif column < _MOST:
        found[column] = Unworked(1, row)


def _of_part(path: Path, part: str) -> dict[int, Unworked]:
    found: dict[int, Unworked] = {}
    place, waits = None, False  # a formula was there, and no result yet
    for tag in chain(tags(path, part, _CELLS), ["<c>"]):
        name = _named(tag).rpartition(":")[2]
        if name == "v":
            waits = waits and not tag.partition(">")[2]
        elif name == "f":
            waits = not address_in(unescape(tag))  # which is taken from there
        else:
            if waits and place:
                _count(found, column_of(place[1]), int(place[2]))
            place, waits = _PLACE(value(tag, "r")), False
    return found


def _of_ods(path: Path, found: dict[str, dict[int, Unworked]]) -> None:
    title, row, after, column, width = "", 1, 1, 0, 0
    for tag in tags(path, "content.xml", _OF_ODS):
        name = _named(tag)
        if name == "table:table":
            title, row, after = unescape(value(tag, "table:name")), 1, 1
        elif name == "table:table-row":
            row, column, width = after, 0, 0
            after += int(value(tag, "table:number-rows-repeated") or 1)
        else:
            column += width
            width = int(value(tag, "table:number-columns-repeated") or 1)
            formula = unescape(value(tag, "table:formula"))
            if formula and not value(tag, "office:value-type") and not address_in(formula):
                _count(found.setdefault(title, {}), column, row)


def _named(tag: str) -> str:
    hit = _NAME(tag)
    return hit[1] if hit else ""
