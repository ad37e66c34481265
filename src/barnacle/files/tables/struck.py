"""Which rows of a workbook are struck through: people strike out whoever has left (ISO/IEC 29500-1 sections 18.8.22 and
18.8.45; ODF 1.3 section 20.368). The older binary workbooks are not looked at."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import suppress
from html import unescape
from pathlib import Path

from barnacle.files.tables.archive import DAMAGED, name_of, names_of_parts, parts_of_sheets, tags, value

_STYLES = rb"</?(?:\w+:)?(?:fonts|font|strike|cellXfs|xf)\b[^<>]*>"
_CELLS = rb"<(?:\w+:)?(?:row|c)\b[^<>]*>"
_OF_ODS = rb"<(?:style:(?:style|text-properties)|table:table(?:-row|-cell)?|text:(?:p|span))\b(?!-)[^<>]*>"
_MOST = 1_000_000


def struck_rows(path: Path) -> dict[str, list[int]]:
    """The rows (counted from 1) of each sheet of which half of what is in them, or more, is struck through, by the
    sheet's title."""
    names = names_of_parts(path)
    sheets: Iterable[tuple[str, dict[int, list[int]]]] = ()
    with suppress(*DAMAGED):
        if "xl/styles.xml" in names and (styles := _struck_styles(path)):
            sheets = ((title, _cells_of(path, part, styles)) for title, part in parts_of_sheets(path, names).items())
        elif "content.xml" in names and "xl/workbook.xml" not in names:
            sheets = _of_ods(path)
        return {title: rows for title, cells in sheets if (rows := _mostly(cells))}
    return {}


def _mostly(cells: dict[int, list[int]]) -> list[int]:
    return [row for row, (struck, filled) in cells.items() if struck and 2 * struck >= filled]


def _struck_styles(path: Path) -> set[str]:
    """The numbers of the cell formats whose font is struck through."""
    fonts: list[bool] = []
    formats: set[str] = set()
    place, number = "", 0
    for tag in tags(path, "xl/styles.xml", _STYLES):
        name = _name(tag)
        if name in ("fonts", "cellXfs"):
            place = "" if tag.startswith("</") or tag.endswith("/>") else name
        elif place == "fonts" and name == "font" and not tag.startswith("</"):
            fonts.append(False)
        elif place == "fonts" and name == "strike" and fonts:
            fonts[-1] = value(tag, "val") not in ("0", "false")
        elif place == "cellXfs" and name == "xf" and not tag.startswith("</"):
            font = int(value(tag, "fontId") or 0)
            if font < len(fonts) and fonts[font]:
                formats.add(str(number))
            number += 1
    return formats


def _name(tag: str) -> str:
    return name_of(tag).rpartition(":")[2]


def _cells_of(path: Path, part: str, styles: set[str]) -> dict[int, list[int]]:
    """How many cells of each row with anything struck through are, and how many are filled."""
    found: dict[int, list[int]] = {}
    at = 0
    for tag in tags(path, part, _CELLS):
        if _name(tag) == "row":
            at = int(value(tag, "r") or at + 1)
        elif not tag.endswith("/>"):
            counts = found.setdefault(at, [0, 0])
            counts[0] += value(tag, "s") in styles
            counts[1] += 1
        if len(found) > _MOST:
            break
    return found


def _of_ods(path: Path) -> Iterator[tuple[str, dict[int, list[int]]]]:
    styles: set[str] = set()
    style, title, row, repeated = "", "", 0, 1
    found: dict[int, list[int]] = {}
    is_struck = is_new = was_struck = False
    for tag in tags(path, "content.xml", _OF_ODS):
        name = tag.split()[0].strip("<>/")
        if name == "style:style":
            style = value(tag, "style:name")
        elif name == "style:text-properties":
            if value(tag, "style:text-line-through-style") not in ("", "none"):
                styles.add(style)
        elif name == "table:table":
            if not styles:
                return
            if found:
                yield title, found
            title, row, repeated, found = unescape(value(tag, "table:name")), 0, 1, {}
        elif name == "table:table-row":
            row, repeated = row + repeated, int(value(tag, "table:number-rows-repeated") or 1)
        elif name == "table:table-cell":
            is_struck, is_new, was_struck = value(tag, "table:style-name") in styles, True, False
        elif is_new and len(found) < _MOST:  # the first paragraph of a cell
            found.setdefault(row, [0, 0])[1] += 1
            is_new = False
        if name.startswith("text:") and row in found and not was_struck:
            was_struck = is_struck or value(tag, "text:style-name") in styles
            found[row][0] += was_struck
    if found:
        yield title, found
