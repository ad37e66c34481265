"""Tables of a text document (Office Open XML, ECMA-376 part 1, section 17.4; OpenDocument 1.3, part 3, section 9): read
as those of a web page are; so are columns made with tabs. And the lines of its other text."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from html import unescape
from itertools import islice
from pathlib import Path
from xml.sax import SAXException
from xml.sax.handler import ContentHandler

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.drafts import Line
from barnacle.files.tables.archive import DAMAGED, names_of_parts, tags, unpacked, value
from barnacle.files.tables.links import address_of, with_address
from barnacle.files.tables.web_page import TableReader

# Where the text stands, and what its elements are called in a web page; of a document with tables alone text counts.
_WORD = {
    "w:tbl": "table", "w:tr": "tr", "w:tc": "td", "w:p": "p", "w:br": "br", "w:cr": "br", "w:hyperlink": "a",
}  # fmt: skip
_RELATIONS, _MOST_LINKS = "word/_rels/document.xml.rels", 100_000
_OPEN = {
    "table:table": "table", "table:table-row": "tr", "table:table-cell": "td", "text:p": "p", "text:h": "p",
    "text:line-break": "br", "text:a": "a",
}  # fmt: skip
_PARTS = {"word/document.xml": _WORD, "content.xml": _OPEN}
# Elements in which text stands; what stands in the second kind was said before, or is none.
_TEXT, _APART = frozenset(("w:t", "text:p", "text:h")), frozenset(("mc:Fallback", "office:annotation", "text:note"))
_TABS, _SPACES = frozenset(("w:tab", "text:tab")), frozenset(("text:s",))
# So many octets of text are looked at, unpacked.
_MOST = 1 << 26
_AS_TABLE = "Save its table as CSV, and import that."


def is_document(path: Path) -> bool:
    """Whether a file is a text document rather than a workbook."""
    return bool(part_of(path))


def part_of(path: Path) -> str:
    """The part in which the text of a document stands; empty for a file that is none."""
    names = names_of_parts(path)
    if "word/document.xml" in names:
        return "word/document.xml"
    if not {"mimetype", "content.xml"} <= names:
        return ""
    try:
        kind = b"".join(unpacked(path, "mimetype"))[:100]
    except DAMAGED:
        return ""
    return "content.xml" if kind.startswith(b"application/vnd.oasis.opendocument.text") else ""


def rows(path: Path, beside: Callable[[Line], None] = lambda line: None) -> Iterator[tuple[int, list[str]]]:
    """The rows of all tables, each with the table's number; `beside` is told the other lines. Raises FileError where
    the document cannot be read."""
    part = part_of(path)
    told = _Elements(_PARTS[part], targets(path))
    for _ in parsed(path, part, told):
        yield from told.reader.done
        told.reader.done.clear()
        for line in told.lines:
            beside(line)
        told.lines.clear()
    told.reader.end_row()
    yield from told.reader.done


def lines(path: Path) -> Iterator[Line]:
    """The lines of text that stand in no table. Raises FileError as above."""
    part = part_of(path)
    told = _Elements(_PARTS[part], targets(path))
    for _ in parsed(path, part, told):
        told.reader.done.clear()
        yield from told.lines
        told.lines.clear()
    yield from told.lines


def parsed(
    path: Path,
    part: str,
    told: ContentHandler,
    instead: str = _AS_TABLE,
    most: int = _MOST,
) -> Iterator[None]:
    """Tells what is in a part of a document, block by block. Raises FileError, with what to do `instead`."""
    from defusedxml import DefusedXmlException
    from defusedxml.sax import make_parser

    parser = make_parser()
    name, octets = visible(path.name), 0
    try:
        parser.setContentHandler(told)
        for block in unpacked(path, part):
            octets += len(block)
            if octets > most:
                raise FileError(f"{name} has too much in it, and was not read. {instead}")
            parser.feed(block)
            yield
        parser.close()
    except (SAXException, DefusedXmlException, *DAMAGED):
        raise FileError(f"{name} is damaged, and was not read. {instead}") from None


def targets(path: Path) -> dict[str, str]:
    """What the links of a document lead to, by their names, where they stand in a part of their own."""
    if _RELATIONS not in names_of_parts(path):
        return {}
    found = tags(path, _RELATIONS, rb"<(?:\w+:)?Relationship\b[^<>]*>")
    return {value(tag, "Id"): unescape(value(tag, "Target")) for tag in islice(found, _MOST_LINKS)}


class _Elements(ContentHandler):
    """Tells a reader of tables what a document has in it, and keeps the lines that stand in none. `links` has what they
    lead to, by their names."""

    def __init__(self, tags: dict[str, str], links: dict[str, str]) -> None:
        super().__init__()
        self.reader = TableReader()
        self.lines: list[Line] = []
        self._tags, self._links = tags, links
        self._in_text = self._apart = self._number = 0
        self._line: list[str] | None = None  # of a paragraph in no table
        self._link: tuple[int, str] | None = None  # where its text begins, and the address behind it
        self._was_cut = False  # whether the paragraph before had columns

    def startElement(self, name: str, attrs: object) -> None:
        self._apart += name in _APART
        if self._apart:
            return
        get = attrs.get  # type: ignore[attr-defined]
        if tag := self._tags.get(name):
            across, down = get("table:number-columns-spanned"), get("table:number-rows-spanned")
            href = get("xlink:href") or self._links.get(get("r:id", ""), "")
            self.reader.handle_starttag(tag, [("colspan", across), ("rowspan", down), ("href", href)])
            if not self.reader.depth:
                self._begin(tag, href)
            elif tag == "table":
                self._was_cut = False
        elif name == "w:gridSpan":
            self.reader.spans_columns(get("w:val"))
        elif name in _TABS and not get("w:pos"):  # which is where one stops
            self._say("\t", " ")
        elif name in _SPACES:
            self._say(" ", " ")
        self._in_text += name in _TEXT

    def endElement(self, name: str) -> None:
        if not self._apart:
            self._in_text -= name in _TEXT
            if tag := self._tags.get(name):
                self.reader.handle_endtag(tag)
                if tag in ("p", "a"):
                    self._end(tag)
        self._apart -= name in _APART

    def characters(self, content: str) -> None:
        if self._in_text and not self._apart:
            self._say(content, content)

    def _say(self, in_a_line: str, in_a_cell: str) -> None:
        if self._line is not None and not self.reader.depth:
            self._line.append(in_a_line)
        self.reader.handle_data(in_a_cell)

    def _begin(self, tag: str, href: str) -> None:
        if tag == "p":
            self._line, self._link = [], None
        elif self._line is not None and tag == "br":
            self._line.append("\n")
        elif self._line is not None and tag == "a":
            self._link = len(self._line), address_of(href)

    def _end(self, tag: str) -> None:
        if self._line is None or self.reader.depth:
            return
        if self._link is not None:
            start, address = self._link
            self._line[start:] = [with_address("".join(self._line[start:]), address)]
            self._link = None
        if tag == "a":
            return
        for place, line in enumerate("".join(self._line).split("\n")):
            self._number += 1
            cells = [" ".join(cell.split()) for cell in line.strip().split("\t")]
            if len(cells) > 1:
                # Lines with tabs below each other are a table.
                self.reader.table += not self._was_cut
                self.reader.done.append((self.reader.table, cells))
            elif cells[0]:
                self.lines.append(Line(self._number, cells[0], place > 0))
            self._was_cut = len(cells) > 1
        self._line = None
