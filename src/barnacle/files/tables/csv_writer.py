"""Comma-separated values (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from barnacle.files.tables.contact_columns import title_of

# What begins so a spreadsheet may run as a formula, behind blanks and what one does not see, in full width too; an
# apostrophe in front makes it text.
_FORMULA = re.compile(
    "'*[\t\r\n]|[\\s'\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff\u00ad]*[=+@\uff1d\uff0b\uff20\uff0d\u2212-]"
).match


def harmless(cell: str) -> str:
    """A cell that no spreadsheet runs; `unharmed` gives back what it was."""
    return f"'{cell}" if _FORMULA(cell) else cell


def unharmed(cell: str) -> str:
    """A cell without the apostrophe that made it harmless."""
    return cell[1:] if cell.startswith("'") and _FORMULA(cell[1:]) else cell


def write_csv(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> Iterator[str]:
    """The text of a table, row by row, under the titles of its columns."""
    yield _line([harmless(title_of(column)) for column in columns])
    for row in rows:
        yield _line([harmless(row.get(column, "")) for column in columns])


def _line(cells: list[str]) -> str:
    out = io.StringIO(newline="")
    csv.writer(out).writerow(cells)
    return out.getvalue()
