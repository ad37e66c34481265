"""A file to take people in from, whatever it is: its kind worked out from its content, and its entries."""

from __future__ import annotations

import importlib
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

from barnacle.core.addresses import parse_mailbox, split_pasted
from barnacle.core.errors import BadAddressError, FileError
from barnacle.core.text import fold, visible
from barnacle.files.drafts import Draft, Fits, Fitting, Row
from barnacle.files.encoding import Encoding, find_encoding, first_octets, named_encoding
from barnacle.files.tables.columns import Columns, find_columns, mapped
from barnacle.files.tables.csv_reader import Layout, find_layout, read_rows
from barnacle.files.tables.rows import RowReader

# Every kind that is read, with its name for people.
KINDS = {
    "csv": "a table of text",
    "xlsx": "a workbook",
    "vcard": "vCards",
    "jcard": "jCards",
    "jscontact": "JSContact cards",
    "ldif": "LDIF entries",
    "line": "pasted addresses",
    "mail": "a message",
    "mbox": "a mailbox",
}
# In which module each kind that is no table is read.
_READERS = {
    "vcard": "cards.vcard", "jcard": "cards.json_cards", "jscontact": "cards.json_cards", "ldif": "ldif",
    "line": "pasted", "mail": "mailbox", "mbox": "mailbox",
}  # fmt: skip
_SAMPLE = 200
_MESSAGE = re.compile(
    rb"(?:(?:From|To|Cc|Bcc|Subject|Date|Received|Return-Path|Message-ID|MIME-Version|Delivered-To|X-[A-Za-z-]+"
    rb"|Reply-To|Sender|Content-Type|DKIM-Signature|Authentication-Results):[^\n]*\n(?:[ \t][^\n]*\n)*){2}",
    re.IGNORECASE,
)


@dataclass(slots=True)
class Table:
    """A sheet, or all of a file that is no table.

    `items` yields rows, which `read` understands, or finished drafts; rows that fit the pattern it is given, if any,
    come as they are. A pattern is held against the cells with `separator` between them.
    """

    items: Callable[[Fits | None], Iterable[Row | Fitting | Draft]]
    read: Callable[[Row], Draft]
    sheet: str = ""
    columns: Columns | None = None
    list_by: int | None = None
    separator: str = "\n"

    def row(self, fitting: Fitting) -> Row:
        """A row that fits a pattern, as any other."""
        return Row(fitting.number, fitting.match.string.rstrip("\r\n").split(self.separator))


@dataclass(slots=True)
class Options:
    """What a person may say of a file: its kind, its encoding, what its columns hold, the column that names a list,
    and the only sheet to be read."""

    kind: str | None = None
    encoding: str | None = None
    columns: dict[str, str] = field(default_factory=dict)
    list_by: str | None = None
    sheet: str | None = None


@dataclass(slots=True)
class Sheet:
    """A table of a source: its title, its columns, and the one that names a list."""

    title: str
    columns: Columns
    list_by: int | None


@dataclass(slots=True)
class Source:
    """A file with what was worked out of it. `label` describes it for people; `skipped` are sheets without people."""

    path: Path
    kind: str
    label: str
    encoding: Encoding
    options: Options
    layout: Layout | None = None
    sheets: list[Sheet] = field(default_factory=list)
    skipped: list[str] = field(default_factory=list)

    @property
    def name(self) -> str:
        """The file's name, as it may be shown."""
        return visible(self.path.name)

    def tables(self) -> Iterator[Table]:
        """What is in the file, entry by entry. Raises FileError."""
        if self.kind in ("csv", "xlsx"):
            for sheet in self.sheets:
                reader = RowReader(sheet.columns, sheet.title, sheet.list_by)
                separator = self.layout.separator if self.layout else "\n"
                yield Table(self._rows(sheet), reader.read, sheet.title, sheet.columns, sheet.list_by, separator)
        else:
            yield Table(lambda fits: _reader(self.kind)(self.path, self.encoding), _never)

    def _rows(self, sheet: Sheet) -> Callable[[Fits | None], Iterator[Row | Fitting]]:
        def rows(fits: Fits | None) -> Iterator[Row | Fitting]:
            header = sheet.columns.header
            for row in self.all_rows(sheet.title, fits):
                if row.number > header and (isinstance(row, Fitting) or row.defect or any(map(str.strip, row.cells))):
                    yield row

        return rows

    def all_rows(self, sheet: str, fits: Fits | None = None) -> Iterator[Row | Fitting]:
        """The rows of a sheet from its first on; those that fit the pattern as they are."""
        if self.layout is not None:
            return read_rows(self.path, self.layout, fits)
        from barnacle.files.tables import workbook

        rows = workbook.read_rows(self.path, sheet)
        return rows if fits is None else map(_fitted(fits), rows)


