"""Tables of a text document (Office Open XML, ECMA-376 part 1, section 17.4; OpenDocument 1.3, part 3, section 9): read
as those of a web page are."""

from __future__ import annotations

from collections.abc import Iterator
from html import unescape
from itertools import islice
from pathlib import Path
from xml.sax import SAXException
from xml.sax.handler import ContentHandler

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.tables.archive import DAMAGED, names_of_parts, tags, unpacked, value
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
_SPACES = frozenset(("w:tab", "text:tab", "text:s"))
# So many octets of text are looked at, unpacked.
_MOST = 1 << 26


def is_document(path: Path) -> bool:
    """Whether a file is a text document rather than a workbook."""
    return bool(_part(path))


def _part(path: Path) -> str:
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


def rows(path: Path) -> Iterator[tuple[int, list[str]]]:
    """The rows of all tables, each with the table's number. Raises FileError where the document cannot be read."""
    from defusedxml import DefusedXmlException
    from defusedxml.sax import make_parser

    part = _part(path)
    reader = TableReader()
    parser = make_parser()
    name, octets = visible(path.name), 0
    try:
        parser.setContentHandler(_Elements(reader, _PARTS[part], _links(path)))
        for block in unpacked(path, part):
            octets += len(block)
            if octets > _MOST:
                raise FileError(f"{name} has too much in it to be read as a table. Save its table as CSV.")
            parser.feed(block)
            yield from reader.done
            reader.done.clear()
        parser.close()
    except (SAXException, DefusedXmlException, *DAMAGED):
        raise FileError(f"{name} is damaged, and was not read. Save its table as CSV, and import that.") from None
    reader.end_row()
    yield from reader.done


def _links(path: Path) -> dict[str, str]:
    """What the links of a document lead to, by their names, where they stand in a part of their own."""
    if _RELATIONS not in names_of_parts(path):
        return {}
    found = tags(path, _RELATIONS, rb"<(?:\w+:)?Relationship\b[^<>]*>")
    return {value(tag, "Id"): unescape(value(tag, "Target")) for tag in islice(found, _MOST_LINKS)}


class _Elements(ContentHandler):
    """Tells a reader of tables what a document has in it. `links` has what they lead to, by their names."""

    def __init__(self, reader: TableReader, tags: dict[str, str], links: dict[str, str]) -> None:
        super().__init__()
        self._reader, self._tags, self._links = reader, tags, links
        self._in_text = self._apart = 0

    def startElement(self, name: str, attrs: object) -> None:
        self._apart += name in _APART
        if self._apart:
            return
        get = attrs.get  # type: ignore[attr-defined]
        if tag := self._tags.get(name):
            across, down = get("table:number-columns-spanned"), get("table:number-rows-spanned")
            href = get("xlink:href") or self._links.get(get("r:id", ""), "")
            self._reader.handle_starttag(tag, [("colspan", across), ("rowspan", down), ("href", href)])
        elif name == "w:gridSpan":
            self._reader.spans_columns(get("w:val"))
        elif name in _SPACES:
            self._reader.handle_data(" ")
        self._in_text += name in _TEXT

    def endElement(self, name: str) -> None:
        if not self._apart:
            self._in_text -= name in _TEXT
            if tag := self._tags.get(name):
                self._reader.handle_endtag(tag)
        self._apart -= name in _APART

    def characters(self, content: str) -> None:
        if self._in_text and not self._apart:
            self._reader.handle_data(content)
