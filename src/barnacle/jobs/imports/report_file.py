"""An import's report as a file: each refused, doubtful or cleaned value, who may be known, and what differs."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.text import listed, visible
from barnacle.files.atomic import replacing
from barnacle.files.drafts import Defect
from barnacle.files.tables.csv_writer import harmless
from barnacle.jobs.imports.report import LATER_ROW, Differing, Likely, Told

_TITLES = ("What", "File", "Sheet", "Row", "Column", "Value", "Reason", "Suggestion")


@contextmanager
def telling(path: Path | None) -> Iterator[Callable[[str, Told], None]]:
    """What an import tells is written to a table as it comes, however much it is; a spreadsheet opens it without harm.

    The file is there at the end, whole, or not at all. Without a path nothing is written. Raises FileError.
    """
    if path is None:
        yield lambda what, one: None
        return
    with replacing(path) as out:
        table = csv.writer(out)
        table.writerow(_TITLES)

        def tell(what: str, one: Told) -> None:
            table.writerow([what, *(harmless(visible(cell)) for cell in _cells(what, one))])

        yield tell


def _cells(what: str, one: Told) -> tuple[str, ...]:
    if isinstance(one, Defect):
        return one.file, one.sheet, str(one.row), one.column, one.value, one.reason, one.suggestion
    if isinstance(one, Likely):
        sure = "joined" if what == "joins" else "perhaps"
        reason = f"{sure} {one.like_name} ({one.like}): {one.reason}"
        return one.file, "", str(one.row), "", one.name, reason, ""
    if isinstance(one, Differing):
        field = one.what
        there = "further up stands" if one.kept == LATER_ROW else "the book has"
        reason = f"{one.name}: {there} `{field.book}`; the {one.kept}'s value counts"
        return one.file, "", str(one.row), field.field, field.file, reason, ""
    return one.file, "", str(one.row), "", one.address, f"{one.name} shares it with {listed(one.others)}", ""
