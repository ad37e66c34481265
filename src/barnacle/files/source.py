"""A file to take people in from, whatever it is, with what was worked out of it: its tables and their entries."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.core.text import visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.files import free_text, records
from barnacle.files.drafts import Draft, Fits, Fitting, Line, Row
from barnacle.files.encoding import Encoding
from barnacle.files.kinds import FIELDED
from barnacle.files.pasted import lines_of
from barnacle.files.tables.columns import Columns
from barnacle.files.tables.csv_reader import Layout, read_rows
from barnacle.files.tables.hidden import Hidden
from barnacle.files.tables.rows import PLAINLY, Reading, RowReader

if TYPE_CHECKING:
    from barnacle.files.tables import workbook

# In which module each kind that is no table is read.
_READERS = {
    "vcard": "cards.vcard", "jcard": "cards.json_cards", "jscontact": "cards.json_cards", "ldif": "ldif",
    "mail": "mailbox", "mbox": "mailbox", "saved": "saved_message",
}  # fmt: skip
_TABLES = ("csv", "xlsx", "html", "document", *FIELDED)


@dataclass(slots=True)
class Table:
    """A sheet, or all of a file that is no table.

    `items` yields rows, which `read` understands, or finished drafts; rows of a kind that it is told, if any, come as
    they are, many at once. They are lines of cells with `separator` between them.
    """

    items: Callable[[Fits | None], Iterable[Row | Fitting | Draft]]
    read: Callable[[Row], Draft]
    sheet: str = ""
    columns: Columns | None = None
    list_by: int | None = None
    separator: str = "\n"

    def drafts(self) -> Iterator[Draft]:
        """All that is in it, read one by one."""
        for item in self.items(None):
            if not isinstance(item, Fitting):  # of which there are none where no kind was asked for
                yield item if isinstance(item, Draft) else self.read(item)

    def row(self, fitting: Fitting, number: int) -> Row:
        """A row of the kind that was asked for, by its place in the file, as any other."""
        return Row(number, fitting.lines[number - fitting.number].rstrip("\r\n").split(self.separator))


@dataclass(slots=True)
class Options:
    """What a person may say of a file: its kind, its encoding, what its columns hold, the column that names a list,
    the only sheet to be read, whether what is hidden is taken too, and how rows are read."""

    kind: str | None = None
    encoding: str | None = None
    columns: dict[str, str] = field(default_factory=dict)
    list_by: str | None = None
    sheet: str | None = None
    hidden: bool = False
    how: Reading = PLAINLY


@dataclass(slots=True)
class Sheet:
    """A table of a source: its sheet's title, its columns, and the one that names a list."""

    title: str
    columns: Columns
    list_by: int | None


# What each entry of a kind ends with, as nearly every program writes it.
_ENDS = {"vcard": b"END:VCARD"}