def _fitted(fits: Fits) -> Callable[[Row], Row | Fitting]:
    def fitted(row: Row) -> Row | Fitting:
        joined = "\n".join(row.cells)
        match = fits(joined) if not row.defect and joined.count("\n") == len(row.cells) - 1 else None
        return Fitting(row.number, match) if match else row

    return fitted


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
    head = first_octets(path)
    if not head.strip():
        raise FileError(f"{visible(path.name)} is empty.")
    kind = options.kind or kind_by_octets(head)
    if kind == "xlsx":
        return _workbook(path, options)
    if kind in ("mail", "mbox"):
        found = Encoding("latin-1", "")
    else:
        found = named_encoding(options.encoding) if options.encoding else find_encoding(path)
        kind = kind or kind_by_text(path, found)
    if kind == "csv":
        return _table(path, options, found)
    if options.columns or options.list_by is not None:
        raise FileError(f"{visible(path.name)} is no table ({KINDS[kind]}): it has no columns to name.")
    if kind in ("mail", "mbox"):
        return Source(path, kind, KINDS[kind], found, options)
    return Source(path, kind, f"{KINDS[kind]}, {found.label}", found, options)


def kind_by_octets(head: bytes) -> str | None:
    """What kind of file begins so, a key of KINDS, where that can be told without knowing its encoding."""
    if head.startswith((b"PK\x03\x04", b"\xd0\xcf\x11\xe0")):
        return "xlsx"
    if head.startswith(b"From ") and _MESSAGE.search(head, head.find(b"\n")):
        return "mbox"
    return "mail" if _MESSAGE.match(head) else None


def kind_by_text(path: Path, found: Encoding) -> str:
    """What kind of text file it is, by its content; a key of KINDS."""
    with path.open(encoding=found.codec, errors="replace") as file:
        text = file.read(64 * 1024).lstrip("\ufeff \t\r\n")
    begin = text[:200].upper()
    if begin.startswith("BEGIN:VCARD"):
        return "vcard"
    if re.match(r'\[\s*(?:\[\s*)?"vcard"', begin, re.IGNORECASE):
        return "jcard"
    if begin.startswith("{") or re.match(r"\[\s*\{", begin):
        return "jscontact"
    if _is_ldif(text):
        return "ldif"
    return "line" if _is_pasted(text) else "csv"


def _is_ldif(text: str) -> bool:
    """Whether the first line that is no remark (RFC 2849) nor its continuation names a version or an entry."""
    for line in text.splitlines():
        if line.strip() and not line.startswith(("#", " ")):
            return re.match(r"version\s*:\s*\d+\s*$|dn:", line, re.IGNORECASE) is not None
    return False


def _is_pasted(text: str) -> bool:
    """Whether the text is nothing but addresses, with names or without, from its first line on."""
    lines = [line for line in text[:8000].splitlines()[:50] if line.strip()]
    if len(text) > 8000 and len(lines) > 1:
        lines.pop()  # it may have been cut
    if not lines or "@" not in lines[0]:
        return False
    pieces = [piece for line in lines for piece in split_pasted(line)]
    good = 0
    for number, piece in enumerate(pieces):
        try:
            good += bool(parse_mailbox(piece))
        except BadAddressError:
            if number == 0:
                return False
    return good >= 0.7 * len(pieces)


def _table(path: Path, options: Options, found: Encoding) -> Source:
    layout = find_layout(path, found)
    source = Source(path, "csv", str(layout), found, options, layout)
    source.sheets = [_sheet(source, "", _sample(read_rows(path, layout)))]
    if not source.sheets[0].columns.names_people:
        raise FileError(_no_people(source.name, source.sheets[0].columns))
    _need_list_by(source)
    return source


def _sample(rows: Iterator[Row | Fitting]) -> list[Row]:
    return [row for row in islice(rows, _SAMPLE) if isinstance(row, Row)]


def _workbook(path: Path, options: Options) -> Source:
    from barnacle.files.tables import workbook

    source = Source(path, "xlsx", KINDS["xlsx"], Encoding("", ""), options)
    for title, rows in workbook.samples(path, _SAMPLE):
        if options.sheet is not None and fold(title) != fold(options.sheet):
            continue
        sheet = _sheet(source, title, rows)
        if sheet.columns.names_people:
            source.sheets.append(sheet)
        else:
            source.skipped.append(title)
    if not source.sheets:
        what = f"sheet `{visible(options.sheet, 60)}` with people" if options.sheet else "sheet with names or addresses"
        raise FileError(f"{source.name} has no {what} in it. Nothing was taken in.")
    _need_list_by(source)
    return source


def _sheet(source: Source, title: str, rows: list[Row]) -> Sheet:
    columns = find_columns(rows)
    if source.options.columns:
        columns = mapped(columns, source.options.columns, source.name)
    list_by = None
    if source.options.list_by is not None:
        list_by = columns.place(source.options.list_by)
    return Sheet(title, columns, list_by)


def _need_list_by(source: Source) -> None:
    """Raises FileError where a column was named whose values are lists, and no sheet has it."""
    wanted = source.options.list_by
    if wanted is not None and all(sheet.list_by is None for sheet in source.sheets):
        titles = [title for sheet in source.sheets for title in sheet.columns.titles]
        raise FileError(
            f"{source.name} has no column `{visible(wanted, 60)}`. Its columns are: "
            f"{', '.join(visible(t, 30) for t in titles[:12])}."
        )


def _no_people(name: str, columns: Columns) -> str:
    titles = ", ".join(visible(t, 30) for t in columns.titles[:8])
    return (
        f"No column of {name} looks like names or addresses (the columns are: {titles}). "
        "Nothing was taken in; say which is which with --columns, such as --columns 'A=name, B=address'."
    )
