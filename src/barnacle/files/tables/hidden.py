"""Which rows and columns of a workbook are hidden or filtered out (ISO/IEC 29500-1 sections 18.3.1.13 and 18.3.1.73;
ODF 1.3 section 19.749). The older binary workbooks are not looked at."""

from __future__ import annotations

import re
from contextlib import suppress
from html import unescape
from pathlib import Path

from barnacle.core.typed import NamedTuple
from barnacle.files.tables.archive import DAMAGED, names_of_parts, parts_of_sheets, tags, value

_MOST = 1_000_000
_OPEN_TAGS = ("<table:table", "<table:table-row", "<table:table-column")
_IS_ROW = re.compile(r"<(?:\w+:)?row\b").match


class Hidden(NamedTuple):
    """Hidden rows, counted from 1, and columns, counted from 0."""

    rows: frozenset[int] = frozenset()
    columns: frozenset[int] = frozenset()


def hidden_parts(path: Path) -> dict[str, Hidden]:
    """What is hidden of each sheet that has anything hidden, by its title."""
    names = names_of_parts(path)
    with suppress(*DAMAGED):
        if "xl/workbook.xml" in names:
            return _of_xlsx(path, names)
        if "content.xml" in names:
            return _of_ods(path)
    return {}


def _of_xlsx(path: Path, names: set[str]) -> dict[str, Hidden]:
    sheets = {title: _of_sheet(path, part) for title, part in parts_of_sheets(path, names).items()}
    return {title: hidden for title, hidden in sheets.items() if hidden != Hidden()}


def _of_sheet(path: Path, part: str) -> Hidden:
    rows: set[int] = set()
    columns: set[int] = set()
    at = 0
    for tag in tags(path, part, rb"<(?:\w+:)?(?:row|col)\b[^<>]*>"):
        is_row = _IS_ROW(tag) is not None
        if is_row:
            at = int(value(tag, "r") or at + 1)
        if value(tag, "hidden") not in ("1", "true") or len(rows) > _MOST:
            continue
        if is_row:
            rows.add(at)
        else:
            first, last = int(value(tag, "min") or 1), int(value(tag, "max") or 1)
            columns.update(range(first - 1, min(last, first + 1000)))
    return Hidden(frozenset(rows), frozenset(columns))


def _of_ods(path: Path) -> dict[str, Hidden]:
    found: dict[str, Hidden] = {}
    title, rows, columns, row, column = "", set[int](), set[int](), 0, 0
    for tag in tags(path, "content.xml", rb"<table:table(?:-row|-column)?\b(?!-)[^<>]*>"):
        name = tag.split()[0].rstrip("/>")
        if name not in _OPEN_TAGS:
            continue
        repeated = (
            min(int(value(tag, rf"table:number-{name[13:] or 'rows'}s-repeated") or 1), _MOST) if "-" in name else 1
        )
        is_hidden = value(tag, "table:visibility") in ("collapse", "filter")
        if name == "<table:table":
            if rows or columns:
                found[title] = Hidden(frozenset(rows), frozenset(columns))
            title, rows, columns, row, column = unescape(value(tag, "table:name")), set(), set(), 0, 0
        elif name == "<table:table-row":
            if is_hidden and repeated < 100_000 and len(rows) < _MOST:
                rows.update(range(row + 1, row + 1 + repeated))
            row += repeated
        else:
            if is_hidden:
                columns.update(range(column, min(column + repeated, 1000)))
            column += repeated
    if rows or columns:
        found[title] = Hidden(frozenset(rows), frozenset(columns))
    return found
