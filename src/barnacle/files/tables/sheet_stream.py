"""Damaged and outsized workbooks (ISO/IEC 29500-1 section 18.3; ODF 1.3 section 9), cell by cell in little memory: what
can be read of them, and a remark for each cell that cannot."""

from __future__ import annotations

import datetime
import re
import tempfile
import zipfile
from array import array
from collections.abc import Callable, Iterator
from functools import lru_cache
from html import unescape
from pathlib import Path
from xml.parsers.expat import ExpatError, ParserCreate, XMLParserType

from barnacle.core.text import visible
from barnacle.core.typed import IO
from barnacle.files.drafts import COLUMNS, Defect, Row
from barnacle.files.tables.archive import column_of, tags, unpacked, value
from barnacle.files.tables.number_formats import Formats, formats_of, number_in, shown_by_text, time_of

CELL = 32_767  # characters, the most that spreadsheet programs keep
_REPEATED = 1000  # the same row so often below itself, and no more
_PLACE = re.compile(r"([A-Za-z]{1,3})([0-9]{1,7})").fullmatch
_ROOT, _BREAKS = b"<again>", 1000
_BEYOND = f"beyond the {COLUMNS:,} columns that are read"


def sheets(path: Path) -> list[tuple[str, bool]]:
    """Each sheet's title, and whether it can be seen."""
    with zipfile.ZipFile(path) as archive:
        if "content.xml" in archive.namelist():
            return [(unescape(value(tag, "table:name")), True) for tag in tags(path, "content.xml", _TABLE)]
        return [(title, shown) for title, _, shown in _parts(path, archive)]


_TABLE = rb"<table:table(?![-\w])[^<>]*>"


def _parts(path: Path, archive: zipfile.ZipFile) -> list[tuple[str, str, bool]]:
    """Title, part and visibility of each sheet; by their files where the workbook's list of them cannot be read."""
    names = set(archive.namelist())
    targets = {}
    if "xl/_rels/workbook.xml.rels" in names:
        for tag in tags(path, "xl/_rels/workbook.xml.rels", rb"<(?:\w+:)?Relationship\b[^<>]*>"):
            target = value(tag, "Target").lstrip("/")
            targets[value(tag, "Id")] = target if target.startswith("xl/") else f"xl/{target}"
    found = []
    if "xl/workbook.xml" in names:
        for tag in tags(path, "xl/workbook.xml", rb"<(?:\w+:)?sheet\b[^<>]*>"):
            part = targets.get(value(tag, r"\w+:id"), "")
            if part in names:
                found.append((unescape(value(tag, "name")), part, value(tag, "state") in ("", "visible")))
    if not found:
        of_sheets = sorted(name for name in names if re.fullmatch(r"xl/worksheets/[^/]+\.xml", name))
        found = [(Path(name).stem, name, True) for name in of_sheets]
    return found


def read_rows(path: Path, sheet: str) -> Iterator[Row]:
    """The rows of a sheet as text, in the order of the file, numbered as in the sheet."""
    with zipfile.ZipFile(path) as archive:
        if "content.xml" in archive.namelist():
            yield from _read(path, "content.xml", _OpenSheet(sheet), rb"<table:table-row\b")
            return
        part = next(part for title, part, _ in _parts(path, archive) if title == sheet)
        with tempfile.TemporaryFile() as kept:
            strings = _Strings(path, archive, kept)
            yield from _read(path, part, _Sheet(strings, formats_of(path)), rb"<(?:\w+:)?row\b")


