"""Taking people in from a file: all that is good in it, in one action, with a report of the rest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import chain, islice
from pathlib import Path

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.contact import Contact, Difference, join
from barnacle.core.errors import FileError
from barnacle.core.phones import phone_key
from barnacle.core.text import people, visible
from barnacle.files.columns import Columns, find_columns
from barnacle.files.csvfile import find_layout, read_rows
from barnacle.files.people import Draft, read_row
from barnacle.files.table import Defect
from barnacle.jobs import known
from barnacle.jobs.desk import Desk

_SAMPLE = 200


@dataclass(slots=True)
class Sharing:
    """Somebody from a file who has an address of somebody else, and stays a contact of its own."""

    row: int
    name: str
    address: str
    others: list[str]


@dataclass(slots=True)
class Likely:
    """Somebody from a file who may be a contact of the same name; both stay until a person decides."""

    row: int
    name: str
    uid: str
    like: str
    reason: str


@dataclass(slots=True)
class Report:
    """What an import did, or would do. `rows` are those with anything in them, the header not counted.

    Each row is counted once under `added` (a new contact in it), `updated` (known, with something new),
    `unchanged` (known, nothing new) or `refused`; `joined` counts the rows that met a known contact.
    """

    file: str
    layout: str
    columns: Columns
    into: list[tuple[str, bool]] = field(default_factory=list)
    rows: int = 0
    added: int = 0
    updated: int = 0
    unchanged: int = 0
    joined: int = 0
    new_contacts: int = 0
    new_members: int = 0
    without_address: int = 0
    review: list[Likely] = field(default_factory=list)
    refused: list[Defect] = field(default_factory=list)
    refused_rows: int = 0
    cleaned: list[Defect] = field(default_factory=list)
    sharing: list[Sharing] = field(default_factory=list)
    differences: list[tuple[int, str, Difference]] = field(default_factory=list)

    @property
    def taken(self) -> int:
        """How many rows were taken, at least in part."""
        return self.rows - self.refused_rows


class _OnlyPlanned(Exception):
    """Ends the action of a plan, so that nothing of it stays."""


def import_file(
    desk: Desk,
    path: Path,
    into: str | None,
    labels: list[str],
    plan: bool,
    tick: Callable[[int], None] = lambda rows: None,
) -> Report:
    """Take the people of a CSV file in, into a list that is made where it is not there.

    Everything happens in one action: it is all there at the end, or nothing. With `plan` the same is worked out
    and nothing stays. Raises FileError, BookError, Ambiguous, Unclear.
    """
    layout = find_layout(path)
    rows = read_rows(path, layout)
    first = list(islice(rows, _SAMPLE))
    columns = find_columns(first)
    if not columns.field_titles("address") and not any(
        columns.field_titles(f) for f in ("name", "given", "family", "org")
    ):
        raise FileError(_no_people(path, columns))
    report = Report(visible(path.name), str(layout), columns)
    command = f"import {visible(path.name, 80)}"
    try:
        with desk.open() as book, book.action("import") as action:
            target = None
            if into is not None:
                found = desk.find_list(book, into)
                target = found or lists.new(book, into)
                report.into.append((target.title, found is None))
            taking = _Taking(desk, book, report, command, labels, [target.id] if target else [])
            for row in chain(first, rows):
                if row.number <= columns.header or not (row.defect or any(c.strip() for c in row.cells)):
                    continue
                report.rows += 1
                taking.take(read_row(row, columns))
                tick(report.rows)
            if report.rows == 0:
                raise FileError(f"{report.file} has a header and no rows under it. Nothing was taken in.")
            on = f" to {target.title}" if target else ""
            action.title = f"Took in {report.file}: {people(report.new_contacts)} added{on}"
            if plan or (report.refused_rows == report.rows):
                raise _OnlyPlanned
    except _OnlyPlanned:
        pass
    return report


def _no_people(path: Path, columns: Columns) -> str:
    titles = ", ".join(visible(t, 30) for t in columns.titles[:8])
    return (
        f"No column of {visible(path.name)} looks like names or addresses (the columns are: {titles}). "
        "Nothing was taken in; give the columns titles such as Name and E-mail."
    )


class _Taking:
    """The work of one import inside its action."""

    def __init__(
        self, desk: Desk, book: Book, report: Report, command: str, labels: list[str], targets: list[int]
    ) -> None:
        self.desk = desk
        self.book = book
        self.report = report
        self.command = command
        self.labels = labels
        self.targets = targets
        self._phone_keys: dict[str, str] = {}

    def phone_key(self, number: str) -> str:
        if number not in self._phone_keys:
            if len(self._phone_keys) > 50_000:
                self._phone_keys.clear()
            self._phone_keys[number] = phone_key(number, self.desk.region)
        return self._phone_keys[number]

    def take(self, draft: Draft) -> None:
        report = self.report
        report.refused += draft.refused
        report.cleaned += draft.cleaned
        if not draft.people:
            report.refused_rows += 1
            return
        outcomes = [self._person(draft.row, person) for person in draft.people]
        if "added" in outcomes:
            report.added += 1
        elif "updated" in outcomes:
            report.updated += 1
        else:
            report.unchanged += 1
        report.joined += any(o != "added" for o in outcomes)

    def _person(self, number: int, person: Contact) -> str:
        person.labels += [label for label in self.labels if label not in person.labels]
        if person.addresses:
            found, others = known.by_address(self.book, person)
        else:
            found, others = known.by_name(self.book, person, self.desk.region)
        if found is not None:
            contact = found.contact
            changed, differences = join(contact, person, self.phone_key)
            if changed:
                contacts.save(self.book, found.id, contact)
            self.report.differences += [(number, contact.title, d) for d in differences]
            self._put_on_lists(found.id)
            return "updated" if changed else "unchanged"
        assert self.book.current is not None
        person.source, person.added = self.command, self.book.current.at
        row = contacts.add(self.book, person)
        self.report.new_contacts += 1
        self.report.without_address += not person.addresses
        self._put_on_lists(row)
        if others and person.addresses:
            titles = [k.contact.title for k in others]
            self.report.sharing.append(Sharing(number, person.title, person.addresses[0].address, titles))
        for kept in others if not person.addresses else []:
            reason = "the same name; the row has no address to tell by"
            self.report.review.append(Likely(number, person.title, person.uid, kept.contact.uid, reason))
        return "added"

    def _put_on_lists(self, row: int) -> None:
        for target in self.targets:
            self.report.new_members += lists.add_member(self.book, target, row, self.command)
