"""What cards and directories say that reads as a field of one's own: days, nicknames, roles, postal addresses.

It stays as it came, so that whoever gave it gets it back; only its value is read and set here. `key` and `kept` are
those of contact.Extra.
"""

from __future__ import annotations

import json

from barnacle.core.patterns import pattern
from barnacle.core.text import VALUE_LIMIT, tidy

# How a key begins, in small letters (RFC 6350 section 6; RFC 4519, RFC 2798), and the title of that field.
BIRTHDAY = "Birthday"
OF_CARDS = {
    "vcard:bday": BIRTHDAY,
    "vcard:anniversary": "Anniversary",
    "vcard:nickname": "Nickname",
    "vcard:role": "Role",
    "vcard:adr": "Postal address",
    "ldif:postaladdress": "Postal address",
    "ldif:homepostaladdress": "Postal address 2",
    "ldif:street": "Street",
    "ldif:postalcode": "Postal code",
    "ldif:l": "Town",
    "ldif:st": "Region",
    "ldif:co": "Country",
    "ldif:ou": "Department",
    "ldif:departmentnumber": "Department number",
    "ldif:roomnumber": "Room",
    "ldif:employeenumber": "Employee number",
    "ldif:employeetype": "Employee type",
}
# RFC 6350 section 6.10: properties of our own for who must not be written to (since when, and why), and for who may be
# again (since when). A card that has neither says nothing of it: other programs leave out what they do not know.
OPT_OUT, OPT_IN = "vcard:X-OPT-OUT", "vcard:X-OPT-IN"
_DAYS = ("vcard:bday", "vcard:anniversary")
_ISO_DAY = pattern(r"(\d{4})-?(\d\d)-?(\d\d)(?!\d)")
_DAY_OF_ANY_YEAR = pattern(r"--(\d\d)-?(\d\d)")
# A postal address has seven parts, of which the third is the street.
_STREET, _PARTS = 2, 7


def title_on_card(key: str) -> str:
    """The title of the field that something reads as, a second one with its number; empty where it is none."""
    kind, _, number = key.lower().partition("#")
    title = OF_CARDS.get(kind, "")
    return f"{title} {number}" if title and number else title


def is_day(key: str) -> bool:
    """Whether it says a day."""
    return key.lower() in _DAYS


def value_on_card(key: str, kept: str) -> str:
    """What it says, as people write it: `BDAY:19801205` is 1980-12-05, the parts of a postal address stand behind each
    other, with commas. Empty where it says nothing."""
    if key.startswith("ldif:"):
        texts = [text for text in json.loads(kept) if isinstance(text, str)]
        # The lines of a postal address have $ between them (RFC 4517 section 3.3.28).
        return _in_one_line("\n".join(texts).replace("$", "\n") if "address" in key.lower() else ", ".join(texts))
    from barnacle.core.contentline import parse_line, pieces  # most contacts came from no card

    prop = parse_line(kept)
    if prop is None:
        return ""
    if is_day(key):
        return _day(prop.value.strip())
    if prop.name == "ADR":
        written = ", ".join(filter(None, map(_listed, pieces(prop.value, ";"))))
        return _in_one_line(written or next(iter(dict(prop.params).get("LABEL", ())), ""))
    return _in_one_line(_listed(prop.value))


def with_value(key: str, kept: str, value: str) -> str:
    """The same with another value; empty where it cannot say that: a day is year, month and day (ISO 8601)."""
    if not value:
        return ""
    if key.startswith("ldif:"):
        return json.dumps([value], ensure_ascii=False)
    from barnacle.core.contentline import Property, escape, parse_line  # as above

    prop = parse_line(kept)
    if prop is None:
        return ""
    if is_day(key):
        found = _ISO_DAY.fullmatch(value)
        # What else was said of the day, such as that it is a text, went with the old one.
        return str(Property(prop.group, prop.name, (), "".join(found.groups()))) if found else ""
    if prop.name == "ADR":
        parts = [""] * _PARTS
        parts[_STREET] = escape(value)
        params = tuple((name, values) for name, values in prop.params if name != "LABEL")
        return str(prop._replace(params=params, value=";".join(parts)))
    return str(prop._replace(value=escape(value)))


def _day(value: str) -> str:
    from barnacle.core.contentline import unescape  # as above

    if found := _ISO_DAY.match(value):
        return "-".join(found.groups())
    if found := _DAY_OF_ANY_YEAR.fullmatch(value):
        return f"--{found[1]}-{found[2]}"
    return _in_one_line(unescape(value))


def _listed(value: str) -> str:
    """The texts of a value, which are separated by commas, with a space between them."""
    from barnacle.core.contentline import pieces, unescape  # as above

    return ", ".join(filter(None, (unescape(text).strip() for text in pieces(value, ","))))


def _in_one_line(text: str) -> str:
    return tidy(", ".join(filter(None, (line.strip(" ,") for line in text.splitlines()))), VALUE_LIMIT)
