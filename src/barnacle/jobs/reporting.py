"""An import's report as a file: each refused, doubtful or cleaned value, and who may be known."""

from __future__ import annotations

import csv
from pathlib import Path

from barnacle.core.text import visible
from barnacle.files.private import replacing
from barnacle.files.tablefile import harmless
from barnacle.jobs.report import Report

_TITLES = ("What", "File", "Sheet", "Row", "Column", "Value", "Reason", "Suggestion")


def write(report: Report, path: Path) -> None:
    """Write the report as a table that a spreadsheet opens without harm. Raises FileError."""
    with replacing(path) as out:
        table = csv.writer(out)
        table.writerow(_TITLES)
        for what, defects in (("refused", report.refused), ("doubtful", report.doubtful), ("cleaned", report.cleaned)):
            for d in defects:
                cells = (d.file, d.sheet, str(d.row), d.column, d.value, d.reason, d.suggestion)
                table.writerow([what, *map(harmless, map(visible, cells))])
        for one in report.review:
            reason = f"perhaps {one.like_name} ({one.like}): {one.reason}"
            cells = (one.file, "", str(one.row), "", one.name, reason, "")
            table.writerow(["review", *map(harmless, map(visible, cells))])
        for other in report.differences:
            field = other.what
            reason = f"{other.name}: the book has `{field.book}`; the {other.kept}'s value counts"
            cells = (other.file, "", str(other.row), field.field, field.file, reason, "")
            table.writerow(["different", *map(harmless, map(visible, cells))])
