"""Rows of a table that came from a book and come back: what was changed in them since, cell by cell."""

from __future__ import annotations

import re
from collections.abc import Mapping

from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact, Difference
from barnacle.core.errors import BarnacleError
from barnacle.core.names import display_name
from barnacle.core.own_fields import set_own
from barnacle.core.phones import cut_phones, phone_key
from barnacle.core.text import LABEL_LIMIT
from barnacle.files.tables.blanks import says_nothing
from barnacle.files.tables.contact_columns import (
    ADDRESSES,
    FAMILY,
    FIRST,
    GIVEN,
    LABELS,
    LAST,
    NAME,
    NAMES,
    PHONES,
    TEXT_FIELDS,
    cells_of,
    title_of,
)
from barnacle.files.tables.taking import take_address, take_phones, take_text


def edited(known: Contact, base: Contact, row: Mapping[str, str], region: str, prefer_row: bool) -> list[Difference]:
    """Take over into `known` what was changed in its row of a table since that was written; `base` is the contact as it
    was then, `row` what stands in each column of the table now, by title. Where the book has changed the same cell,
    its value stays unless `prefer_row`. Returns those differences."""
    was, now = (_by_title(cells_of(contact, with_parts=True)) for contact in (base, known))
    clashes = []
    changes: dict[str, str] = {}
    for title, cell in row.items():
        if title in LAST or _same(title, cell, was.get(title, ""), region):
            continue
        if not _same(title, now.get(title, ""), was.get(title, ""), region):
            if _same(title, cell, now.get(title, ""), region) or (
                title in PHONES and _has_taken(known, cell, now.get(title, ""), region)
            ):
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
    if title in PHONES:
        numbers = _numbers(one, region)
        return numbers == _numbers(other, region) and (numbers != set() or all(map(says_nothing, (one, other))))
    return False


def _numbers(cell: str, region: str) -> set[str]:
    return {phone_key(number, region) for number, _ in cut_phones(cell) if number}


def _has_taken(known: Contact, cell: str, now: str, region: str) -> bool:
    """Whether a contact has the numbers of a cell already: one may be of another kind by what stands beside it."""
    numbers = _numbers(cell, region)
    return numbers <= {phone_key(phone.number, region) for phone in known.phones} and _numbers(now, region) <= numbers


def _change(known: Contact, changes: Mapping[str, str], region: str) -> None:
    # Phones last: what stands beside a number goes into the note, which may be among the changes.
    for title, value in sorted(changes.items(), key=lambda change: change[0] in PHONES):
        if title in TEXT_FIELDS:
            setattr(known, TEXT_FIELDS[title], value)
        elif title in ADDRESSES:
            known.addresses = _of_kind(known.addresses, ADDRESSES[title], value)
        elif title in PHONES:
            _take_phones(known, PHONES[title], value, region)
        elif title == LABELS:
            known.labels = [label for part in re.split("[,;]", value) if (label := part.strip()[:LABEL_LIMIT])]
        elif title not in (*NAMES, FIRST, *LAST):
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


def _take_phones(known: Contact, kind: str, cell: str, region: str) -> None:
    """The numbers of one kind as a cell has them now. Where it has words and no number, they go into the note, and the
    numbers stay."""
    read = Contact()
    take_phones(read, cell, kind, region)
    if read.note not in known.note:
        take_text(known, "note", read.note)
    for address in read.addresses:
        take_address(known, address)
    if read.phones or not read.note:
        keys = {phone_key(phone.number, region) for phone in read.phones}
        kept = [p for p in known.phones if p.kind != kind or phone_key(p.number, region) in keys]
        there = {phone_key(p.number, region) for p in kept}
        known.phones = kept + [p for p in read.phones if phone_key(p.number, region) not in there]
