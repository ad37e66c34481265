"""Cards as the hub takes them: vCards of version 3.0 (RFC 2426) or 4.0 (RFC 6350), whole and harmless."""

from __future__ import annotations

import io
import re
from typing import NamedTuple

from barnacle.core.contentline import Property, parse_line, unescape, unfolded
from barnacle.files.cards.vcard import read_cards, write
from barnacle.hub.refusals import TooLargeError, UnmetError

_BAD = "valid-address-data"


class CardInfo(NamedTuple):
    """What the hub must know of a card."""

    uid: str
    version: str


def check_card(data: str, most: int) -> CardInfo:
    """What a card is. Raises UnmetError (RFC 6352 section 6.3.2.1) with the reason, TooLargeError."""
    if len(data.encode()) > most:
        raise TooLargeError(f"A card may have {most:,} octets at most.")
    if any((ord(c) < 32 and c not in "\r\n\t") or c == "\x7f" for c in data):
        raise UnmetError(_BAD, "The card has control characters in it.")
    lines = [line for _, line in unfolded(io.StringIO(data, newline="\n")) if line.strip()]
    if not lines or lines[0].strip().upper() != "BEGIN:VCARD" or lines[-1].strip().upper() != "END:VCARD":
        raise UnmetError(_BAD, "That is no vCard: it does not begin with BEGIN:VCARD and end with END:VCARD.")
    properties = _properties(lines[1:-1])
    version = _one(properties, "VERSION")
    if version not in ("3.0", "4.0"):
        raise UnmetError("supported-address-data", "A card must be a vCard of version 3.0 or 4.0.")
    if not any(p.name == "FN" and p.value.strip() for p in properties):
        raise UnmetError(_BAD, "The card has no FN.")
    return CardInfo(unescape(_one(properties, "UID")).strip()[:500], version)


def _properties(lines: list[str]) -> list[Property]:
    result = []
    for line in lines:
        prop = parse_line(line)
        if prop is None:
            raise UnmetError(_BAD, "The card has a line that is no property.")
        if prop.name in ("BEGIN", "END"):
            raise UnmetError(_BAD, "One card at a time: there is another inside it.")
        result.append(prop)
    return result


def _one(properties: list[Property], name: str) -> str:
    found = [p.value.strip() for p in properties if p.name == name]
    if len(found) != 1 or not found[0]:
        raise UnmetError(_BAD, f"The card needs one {name}, and has {len([f for f in found if f]) or 'none'}.")
    return found[0]


def as_version(data: str, version: str) -> str:
    """A card in the other version, where it is not in that one already."""
    if re.search(rf"(?mi)^VERSION:{re.escape(version)}\s*$", data):
        return data
    contacts = [contact for draft in read_cards(io.StringIO(data, newline="\n")) for contact in draft.people]
    return "".join(write(contacts, version)) if contacts else data


def only(data: str, names: list[str]) -> str:
    """A card with some of its properties (RFC 6352 section 10.4.2), and those that no card may lack."""
    wanted = {name.upper() for name in names} | {"BEGIN", "END", "VERSION", "FN", "N", "UID"}
    result, keep = [], True
    for line in io.StringIO(data, newline="\n"):
        if line[:1] not in (" ", "\t"):
            prop = parse_line(line.rstrip("\r\n"))
            keep = prop is not None and prop.name in wanted
        if keep:
            result.append(line)
    return "".join(result)
