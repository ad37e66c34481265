"""Addresses that stand behind what a cell says, as links (RFC 6068): `Mail` or `Lotte Ebb`, and a click writes to her
(ISO/IEC 29500-1 section 18.3.1.47; ODF 1.3 section 6.1.8), or by a formula (OpenFormula 1.3 section 6.11.5)."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping
from contextlib import suppress
from html import unescape
from pathlib import Path
from urllib.parse import unquote

from barnacle.core.addresses import plain_address
from barnacle.files.drafts import Row
from barnacle.files.tables.archive import (
    DAMAGED,
    contains,
    names_of_parts,
    open_cells,
    parts_of_sheets,
    place_of,
    tags,
    value,
)
from barnacle.files.tables.titles import read_title

# Addresses of a sheet, by row (counted from 1) and column (counted from 0).
Links = Mapping[int, Mapping[int, str]]
_MOST = 200_000
_MAILTO = "mailto:"
_BY_FORMULA = re.compile(r'HYPERLINK\(\s*"(mailto:[^"]*)"', re.IGNORECASE).search
_FORMULAS = rb"<(?:\w+:)?(?:c\s[^<>]*>|f\b[^<>]*>[^<]*)"


def address_of(target: str) -> str:
    """The address that a link writes to; empty where it leads elsewhere, or to several."""
    if target[: len(_MAILTO)].lower() != _MAILTO:
        return ""
    return plain_address(unquote(target[len(_MAILTO) :].partition("?")[0]).strip()) or ""


def address_in(formula: str) -> str:
    """The address to which a formula links; or nothing."""
    hit = _BY_FORMULA(formula)
    return address_of(hit[1]) if hit else ""


def with_address(text: str, address: str) -> str:
    """What a cell says together with the address behind it. An address that it shows is the one that counts."""
    if not address or "@" in text:
        return text
    name = " ".join(text.split()).replace("<", "").replace(">", "")
    return f"{name} <{address}>" if name and read_title(name).concept != "email" else address


def with_links(row: Row, links: Links) -> Row:
    """A row with the addresses behind its cells."""
    for column, address in links.get(row.number, {}).items():
        if column < len(row.cells):
            row.cells[column] = with_address(row.cells[column], address)
    return row


def links_of(path: Path) -> dict[str, dict[int, dict[int, str]]]:
    """The links to addresses of each sheet of a workbook that has any, by its title. Of the older binary workbooks
    there are none."""
    names = names_of_parts(path)
    with suppress(*DAMAGED):
        if "xl/workbook.xml" in names:
            found = {title: _of_part(path, part, names) for title, part in parts_of_sheets(path, names).items()}
            return {title: links for title, links in found.items() if links}
        if "content.xml" in names and contains(path, "content.xml", rb"(?i)mailto:"):
            return _of_ods(path)
    return {}


def _of_part(path: Path, part: str, names: set[str]) -> dict[int, dict[int, str]]:
    links = _of_formulas(path, part) if contains(path, part, rb"(?i)HYPERLINK\(") else {}
    folder, name = posixpath.split(part)
    beside = f"{folder}/_rels/{name}.rels"
    if beside not in names:
        return links
    targets = {
        value(tag, "Id"): address
        for tag in tags(path, beside, rb"<(?:\w+:)?Relationship\b[^<>]*>")
        if (address := address_of(unescape(value(tag, "Target"))))
    }
    for tag in tags(path, part, rb"<(?:\w+:)?hyperlink\b[^<>]*>") if targets else ():
        place, linked = place_of(value(tag, "ref")), value(tag, r"\w+:id")
        if place and linked in targets:
            _put(links, *place, targets[linked])
    return links


def _put(links: dict[int, dict[int, str]], row: int, column: int, address: str) -> None:
    if len(links) < _MOST:
        links.setdefault(row, {})[column] = address


def _of_formulas(path: Path, part: str) -> dict[int, dict[int, str]]:
    links: dict[int, dict[int, str]] = {}
    place = None
    for tag in tags(path, part, _FORMULAS):
        if found := place_of(value(tag, "r")):
            place = found
        elif place and (address := address_in(unescape(tag))):
            _put(links, *place, address)
    return links


def _of_ods(path: Path) -> dict[str, dict[int, dict[int, str]]]:
    found: dict[str, dict[int, dict[int, str]]] = {}
    for cell in open_cells(path, r"<text:a\b(?!-)[^<>]*>"):
        address = address_of(unescape(value(cell.tag, "xlink:href")))
        if address := address or address_in(unescape(value(cell.tag, "table:formula"))):
            _put(found.setdefault(cell.sheet, {}), cell.row, cell.column, address)
    return found