def _read(path: Path, part: str, sheet: _Rows, begins: bytes) -> Iterator[Row]:
    """What a sheet's XML has of rows. Where it is broken it goes on with the next row, so often as a file that was
    damaged may want and one that was made to be read for ever may not."""
    parser, given = _parser(sheet), 0  # and how many octets it was given before this block
    again = re.compile(begins)
    breaks, seeking = 0, False
    for block in unpacked(path, part):
        at = 0
        while at < len(block):
            if seeking:
                hit = again.search(block, at)
                if hit is None:
                    break
                at, seeking = hit.start(), False
                # The names alone count here, not what their prefixes stand for, so any root will do.
                parser = _parser(sheet, "utf-8")
                parser.Parse(_ROOT, False)
                given = len(_ROOT) - at
            try:
                parser.Parse(memoryview(block)[at:], False)
                break
            except ExpatError:
                if sheet.is_over:
                    return
                yield from sheet.taken()
                yield sheet.broken()
                breaks += 1
                if breaks == _BREAKS:
                    return
                at, seeking = max(parser.ErrorByteIndex - given, at) + 1, True
        given += len(block)
        yield from sheet.taken()
        if sheet.is_over:
            return
    if not sheet.is_over:
        yield sheet.broken()


class _NoEntitiesError(ExpatError):
    """The file wants to define what its own abbreviations stand for."""


def _parser(sheet: _Rows, encoding: str | None = None) -> XMLParserType:
    parser = plain_parser(encoding)
    parser.buffer_text = True
    parser.StartElementHandler = lambda name, attrs: sheet.start(name.rpartition(":")[2], attrs)
    parser.EndElementHandler = lambda name: sheet.end(name.rpartition(":")[2])
    parser.CharacterDataHandler = sheet.text
    return parser


def plain_parser(encoding: str | None = None) -> XMLParserType:
    """A parser that takes no entities of a file's own. What it is given raises ExpatError where it is no XML."""

    def refuse(*_: object) -> None:
        raise _NoEntitiesError

    parser = ParserCreate(encoding)
    parser.EntityDeclHandler = refuse
    return parser


class _Rows:
    """Rows while they are read: those that are whole, and the one that is not."""

    def __init__(self) -> None:
        self.whole: list[Row] = []
        self.number = 0
        self.cells: list[str] = []
        self.odd: list[Defect] = []
        self.place = ""
        self.parts: list[str] | None = None
        self.size = 0
        self.is_over = False

    def start(self, name: str, attrs: dict[str, str]) -> None:
        """An element begins; `name` is without its prefix."""
        raise NotImplementedError

    def end(self, name: str) -> None:
        """An element ends."""
        raise NotImplementedError

    def taken(self) -> list[Row]:
        found, self.whole = self.whole, []
        return found

    def broken(self) -> Row:
        """What is to be said where the XML is broken."""
        self.parts = None
        cells, self.cells = self.cells, []
        told = f" after `{visible(' '.join(filter(None, cells)), 60)}`" if any(cells) else ""
        reason = f"the workbook is damaged here{told}: what could not be read was left out"
        return Row(self.number + 1, [], Defect(self.number + 1, "", "", reason))

    def text(self, data: str) -> None:
        if self.parts is not None and self.size <= CELL:
            self.parts.append(data[: CELL + 1])
            self.size += len(data)

    def begin_text(self) -> None:
        self.parts, self.size = [], 0

    def end_text(self) -> str:
        text = "".join(self.parts or ())
        self.parts = None
        if self.size > CELL:
            self.remark(f"has over {CELL:,} characters and was cut")
        return text[:CELL]

    def remark(self, what: str) -> None:
        """Say something of the cell that is being read."""
        if len(self.odd) < COLUMNS:
            self.odd.append(Defect(self.number, "", "", f"cell {self.place} {what}"))

    def put(self, column: int, text: str) -> None:
        if column < 0:
            return  # a value in no cell
        if column >= COLUMNS:
            if text:
                self.remark(f"is {_BEYOND}, and was left out")
            return
        self.cells += [""] * (column + 1 - len(self.cells))
        self.cells[column] = text


