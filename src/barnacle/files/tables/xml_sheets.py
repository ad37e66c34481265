"""Workbooks that are one XML file: flat OpenDocument (ISO/IEC 26300-1 section 2.2.1), and what spreadsheet programs
wrote before they had packages."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.drafts import COLUMNS, Row
from barnacle.files.tables.hidden import Hidden
from barnacle.files.tables.number_formats import Shows, as_percent, number_in, shows_by

# So many empty rows or cells in one are the rest of the sheet; so many cells of it are read at most.
_REST = 1000
_CELLS = 5_000_000
_NO_DAY = "1899-12-31T"  # before a time


class XmlSheet(NamedTuple):
    """A sheet: its rows, what is hidden in it, and whether all of it is."""

    rows: list[Row]
    hidden: Hidden
    is_hidden: bool


def sheets(name: str, root: Any) -> dict[str, XmlSheet] | None:
    """The sheets of a workbook, which is a file of that name, by their titles; None where it is none. Raises FileError
    for a document that has no sheets, or too much in them."""
    if _local(root.tag) == "Workbook":
        return dict(_of_old_workbook(root))
    if _local(root.tag) != "document" or "opendocument" not in root.tag:
        return None
    found = dict(_of_flat_document(name, root))
    if not found:
        what = "a document in one XML file, which is not read. Save the table as CSV and import that."
        raise FileError(f"{visible(name)} is {what}")
    return found


def _local(name: Any) -> str:
    return name.rpartition("}")[2] if isinstance(name, str) else ""


def _attribute(element: Any, name: str) -> str:
    return next((value for key, value in element.attrib.items() if _local(key) == name), "")


def _within(element: Any, name: str) -> Iterator[Any]:
    return (child for child in element.iter() if _local(child.tag) == name)


def _number(text: str, otherwise: int) -> int:
    return int(text) if text.isdecimal() and len(text) < 8 else otherwise


def _shown(root: Any) -> dict[str, Shows]:
    """What the styles of an old workbook make of numbers, by their names."""
    found = {}
    for style in _within(root, "Style"):
        for one in _within(style, "NumberFormat"):
            code = _attribute(one, "Format")
            shows = as_percent if code == "Percent" else shows_by(code) if code else None
            if shows:
                found[_attribute(style, "ID")] = shows
    return found


def _of_old_workbook(root: Any) -> Iterator[tuple[str, XmlSheet]]:
    shown = _shown(root)
    for sheet in _within(root, "Worksheet"):
        rows, columns, place = set(), set(), 0
        for column in _within(sheet, "Column"):
            place = _number(_attribute(column, "Index"), place + 1)
            span = _number(_attribute(column, "Span"), 0)
            if _attribute(column, "Hidden") == "1":
                columns |= set(range(place - 1, min(place + span, COLUMNS)))
            place += span
        found, number = [], 0
        for row in _within(sheet, "Row"):
            number = _number(_attribute(row, "Index"), number + 1)
            if _attribute(row, "Hidden") == "1":
                rows.add(number)
            found.append(Row(number, _old_cells(row, shown)))
        is_hidden = any((one.text or "").startswith("SheetHidden") for one in _within(sheet, "Visible"))
        title = _attribute(sheet, "Name")
        yield title, XmlSheet(found, Hidden(frozenset(rows), frozenset(columns)), is_hidden)


def _old_cells(row: Any, shown: Mapping[str, Shows]) -> list[str]:
    cells: list[str] = []
    for cell in _within(row, "Cell"):
        if len(cells) >= COLUMNS:
            break
        place = min(_number(_attribute(cell, "Index"), len(cells) + 1), COLUMNS)
        cells += [""] * (place - 1 - len(cells))
        data = next(_within(cell, "Data"), None)
        text = "" if data is None else "".join(data.itertext()).strip()
        if data is not None and _attribute(data, "Type") == "DateTime":
            text = text.removesuffix(".000").removesuffix("T00:00:00")
            if text.startswith(_NO_DAY):
                text = text.removeprefix(_NO_DAY).removesuffix(":00")
        elif shows := shown.get(_attribute(cell, "StyleID")):
            text = shows(number_in(text)) or text
        cells += [text, *[""] * min(_number(_attribute(cell, "MergeAcross"), 0), COLUMNS)]
    return cells[:COLUMNS]


def _of_flat_document(name: str, root: Any) -> Iterator[tuple[str, XmlSheet]]:
    unseen = {
        _attribute(style, "name")
        for style in _within(root, "style")
        if any(_attribute(one, "display") == "false" for one in _within(style, "table-properties"))
    }
    for book in _within(root, "spreadsheet"):
        for table in (one for one in book if _local(one.tag) == "table"):
            columns, rows, found, number = set(), set(), [], 0
            for place, column in _repeated(_within(table, "table-column"), "number-columns-repeated"):
                if _attribute(column, "visibility") in ("collapse", "filter"):
                    columns.add(place - 1)
            for place, row in _repeated(_within(table, "table-row"), "number-rows-repeated"):
                if _attribute(row, "visibility") in ("collapse", "filter"):
                    rows.add(place)
                found.append(Row(place, _flat_cells(row)))
                number += len(found[-1].cells)
                if number > _CELLS:
                    raise FileError(f"{visible(name)} has too much in it, and was not read.")
            hidden = Hidden(frozenset(rows), frozenset(columns))
            yield _attribute(table, "name"), XmlSheet(found, hidden, _attribute(table, "style-name") in unseen)


def _flat_cells(row: Any) -> list[str]:
    cells: list[str] = []
    some = (cell for cell in row if _local(cell.tag) in ("table-cell", "covered-table-cell"))
    for _, cell in _repeated(some, "number-columns-repeated"):
        day = _attribute(cell, "date-value").removesuffix("T00:00:00")
        lines = ["".join(one.itertext()) for one in cell if _local(one.tag) == "p"]
        cells.append(day or "\n".join(lines).strip())
        if len(cells) > COLUMNS:
            break
    while cells and not cells[-1]:
        cells.pop()
    return cells


def _repeated(elements: Iterable[Any], name: str) -> Iterator[tuple[int, Any]]:
    """Elements with their places, from 1 on; one that stands for several, as often. The rest of a sheet is left out."""
    place = 0
    for element in elements:
        times = _number(_attribute(element, name), 1)
        if times > _REST and not "".join(element.itertext()).strip():
            return
        for _ in range(times):
            place += 1
            yield place, element
