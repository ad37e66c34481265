"""Rows of a table as contacts, with everything that could not be taken."""

from __future__ import annotations

from dataclasses import dataclass, field

from barnacle.core.addresses import check_address, parse_mailbox, split_cell
from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.errors import BadAddress, Unclear
from barnacle.core.names import display_name, turned
from barnacle.core.phones import check_phone
from barnacle.core.text import NAME_LIMIT, has_unsafe, tidy, visible
from barnacle.files.columns import Columns
from barnacle.files.table import Defect, Row

_ONE_LINE = ("name", "given", "family", "org", "job")
# What people write into a cell to say that there is no address.
_NO_ADDRESS = frozenset(("-", "–", "—", "n/a", "na", "none", "nil", "no", "no email", "no e-mail", "unknown", "?", "x"))


@dataclass(slots=True)
class Draft:
    """What a row comes to: its people (none when it is refused), what was refused and what was only cleaned."""

    row: int
    people: list[Contact] = field(default_factory=list)
    refused: list[Defect] = field(default_factory=list)
    cleaned: list[Defect] = field(default_factory=list)


def read_row(row: Row, columns: Columns) -> Draft:
    """The people of a row. A person with a broken address and no good one is refused; so is a row that does not
    fit the columns."""
    draft = Draft(row.number)
    if row.defect:
        draft.refused.append(row.defect)
        return draft
    width = len(columns.titles) if columns.header == 0 else _filled_width(columns)
    extra = [c for c in row.cells[width:] if c.strip()]
    if extra:
        reason = f"the row has {len(row.cells)} cells where the header has {width}"
        draft.refused.append(Defect(row.number, "", tidy(extra[0], 80), reason))
        return draft
    people: dict[int, Contact] = {}
    broken: dict[int, list[Defect]] = {}
    for use, title, cell in zip(columns.uses, columns.titles, row.cells, strict=False):
        if use is None or not cell.strip():
            continue
        person = people.setdefault(use.person, Contact())
        if has_unsafe(cell.strip() if use.field in _ONE_LINE else " ".join(cell.split())):
            reason = "a line break or control character became a space"
            draft.cleaned.append(Defect(row.number, title, visible(cell, 80), reason))
        if use.field == "address":
            broken.setdefault(use.person, []).extend(_take_addresses(person, cell, use.kind, row.number, title))
        elif use.field == "phone":
            _take_phones(person, cell, use.kind)
        else:
            _take_text(person, use.field, cell)
    for number, person in people.items():
        draft.refused += broken.get(number, [])
        _finish(person)
        if person.addresses or (person.title != "(no name)" and not broken.get(number)):
            draft.people.append(person)
        elif not broken.get(number):
            draft.refused.append(
                Defect(row.number, "", tidy(" ".join(row.cells), 80), "it has neither a name nor an address")
            )
    return draft


def _filled_width(columns: Columns) -> int:
    """How many columns the header names: nameless ones at the end are not expected to be filled."""
    width = len(columns.titles)
    while width and columns.titles[width - 1].startswith("column ") and columns.uses[width - 1] is None:
        width -= 1
    return width


def _take_addresses(person: Contact, cell: str, kind: str, row: int, column: str) -> list[Defect]:
    defects: list[Defect] = []
    if cell.strip().casefold() in _NO_ADDRESS:
        return defects
    have = set(person.address_keys())
    for piece in split_cell(cell):
        try:
            if "<" in piece:
                mailbox = parse_mailbox(piece)
                address = mailbox.address
                person.name = person.name or turned(mailbox.name)
            else:
                address = check_address(piece)
        except BadAddress as error:
            defects.append(Defect(row, column, tidy(piece, 80), error.reason))
            continue
        new = Address(address, kind)
        if address.casefold() not in have:
            have.add(address.casefold())
            person.addresses.append(new)
    return defects


def _take_phones(person: Contact, cell: str, kind: str) -> None:
    for piece in cell.replace(";", ",").replace("\n", ",").split(","):
        if not piece.strip():
            continue
        try:
            number = check_phone(piece)
        except Unclear:
            # Not a number: kept where somebody will read it, and no reason to lose the row.
            _take_text(person, "note", piece)
            continue
        if all(p.number != number for p in person.phones):
            person.phones.append(Phone(number, kind))


def _take_text(person: Contact, field_name: str, cell: str) -> None:
    value = tidy(cell, NAME_LIMIT if field_name in ("name", "given", "family", "org", "job") else 2000)
    if not value:
        return
    if field_name == "label":
        person.labels += [part for p in value.replace(";", ",").split(",") if (part := p.strip()[:60])]
    elif field_name == "note":
        person.note = f"{person.note}; {value}" if person.note else value
    elif field_name == "name":
        person.name = turned(value)
    else:
        setattr(person, field_name, value)


def _finish(person: Contact) -> None:
    if not person.name:
        person.name = display_name(person.given, person.family)
    person.labels = list(dict.fromkeys(person.labels))
