"""Rows of a table as contacts, with everything that could not be taken."""

from __future__ import annotations

import re

from barnacle.core.addresses import address_key, check_address, parse_mailbox, plain_address, split_cell, suggest
from barnacle.core.contact import Address, Contact, Extra, Phone
from barnacle.core.contact_fields import TEXTS
from barnacle.core.errors import BadAddressError, UnclearError
from barnacle.core.names import display_name, turned
from barnacle.core.phones import check_phone
from barnacle.core.text import NAME_LIMIT, VALUE_LIMIT, fold, has_unsafe, tidy, visible
from barnacle.files.drafts import Defect, Draft, Row, cleaned
from barnacle.files.tables.columns import Columns
from barnacle.files.tables.csv_writer import unharmed

_ONE_LINE = frozenset(field.name for field in TEXTS if field.limit == NAME_LIMIT)
_PLAIN_TEXT = _ONE_LINE | {"web"}
# What people write into a cell to say that there is no address.
_NO_ADDRESS = frozenset(("-", "–", "—", "n/a", "na", "none", "nil", "no", "no email", "no e-mail", "unknown", "?", "x"))
_SEVERAL = re.compile(r"[\s,;|<>/]|mailto:", re.IGNORECASE)
_BETWEEN_PHONES = re.compile(r"[;,\n/]")
_LOST = "\ufffd"
# A value as short as this is no title for a list by itself: the column's title stands before it.
_SHORT = 3


class RowReader:
    """Reads the rows of one table. `list_by` is the column whose value names a list, if any."""

    def __init__(self, columns: Columns, sheet: str = "", list_by: int | None = None) -> None:
        self.columns = columns
        self.sheet = sheet
        self.list_by = list_by
        self.width = len(columns.titles) if columns.header == 0 else _filled_width(columns)
        self._plan = [
            (None if title in columns.dropped else number, use, title, use is not None and use.field in _ONE_LINE)
            for number, (use, title) in enumerate(zip(columns.uses, columns.titles, strict=True))
        ]

    def read(self, row: Row) -> Draft:
        """The people of a row. A person with a broken address and no good one is refused; so is a row that does not
        fit the columns."""
        draft = Draft(row.number)
        if row.defect:
            draft.refused.append(row.defect._replace(sheet=self.sheet))
            return draft
        cells = row.cells
        if len(cells) > self.width and (extra := [c for c in cells[self.width :] if c.strip()]):
            reason = f"the row has {len(cells)} cells where the header has {self.width}"
            draft.refused.append(Defect(row.number, "", tidy(extra[0], 80), reason, "", self.sheet))
            return draft
        people: dict[int, Contact] = {}
        kept: list[Extra] = []
        broken: dict[int, list[Defect]] = {}
        joined = "".join(cells)
        plain = joined.isascii() and joined.isprintable() and "  " not in joined
        for (number, use, title, one_line), cell in zip(self._plan, cells, strict=False):
            if not cell or not (cell := unharmed(cell.strip())) or number is None:
                continue
            if not plain and (not cell.isprintable() or _LOST in cell):
                self._clean(draft, cell, title, one_line)
            if use is None:
                kept.append(Extra(f"csv:{title}", tidy(cell)))
                continue
            field, who, kind = use.field, use.person, use.kind
            person = people.get(who)
            if person is None:
                person = people[who] = Contact()
            if field == "address":
                if address := plain_address(cell):
                    _take_address(person, Address(address, kind))
                elif defects := self._addresses(person, cell, kind, row.number, title):
                    broken.setdefault(who, []).extend(defects)
            elif field == "phone":
                _take_phones(person, cell, kind)
            elif plain and len(cell) <= NAME_LIMIT and field in _PLAIN_TEXT and "," not in cell:
                setattr(person, field, cell)
            else:
                _take_text(person, field, cell)
        self._finish(draft, row, people, broken, kept)
        return draft

    def _finish(
        self,
        draft: Draft,
        row: Row,
        people: dict[int, Contact],
        broken: dict[int, list[Defect]],
        kept: list[Extra],
    ) -> None:
        """Take the people of a row who can be known by something, with what has no field and the list it names."""
        for number, person in people.items():
            draft.refused += broken.get(number, [])
            if not person.name:
                person.name = display_name(person.given, person.family)
            if person.given or person.family:
                person.drop_implied_parts()
            if person.addresses or (person.called and not broken.get(number)):
                draft.people.append(person)
            elif not broken.get(number):
                draft.refused.append(self._nobody(row))
        if not people:
            draft.refused.append(self._nobody(row))
        if draft.people:
            draft.people[0].extra += kept
            place = self.list_by
            if place is not None and place < len(row.cells) and (value := tidy(row.cells[place], 80)):
                draft.lists.append(value if len(value) > _SHORT else f"{self.columns.titles[place]} {value}")

    def _nobody(self, row: Row) -> Defect:
        what = tidy(" ".join(row.cells), 80)
        return Defect(row.number, "", what, "it has neither a name nor an address", "", self.sheet)

    def _clean(self, draft: Draft, cell: str, title: str, one_line: bool) -> None:
        if has_unsafe(cell if one_line else " ".join(cell.split())):
            draft.cleaned.append(cleaned(draft.row, title, cell, self.sheet))
        if _LOST in cell:
            reason = "a character could not be read; is the encoding right?"
            draft.cleaned.append(Defect(draft.row, title, visible(cell, 80), reason, "", self.sheet))

    def _addresses(self, person: Contact, cell: str, kind: str, row: int, title: str) -> list[Defect]:
        defects: list[Defect] = []
        if not _SEVERAL.search(cell):
            pieces = [cell]
        elif cell.casefold() in _NO_ADDRESS:
            return defects
        else:
            pieces = split_cell(cell)
        for piece in pieces:
            try:
                if "<" in piece:
                    mailbox = parse_mailbox(piece)
                    address = mailbox.address
                    person.name = person.name or turned(mailbox.name)
                else:
                    address = check_address(piece)
            except BadAddressError as error:
                if cell.casefold() not in _NO_ADDRESS:
                    defects.append(Defect(row, title, tidy(piece, 80), error.reason, suggest(piece), self.sheet))
                continue
            _take_address(person, Address(address, kind))
        return defects


