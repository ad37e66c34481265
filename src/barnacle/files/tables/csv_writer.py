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


# So many rows are put together before they are given out.
_AT_ONCE = 500


def write_csv(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> Iterator[str]:
    """The text of a table under the titles of its columns, some rows at a time."""
    out = io.StringIO(newline="")
    put = csv.writer(out).writerow
    put([harmless(title_of(column)) for column in columns])
    for number, row in enumerate(rows, 1):
        get = row.get
        # What begins with a letter or a figure, as most does, no spreadsheet runs.
        put([cell if not (cell := get(c, "")) or cell[0].isalnum() else harmless(cell) for c in columns])
        if number % _AT_ONCE == 0:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()
