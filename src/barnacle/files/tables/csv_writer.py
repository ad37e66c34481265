"""Comma-separated values (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence

from barnacle.files.tables.contact_columns import title_of

# What begins so a spreadsheet may run as a formula; an apostrophe in front makes it text.
FORMULA = ("=", "+", "-", "@", "\t", "\r")


def harmless(cell: str) -> str:
    """A cell that no spreadsheet runs; `unharmed` gives back what it was."""
    text = cell.lstrip("' ")
    return f"'{cell}" if text.startswith(FORMULA) or cell.startswith(FORMULA) else cell


def unharmed(cell: str) -> str:
    """A cell without the apostrophe that made it harmless."""
    if cell.startswith("'") and (cell[1:].startswith(FORMULA) or cell.lstrip("' ").startswith(FORMULA)):
        return cell[1:]
    return cell


def write_csv(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> Iterator[str]:
    """The text of a table, row by row, under the titles of its columns."""
    yield _line([harmless(title_of(column)) for column in columns])
    for row in rows:
        yield _line([harmless(row.get(column, "")) for column in columns])


def _line(cells: list[str]) -> str:
    out = io.StringIO(newline="")
    csv.writer(out).writerow(cells)
    return out.getvalue()
