"""Taking people in from files: all that is good in them, in one action, with a report of the rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path

from barnacle.book import bulk, contacts
from barnacle.book.store import Book, now
from barnacle.core.errors import FileError
from barnacle.core.gc_paused import uncollected
from barnacle.core.text import listed, people, visible
from barnacle.files.kinds import FIELDED as FIELDED
from barnacle.files.kinds import KINDS as KINDS
from barnacle.files.opening import open_source
from barnacle.files.source import Options as Options
from barnacle.files.source import Source
from barnacle.files.tables.rows import Reading as Reading
from barnacle.files.worker import ahead
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.imports import column_maps
from barnacle.jobs.imports.apply import Taking
from barnacle.jobs.imports.batches import prepare, prepare_alone
from barnacle.jobs.imports.fast_rows import Stamp
from barnacle.jobs.imports.report import FileReport, Report, Told

# From this size on a file is read in a process of its own.
_LARGE = 1 << 20
_FEW = 1000


class _OnlyPlannedError(Exception):
    """Ends the action of a plan, so that nothing of it stays."""


def import_files(
    desk: Desk,
    paths: Sequence[Path],
    options: Options,
    into: str | None = None,
    labels: Sequence[str] = (),
    prefer_file: bool = False,
    plan: bool = False,
    keep_columns: str | None = None,
    tell: Callable[[str, Told], None] = lambda what, one: None,
    tick: Callable[[int, int | None], None] = lambda done, total: None,
    compare: Callable[[int, int], None] = lambda done, total: None,
    agree: Callable[[Report], bool] = lambda report: True,
    opted_out: bool = False,
    take_missing_off: str | None = None,
) -> Report:
    """Take the people of files in, onto a list that is made where it is not there.

    `tick` is told how many rows are taken in, `compare` how far the search is for who of them is known by name.
    `keep_columns` is a name to keep under what the first file's columns were taken for. `tell` hears of everything
    that is refused, doubtful or different as it is found, also of what is too much for the report to keep.

    `opted_out` says that everybody in the files must not be written to; `take_missing_off` is a list that loses whoever
    is not in them.

    Everything happens in one action: it is all there at the end, or nothing. With `plan` the same is worked out
    and nothing stays; so it is where `agree`, which is asked when all is worked out, says no. Raises FileError,
    BookError, AmbiguousError, UnclearError.
    """
    options = replace(options, how=options.how._replace(region=desk.region, now=now()))
    sources = [open_source(path, options) for path in paths]
    report = Report([FileReport.of(source) for source in sources], tell=tell)
    if keep_columns is not None:
        column_maps.check_name(keep_columns, report.files[0])
    names = [source.name for source in sources]
    command = f"import {listed(names, 2)}"[:120]
    try:
        with (
            uncollected(),
            desk.open() as book,
            bulk.filling(book) if _fills(book, sources, 0) else nullcontext(),
            book.action("import") as action,
            bulk.adding(book, _fills(book, sources, _FEW)),
        ):
            taking = Taking(desk, book, report, command, prefer_file)
            taking.into(into)
            about = [number for source in sources if (number := source.about()) is not None]
            total = sum(about) if len(about) == len(sources) else None
            for source in sources:
                large = source.path.stat().st_size >= _LARGE
                anew = large and not contacts.any_address(book)  # in a small one the book may be asked of each
                taking.begin(source.name, anew)
                before = report.rows
                stamp = Stamp(command, now(), tuple(labels), opted_out, take_missing_off is not None)
                asked = source, taking.next_number(), stamp, anew
                for batch in ahead(prepare_alone, *asked) if large else prepare(*asked):
                    taking.take(batch)
                    tick(report.rows, None if total is None else max(total, report.rows))
                if report.rows == before and not report.groups:
                    raise FileError(_nothing_in(source))
            taking.finish(compare)
            if take_missing_off is not None:
                taking.take_missing_off(take_missing_off)
            on = f" to {into}" if into is not None else ""
            updated = f", {report.updated} updated" if report.updated else ""
            action.title = f"Imported {listed(names, 3)}: {people(report.new_contacts)} added{visible(on)}{updated}"
            if plan or (report.refused_rows == report.rows and not report.groups):
                raise _OnlyPlannedError
            if not agree(report):
                report.given_up = True
                raise _OnlyPlannedError
            if keep_columns is not None:
                column_maps.keep(desk, book, keep_columns, report.files[0])
    except _OnlyPlannedError:
        pass
    return report


def _fills(book: Book, sources: Sequence[Source], most: int) -> bool:
    """Whether a long file comes into a book that has at most so many contacts."""
    return any(source.path.stat().st_size >= _LARGE for source in sources) and contacts.count(book) <= most


def _nothing_in(source: Source) -> str:
    if source.sheets and source.sheets[0].columns.header:
        return f"{source.name} has a header but no rows, so nothing was added."
    return f"{source.name} has nobody in it, so nothing was added."
