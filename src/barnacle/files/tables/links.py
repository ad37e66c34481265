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
from barnacle.files.tables.archive import DAMAGED, column_of, names_of_parts, parts_of_sheets, tags, unpacked, value
from barnacle.files.tables.titles import read_title

# Addresses of a sheet, by row (counted from 1) and column (counted from 0).
Links = Mapping[int, Mapping[int, str]]
_MOST = 200_000
_MAILTO = "mailto:"
_BY_FORMULA = re.compile(r'HYPERLINK\(\s*"(mailto:[^"]*)"', re.IGNORECASE).search
_FORMULAS = rb"<(?:\w+:)?(?:c\s[^<>]*>|f\b[^<>]*>[^<]*)"
_PLACE = re.compile(r"([A-Z]{1,3})([0-9]{1,7})")
_OF_ODS = rb"</?(?:table:table|table:table-row|table:table-cell|table:covered-table-cell|text:a)\b(?!-)[^<>]*>"


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
        if "content.xml" in names and any(b"mailto:" in block for block in unpacked(path, "content.xml")):
            return _of_ods(path)
    return {}


def _of_part(path: Path, part: str, names: set[str]) -> dict[int, dict[int, str]]:
    links = _of_formulas(path, part) if any(b"HYPERLINK(" in block for block in unpacked(path, part)) else {}
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
        place, linked = _PLACE.match(value(tag, "ref")), value(tag, r"\w+:id")
        if place and linked in targets and len(links) < _MOST:
            links.setdefault(int(place[2]), {})[column_of(place[1])] = targets[linked]
    return links


def _of_formulas(path: Path, part: str) -> dict[int, dict[int, str]]:
    links: dict[int, dict[int, str]] = {}
    place = None
    for tag in tags(path, part, _FORMULAS):
        if found := _PLACE.match(value(tag, "r")):
            place = found
        elif place and (address := address_in(unescape(tag))) and len(links) < _MOST:
            links.setdefault(int(place[2]), {})[column_of(place[1])] = address
    return links


def _of_ods(path: Path) -> dict[str, dict[int, dict[int, str]]]:
    found: dict[str, dict[int, dict[int, str]]] = {}
    title, row, after, column, width = "", 1, 1, 0, 0
    for tag in tags(path, "content.xml", _OF_ODS):
        name = tag.split()[0].strip("<>/")
        if tag.startswith("</"):
            if name == "table:table-row":
                row = after
            continue
        if name == "table:table":
            title, row, after = unescape(value(tag, "table:name")), 1, 1
        elif name == "table:table-row":
            after = row + int(value(tag, "table:number-rows-repeated") or 1)
            column = width = 0
            if tag.endswith("/>"):
                row = after
        elif name == "text:a":
            if (address := address_of(unescape(value(tag, "xlink:href")))) and len(found.get(title, {})) < _MOST:
                found.setdefault(title, {}).setdefault(row, {})[column] = address
        else:
            column += width
            width = int(value(tag, "table:number-columns-repeated") or 1)
            address = address_in(unescape(value(tag, "table:formula")))
            if address and len(found.get(title, {})) < _MOST:
                found.setdefault(title, {}).setdefault(row, {})[column] = address
    return found
