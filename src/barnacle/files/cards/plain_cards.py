"""A short way for cards that hold nothing unusual, most of a long file: the same in a fraction of the time.

Cards of one address book have the same few properties with the same parameters, so what these mean is worked out once
for all of them. `tests/test_formats.py` holds it against the long way (`properties.draft_of`).
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from barnacle.core.addresses import plain_address
from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.contact_fields import ContactField
from barnacle.core.contentline import parse_line
from barnacle.core.errors import UnclearError
from barnacle.core.names import display_name
from barnacle.core.phones import check_phone
from barnacle.core.text import NAME_LIMIT, fold
from barnacle.files.cards.properties import (
    ABOUT_THE_CARD,
    TEXT_FIELDS,
    address_kind,
    clean_label,
    phone_kind,
    plain_params,
    preference,
    uid_in,
)

# More is hardly plain.
LONGEST = 4096
_BEGIN, _END = "BEGIN:VCARD", "END:VCARD"


def plain_card(text: str, start: int = 0) -> tuple[Contact, int] | None:
    """The contact of the card that begins at `start`, if it is of the plain kind and whole, and where the next one
    begins."""
    if not text.startswith(_BEGIN, start):
        return None
    begin = start + len(_BEGIN)
    end = text.find(_END, begin, begin + LONGEST)
    line_end = "\r\n" if text.startswith("\r\n", begin) else "\n"
    after = end + len(_END) + len(line_end)
    if end < 0 or not text.startswith(line_end, after - len(line_end)) or text[after : after + 1] in _FOLDED:
        return None
    contact = _read(text[begin:end].split(line_end))
    return None if contact is None else (contact, after)


_FOLDED = (" ", "\t")


def _read(lines: list[str]) -> Contact | None:
    """The contact of the lines between those that begin and end a card; the first and the last are empty."""
    if len(lines) < 3 or lines[0] or lines[-1]:
        return None
    heads, colons, values = zip(*[line.partition(":") for line in lines[1:-1]], strict=True)
    together = f" {' : '.join(values)} "
    # Nothing to unescape or to tidy, and nothing empty.
    if "" in colons or not together.isprintable() or "\\" in together or "  " in together:
        return None
    shape = _shape(heads)
    return shape.read(values) if shape else None


class _Shape:
    """What those cards have in common that have the same properties in the same order: where in them what stands."""

    def __init__(self) -> None:
        self.addresses: list[tuple[int, str]] = []
        self.phones: list[tuple[int, str]] = []
        self.texts: list[tuple[int, ContactField]] = []
        self.places: dict[str, int] = {}

    def read(self, values: tuple[str, ...]) -> Contact | None:
        """The contact of a card's values, if each of them is of the plain kind too."""
        contact, places = Contact(), self.places
        if "VERSION" in places and values[places["VERSION"]] not in ("3.0", "4.0"):
            return None
        for place, field in self.texts:
            if len(values[place]) > field.limit:
                return None
            setattr(contact, field.name, values[place])
        if "N" in places and not _take_parts(contact, values[places["N"]]):
            return None
        if not contact.name or contact.name == contact.org or ";" in contact.org:
            return None
        for place, kind in self.addresses:
            if plain_address(values[place]) != values[place]:
                return None
            contact.addresses.append(Address(values[place], kind))
        for place, kind in self.phones:
            if not _is_plain_phone(values[place]):
                return None
            contact.phones.append(Phone(values[place], kind))
        if "CATEGORIES" in places:
            contact.labels = values[places["CATEGORIES"]].split(",")
            if not all(label and clean_label(label) == label for label in contact.labels):
                return None
        if "UID" in places:
            contact.uid = uid_in(values[places["UID"]])
        return contact if _nothing_twice(contact) else None


def _take_parts(contact: Contact, value: str) -> bool:
    """Take over the parts of a name (N), if they are two and plain."""
    family, _, given = value.rstrip(";").partition(";")
    if not given or ";" in given or "," in value or "; " in value or " ;" in value or len(value) > NAME_LIMIT:
        return False
    contact.given, contact.family = given, family
    contact.name = contact.name or display_name(given, family)
    contact.drop_implied_parts()
    return True


def _is_plain_phone(value: str) -> bool:
    try:
        return ":" not in value and check_phone(value) == value
    except UnclearError:
        return False


def _nothing_twice(contact: Contact) -> bool:
    """Whether labels, addresses and numbers are each there once."""
    return not (
        _twice(map(fold, contact.labels))
        or (len(contact.addresses) > 1 and _twice(contact.address_keys()))
        or _twice(phone.number for phone in contact.phones)
    )


def _twice(values: Iterable[str]) -> bool:
    found = list(values)
    return len(set(found)) < len(found)


# Of each property that a plain card has once, without parameters.
_ONCE = frozenset(("VERSION", "UID", "N", "CATEGORIES", *TEXT_FIELDS))


@lru_cache(maxsize=512)
def _shape(heads: tuple[str, ...]) -> _Shape | None:
    """What stands in the cards whose properties have these names and parameters; None where that is not plain."""
    shape, props = _Shape(), []
    for place, head in enumerate(heads):
        prop = parse_line(f"{head}:")
        if prop is None or prop.group or prop.name in ("BEGIN", "END") or not head.isprintable():
            return None
        props.append((preference(prop), place, prop))
    for _, place, prop in sorted(props):
        name = prop.name
        if name in ("EMAIL", "TEL") and (not prop.params or plain_params(name, prop.params)):
            if name == "EMAIL":
                shape.addresses.append((place, address_kind(prop)))
            else:
                shape.phones.append((place, phone_kind(prop)))
        elif name in _ONCE and not prop.params and name not in shape.places:
            shape.places[name] = place
            if name in TEXT_FIELDS:
                shape.texts.append((place, TEXT_FIELDS[name]))
        elif name not in ABOUT_THE_CARD or prop.params or name == "VERSION":
            return None
    return shape
