"""What readers hand on, whatever file it came from: rows of cells, people with their place, and what was wrong."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.text import fold, visible
from barnacle.core.typed import NamedTuple


class Defect(NamedTuple):
    """Something in a file that could not be taken, or only cleaned: where, what, why, and the spelling that was
    probably meant. Rows count from 1, the header included; in files that are no tables they count entries."""

    row: int
    column: str
    value: str
    reason: str
    suggestion: str = ""
    sheet: str = ""
    file: str = ""

    @property
    def place(self) -> str:
        """Sheet and row, as a person would look for them."""
        return f"{self.sheet}, {self.row}" if self.sheet else str(self.row)


def cleaned(row: int, column: str, value: str, sheet: str = "") -> Defect:
    """What is to be said of a value in which something was no plain text."""
    return Defect(row, column, visible(value, 80), "a line break or control character became a space", "", sheet)


def was_cut(row: int, column: str, value: str, limit: int, sheet: str = "") -> Defect:
    """What is to be said of a value that is longer than its field."""
    reason = f"it has {len(value):,} characters; the first {limit:,} are kept"
    return Defect(row, column, visible(value, 80), reason, "", sheet)


class Row(NamedTuple):
    """A row of cells with its place in the file, or what is wrong with it as a whole; and what is to be said of its
    cells, of which something was left out."""

    number: int
    cells: list[str]
    defect: Defect | None = None
    after_gap: bool = False  # the row above it is empty
    odd: tuple[Defect, ...] = ()


# So many columns of a table are read: more are no table of people's.
COLUMNS = 1000


def row_of(number: int, cells: list[str]) -> Row:
    """A row; of a very wide one its beginning, and how much was left out."""
    if len(cells) <= COLUMNS:
        return Row(number, cells)
    beyond = sum(1 for cell in cells[COLUMNS:] if cell)
    reason = f"{beyond:,} filled cells are beyond the {COLUMNS:,} columns that are read, and were left out"
    return Row(number, cells[:COLUMNS], odd=(Defect(number, "", "", reason),) if beyond else ())


class Fitting(NamedTuple):
    """Rows one after the other that are of the kind somebody asked for: the place of the first in the file, their
    lines, and the parts that were found in each."""

    number: int
    lines: list[str]
    parts: list[tuple[str, ...]]

    def after(self, number: int) -> Fitting:
        """Those behind a place in the file."""
        cut = max(number + 1 - self.number, 0)
        return Fitting(self.number + cut, self.lines[cut:], self.parts[cut:])


# Takes whole lines apart, if they are rows of one kind: of each the parts, and a last one that is the line itself where
# it is of another kind, and else empty.
Fits = Callable[[list[str]], list[tuple[str, ...]]]


class Line(NamedTuple):
    """A line of text that stands in no table; `goes_on`: it is of one paragraph with the line before."""

    number: int
    text: str
    goes_on: bool


class Values:
    """The addresses, numbers and labels of a contact while they come in, each once, however many there are."""

    def __init__(self, contact: Contact) -> None:
        self.contact = contact
        self._keys = set(contact.address_keys())
        self._numbers = {phone.number for phone in contact.phones}
        self._labels = {fold(label) for label in contact.labels}

    def add_address(self, one: Address) -> None:
        if (key := address_key(one.address)) not in self._keys:
            self._keys.add(key)
            self.contact.addresses.append(one)

    def add_label(self, label: str) -> None:
        if (key := fold(label)) not in self._labels:
            self._labels.add(key)
            self.contact.labels.append(label)

    def add_phone(self, one: Phone) -> None:
        if one.number not in self._numbers:
            self._numbers.add(one.number)
            self.contact.phones.append(one)


class ListDraft(NamedTuple):
    """A list that a file brings: its title and its members, by uid or address."""

    title: str
    members: list[str]


@dataclass(slots=True)
class Draft:
    """What a row or entry comes to: its people (none when it is refused), what was refused, what was left out since it
    is no person's, what was taken but may be wrong, and what was only cleaned; the lists it names, and the list that
    it is."""

    row: int
    people: list[Contact] = field(default_factory=list)
    refused: list[Defect] = field(default_factory=list)
    left_out: list[Defect] = field(default_factory=list)
    doubtful: list[Defect] = field(default_factory=list)
    cleaned: list[Defect] = field(default_factory=list)
    lists: list[str] = field(default_factory=list)
    group: ListDraft | None = None
