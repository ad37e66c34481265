"""Formulas of a workbook whose results do not stand in it, as programs write them that do not work them out (ISO/IEC
29500-1 section 18.3.1.40; ODF 1.3 section 19.642). Their cells are read as empty, which is to be said."""

from __future__ import annotations

from contextlib import suppress
from html import unescape
from itertools import chain
from pathlib import Path

from barnacle.core.typed import NamedTuple
from barnacle.files.tables.archive import (
    DAMAGED,
    contains,
    name_of,
    names_of_parts,
    open_cells,
    parts_of_sheets,
    place_of,
    tags,
    value,
)
from barnacle.files.tables.links import address_in

_FORMULA, _CELLS = rb"<(?:\w+:)?f\b", rb"<(?:\w+:)?(?:c\s[^<>]*>|[fv]\b[^<>]*>[^<]*)"
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
                if contains(path, part, _FORMULA):
                    found[title] = _of_part(path, part)
        elif "content.xml" in names and contains(path, "content.xml", rb"<table:[\w-]+\s[^<>]*table:formula"):
            _of_ods(path, found)
    return {title: dict(sorted(columns.items())) for title, columns in found.items() if columns}


def _count(found: dict[int, Unworked], column: int, row: int) -> None:
    if column in found:
        found[column] = found[column]._replace(number=found[column].number + 1)
    elif column < _MOST:
        found[column] = Unworked(1, row)


def _of_part(path: Path, part: str) -> dict[int, Unworked]:
    found: dict[int, Unworked] = {}
    place, is_text, waits = None, False, False  # whether a formula was there, and no result yet
    for tag in chain(tags(path, part, _CELLS), ["<c>"]):
        name = name_of(tag).rpartition(":")[2]
        if name == "v":
            waits = waits and not tag.partition(">")[2]
        elif name == "f":
            # The result of one that is said to be text may be no letters; an address is taken from the formula itself.
            waits = not is_text and not address_in(unescape(tag))
        else:
            if waits and place:
                _count(found, place[1], place[0])
            place, is_text, waits = place_of(value(tag, "r")), value(tag, "t") == "str", False
    return found


def _of_ods(path: Path, found: dict[str, dict[int, Unworked]]) -> None:
    """An empty result looks like none here: where any formula has one, they were worked out."""
    for cell in open_cells(path):
        formula = unescape(value(cell.tag, "table:formula"))
        if formula and value(cell.tag, "office:value-type"):
            found.clear()
            return
        if formula and not address_in(formula):
            _count(found.setdefault(cell.sheet, {}), cell.column, cell.row)
