"""Workbooks (ISO/IEC 29500, and their older and open kin): sheets as rows of text.

The library that reads them takes a process down with it where a file is made to be too much, and stops at the first
cell that is odd. So it is tried out in a process of its own, within limits; what it cannot read there is read cell by
cell (`sheet_stream`).
"""

from __future__ import annotations

import datetime
import re
import zipfile
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple
from barnacle.files.drafts import Row, row_of
from barnacle.files.tables import sheet_stream
from barnacle.files.tables.archive import unpacked
from barnacle.files.tables.compound import has_stream
from barnacle.files.tables.number_formats import Shows, shown_numbers, time_of
from barnacle.files.tables.sheet_stream import CELL
from barnacle.files.worker import Limits, StoppedWorkerError, ahead

if TYPE_CHECKING:
    import python_calamine

# A sheet of 100,000 rows unpacks to some 40 MB; what unpacks to more than this is no list of people.
_UNPACKED_LIMIT = 300 << 20
_PARTS = 10_000
_WITH_CELLS = re.compile(r"xl/(?:workbook|sharedStrings|worksheets/[^/]+)\.xml|content\.xml", re.IGNORECASE).fullmatch
_SPAN = re.compile(r"PT(\d{1,4})H(\d\d)M(\d\d)S").fullmatch  # a time of ODF
_LIMITS = Limits(seconds=20.0, octets=200 << 20)


class Sheet(NamedTuple):
    """A sheet's title, whether it can be seen, and whether it must be read cell by cell."""

    title: str
    is_visible: bool
    streamed: bool


def sheets(path: Path) -> list[Sheet]:
    """The sheets of a file. Raises FileError where it is no workbook."""
    shown = visible(path.name)
    is_zip = zipfile.is_zipfile(path)
    if is_zip:
        _check_size(path)
    try:
        return [Sheet(*one, streamed=False) for one in ahead(_tried, path, limits=_LIMITS)]
    except (StoppedWorkerError, ValueError) as error:
        if "locked" in str(error):
            raise FileError(f"{shown} is locked with a password. Save it without one and import that.") from error
        if is_zip and (found := sheet_stream.sheets(path)):
            return [Sheet(*one, streamed=True) for one in found]
        what = (
            "is a document of the old kind"
            if has_stream(path, "WordDocument")  # [MS-DOC] 2.1
            else "is not a workbook that can be read, or is damaged"
        )
        raise FileError(f"{shown} {what}. Save the table as CSV and import that.") from error


def _tried(path: Path) -> Iterator[tuple[str, bool]]:
    """Read everything once. Raises ValueError where it cannot be read."""
    import python_calamine

    found = []
    try:
        if zipfile.is_zipfile(path):
            _need_xml(path)
        book = _open(path)
        for sheet in book.sheets_metadata:
            if sheet.typ == python_calamine.SheetTypeEnum.WorkSheet:
                for _ in book.get_sheet_by_name(sheet.name).iter_rows():
                    pass
                found.append((sheet.name, sheet.visible == python_calamine.SheetVisibleEnum.Visible))
    except python_calamine.PasswordError as error:
        raise ValueError("locked") from error
    except BaseException as error:  # a library that panics raises what is no Exception
        raise ValueError(str(error)[:200]) from error
    yield from found


def _need_xml(path: Path) -> None:
    """The library passes over much that is no XML, and what is behind it. Raises ExpatError."""
    with zipfile.ZipFile(path) as archive:
        parts = [name for name in archive.namelist() if _WITH_CELLS(name)]
    for part in parts:
        parser = sheet_stream.plain_parser()
        for block in unpacked(path, part):
            parser.Parse(block, False)
        parser.Parse(b"", True)


def read_rows(path: Path, sheet: Sheet) -> Iterator[Row]:
    """The rows of a sheet as text, numbered as in the sheet. A merged cell's value stands in each row it covers."""
    if sheet.streamed:
        yield from sheet_stream.read_rows(path, sheet.title)
        return
    found = _open(path).get_sheet_by_name(sheet.title)
    merges = sorted((*begin, end[0]) for begin, end in found.merged_cell_ranges or [] if begin[0] < end[0])
    merges.reverse()  # the next one last
    over: dict[int, tuple[int, str]] = {}  # by column: to which row a cell above stands, and its text
    left = found.start[1] if found.start else 0  # empty columns before that are not among the cells, empty rows are
    shown = _Shown(shown_numbers(path, sheet.title))
    for number, cells in enumerate(found.iter_rows()):
        row = row_of(number + 1, [""] * left + [_text(cell) for cell in cells])
        texts = row.cells
        for column, shows in shown.of_row(number + 1).items():
            if left <= column < len(texts) and isinstance(cell := cells[column - left], float):
                texts[column] = shows(cell) or texts[column]
        for column, (last, text) in list(over.items()):
            if last < number:
                del over[column]
            elif not texts[column]:
                texts[column] = text
        while merges and merges[-1][0] <= number:
            _, column, last = merges.pop()
            if column < len(texts):
                over[column] = last, texts[column]
        yield row


class _Shown:
    """What is shown otherwise, as the rows come by."""

    def __init__(self, rows: Iterator[tuple[int, dict[int, Shows]]]) -> None:
        self._rows = rows
        self._next = next(rows, None)

    def of_row(self, number: int) -> Mapping[int, Shows]:
        """By the columns of a row. Rows are asked for in their order."""
        while self._next is not None and self._next[0] < number:
            self._next = next(self._rows, None)
        return self._next[1] if self._next is not None and self._next[0] == number else {}


def _text(value: Any) -> str:
    """A cell as a person would have typed it: whole numbers without a point, days without a time."""
    if isinstance(value, str):
        return (
            time_of(datetime.timedelta(hours=int(span[1]), minutes=int(span[2]), seconds=int(span[3])))
            if (span := _SPAN(value))
            else value[:CELL]
        )
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, datetime.datetime):
        day = value.date().isoformat()
        return day if value.time() == datetime.time() else f"{day} {value.time().isoformat('minutes')}"
    if isinstance(value, datetime.time):
        value = datetime.timedelta(hours=value.hour, minutes=value.minute, seconds=value.second)
    if isinstance(value, datetime.timedelta):
        return time_of(value)
    return "" if value is None else str(value)


@lru_cache(maxsize=1)
def _open(path: Path) -> python_calamine.CalamineWorkbook:
    import python_calamine

    return python_calamine.CalamineWorkbook.from_path(str(path))


def _check_size(path: Path) -> None:
    """Unpack everything once and count, since the sizes that an archive names need not be true. Raises FileError."""
    total = 0
    shown = visible(path.name)
    try:
        with zipfile.ZipFile(path) as archive:
            infos = archive.infolist()
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise FileError(f"{shown} is damaged and cannot be read. Save the table as CSV and import that.") from error
    if not {info.filename for info in infos} & {"xl/workbook.xml", "xl/workbook.bin", "content.xml"}:
        if any(info.filename.endswith(".iwa") for info in infos):
            raise FileError(f"{shown} is another program's own file. Export it there as XLSX or CSV, and import that.")
        raise FileError(f"{shown} is a zip archive, not a workbook. Unpack it first.")
    if len(infos) > _PARTS:
        raise FileError(f"{shown} has {len(infos):,} parts, which no list of people has. Nothing was added.")
    for info in infos:
        for block in unpacked(path, info):
            total += len(block)
            if total > _UNPACKED_LIMIT:
                raise FileError(
                    f"{shown} unpacks to more than {_UNPACKED_LIMIT >> 20} MB, which no list of people does. Nothing "
                    "was added."
                )
