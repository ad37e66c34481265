"""Reports as comma-separated values, and a list as a sheet to print."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from datetime import date

from barnacle.core.text import people
from barnacle.files.tables.csv_writer import harmless
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.lists import manage
from barnacle.jobs.reports.drawing import Sheet
from barnacle.jobs.reports.numbers import Deliveries, Report
from barnacle.jobs.reports.wording import OUTCOMES, day_in_words, outcome_in_words


def as_csv(found: Report, parts: Sequence[str]) -> Iterator[str]:
    """The numbers, line by line (RFC 4180); a blank line between tables."""
    tables: list[tuple[Sequence[str], list[Sequence[object]]]] = []
    head: Sequence[str]
    if "reach" in parts:
        head = ("List", "Members", "Reached", "Failing", "Opted out", "No address", "Other")
        tables.append((head, [tuple(one) for one in found.reach]))
        rows = [(one.title, day, number) for one in found.growth for day, number in one.days]
        tables.append((("List", "Day", "Members"), list(rows)))
    if "deliveries" in parts:
        tables += _deliveries(found.deliveries)
    if "overlap" in parts:
        together = [(" + ".join(one.titles), one.people) for one in found.overlap.together]
        tables.append((("Lists together", "People"), list(together)))
        tables.append((("Name", "Messages", "Most in a month"), [tuple(one) for one in found.heard.busiest]))
    for place, (head, rows_) in enumerate(tables):
        if place:
            yield "\r\n"
        for row in (head, *rows_):
            out = io.StringIO(newline="")
            csv.writer(out).writerow([harmless(cell) if isinstance(cell, str) else cell for cell in row])
            yield out.getvalue()


def _deliveries(found: Deliveries) -> list[tuple[Sequence[str], list[Sequence[object]]]]:
    begins = "Month" if found.by_month else "Week of"
    head = (begins, *(outcome_in_words(name).capitalize() for name in OUTCOMES))
    return [(head, [tuple(one) for one in found.spans]), (("Domain", "Refused"), list(found.refusals))]


def sheet_of(desk: Desk, title: str, fields: Sequence[str]) -> Sheet:
    """A list to be printed: everybody on it by name, with the fields that are asked for. Raises NotFoundError,
    AmbiguousError, UnclearError."""
    shown = manage.show(desk, title, fields)
    reached = len(shown.members) - len(shown.why_not)
    about = f"{people(len(shown.members))}, {reached:,} can be reached · {day_in_words(date.today().isoformat())}"
    about = f"{shown.target.about} · {about}" if shown.target.about else about
    rows = [[member.contact.title, *shown.values[member.id]] for member in shown.members]
    return Sheet(shown.target.title, about, ["Name", *[_headed(name) for name in shown.columns]], rows)


def _headed(name: str) -> str:
    return name[:1].upper() + name[1:]
