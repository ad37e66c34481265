"""Taking values into contacts: each address and number once, texts within their limits, what two people share."""

from __future__ import annotations

import re

from barnacle.core.addresses import address_key, plain_address
from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.contact_fields import TEXTS
from barnacle.core.phones import cut_phones, with_lost_signs
from barnacle.core.text import LABEL_LIMIT, NAME_LIMIT, VALUE_LIMIT, fold, tidy
from barnacle.files.tables.blanks import says_nothing
from barnacle.files.tables.remarks import kind_of

# Fields of one line.
ONE_LINE = frozenset(field.name for field in TEXTS if field.limit == NAME_LIMIT)


def take_address(person: Contact, address: Address) -> None:
    """Add an address; one that is there already without a kind gains it."""
    key = address_key(address.address)
    for place, other in enumerate(person.addresses):
        if address_key(other.address) == key:
            if not other.kind:
                person.addresses[place] = Address(other.address, address.kind)
            return
    person.addresses.append(address)


def take_phone(person: Contact, phone: Phone) -> None:
    """Add a number that is not there yet."""
    if all(known.number != phone.number for known in person.phones):
        person.phones.append(phone)


def take_phones(person: Contact, cell: str, kind: str, region: str) -> None:
    """Add the numbers of a cell, in a country (ISO 3166) where they name none. What stands beside them, and what is no
    number, is kept in the note, where somebody will read it: it is no reason to lose the row."""
    for number, beside in cut_phones(cell):
        said, is_all = kind_of(beside)
        if not number:
            if address := plain_address(beside):
                take_address(person, Address(address, ""))
            elif not says_nothing(beside):
                take_text(person, "note", beside)
            continue
        number = with_lost_signs(number, region)
        if beside and not is_all and not says_nothing(beside):
            take_text(person, "note", f"{number}: {beside}")
        take_phone(person, Phone(number, said or kind))


def take_text(person: Contact, field_name: str, cell: str) -> None:
    """Set a text; a note is put behind the one that is there, labels beside those."""
    value = tidy(cell, NAME_LIMIT if field_name in ONE_LINE else VALUE_LIMIT)
    if not value:
        return
    if field_name == "label":
        have = {fold(label) for label in person.labels}
        for part in re.split("[,;]", value):
            if (label := part.strip()[:LABEL_LIMIT]) and fold(label) not in have:
                have.add(fold(label))
                person.labels.append(label)
    elif field_name == "note":
        person.note = f"{person.note}; {value}" if person.note else value
    else:
        setattr(person, field_name, value)


def shared_out(names: list[str], addresses: list[Address]) -> tuple[list[Address], list[Address]]:
    """Whose of two people's which address is: where each has one that is like the name, each has that one; else both
    have all."""
    given = [fold(name.split()[0]) for name in names]
    like = [[given[n] in fold(a.address.partition("@")[0]) for a in addresses] for n in range(2)]
    if len(addresses) == 2 and (like in ([[True, False], [False, True]], [[False, True], [True, False]])):
        first = 0 if like[0][0] else 1
        return [addresses[first]], [addresses[1 - first]]
    return list(addresses), list(addresses)
