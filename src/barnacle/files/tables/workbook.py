"""Workbooks (ISO/IEC 29500, and their older and open kin): sheets as rows of text."""

from __future__ import annotations

import datetime
import zipfile
import zlib
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.drafts import Defect, Row

if TYPE_CHECKING:
    import python_calamine


# A sheet of 100,000 rows unpacks to some 40 MB; what unpacks to more than this is no list of people.
_UNPACKED_LIMIT = 300 << 20
_COLUMNS = 1000


def sheets(path: Path) -> list[tuple[str, bool]]:
    """Each sheet's title, and whether it can be seen. Raises FileError where the file is no workbook."""
    import python_calamine

    tables = [sheet for sheet in _open(path).sheets_metadata if sheet.typ == python_calamine.SheetTypeEnum.WorkSheet]
    return [(sheet.name, sheet.visible == python_calamine.SheetVisibleEnum.Visible) for sheet in tables]


def read_rows(path: Path, sheet: str) -> Iterator[Row]:
    """The rows of a sheet as text, numbered as in the sheet. A merged cell's value stands in each row it covers."""
    found = _open(path).get_sheet_by_name(sheet)
    merged: dict[int, list[tuple[int, int]]] = {}
    for (first, column), (last, _) in found.merged_cell_ranges or []:
        for row in range(first + 1, min(last, first + 10_000) + 1):
            merged.setdefault(row, []).append((first, column))
    tops = {place for places in merged.values() for place in places}
    values: dict[tuple[int, int], str] = {}
    left = found.start[1] if found.start else 0  # empty columns before that are not among the cells, empty rows are
    for number, cells in enumerate(found.iter_rows()):
        if len(cells) > _COLUMNS:
            reason = f"the row has {len(cells):,} cells; at most {_COLUMNS:,} are read"
            yield Row(number + 1, [], Defect(number + 1, "", "", reason))
            continue
        texts = [""] * left + [_text(cell) for cell in cells]
        for place in merged.get(number, ()):
            if place[1] < len(texts) and not texts[place[1]]:
                texts[place[1]] = values.get(place, "")
        for column, text in enumerate(texts):
            if (number, column) in tops:
                values[number, column] = text
        yield Row(number + 1, texts)


def _text(value: Any) -> str:
    """A cell as a person would have typed it: whole numbers without a point, days without a time."""
    if isinstance(value, str):
        return value
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, datetime.datetime):
        day = value.date().isoformat()
        return day if value.time() == datetime.time() else f"{day} {value.time().isoformat('minutes')}"
    return "" if value is None else str(value)


@lru_cache(maxsize=1)
def _open(path: Path) -> python_calamine.CalamineWorkbook:
    import python_calamine

    shown = visible(path.name)
    try:
        if zipfile.is_zipfile(path):
            _check_size(path)
        return python_calamine.CalamineWorkbook.from_path(str(path))
    except python_calamine.PasswordError as error:
        raise FileError(f"{shown} is locked with a password. Save it without one and import that.") from error
    except (python_calamine.CalamineError, zipfile.BadZipFile, zlib.error, OSError, EOFError) as error:
        raise FileError(
            f"{shown} is not a workbook that can be read, or is damaged. Save the table as CSV and import that."
        ) from error


def _check_size(path: Path) -> None:
    """Unpack everything once and count, since the sizes that an archive names need not be true. Raises FileError."""
    total = 0
    with zipfile.ZipFile(path) as archive, path.open("rb") as raw:
        names = {info.filename for info in archive.infolist()}
        if not names & {"xl/workbook.xml", "xl/workbook.bin", "content.xml"}:
            raise FileError(f"{visible(path.name)} is a zip archive, not a workbook. Unpack it first.")
        for info in archive.infolist():
            raw.seek(info.header_offset + 26)
            lengths = raw.read(4)
            raw.seek(int.from_bytes(lengths[:2], "little") + int.from_bytes(lengths[2:], "little"), 1)
            left, unpack = info.compress_size, zlib.decompressobj(-15)
            while left > 0 and (block := raw.read(min(left, 1 << 16))):
                left -= len(block)
                while block and info.compress_type == zipfile.ZIP_DEFLATED:
                    total += len(unpack.decompress(block, 1 << 20))
                    block = unpack.unconsumed_tail
                    if total > _UNPACKED_LIMIT:
                        raise FileError(
                            f"{visible(path.name)} unpacks to more than {_UNPACKED_LIMIT >> 20} MB, which no list of "
                            "people does. Nothing was added."
                        )