@dataclass(slots=True)
class Source:
    """A file with what was worked out of it. `label` describes it for people; `skipped` are sheets without people, and
    `unseen` what is hidden and was not taken, in words."""

    path: Path
    kind: str
    label: str
    encoding: Encoding
    options: Options
    layout: Layout | None = None
    sheets: list[Sheet] = field(default_factory=list)
    skipped: list[str] = field(default_factory=list)
    unseen: list[str] = field(default_factory=list)
    rejected: Columns | None = None  # of a table in which nobody is
    holder: str = ""  # of text: the kind of what it stands in
    hidden: dict[str, Hidden] = field(default_factory=dict)
    links: dict[str, dict[int, dict[int, str]]] = field(default_factory=dict)  # of a workbook's cells, by its sheets
    held: dict[str, list[Row]] = field(default_factory=dict)  # rows that are in memory, by the titles of their sheets
    workbook_sheets: dict[str, workbook.Sheet] = field(default_factory=dict)  # of a workbook, by title

    @property
    def name(self) -> str:
        """The file's name, as it may be shown."""
        return visible(self.path.name)

    def about(self) -> int | None:
        """About how many entries there are, to show how far one is: the lines of a text, the ends of cards; None where
        only reading tells. A line break within a cell counts, too."""
        mark = b"\n" if self.layout is not None else _ENDS.get(self.kind)
        if mark is None:
            return None
        with self.path.open("rb") as file:
            pieces = iter(lambda: file.read(1 << 20), b"")
            marks = sum(piece.count(mark) for piece in pieces)
        return max(marks - (self.layout is not None), 0) or None  # one line of a table says what its columns are

    def tables(self) -> Iterator[Table]:
        """What is in the file, entry by entry. Raises FileError."""
        if self.kind in _TABLES:
            for sheet in self.sheets:
                reader = RowReader(sheet.columns, sheet.title, sheet.list_by, self.options.how)
                separator = self.layout.separator if self.layout else "\n"
                yield Table(self._rows(sheet), reader.read, sheet.title, sheet.columns, sheet.list_by, separator)
        elif self.kind in ("line", "text"):
            all_people = self.kind == "line"
            yield Table(lambda fits: free_text.read(self._lines(), self.options.how, all_people), _never)
        else:
            yield Table(lambda fits: _reader(self.kind)(self.path, self.encoding), _never)

    def _lines(self) -> Iterator[Line]:
        from barnacle.files.tables import document, web_page

        if self.holder == "document":
            return document.lines(self.path)
        return (web_page.lines if self.holder else lines_of)(self.path, self.encoding)

    def _rows(self, sheet: Sheet) -> Callable[[Fits | None], Iterator[Row | Fitting]]:
        def rows(fits: Fits | None) -> Iterator[Row | Fitting]:
            columns = sheet.columns
            hidden = self.hidden.get(sheet.title, Hidden()).rows
            last = columns.header
            for row in self.all_rows(sheet.title, fits if columns.is_whole and not hidden else None):
                if isinstance(row, Fitting):
                    if (some := row.after(columns.header)).lines:
                        last = some.number + len(some.lines) - 1
                        yield some
                    continue
                if columns.until is not None and row.number > columns.until:
                    return
                if row.number <= columns.header or row.number in hidden:
                    continue
                if row.defect or row.odd or any(map(str.strip, row.cells)):
                    has_gap = row.number > last + 1 and self.kind not in FIELDED
                    yield row._replace(after_gap=True) if has_gap else row
                    last = row.number

        return rows

    def all_rows(self, sheet: str, fits: Fits | None = None) -> Iterator[Row | Fitting]:
        """The rows of a sheet from its first on; those of a kind as they are."""
        if self.layout is not None:
            return read_rows(self.path, self.layout, fits)
        if (held := self.held.get(sheet)) is not None:
            rows: Iterator[Row] = iter(held)
        elif self.kind == "records":
            rows = records.rows(self.path, self.encoding)
        elif self.kind in ("html", "document"):
            from barnacle.files.tables import web_page

            rows = web_page.of_table(rows_of_tables(self.path, self.kind, self.encoding), sheet)
        else:
            from barnacle.files.tables import workbook

            rows = workbook.read_rows(self.path, self.workbook_sheets[sheet])
            if links := self.links.get(sheet):
                from barnacle.files.tables.links import with_links

                rows = (with_links(row, links) for row in rows)
        return rows if fits is None else (_fitted(row, fits) for row in rows)


def _fitted(row: Row, fits: Fits) -> Row | Fitting:
    joined = "\n".join(row.cells)
    if not (row.defect or row.odd) and joined.count("\n") == len(row.cells) - 1:
        parts = fits([joined])
        if not parts[0][-1]:
            return Fitting(row.number, [joined], parts)
    return row


def _never(row: Row) -> Draft:
    raise AssertionError("only tables have rows")


def _reader(kind: str) -> Callable[[Path, Encoding], Iterator[Draft]]:
    """The reader of a kind, in a module of its own that is loaded when it is needed."""
    module = importlib.import_module(f"barnacle.files.{_READERS[kind]}")
    reader: Callable[[Path, Encoding], Iterator[Draft]] = module.read
    return reader


def rows_of_tables(
    path: Path, kind: str, found: Encoding, beside: Callable[[Line], None] = lambda line: None
) -> Iterator[tuple[int, list[str]]]:
    """The rows of all tables of a document or a page, with their tables' numbers; `beside` is told other lines."""
    from barnacle.files.tables import document, web_page

    return document.rows(path, beside) if kind == "document" else web_page.rows(path, found, beside)
