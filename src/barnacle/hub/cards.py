"""Cards as the hub takes them: vCards of version 3.0 (RFC 2426) or 4.0 (RFC 6350), whole and harmless."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping

from barnacle.core.card_fields import OPT_IN, OPT_OUT
from barnacle.core.contentline import Property, folded, parse_line, unescape, unfolded
from barnacle.core.sharing import opt_out_said
from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple
from barnacle.files.cards.vcard import read_cards, write
from barnacle.hub.refusals import TooLargeError, UnmetError

_BAD = "valid-address-data"


class CardInfo(NamedTuple):
    """What the hub must know of a card."""

    uid: str
    version: str
    name: str


def check_card(data: str, most: int) -> CardInfo:
    """What a card is. Raises UnmetError (RFC 6352 section 6.3.2.1) with the reason, TooLargeError."""
    if len(data.encode()) > most:
        raise TooLargeError(f"A card may have {most:,} octets at most.")
    if any((ord(c) < 32 and c not in "\r\n\t") or c == "\x7f" for c in data):
        raise UnmetError(_BAD, "The card has control characters in it.")
    lines = [line for _, line in unfolded(io.StringIO(data, newline="\n")) if line.strip()]
    if not lines or lines[0].strip().upper() != "BEGIN:VCARD" or lines[-1].strip().upper() != "END:VCARD":
        raise UnmetError(_BAD, "That is not a vCard: it does not begin with BEGIN:VCARD and end with END:VCARD.")
    properties = _properties(lines[1:-1])
    version = _one(properties, "VERSION")
    if version not in ("3.0", "4.0"):
        raise UnmetError("supported-address-data", "A card must be a vCard of version 3.0 or 4.0.")
    called = next((p.value.strip() for p in properties if p.name == "FN" and p.value.strip()), None)
    if called is None:
        raise UnmetError(_BAD, "The card has no FN.")
    return CardInfo(unescape(_one(properties, "UID")).strip()[:500], version, tidy(unescape(called), 200))


def _properties(lines: list[str]) -> list[Property]:
    result = []
    for line in lines:
        prop = parse_line(line)
        if prop is None:
            raise UnmetError(_BAD, "The card has a line that is not a property.")
        if prop.name in ("BEGIN", "END"):
            raise UnmetError(_BAD, "One card at a time: there is another inside it.")
        result.append(prop)
    return result


def _one(properties: list[Property], name: str) -> str:
    found = [p.value.strip() for p in properties if p.name == name]
    if len(found) != 1 or not found[0]:
        raise UnmetError(_BAD, f"The card needs one {name}, and has {len([f for f in found if f]) or 'none'}.")
    return found[0]


_MARKS = tuple(key.removeprefix("vcard:") for key in (OPT_OUT, OPT_IN))
# What other programs show and let people change: there an absence is meant. Of all else they may know nothing.
_EDITED = frozenset((
    "BEGIN", "END", "VERSION", "PRODID", "REV", "UID", "KIND", "FN", "N", "NICKNAME", "EMAIL", "TEL", "ORG", "TITLE",
    "ROLE", "URL", "NOTE", "ADR", "LABEL", "BDAY", "ANNIVERSARY", "GENDER", "PHOTO", "LOGO", "SOUND", "IMPP", "LANG",
    "TZ", "GEO", "RELATED", "KEY", "MEMBER", "SOURCE", "XML", "FBURL", "CALURI", "CALADRURI", "CLIENTPIDMAP", "MAILER",
    "SORT-STRING", "CLASS", "AGENT", "NAME", "PROFILE",
))  # fmt: skip


def _lines(data: str) -> list[tuple[str, str]]:
    """The lines of a card, unfolded, each with the name of its property; those in a group without."""
    found = []
    for _, line in unfolded(io.StringIO(data, newline="\n")):
        prop = parse_line(line)
        found.append(("" if prop is None or prop.group else prop.name, line))
    return found


def _with(data: str, lines: list[str]) -> str:
    head, end, tail = data.rpartition(next(iter(re.findall(r"(?i)END:VCARD", data)[-1:]), "END:VCARD"))
    return head + "".join(map(folded, lines)) + end + tail if lines else data


def marked_as_before(old: str, new: str) -> str:
    """A card in place of an older one: where it says nothing of an opt-out, what that said still holds. Only a word of
    its own (`X-OPT-IN`) withdraws one."""
    if not re.search(r"(?mi)^X-OPT-(?:OUT|IN)[:;]", old) or re.search(r"(?mi)^X-OPT-(?:OUT|IN)[:;]", new):
        return new
    return _with(new, [line for name, line in _lines(old) if name in _MARKS])


def carried_over(old: str, new: str) -> str:
    """A card that another program puts in place of an older one, with what it has left out because it knows nothing of
    it: properties of one's own, labels."""
    have = {name for name, _ in _lines(new)}
    marked = not have.isdisjoint(_MARKS)
    kept = [
        line for name, line in _lines(old)
        if name and name not in have and name not in _EDITED and not (marked and name in _MARKS)
    ]  # fmt: skip
    return _with(new, kept)


def opted_out(data: str, since: str) -> str | None:
    """A card with the mark of an opt-out (since when, and why); None where it has one that holds."""
    marks = {f"vcard:{name}": line.partition(":")[2] for name, line in _lines(data) if name in _MARKS}
    if opt_out_said(marks):
        return None
    return _with(data, [f"X-OPT-OUT:{since}"])


def name_on(data: str) -> str:
    """Whom a card that was kept is of."""
    return next((tidy(unescape(line.partition(":")[2]), 200) for name, line in _lines(data) if name == "FN"), "")


def as_version(data: str, version: str) -> str:
    """A card in the other version, where it is not in that one already."""
    if re.search(rf"(?mi)^VERSION:{re.escape(version)}\s*$", data):
        return data
    contacts = [contact for draft in read_cards(io.StringIO(data, newline="\n")) for contact in draft.people]
    return "".join(write(contacts, version)) if contacts else data


def only(data: str, names: Mapping[str, bool]) -> str:
    """A card with some of its properties, by their names in capitals, and those that no card may lack; True for one of
    which only the name is wanted (RFC 6352 section 10.4.2)."""
    result = []
    for _, line in unfolded(io.StringIO(data, newline="\n")):
        prop = parse_line(line)
        if prop is not None and (prop.name in names or prop.name in _NEVER_LACKING):
            bare = names.get(prop.name, False) and prop.name not in _NEVER_LACKING
            result.append(folded(str(prop._replace(params=(), value="")) if bare else line))
    return "".join(result)


_NEVER_LACKING = frozenset(("BEGIN", "END", "VERSION", "FN", "N", "UID"))
