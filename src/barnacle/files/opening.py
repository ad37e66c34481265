"""What a file is that people are taken in from, and how it is to be read: worked out from its content."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from itertools import islice
from pathlib import Path

from barnacle.core.errors import FileError, UnclearError
from barnacle.core.text import count, fold, listed, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.files.drafts import Fitting, Line, Row
from barnacle.files.encoding import Encoding, find_encoding, first_octets, named_encoding
from barnacle.files.kinds import FIELDED, KINDS, kind_by_octets, kind_by_text
from barnacle.files.source import Options, Sheet, Source, rows_of_tables
from barnacle.files.tables.columns import Columns, Doubt, mapped
from barnacle.files.tables.content import has_address
from barnacle.files.tables.csv_reader import find_layout, read_rows
from barnacle.files.tables.hidden import Hidden, hidden_parts
from barnacle.files.tables.layout import find_tables
from barnacle.files.tables.rows import BY_HEADINGS, HEADINGS
from barnacle.files.tables.text_line import may_reach

if TYPE_CHECKING:
    from barnacle.files.tables import xml_sheets
    from barnacle.files.tables.formulas import Unworked

_SAMPLE = 500
_SHEETS = 200
_MESSAGES = ("mail", "mbox", "saved")
_COMPOUND = b"\xd0\xcf\x11\xe0"


def open_source(path: Path, options: Options) -> Source:
    """Work out what a file is and how it is to be read.

    Raises FileError where it cannot be read, is nothing that holds people, or does not fit the options.
    """
    source = _opened(path, options)
    if options.encoding and (source.kind == "xml" or not source.encoding.label):
        source.label += f", which says itself how it is encoded: --encoding {visible(options.encoding, 20)} is not used"
    return source


def _opened(path: Path, options: Options) -> Source:
    head = first_octets(path, 1 << 16)
    if not head.strip():
        raise FileError(f"{visible(path.name)} is empty.")
    packed = kind_by_octets(head)
    kind = options.kind or packed
    if kind == "xlsx" and head.startswith(_COMPOUND):
        from barnacle.files.saved_message import is_saved_message

        kind = "saved" if is_saved_message(path) else kind
    if kind in ("xlsx", "document") or (kind == "text" and packed == "xlsx"):
        from barnacle.files.tables.document import is_document

        nothing = Encoding("", "")
        return _document(path, "document", options, nothing) if is_document(path) else _workbook(path, options)
    if kind in _MESSAGES:
        found = Encoding("latin-1", "")
    else:
        found = named_encoding(options.encoding) if options.encoding else find_encoding(path)
        kind = kind or kind_by_text(path, found)
    if kind == "html":
        return _document(path, "html", options, found)
    if kind in FIELDED:
        return _fields(path, kind, options, found)
    if options.sheet is not None:
        raise FileError(f"{visible(path.name)} is no workbook ({KINDS[kind]}), so it has no sheets to name.")
    if kind == "csv":
        return _table(path, options, found)
    if options.columns or options.list_by is not None:
        raise FileError(f"{visible(path.name)} is not a table ({KINDS[kind]}), so it has no columns to name.")
    if kind in _MESSAGES:
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
        source.held, told = {"": calendar.rows}, calendar.told
    elif kind != "records":
        from barnacle.files.tables import nested, xml_sheets

        root = nested.read_xml(path) if kind == "xml" else None
        if root is not None and (book := xml_sheets.sheets(path.name, root)) is not None:
            return _xml_workbook(path, options, book)
        tables = nested.of_json(path, found) if root is None else nested.of_xml(path, root)
        source.held = tables.rows
        if tables.unread:
            source.unseen.append(f"{count(tables.unread, 'list')} beyond the first {len(tables.rows)}")
    for title in _wanted(source, source.held) if kind != "records" else [""]:
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
    source.held = {title: sheet.rows for title, sheet in book.items()}
    if not options.hidden:
        source.hidden = {title: sheet.hidden for title, sheet in book.items()}
    _take_sheets(source, {title: sheet.is_hidden for title, sheet in book.items()}, {})
    return source


def _wanted(source: Source, titles: Collection[str]) -> list[str]:
    """Which of some sheets, or of other named parts, are to be read: all, or the one that was named, by its title or
    else by its number, from 1. Raises FileError where there is none."""
    named = source.options.sheet
    if named is None:
        return [*titles]
    by_number = [title for number, title in enumerate(titles, 1) if str(number) == named.strip()]
    found = [title for title in titles if fold(title) == fold(named)] or by_number
    if not found:
        there = listed([f"`{visible(title, 40)}`" for title in titles if title], 8) or "no titles in it"
        are = "is" if len(titles) == 1 else "are"
        raise FileError(f"{source.name} has no `{visible(named, 60)}` in it: there {are} {there}. Nothing was added.")
    return found


def _sample(rows: Iterator[Row | Fitting]) -> list[Row]:
    return [row for row in islice(rows, _SAMPLE) if isinstance(row, Row)]


def _workbook(path: Path, options: Options) -> Source:
    from barnacle.files.tables import workbook
    from barnacle.files.tables.archive import names_of_parts
    from barnacle.files.tables.formulas import unworked
    from barnacle.files.tables.links import links_of
    from barnacle.files.tables.struck import struck_rows

    label = KINDS["xlsx"]
    if first_octets(path, 4) == _COMPOUND or "xl/workbook.bin" in names_of_parts(path):
        label += (
            " of a binary kind, which tells us neither what is hidden nor how numbers are shown (0012 is read as 12)"
        )
    source = Source(path, "xlsx", label, Encoding("", ""), options)
    sheets = workbook.sheets(path)
    source.workbook_sheets = {sheet.title: sheet for sheet in sheets[:_SHEETS]}
    if len(sheets) > _SHEETS:
        source.unseen.append(f"of {len(sheets):,} sheets only the first {_SHEETS} were looked at")
    if any(sheet.streamed for sheet in sheets):
        source.label += ", damaged or odd, and read cell by cell"
    source.links = links_of(path)
    struck = struck_rows(path)
    if not options.hidden:
        source.hidden = hidden_parts(path)
    _take_sheets(source, {title: not sheet.is_visible for title, sheet in source.workbook_sheets.items()}, struck)
    _say_unworked(source, unworked(path))
    return source


def _take_sheets(source: Source, are_hidden: Mapping[str, bool], struck: Mapping[str, list[int]]) -> None:
    """Those sheets of a workbook in which there are people. Raises FileError where there are none."""
    options = source.options
    for title in _wanted(source, are_hidden):
        is_hidden = are_hidden[title]
        if is_hidden and not options.hidden and options.sheet is None:
            source.unseen.append(f"sheet {visible(title, 60)} is hidden")
            continue
        hidden = source.hidden.get(title, Hidden())
        rows = list(islice((row for row in source.all_rows(title) if row.number not in hidden.rows), _SAMPLE))
        _take_tables(source, title, [row for row in rows if isinstance(row, Row)])
        _say_hidden(source, title, hidden)
        _say_struck(source, title, [row for row in struck.get(title, []) if row not in hidden.rows])
    if not source.sheets:
        what = f"sheet `{visible(options.sheet, 60)}` with people" if options.sheet else "sheet with names or addresses"
        told = f" ({'; '.join(source.unseen)}: --hidden includes it)" if source.unseen else ""
        raise FileError(f"{source.name} has no {what} in it{told}. Nothing was added.")
    _check_columns(source)


def _document(path: Path, kind: str, options: Options, found: Encoding) -> Source:
    """A document of a word processor or a web page: its tables, or its text where it has none with people."""
    number = 0

    def beside(line: Line) -> None:
        nonlocal number
        number += may_reach(line.text)

    source = _with_tables(path, kind, options, found, rows_of_tables(path, kind, found, beside))
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
    source.held = {title: tables[title] for title in whole}
    for title in _wanted(source, tables):
        _take_tables(source, title, tables[title][:_SAMPLE])
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


def _say_unworked(source: Source, found: Mapping[str, Mapping[int, Unworked]]) -> None:
    for sheet in source.sheets:
        columns, told = sheet.columns, []
        for place, (number, first) in found.get(sheet.title, {}).items():
            if 0 <= place - columns.left < len(columns.titles) and first + number > columns.header + 1:
                title = visible(columns.titles[place - columns.left], 40)
                told.append(f"`{title}` ({count(number, 'cell')}, first in row {first})")
        if told:
            said = f"Formulas in {listed(told, 5)} have no results in the file, and were read as empty. "
            columns.doubts.append(Doubt("", f"{said}Open it in a spreadsheet program, save it, and import that."))


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
        if hidden := source.hidden.get(title, Hidden()).columns:
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
