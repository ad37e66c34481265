"""Tables of a web page or of a document's clipboard (HTML): rows of text, with cells over several rows or columns. And
the lines of its other text."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from html.parser import HTMLParser
from pathlib import Path

from barnacle.core.patterns import pattern
from barnacle.files.drafts import Line, Row
from barnacle.files.encoding import Encoding
from barnacle.files.tables.links import address_of, with_address

# So many rows of a page are in memory at once.
_HELD = 20_000
_BLOCK = 1 << 16
_SPAN, _CELLS, _CELL_LIMIT = 200, 1000, 20_000
_BREAKS = frozenset(("br", "p", "div", "li", "tr"))
_UNSEEN = frozenset(("script", "style", "template", "title"))
# What ends a line of the text, and what something else begins with or ends at.
_BLOCKS = frozenset(
    "address article aside br caption center dd div dl dt fieldset figcaption figure footer form h1 h2 h3 h4 h5 h6 "
    "header hr legend li main nav ol option p pre section select table tr ul".split()
)
_STARTS = frozenset("h1 h2 h3 h4 h5 h6 hr li article section dt".split())
_MOST_LINE = 1 << 20
# How much may be left at the end of a page behind a mark that is not ended.
_MOST_LEFT, _MARK = 5000, pattern(r"<[^<>]{0,2000}>?")


def samples(
    rows: Iterable[tuple[int, list[str]]], tables: int, most: int
) -> tuple[dict[str, list[Row]], set[str], int]:
    """The first rows, `most` of each and more while there are few, of so many tables, which are called `table 1`,
    `table 2`; those of which all rows are there; and how many tables there are."""
    found: dict[str, list[Row]] = {}
    cut: set[str] = set()
    number = together = 0
    for table, cells in rows:
        number = max(number, table)
        if table > tables:
            continue
        some = found.setdefault(title := f"table {table}", [])
        if len(some) < most or (together < _HELD and title not in cut):
            some.append(Row(len(some) + 1, cells))
            together += 1
        else:
            cut.add(title)
    return found, found.keys() - cut, number


def of_table(rows: Iterable[tuple[int, list[str]]], title: str) -> Iterator[Row]:
    """The rows of one table."""
    wanted = int(title.rpartition(" ")[2])
    number = 0
    for table, cells in rows:
        if table == wanted:
            number += 1
            yield Row(number, cells)


def rows(
    path: Path, encoding: Encoding, beside: Callable[[Line], None] = lambda line: None
) -> Iterator[tuple[int, list[str]]]:
    """The rows of all tables of a page, each with the table's number; `beside` is told the other lines."""
    for reader in _read(path, encoding):
        yield from reader.done
        for line in reader.lines:
            beside(line)


def lines(path: Path, encoding: Encoding) -> Iterator[Line]:
    """The lines of text that stand in no table."""
    for reader in _read(path, encoding):
        yield from reader.lines


def _read(path: Path, encoding: Encoding) -> Iterator[_Page]:
    """What is in a page, some of it at a time."""
    reader = _Page()
    with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
        while block := file.read(_BLOCK):
            reader.feed(block)
            yield reader
            reader.done.clear()
            reader.lines.clear()
    reader.close()
    reader.end_row()
    reader.end_line()
    yield reader


class Lenient(HTMLParser):
    """A parser that no page ends or holds up."""

    def close(self) -> None:
        """As of any page, but for a mark at its end that is not ended itself: until Python 3.14 each one behind it was
        looked for an end, which took minutes for a page of 100 kB. What stands behind a longer one is told as text, and
        behind a comment's not at all (HTML, section 13.2.5.45)."""
        if self.rawdata.startswith("<!--"):
            self.rawdata = ""
        elif len(self.rawdata) > _MOST_LEFT:
            left, self.rawdata = self.rawdata, ""
            self.handle_data(_MARK.sub(" ", left))
        super().close()

    def parse_marked_section(self, i: int, report: bool = True) -> int:
        """As of any page; one that is none (`<![x`) raised AssertionError until Python 3.14, and is passed over."""
        try:
            return super().parse_marked_section(i, report)
        except AssertionError:
            return self.parse_bogus_comment(i, report)


class TableReader(Lenient):
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


class _Page(TableReader):
    """Keeps the lines that stand in no table as well. Lines between two breaks are numbered one after the other, and a
    heading, an item or a section begins behind an empty one."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[Line] = []
        self._number = 0
        self._line: list[str] = []
        self._length = 0
        self._href: tuple[int, str] | None = None
        self._goes_on = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if not self.depth and tag in _BLOCKS:
            self.end_line(tag in _STARTS)
            self._goes_on = tag == "br"
        elif not self.depth and tag == "a" and (address := address_of(dict(attrs).get("href") or "")):
            self._href = len(self._line), address
        super().handle_starttag(tag, attrs)

    def handle_endtag(self, tag: str) -> None:
        super().handle_endtag(tag)
        if not self.depth and tag in _BLOCKS:
            self.end_line(tag in _STARTS and not tag.startswith("h"))
            self._goes_on = False
        elif tag == "a":
            self._end_href()

    def handle_data(self, data: str) -> None:
        super().handle_data(data)
        if not self.depth and not self.unseen and self._length < _MOST_LINE:
            self._line.append(data)
            self._length += len(data)

    def _end_href(self) -> None:
        if self._href is not None:
            start, address = self._href
            self._line[start:] = [with_address("".join(self._line[start:]), address)]
            self._href = None

    def end_line(self, gap: bool = False) -> None:
        """Keep the line that was begun, if anything stands in it."""
        self._end_href()
        text = " ".join("".join(self._line).split())
        self._line, self._length = [], 0
        if text:
            self._number += 1
            self.lines.append(Line(self._number, text, self._goes_on))
        self._number += gap