class _Sheet(_Rows):
    """A sheet of ISO/IEC 29500."""

    def __init__(self, strings: _Strings, formats: Formats) -> None:
        super().__init__()
        self.strings = strings
        self.formats = formats
        self.column = -1
        self.kind = self.style = ""

    def start(self, name: str, attrs: dict[str, str]) -> None:
        if name == "row":
            said = attrs.get("r", "")
            self.number = int(said) if said.isascii() and said.isdecimal() and len(said) < 9 else self.number + 1
            self.cells, self.odd, self.column = [], [], -1
        elif name == "c":
            said = attrs.get("r", "")
            self.column += 1
            if match := _PLACE(said):
                self.column = column_of(match[1])
            self.place = f"{letters(self.column)}{self.number}"
            if said and not match:
                self.remark(f"stands at `{visible(said, 20)}`, which is no place; it was read where it is")
            self.kind, self.style = attrs.get("t", "n"), attrs.get("s", "")
        elif name in ("v", "t"):
            if self.parts is None:
                self.begin_text()
        elif name == "rPh":  # how a word is spoken, no part of it
            self.parts = None

    def end(self, name: str) -> None:
        if name in ("v", "is"):
            text = self.end_text() if self.parts is not None else ""
            self.put(self.column, self._meant(text))
        elif name == "row":
            if any(self.cells) or self.odd:
                self.whole.append(Row(self.number, self.cells, odd=tuple(self.odd)))
            self.cells = []
        elif name == "sheetData":
            self.is_over = True

    def _meant(self, text: str) -> str:
        if self.kind == "s":
            found = self.strings.get(int(text)) if text.isascii() and text.isdecimal() and len(text) < 10 else None
            if found is None:
                self.remark(f"has text number `{visible(text, 20)}`, which the workbook does not have")
            return found or ""
        if self.kind == "b":
            return {"1": "True", "true": "True", "0": "False", "false": "False"}.get(text, text)
        if self.kind == "n" and text:
            return self._number(text)
        if self.kind not in ("n", "str", "inlineStr", "d", "e"):
            self.remark(f"is of a kind `{visible(self.kind, 20)}` that is not known; it was read as text")
        return "" if self.kind == "e" else text

    def _number(self, text: str) -> str:
        number = number_in(text)
        if number != number or abs(number) == float("inf"):
            self.remark(f"has `{visible(text, 20)}` for a number; it was read as text")
            return text
        style = int(self.style) if self.style.isascii() and self.style.isdecimal() and len(self.style) < 6 else -1
        if style in self.formats.of_days and 0 <= number < 2_958_466:
            return _moment(number)
        if (shows := self.formats.shows.get(style)) and (shown := shows(number)):
            return shown
        return str(int(number)) if number.is_integer() and abs(number) < 1e15 else text


