"""What an import did, or would do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from barnacle.core.contact import Contact, Difference
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.files.drafts import Defect as Defect
from barnacle.files.source import Source
from barnacle.files.tables.columns import Columns
from barnacle.files.tables.lines import IS_HEADING

# So many of each kind are kept with their place; the rest are counted. A file that is all wrong must not fill memory.
MOST_KEPT = 10_000


class Sharing(NamedTuple):
    """Somebody from a file who has an address of somebody else, and stays a contact of its own."""

    file: str
    row: int
    name: str
    address: str
    others: list[str]


class Likely(NamedTuple):
    """Somebody from a file who may be a contact that is known; both stay until a person decides."""

    file: str
    row: int
    name: str
    uid: str
    like: str
    like_name: str
    reason: str


# Whose value counts where somebody answered a form again.
LATER_ROW = "later row"


class Differing(NamedTuple):
    """A field in which the book and a file disagree, and whose value it has now: `book`, `file`, or `later row` where
    the file's own answers do."""

    file: str
    row: int
    name: str
    what: Difference
    kept: str


class Example(NamedTuple):
    """One of those whom an import brought, as the contact stands in the book: `what` is first, middle or oddest."""

    what: str
    file: str
    row: int
    contact: Contact


Told = Defect | Likely | Differing | Sharing


@dataclass(slots=True)
class FileReport:
    """A file of an import: how it was read, the columns of its tables by sheet, and what of it was not."""

    name: str
    kind: str
    label: str
    sheets: list[tuple[str, Columns]]
    skipped: list[str]
    unseen: list[str]

    @staticmethod
    def of(source: Source) -> FileReport:
        """What is to be said of a source."""
        sheets = [(sheet.title, sheet.columns) for sheet in source.sheets]
        skipped = [visible(title, 60) for title in source.skipped]
        return FileReport(source.name, source.kind, source.label, sheets, skipped, source.unseen)


@dataclass(slots=True)
class Report:
    """What an import did, or would do. `rows` are those with anything in them (of a file that is no table: its
    entries), the header not counted.

    Each row is counted once under `added` (a new contact in it), `updated` (known, with something new),
    `unchanged` (known, nothing new) or refused; `joined` counts the rows that met a known contact.
    """

    files: list[FileReport] = field(default_factory=list)
    lists: dict[str, tuple[bool, int]] = field(default_factory=dict)  # title: whether new, how many came to it
    rows: int = 0
    added: int = 0
    updated: int = 0
    unchanged: int = 0
    joined: int = 0
    new_contacts: int = 0
    without_address: int = 0
    groups: int = 0  # lists that the file itself brings
    refused_rows: int = 0
    joins: list[Likely] = field(default_factory=list)  # who was new by his row and is certain to be known all the same
    review: list[Likely] = field(default_factory=list)
    namesakes_only: bool = False  # the book is too large to compare everybody within an import
    refused: list[Defect] = field(default_factory=list)
    left_out: list[Defect] = field(default_factory=list)
    cleaned: list[Defect] = field(default_factory=list)
    doubtful: list[Defect] = field(default_factory=list)
    sharing: list[Sharing] = field(default_factory=list)
    differences: list[Differing] = field(default_factory=list)
    taken_off: list[tuple[str, str]] = field(default_factory=list)  # from which list, and who
    left_on: list[str] = field(default_factory=list)  # who was not taken off, since the files may mean them
    examples: list[Example] = field(default_factory=list)
    given_up: bool = False  # somebody said no when all was worked out
    shown: bool = False  # somebody has seen it
    left_away: int = 0  # of all these, how many were not kept
    tell: Callable[[str, Told], None] = lambda what, one: None  # hears of each of them, kept or not

    @property
    def headings(self) -> int:
        """How many headings there are among the lines that were left out."""
        return sum(one.reason.startswith(IS_HEADING) for one in self.left_out)

    @property
    def doubts(self) -> list[tuple[str, str]]:
        """What could not be told for certain of whole columns: file and sheet, and a sentence."""
        return [
            (f"{one.name}, {sheet}" if sheet else one.name, doubt.sentence)
            for one in self.files
            for sheet, columns in one.sheets
            for doubt in columns.doubts
        ]

    @property
    def taken(self) -> int:
        """How many rows were taken, at least in part."""
        return self.rows - self.refused_rows

    @property
    def new_members(self) -> int:
        """How many came to lists."""
        return sum(number for _, number in self.lists.values())

    def note(self, what: str, one: Told) -> None:
        """Keep something that is to be told (`what` names the field here), up to the limit."""
        self.tell(what, one)
        kept: list[Told] = getattr(self, what)
        if len(kept) < MOST_KEPT:
            kept.append(one)
        else:
            self.left_away += 1
