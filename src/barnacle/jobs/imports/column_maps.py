"""What the columns of a form hold, kept under a name for its next export."""

from __future__ import annotations

import re

from barnacle.book import settings
from barnacle.book.store import Book
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.text import listed, visible
from barnacle.files.tables.columns import Columns, read_mapping
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.imports.report import FileReport

_SECTION = "columns."


def find(desk: Desk, text: str) -> dict[str, str]:
    """A mapping as written, or the one kept under a name. Raises NotFoundError, UnclearError."""
    if "=" in text:
        return read_mapping(text)
    kept = {key.removeprefix(_SECTION): str(v) for key, v in desk.settings.items() if key.startswith(_SECTION)}
    if text not in kept:
        known = (
            f"The ones you have are {listed(sorted(kept))}."
            if kept
            else "You have none yet; --keep-columns NAME keeps one."
        )
        write = "A column's use is written TITLE=USE, such as `Owner=name`. " if ":" in text else ""
        raise NotFoundError(f"No columns are kept under the name `{visible(text, 40)}`. {write}{known}")
    return read_mapping(kept[text])


def check_name(name: str, report: FileReport) -> None:
    """Raises UnclearError where a file's columns cannot be kept under that name."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]{0,39}", name):
        raise UnclearError(f"`{visible(name, 40)}` cannot be a name for columns: use letters, digits and hyphens.")
    if not report.sheets:
        raise UnclearError(f"{report.name} has no columns to keep.")


def keep(desk: Desk, book: Book, name: str, report: FileReport) -> None:
    """Keep what a file's columns were taken for, inside a running action."""
    settings.change(book, desk.settings_path, {f"{_SECTION}{name}": written(report.sheets[0][1])})


def written(columns: Columns) -> str:
    """Columns as a mapping that reads the same; those with a sign in their title that a mapping uses are left out."""
    parts = []
    for title, use in zip(columns.titles, columns.uses, strict=True):
        if not re.search("[=,;]", title):
            parts.append(f"{title}={use or ('drop' if title in columns.dropped else 'keep')}")
    return ", ".join(parts)