def _filled_width(columns: Columns) -> int:
    """How many columns the header names: nameless ones at the end are not expected to be filled."""
    width = len(columns.titles)
    while width and columns.titles[width - 1].startswith("column ") and columns.uses[width - 1] is None:
        width -= 1
    return width


def _take_address(person: Contact, address: Address) -> None:
    """Add an address; one that is there already without a kind gains it."""
    key = address_key(address.address)
    for place, other in enumerate(person.addresses):
        if address_key(other.address) == key:
            if not other.kind:
                person.addresses[place] = Address(other.address, address.kind)
            return
    person.addresses.append(address)


def _take_phones(person: Contact, cell: str, kind: str) -> None:
    for piece in _BETWEEN_PHONES.split(cell) if _BETWEEN_PHONES.search(cell) else (cell,):
        if not piece.strip():
            continue
        try:
            number = check_phone(piece)
        except UnclearError:
            # Not a number: kept where somebody will read it, and no reason to lose the row.
            _take_text(person, "note", piece)
            continue
        if all(p.number != number for p in person.phones):
            person.phones.append(Phone(number, kind))


def _take_text(person: Contact, field_name: str, cell: str) -> None:
    value = tidy(cell, NAME_LIMIT if field_name in _ONE_LINE else VALUE_LIMIT)
    if not value:
        return
    if field_name == "name":
        person.name = turned(value)
    elif field_name == "label":
        have = {fold(label) for label in person.labels}
        for part in re.split("[,;]", value):
            if (label := part.strip()[:60]) and fold(label) not in have:
                have.add(fold(label))
                person.labels.append(label)
    elif field_name == "note":
        person.note = f"{person.note}; {value}" if person.note else value
    else:
        setattr(person, field_name, value)
