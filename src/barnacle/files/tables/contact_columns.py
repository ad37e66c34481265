"""Contacts as rows of a table: which columns there are, and what stands in them. A table that goes out can come back:
`edited` takes over what was changed in it, cell by cell."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from operator import attrgetter

from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact, Difference, Phone
from barnacle.core.contact_fields import BY_NAME, PLAIN, TEXTS
from barnacle.core.errors import BarnacleError
from barnacle.core.names import display_name
from barnacle.core.own_fields import PREFIX, own_fields, set_own
from barnacle.core.phones import check_phone, phone_key
from barnacle.core.text import LABEL_LIMIT

_TEXTS = {field.column: field.name for field in PLAIN}
_ADDRESSES = {"E-mail": "", "Work e-mail": "work", "Home e-mail": "home", "Other e-mail": "other"}
_PHONES = {"Phone": "", "Mobile phone": "mobile", "Work phone": "work", "Home phone": "home", "Other phone": "other"}
_ADDRESS_COLUMNS, _PHONE_COLUMNS = ({kind: title for title, kind in some.items()} for some in (_ADDRESSES, _PHONES))
_NAMES = {field.column: field.name for field in TEXTS if field.is_name}
NAME, GIVEN, FAMILY = (BY_NAME[name].column for name in ("name", "given", "family"))
FIRST, LABELS, LISTS, UID, VERSION = "Preferred e-mail", BY_NAME["labels"].column, "Lists", "Uid", "Book version"
_TEXT_COLUMNS = (*_NAMES, *_TEXTS)
_texts_of = attrgetter(*_NAMES.values(), *_TEXTS.values())
_ORDER = (*_NAMES, FIRST, *_ADDRESSES, *_PHONES, *_TEXTS, LABELS)
_LAST = (LISTS, UID, VERSION)


def cells_of(contact: Contact, with_parts: bool = False) -> dict[str, str]:
    """What stands in each column of a contact's row, empty cells left out; a field of one's own under its key. With
    `with_parts` given and family name stand there also where the name says them."""
    cells = {title: value for title, value in zip(_TEXT_COLUMNS, _texts_of(contact), strict=True) if value}
    if with_parts and contact.name:
        given, family = contact.parts()
        if given:
            cells[GIVEN] = given
        if family:
            cells[FAMILY] = family
    if len(contact.addresses) > 1:
        cells[FIRST] = contact.addresses[0].address
    for address, kind in contact.addresses:
        _put(cells, _ADDRESS_COLUMNS.get(kind), address)
    for number, kind in contact.phones:
        _put(cells, _PHONE_COLUMNS.get(kind), number)
    if contact.labels:
        cells[LABELS] = ", ".join(contact.labels)
    if contact.uid:
        cells[UID] = contact.uid
    if contact.extra:
        cells |= {f"{PREFIX}{title}": value for title, value in own_fields(contact).items() if value}
    return cells


def _put(cells: dict[str, str], column: str | None, value: str) -> None:
    if column is not None and value:
        cells[column] = f"{cells[column]}, {value}" if column in cells else value


def columns_in_order(found: Sequence[str]) -> list[str]:
    """The columns in which anybody has something, in the order of a table: fields of one's own as they came."""
    if set(found) & set(_ADDRESSES) in ({"E-mail"}, set()):
        found = [column for column in found if column != FIRST]  # one column of addresses keeps their order by itself
    own = [column for column in found if column.startswith(PREFIX)]
    return [*(c for c in _ORDER if c in found), *own, *(c for c in _LAST if c in found)]


def title_of(column: str) -> str:
    """What stands above a column."""
    return column.removeprefix(PREFIX)


def edited(known: Contact, base: Contact, row: Mapping[str, str], region: str, prefer_row: bool) -> list[Difference]:
    """Take over into `known` what was changed in its row of a table since that was written; `base` is the contact as it
    was then, `row` what stands in each column of the table now, by title. Where the book has changed the same cell,
    its value stays unless `prefer_row`. Returns those differences."""
    was, now = (_by_title(cells_of(contact, with_parts=True)) for contact in (base, known))
    clashes = []
    changes: dict[str, str] = {}
    for title, cell in row.items():
        if title in _LAST or _same(title, cell, was.get(title, ""), region):
            continue
        if not _same(title, now.get(title, ""), was.get(title, ""), region):
            if _same(title, cell, now.get(title, ""), region):
                continue
            clashes.append(Difference(title, now.get(title, ""), cell))
            if not prefer_row:
                continue
        changes[title] = cell
    _change(known, changes, region)
    return clashes


def _by_title(cells: Mapping[str, str]) -> dict[str, str]:
    return {title_of(column): value for column, value in cells.items()}


def _same(title: str, one: str, other: str, region: str) -> bool:
    """Whether two cells say the same, however a spreadsheet has written them again."""
    if " ".join(one.split()) == " ".join(other.split()):
        return True
    if title in _PHONES:
        keys = [{phone_key(part, region) for part in text.split(",") if part.strip()} for text in (one, other)]
        return keys[0] == keys[1]
    return False


def _change(known: Contact, changes: Mapping[str, str], region: str) -> None:
    for title, value in changes.items():
        if title in _TEXTS:
            setattr(known, _TEXTS[title], value)
        elif title in _ADDRESSES:
            known.addresses = _of_kind(known.addresses, _ADDRESSES[title], value)
        elif title in _PHONES:
            known.phones = _phones(known.phones, _PHONES[title], value, region)
        elif title == LABELS:
            known.labels = [label for part in re.split("[,;]", value) if (label := part.strip()[:LABEL_LIMIT])]
        elif title not in (*_NAMES, FIRST, *_LAST):
            set_own(known, title, value)
    first = changes.get(FIRST)
    if first:
        known.addresses.sort(key=lambda a: address_key(a.address) != address_key(first))
    if NAME in changes:
        known.name, known.given, known.family = changes[NAME], "", ""
    if GIVEN in changes or FAMILY in changes:
        given, family = known.parts()
        known.given, known.family = changes.get(GIVEN, given), changes.get(FAMILY, family)
        if NAME not in changes:
            known.name = display_name(known.given, known.family)
        known.drop_implied_parts()


def _of_kind(have: list[Address], kind: str, cell: str) -> list[Address]:
    """The addresses with those of one kind as a cell has them; what is no address there is left as it was."""
    wanted = []
    for part in re.split(r"[,;\s]+", cell):
        if part:
            try:
                wanted.append(check_address(part))
            except BarnacleError:
                return have
    keys = [address_key(one) for one in wanted]
    kept = [a for a in have if a.kind != kind or address_key(a.address) in keys]
    there = {address_key(a.address) for a in kept}
    new = [Address(one, kind) for one, key in zip(wanted, keys, strict=True) if key not in there]
    if len(new) == 1 and len(kept) == len(have) - 1:  # one was written anew: it keeps its place
        place = next(n for n, a in enumerate(have) if a not in kept)
        return [*kept[:place], *new, *kept[place:]]
    return kept + new


def _phones(have: list[Phone], kind: str, cell: str, region: str) -> list[Phone]:
    numbers = [check_phone(part.strip()) for part in cell.split(",") if sum(c.isdigit() for c in part) >= 3]
    keys = {phone_key(number, region) for number in numbers}
    kept = [p for p in have if p.kind != kind or phone_key(p.number, region) in keys]
    there = {phone_key(p.number, region) for p in kept}
    return kept + [Phone(number, kind) for number in numbers if phone_key(number, region) not in there]
