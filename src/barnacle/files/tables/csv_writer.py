"""Contacts as comma-separated values (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import BY_NAME, PLAIN, TEXTS

_TEXTS = {field.column: field.name for field in PLAIN}
_ADDRESSES = {"E-mail": "", "Work e-mail": "work", "Home e-mail": "home", "Other e-mail": "other"}
_PHONES = {"Phone": "", "Mobile phone": "mobile", "Work phone": "work", "Home phone": "home", "Other phone": "other"}
_NAMES = {field.column: field.name for field in TEXTS if field.is_name}
FIRST, LABELS, UID = "Preferred e-mail", BY_NAME["labels"].column, "Uid"
# What begins so a spreadsheet may run as a formula; an apostrophe in front makes it text.
FORMULA = ("=", "+", "-", "@", "\t", "\r")


def harmless(cell: str) -> str:
    """A cell that no spreadsheet runs; `unharmed` gives back what it was."""
    text = cell.lstrip("' ")
    return f"'{cell}" if text.startswith(FORMULA) or cell.startswith(FORMULA) else cell


def unharmed(cell: str) -> str:
    """A cell without the apostrophe that made it harmless."""
    if cell.startswith("'") and (cell[1:].startswith(FORMULA) or cell.lstrip("' ").startswith(FORMULA)):
        return cell[1:]
    return cell


def write_csv(first: Iterable[Contact], again: Iterable[Contact]) -> Iterator[str]:
    """The text of a table, row by row: a column for each field that anybody has something in.

    The contacts are gone through twice, so that not all need to be kept: for the columns, then for the rows.
    """
    columns: dict[str, None] = {}
    order = [*_NAMES, FIRST, *_ADDRESSES, *_PHONES, *_TEXTS, LABELS, UID]
    for contact in first:
        columns.update(dict.fromkeys(_row(contact)))
    if set(columns) & set(_ADDRESSES) == {"E-mail"} or not columns.keys() & _ADDRESSES.keys():
        columns.pop(FIRST, None)  # one column of addresses keeps their order by itself
    titles = [c for c in order if c in columns] + sorted(c for c in columns if c not in order)
    yield _line([harmless(title.removeprefix(_OTHER)) for title in titles])
    for contact in again:
        row = _row(contact)
        yield _line([harmless(row.get(title, "")) for title in titles])


# Columns that came from a table stand under their own titles, whatever those are.
_OTHER = "csv:"


def _row(contact: Contact) -> dict[str, str]:
    row = {UID: contact.uid, LABELS: ", ".join(contact.labels)}
    if len(contact.addresses) > 1:
        row[FIRST] = contact.preferred or ""
    for title, kind in _ADDRESSES.items():
        row[title] = ", ".join(a.address for a in contact.addresses if a.kind == kind)
    for title, kind in _PHONES.items():
        row[title] = ", ".join(p.number for p in contact.phones if p.kind == kind)
    for title, name in (_NAMES | _TEXTS).items():
        row[title] = getattr(contact, name)
    row |= {extra.key: extra.value for extra in contact.extra if extra.key.startswith(_OTHER)}
    return {title: value for title, value in row.items() if value}


def _line(cells: list[str]) -> str:
    out = io.StringIO(newline="")
    csv.writer(out).writerow(cells)
    return out.getvalue()
