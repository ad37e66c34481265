"""Contacts as rows of a table: which columns there are, and what stands in them. What was changed in a table that comes
back, `edited_rows` takes over."""

from __future__ import annotations

from collections.abc import Sequence
from operator import attrgetter

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import BY_NAME, PLAIN, TEXTS
from barnacle.core.own_fields import PREFIX, own_fields

TEXT_FIELDS = {field.column: field.name for field in PLAIN}
ADDRESSES = {"E-mail": "", "Work e-mail": "work", "Home e-mail": "home", "Other e-mail": "other"}
PHONES = {"Phone": "", "Mobile phone": "mobile", "Work phone": "work", "Home phone": "home", "Other phone": "other"}
_ADDRESS_COLUMNS, _PHONE_COLUMNS = ({kind: title for title, kind in some.items()} for some in (ADDRESSES, PHONES))
NAMES = {field.column: field.name for field in TEXTS if field.is_name}
NAME, GIVEN, FAMILY = (BY_NAME[name].column for name in ("name", "given", "family"))
FIRST, LABELS, LISTS, UID, VERSION = "Preferred e-mail", BY_NAME["labels"].column, "Lists", "Uid", "Book version"
_TEXT_COLUMNS = (*NAMES, *TEXT_FIELDS)
_texts_of = attrgetter(*NAMES.values(), *TEXT_FIELDS.values())
_ORDER = (*NAMES, FIRST, *ADDRESSES, *PHONES, *TEXT_FIELDS, LABELS)
LAST = (LISTS, UID, VERSION)


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
    if set(found) & set(ADDRESSES) in ({"E-mail"}, set()):
        found = [column for column in found if column != FIRST]  # one column of addresses keeps their order by itself
    own = [column for column in found if column.startswith(PREFIX)]
    return [*(c for c in _ORDER if c in found), *own, *(c for c in LAST if c in found)]


def title_of(column: str) -> str:
    """What stands above a column."""
    return column.removeprefix(PREFIX)
