"""Tables of a web page or of a document's clipboard (HTML): rows of text, with cells over several rows or columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from html.parser import HTMLParser
from pathlib import Path

from barnacle.files.drafts import Row
from barnacle.files.encoding import Encoding
from barnacle.files.tables.links import address_of, with_address

_BLOCK = 1 << 16
_SPAN, _CELLS, _CELL_LIMIT = 200, 1000, 20_000
_BREAKS = frozenset(("br", "p", "div", "li", "tr"))
_UNSEEN = frozenset(("script", "style", "template", "title"))


def samples(rows: Iterable[tuple[int, list[str]]], tables: int, most: int) -> tuple[dict[str, list[Row]], int]:
    """The first rows, `most` of each, of so many tables, which are called `table 1`, `table 2`; and how many tables
    there are."""
    found: dict[str, list[Row]] = {}
    number = 0
    for table, cells in rows:
        number = max(number, table)
        if table <= tables and len(some := found.setdefault(f"table {table}", [])) < most:
            some.append(Row(len(some) + 1, cells))
    return found, number


def of_table(rows: Iterable[tuple[int, list[str]]], title: str) -> Iterator[Row]:
    """The rows of one table."""
    wanted = int(title.rpartition(" ")[2])
    number = 0
    for table, cells in rows:
        if table == wanted:
            number += 1
            yield Row(number, cells)


def rows(path: Path, encoding: Encoding) -> Iterator[tuple[int, list[str]]]:
    """The rows of all tables of a page, each with the table's number."""
    reader = TableReader()
    with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
        while block := file.read(_BLOCK):
            reader.feed(block)
            yield from reader.done
            reader.done.clear()
    reader.close()
    reader.end_row()
    yield from reader.done


class TableReader(HTMLParser):
    """Collects rows. Of tables within a cell only the text counts."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.done: list[tuple[int, list[str]]] = []
        self.table = self.depth = self.unseen = 0
        self.row: list[str] | None = None
        self.cell: list[str] | None = None
        self.link: tuple[int, str] | None = None  # where its text begins, and the address behind it
        self.spans = (1, 1)
        self.below: dict[int, tuple[int, str]] = {}  # column: how many rows more a cell covers, and its text

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in _UNSEEN:
            self.unseen += 1
        if tag == "table":
            self.depth += 1
            if self.depth == 1:
                self.end_row()
                self.table += 1
                self.below = {}
        if self.depth == 1 and tag == "tr":
            self.end_row()
            self.row = []
        elif self.depth == 1 and tag in ("td", "th"):
            self.end_cell()
            self.row = [] if self.row is None else self.row
            self.cell = []
            given = dict(attrs)
            self.spans = _span(given.get("colspan")), _span(given.get("rowspan"))
        elif self.cell is not None and tag == "a" and (address := address_of(dict(attrs).get("href") or "")):
            self.link = len(self.cell), address
        elif self.cell is not None and tag in _BREAKS:
            self.cell.append("\n")

    def handle_endtag(self, tag: str) -> None:
        if tag in _UNSEEN:
            self.unseen = max(0, self.unseen - 1)
        elif tag == "a":
            self.end_link()
        elif tag == "table" and self.depth:
            self.depth -= 1
            if not self.depth:
                self.end_row()
        elif self.depth == 1 and tag in ("td", "th"):
            self.end_cell()
        elif self.depth == 1 and tag == "tr":
            self.end_row()

    def handle_data(self, data: str) -> None:
        if self.cell is not None and not self.unseen:
            self.cell.append(data)

    def spans_columns(self, number: str | None) -> None:
        """The cell that was begun stands over so many columns."""
        self.spans = _span(number), self.spans[1]

    def end_link(self) -> None:
        if self.link is not None and self.cell is not None:
            start, address = self.link
            self.cell[start:] = [with_address("".join(self.cell[start:]), address)]
        self.link = None

    def end_cell(self) -> None:
        self.end_link()
        if self.cell is None or self.row is None:
            return
        text = "\n".join(line for part in "".join(self.cell).split("\n") if (line := " ".join(part.split())))[
            :_CELL_LIMIT
        ]
        self.cell = None
        self._from_above()
        across, down = self.spans
        for n in range(across):
            if len(self.row) < _CELLS:
                self.row.append(text if n == 0 else "")
                if down > 1:
                    self.below[len(self.row) - 1] = (down - 1, text if n == 0 else "")

    def _from_above(self) -> None:
        assert self.row is not None
        while (left := self.below.get(len(self.row))) is not None:
            self.below.pop(len(self.row))
            if left[0] > 1:
                self.below[len(self.row)] = (left[0] - 1, left[1])
            self.row.append(left[1])

    def end_row(self) -> None:
        self.end_cell()
        if self.row is not None:
            self._from_above()
            self.done.append((self.table, self.row))
            self.row = None


def _span(text: str | None) -> int:
    return min(max(int(text), 1), _SPAN) if text and text.isdecimal() and len(text) < 6 else 1
