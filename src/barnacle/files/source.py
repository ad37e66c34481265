"""A file to take people in from, whatever it is: its kind worked out from its content, and its entries."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

from barnacle.core.errors import FileError, UnclearError
from barnacle.core.text import count, fold, listed, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.files import free_text, records
from barnacle.files.drafts import Draft, Fits, Fitting, Line, Row
from barnacle.files.encoding import Encoding, find_encoding, first_octets, named_encoding
from barnacle.files.kinds import KINDS, kind_by_octets, kind_by_text
from barnacle.files.pasted import lines_of
from barnacle.files.tables.columns import Columns, Doubt, mapped
from barnacle.files.tables.content import has_address
from barnacle.files.tables.csv_reader import Layout, find_layout, read_rows
from barnacle.files.tables.hidden import Hidden, hidden_parts
from barnacle.files.tables.layout import find_tables
from barnacle.files.tables.rows import BY_HEADINGS, HEADINGS, PLAINLY, Reading, RowReader
from barnacle.files.tables.text_line import may_reach

if TYPE_CHECKING:
    from barnacle.files.tables import workbook, xml_sheets

# In which module each kind that is no table is read.
_READERS = {
    "vcard": "cards.vcard", "jcard": "cards.json_cards", "jscontact": "cards.json_cards", "ldif": "ldif",
    "mail": "mailbox", "mbox": "mailbox",
}  # fmt: skip
_SAMPLE = 500
_SHEETS = 200
_OLD_WORKBOOK = b"\xd0\xcf\x11\xe0"
# Of which the titles of columns stand in no row.
_FIELDED = ("records", "json", "xml", "calendar")
_TABLES = ("csv", "xlsx", "html", "document", *_FIELDED)


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
    _hidden: dict[str, Hidden] = field(default_factory=dict)
    _links: dict[str, dict[int, dict[int, str]]] = field(default_factory=dict)  # of a workbook's cells, by its sheets
    _held: dict[str, list[Row]] = field(default_factory=dict)  # rows that are in memory, by the titles of their sheets
    _sheets: dict[str, workbook.Sheet] = field(default_factory=dict)  # of a workbook, by title

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
            hidden = self._hidden.get(sheet.title, Hidden()).rows
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
                    has_gap = row.number > last + 1 and self.kind not in _FIELDED
                    yield row._replace(after_gap=True) if has_gap else row
                    last = row.number

        return rows

    def all_rows(self, sheet: str, fits: Fits | None = None) -> Iterator[Row | Fitting]:
        """The rows of a sheet from its first on; those of a kind as they are."""
        if self.layout is not None:
            return read_rows(self.path, self.layout, fits)
        if (held := self._held.get(sheet)) is not None:
            rows: Iterator[Row] = iter(held)
        elif self.kind == "records":
            rows = records.rows(self.path, self.encoding)
        elif self.kind in ("html", "document"):
            from barnacle.files.tables import web_page

            rows = web_page.of_table(_rows_of_tables(self.path, self.kind, self.encoding), sheet)
        else:
            from barnacle.files.tables import workbook

            rows = workbook.read_rows(self.path, self._sheets[sheet])
            if links := self._links.get(sheet):
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


def open_source(path: Path, options: Options) -> Source:
    """Work out what a file is and how it is to be read.

    Raises FileError where it cannot be read, is nothing that holds people, or does not fit the options.
    """
    head = first_octets(path, 1 << 16)
    if not head.strip():
        raise FileError(f"{visible(path.name)} is empty.")
    packed = kind_by_octets(head)
    kind = options.kind or packed
    if kind in ("xlsx", "document") or (kind == "text" and packed == "xlsx"):
        from barnacle.files.tables.document import is_document

        nothing = Encoding("", "")
        return _document(path, "document", options, nothing) if is_document(path) else _workbook(path, options)
    if kind in ("mail", "mbox"):
        found = Encoding("latin-1", "")
    else:
        found = named_encoding(options.encoding) if options.encoding else find_encoding(path)
        kind = kind or kind_by_text(path, found)
    if kind == "csv":
        return _table(path, options, found)
    if kind == "html":
        return _document(path, "html", options, found)
    if kind in _FIELDED:
        return _fields(path, kind, options, found)
    if options.columns or options.list_by is not None:
        raise FileError(f"{visible(path.name)} is not a table ({KINDS[kind]}), so it has no columns to name.")
    if kind in ("mail", "mbox"):
        return Source(path, kind, KINDS[kind], found, options)
    return Source(path, kind, f"{KINDS[kind]}, {found.label}", found, options)


def _table(path: Path, options: Options, found: Encoding) -> Source:
    layout = find_layout(path, found)
    source = Source(path, "csv", str(layout), found, options, layout)
    _take_tables(source, "", _sample(read_rows(path, layout)))
    if not source.sheets:
        raise FileError(_no_people(source.name, source.rejected))
    _check_columns(source)
    return source


def _fields(path: Path, kind: str, options: Options, found: Encoding) -> Source:
    source = Source(path, kind, f"{KINDS[kind]}, {found.label}", found, options)
    told: list[str] = []
    if kind == "calendar":
        from barnacle.files.calendar import Calendar

        calendar = Calendar(path, found)
        source._held, told = {"": calendar.rows}, calendar.told
    elif kind != "records":
        from barnacle.files.tables import nested, xml_sheets

        root = nested.read_xml(path) if kind == "xml" else None
        if root is not None and (book := xml_sheets.sheets(path.name, root)) is not None:
            return _xml_workbook(path, options, book)
        source._held = nested.of_json(path, found) if root is None else nested.of_xml(path, root)
    for title in source._held if kind != "records" else [""]:
        if options.sheet is None or fold(title) == fold(options.sheet):
            _take_tables(source, title, _sample(source.all_rows(title)))
    if not source.sheets:
        if kind == "records" or source.rejected:
            raise FileError(_no_people(source.name, source.rejected))
        raise FileError(f"{source.name} has nobody with an address in it. Nothing was added.")
    source.sheets[-1].columns.doubts += [Doubt("", sentence) for sentence in told]
    _check_columns(source)
    return source


def _xml_workbook(path: Path, options: Options, book: dict[str, xml_sheets.XmlSheet]) -> Source:
    source = Source(path, "xlsx", "a workbook in one XML file", Encoding("", ""), options)
    source._held = {title: sheet.rows for title, sheet in book.items()}
    if not options.hidden:
        source._hidden = {title: sheet.hidden for title, sheet in book.items()}
    _take_sheets(source, {title: sheet.is_hidden for title, sheet in book.items()}, {})
    return source


def _sample(rows: Iterator[Row | Fitting]) -> list[Row]:
    return [row for row in islice(rows, _SAMPLE) if isinstance(row, Row)]


def _workbook(path: Path, options: Options) -> Source:
    from barnacle.files.tables import workbook
    from barnacle.files.tables.links import links_of
    from barnacle.files.tables.struck import struck_rows

    label = KINDS["xlsx"]
    if first_octets(path, 4) == _OLD_WORKBOOK:
        label += " of the old kind, which does not tell us whether rows or columns are hidden"
    source = Source(path, "xlsx", label, Encoding("", ""), options)
    sheets = workbook.sheets(path)
    source._sheets = {sheet.title: sheet for sheet in sheets[:_SHEETS]}
    if len(sheets) > _SHEETS:
        source.unseen.append(f"of {len(sheets):,} sheets only the first {_SHEETS} were looked at")
    if any(sheet.streamed for sheet in sheets):
        source.label += ", damaged or odd, and read cell by cell"
    source._links = links_of(path)
    struck = struck_rows(path)
    if not options.hidden:
        source._hidden = hidden_parts(path)
    _take_sheets(source, {title: not sheet.is_visible for title, sheet in source._sheets.items()}, struck)
    return source


def _take_sheets(source: Source, are_hidden: Mapping[str, bool], struck: Mapping[str, list[int]]) -> None:
    """Those sheets of a workbook in which there are people. Raises FileError where there are none."""
    options = source.options
    for title, is_hidden in are_hidden.items():
        if options.sheet is not None and fold(title) != fold(options.sheet):
            continue
        if is_hidden and not options.hidden and options.sheet is None:
            source.unseen.append(f"sheet {visible(title, 60)} is hidden")
            continue
        hidden = source._hidden.get(title, Hidden())
        rows = list(islice((row for row in source.all_rows(title) if row.number not in hidden.rows), _SAMPLE))
        _take_tables(source, title, [row for row in rows if isinstance(row, Row)])
        _say_hidden(source, title, hidden)
        _say_struck(source, title, [row for row in struck.get(title, []) if row not in hidden.rows])
    if not source.sheets:
        what = f"sheet `{visible(options.sheet, 60)}` with people" if options.sheet else "sheet with names or addresses"
        told = f" ({'; '.join(source.unseen)}: --hidden includes it)" if source.unseen else ""
        raise FileError(f"{source.name} has no {what} in it{told}. Nothing was added.")
    _check_columns(source)


def _rows_of_tables(
    path: Path, kind: str, found: Encoding, beside: Callable[[Line], None] = lambda line: None
) -> Iterator[tuple[int, list[str]]]:
    from barnacle.files.tables import document, web_page

    return document.rows(path, beside) if kind == "document" else web_page.rows(path, found, beside)


def _document(path: Path, kind: str, options: Options, found: Encoding) -> Source:
    """A document of a word processor or a web page: its tables, or its text where it has none with people."""
    number = 0

    def beside(line: Line) -> None:
        nonlocal number
        number += may_reach(line.text)

    source = _with_tables(path, kind, options, found, _rows_of_tables(path, kind, found, beside))
    if not source.sheets and number and not options.columns and options.list_by is None:
        of = "a document" if kind == "document" else f"a web page, {found.label}"
        return Source(path, "text", f"text of {of}", found, options, holder=kind)
    _need_tables(source)
    if number:
        one = number == 1
        what = "1 line with an address stands" if one else f"{number:,} lines with addresses stand"
        how = "Text can be copied and pasted into `barnacle import -`."
        said = f"{what} beside the tables, and {'was' if one else 'were'} not read. {how}"
        source.sheets[-1].columns.doubts.append(Doubt("", said))
    return source


def _with_tables(
    path: Path, kind: str, options: Options, found: Encoding, rows: Iterator[tuple[int, list[str]]]
) -> Source:
    """A web page, or a document of a word processor, with those of its tables in which there are people."""
    from barnacle.files.tables import web_page

    source = Source(path, kind, f"{KINDS[kind]}, {found.label}" if found.label else KINDS[kind], found, options)
    tables, whole, number = web_page.samples(rows, _SHEETS, _SAMPLE)
    # For each of the others the whole file is gone through.
    source._held = {title: tables[title] for title in whole}
    for title, some in tables.items():
        _take_tables(source, title, some[:_SAMPLE])
    if number > _SHEETS:
        source.unseen.append(f"of {number:,} tables only the first {_SHEETS} were looked at")
    return source


def _need_tables(source: Source) -> None:
    if not source.sheets:
        raise FileError(
            f"{source.name} has no table with names or addresses in it. Nothing was added. Text can be copied "
            "and pasted into `barnacle import -`."
        )
    _check_columns(source)


def _say_struck(source: Source, title: str, rows: list[int]) -> None:
    for sheet in source.sheets:
        of_table = [row for row in rows if sheet.columns.header < row <= (sheet.columns.until or row)]
        if sheet.title == title and of_table:
            one = len(of_table) == 1
            which = f"{'Row' if one else 'Rows'} {listed([str(row) for row in of_table], 8)} {'is' if one else 'are'}"
            sheet.columns.doubts.append(Doubt("", f"{which} struck through, and read like any other."))


def _say_hidden(source: Source, title: str, hidden: Hidden) -> None:
    for number, what in ((len(hidden.rows), "row"), (len(hidden.columns), "column")):
        if number:
            source.unseen.append(f"{count(number, f'hidden {what}')} of sheet {visible(title, 60)}")


def _take_tables(source: Source, title: str, rows: list[Row]) -> None:
    """The tables of a sheet: those in which there are people."""
    options = source.options
    found = False
    others: list[Columns] = []
    tables = find_tables(rows)
    first = min(columns.header for columns in tables)
    for columns in tables:
        if hidden := source._hidden.get(title, Hidden()).columns:
            unseen = {n - columns.left for n in hidden}
            columns.uses = [None if n in unseen else use for n, use in enumerate(columns.uses)]
            columns.dropped = frozenset(t for n, t in enumerate(columns.titles) if n in unseen)
        if options.columns:
            columns = mapped(columns, options.columns)
        if columns.names_people:
            source.sheets.append(Sheet(title, columns, _named_by(columns, options.list_by)))
            found = True
        else:
            source.rejected = columns
            others.append(columns)
    if found and (above := [row for row in rows if row.number < first and any(map(has_address, row.cells))]):
        what = f"Row {above[0].number} stands" if len(above) == 1 else f"{len(above)} rows with addresses stand"
        tail = "has an address in it, which was" if len(above) == 1 else "were"
        source.sheets[-1].columns.doubts.append(Doubt("", f"{what} above the table, and {tail} not read."))
    for columns in others if found else ():
        end = f"to {columns.until}" if columns.until else "on"
        what = "look like another table, without names or addresses, and were not read."
        source.sheets[-1].columns.doubts.append(Doubt("", f"Rows {columns.header or 1} {end} {what}"))
    if not found and title:
        source.skipped.append(title)


def _named_by(columns: Columns, wanted: str | None) -> int | None:
    """What names the lists of a table: the place of a column, or its headings."""
    place = columns.place(wanted) if wanted is not None else None
    return BY_HEADINGS if place is None and fold(wanted or "") == HEADINGS else place


def _check_columns(source: Source) -> None:
    """Raises FileError or UnclearError where a column was named that no table has."""
    by = source.options.list_by if fold(source.options.list_by or "") != HEADINGS else None
    for wanted, error in [*((w, UnclearError) for w in source.options.columns), (by, FileError)]:
        if wanted is not None and all(sheet.columns.place(wanted) is None for sheet in source.sheets):
            titles = [title for sheet in source.sheets for title in sheet.columns.titles]
            raise error(
                f"{source.name} has no column `{visible(wanted, 60)}`. Its columns are: "
                f"{', '.join(visible(t, 30) for t in titles[:12])}."
            )


def _no_people(name: str, columns: Columns | None) -> str:
    titles = ", ".join(visible(t, 30) for t in columns.titles[:8]) if columns else ""
    return (
        f"No column of {name} looks like names or addresses (the columns are: {titles}). "
        "Nothing was added; say which is which with --columns, such as --columns 'A=name, B=address'."
    )