class _OpenSheet(_Rows):
    """A sheet of ODF."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.title = title
        self.inside = False
        self.depth = 0  # of tables within it
        self.column = 0
        self.times = self.rows = 1
        self.value = ""
        self.kind = ""
        self.aside = 0

    def start(self, name: str, attrs: dict[str, str]) -> None:
        if name == "table":
            self.inside = self.inside or attrs.get("table:name") == self.title
            self.depth += self.inside
        elif self.is_over or not self.inside or self.depth != 1:
            return
        elif name == "table-row":
            self.cells, self.odd, self.column = [], [], 0
            self.rows = _times(attrs.get("table:number-rows-repeated"))
        elif name in ("table-cell", "covered-table-cell"):
            self.times = _times(attrs.get("table:number-columns-repeated"))
            self.place = f"{letters(self.column)}{self.number + 1}"
            of_kind = attrs.get("office:value-type", "")
            self.kind = of_kind
            self.value = {
                "float": attrs.get("office:value", ""),
                "percentage": attrs.get("office:value", ""),
                "date": attrs.get("office:date-value", "").replace("T", " ").removesuffix(" 00:00:00"),
                "boolean": {"true": "True", "false": "False"}.get(attrs.get("office:boolean-value", ""), ""),
            }.get(of_kind, "")
            self.begin_text()
        elif name == "annotation":
            self.aside += 1
        elif name in ("p", "line-break") and self.parts:
            self.text("\n")
        elif name in ("s", "tab"):
            self.text(" ")

    def text(self, data: str) -> None:
        if not self.aside:
            super().text(data)

    def end(self, name: str) -> None:
        if name == "table" and self.inside:
            self.depth -= 1
            self.is_over = not self.depth
        elif self.is_over or not self.inside or self.depth != 1:
            return
        elif name in ("table-cell", "covered-table-cell"):
            shown = self.end_text()
            text = self.value or shown
            if shows := shown_by_text(self.kind, shown):
                text = shows(number_in(self.value)) or text
            if text and self.column + self.times > COLUMNS:
                self.remark(f"is repeated to {_BEYOND}; what is beyond was left out")
            for place in range(self.column, min(self.column + self.times, COLUMNS)) if text else ():
                self.put(place, text)
            self.column += self.times
        elif name == "annotation":
            self.aside -= 1
        elif name == "table-row":
            some = any(self.cells) or self.odd
            for n in range(1, min(self.rows, _REPEATED) + 1) if some else ():
                number = self.number + n
                odd = [one._replace(row=number) for one in self.odd]
                if n == _REPEATED < self.rows:
                    odd.append(Defect(number, "", "", f"the row comes {self.rows:,} times; {_REPEATED:,} were read"))
                self.whole.append(Row(number, self.cells, odd=tuple(odd)))
            self.number += self.rows
            self.cells = []


class _Strings:
    """The texts that cells of a workbook share, in a file."""

    def __init__(self, path: Path, archive: zipfile.ZipFile, kept: IO[bytes]) -> None:
        self.kept = kept
        self.ends = array("Q", [0])
        self.get = lru_cache(maxsize=256)(self._get)
        name = next((one for one in archive.namelist() if one.lower() == "xl/sharedstrings.xml"), None)
        if name is not None:
            for _ in _read(path, name, _Texts(self._add), rb"<(?:\w+:)?si\b"):
                self._add("")  # of one that is broken: the others keep their numbers

    def _add(self, text: str) -> None:
        octets = text.encode("utf-8", "replace")
        self.kept.write(octets)
        self.ends.append(self.ends[-1] + len(octets))

    def _get(self, number: int) -> str | None:
        if number >= len(self.ends) - 1:
            return None
        self.kept.seek(self.ends[number])
        return self.kept.read(self.ends[number + 1] - self.ends[number]).decode("utf-8")


class _Texts(_Rows):
    """The list of shared texts, which is read as a sheet is."""

    def __init__(self, add: Callable[[str], None]) -> None:
        super().__init__()
        self.add = add
        self.inside = False

    def start(self, name: str, attrs: dict[str, str]) -> None:
        if name == "si":
            self.begin_text()
        self.inside = name == "t"

    def text(self, data: str) -> None:
        if self.inside:
            super().text(data)

    def end(self, name: str) -> None:
        self.inside = False
        if name == "si":
            self.add("".join(self.parts or ())[:CELL])
        elif name == "sst":
            self.is_over = True


def _moment(number: float) -> str:
    """A day by its number, from 1900 on (section 18.17.4.1); a time where it is less than one."""
    if number < 1:
        return time_of(datetime.timedelta(days=number))
    found = datetime.datetime(1899, 12, 30) + datetime.timedelta(days=number)
    day = found.date().isoformat()
    return day if found.time() == datetime.time() else f"{day} {found.time().isoformat('minutes')}"


def _times(text: str | None) -> int:
    return int(text) if text and text.isascii() and text.isdecimal() and len(text) < 8 else 1


def letters(column: int) -> str:
    """The name of a column, counted from 0: A, B, … AA."""
    name = ""
    column += 1
    while column > 0:
        column, rest = divmod(column - 1, 26)
        name = chr(65 + rest) + name
    return name
