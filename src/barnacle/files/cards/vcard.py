"""vCards in files: versions 2.1, 3.0 (RFC 2426) and 4.0 (RFC 6350) in, 4.0 and 3.0 out."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.core.addresses import plain_address
from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.contentline import LOGICAL_LIMIT, Property, decoded, escape, folded, parse_line, unescape, unfolded
from barnacle.core.names import split_name
from barnacle.core.text import NAME_LIMIT, tidy, visible
from barnacle.core.typed import TextIO
from barnacle.files.cards.properties import KEY, draft_of, from_fields, of_own_fields, properties_of
from barnacle.files.drafts import Defect, Draft
from barnacle.files.encoding import Encoding

_LINE_LIMIT = 1 << 20
# Properties and values that 3.0 does not know (RFC 2426): kept there under a name of their own.
_NOT_IN_3 = frozenset(("KIND", "MEMBER", "GENDER", "ANNIVERSARY", "XML", "LANG", "RELATED", "CLIENTPIDMAP"))


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """The cards of a file, in order; what stands between them or cannot be read comes as refused."""
    with path.open(encoding=encoding.codec, errors=encoding.errors, newline="\n") as file:
        yield from read_cards(file)


def read_cards(file: TextIO, whole: bool = True) -> Iterator[Draft]:
    """The cards of a text; not `whole`: also those of somebody whose only address is none."""
    card: list[Property] | None = None
    number, size, begun, odd, outside = 0, 0, 0, 0, False
    for line_number, line in unfolded(_lines(file)):
        head = line.strip().upper() if line[:1] in "BEbe \t" else ""
        if head == "BEGIN:VCARD":
            outside = False
            if card is not None:
                yield _refused(number, f"the card that begins in line {begun} has no end")
            card, size, begun, odd = [], 0, line_number, 0
            number += 1
        elif card is None:
            # Of many lines in a row only the first is named: a file may hold more than cards.
            if line.strip() and not outside:
                number += 1
                outside = True
                yield _refused(number, f"line {line_number} is outside any card, and so is what follows it", line)
        elif head == "END:VCARD":
            if size > LOGICAL_LIMIT:
                yield _refused(number, f"the card that begins in line {begun} has over {LOGICAL_LIMIT >> 20} MB")
            else:
                draft = draft_of(_brought_up(card), number, whole)
                if odd:
                    reason = f"line {odd} could not be read and was left out"
                    draft.cleaned.append(Defect(number, "", "", reason))
                yield draft
            card = None
        else:
            size += len(line)
            prop = parse_line(line) if size <= LOGICAL_LIMIT else None
            if prop is not None:
                card.append(prop)
            elif size <= LOGICAL_LIMIT and line.strip():
                odd = line_number
    if card is not None:
        yield _refused(number, f"the card that begins in line {begun} has no end: the file was cut off")


# A card of somebody with one address and not much more, as `write` writes it; nothing in it needs undoing.
_TEXT = r"([^\x00-\x1f\\,;]{1,200})"
_PLAIN = re.compile(
    r"BEGIN:VCARD\r\nVERSION:4\.0\r\nUID:(?:urn:uuid:)?([0-9A-Za-z-]{1,100})\r\n"
    rf"FN:{_TEXT}\r\nN:{_TEXT};{_TEXT};;;\r\n"
    r"EMAIL(?:;TYPE=(work|home|other))?:([!-~]{1,300})\r\n"
    r"(?:TEL(?:;TYPE=(cell|work|home|other))?:(\+?[0-9](?:[ -]?[0-9]){2,19})\r\n)?"
    rf"(?:ORG:{_TEXT}\r\n)?(?:TITLE:{_TEXT}\r\n)?END:VCARD\r\n"
).fullmatch


def read_card(text: str) -> Contact | None:
    """The contact of a text that is one card; None where it is none, or of nobody."""
    return plain_card(text) or next(
        (draft.people[0] for draft in read_cards(io.StringIO(text, newline="\n")) if draft.people), None
    )


def plain_card(text: str) -> Contact | None:
    """The contact of a card as this program writes those of people with one address, in a fraction of the time; None
    for every other card."""
    match = _PLAIN(text)
    if match is None:
        return None
    uid, name, family, given, kind, address, phone_kind, phone, org, job = match.groups("")
    clean = all(value.isprintable() and tidy(value, NAME_LIMIT) == value for value in (name, org, job))
    if not clean or name == org or split_name(name) != (given, family) or plain_address(address) != address:
        return None
    phones = [Phone(phone, "mobile" if phone_kind == "cell" else phone_kind)] if phone else []
    return Contact(name, addresses=[Address(address, kind)], phones=phones, org=org, job=job, uid=uid)


_ENDS = re.compile(r"\r\n?|(?<=\A\0)\0*(?=[^\0])")


def _lines(file: TextIO) -> Iterator[str]:
    while line := file.readline(_LINE_LIMIT):
        # Old files end lines with a carriage return alone; a disk that failed leaves zeros.
        if "\r" in line[:-2] or line.startswith("\0"):
            yield from (part + "\n" for part in _ENDS.split(line.rstrip("\r\n")))
        else:
            yield line


def _refused(number: int, reason: str, value: str = "") -> Draft:
    return Draft(number, refused=[Defect(number, "", visible(value, 80), reason)])


def _brought_up(card: list[Property]) -> list[Property]:
    version = next((p.value.strip() for p in card if p.name == "VERSION"), "3.0")
    if version.startswith("4"):
        return card
    version = version[:3]
    return [decoded(p, version) if p.params or version == "2.1" else p for p in card]


def kept_properties(contact: Contact) -> list[Property]:
    """What was kept of the card that a contact came from."""
    found = (parse_line(extra.value) for extra in contact.extra if extra.key.startswith(KEY))
    return [prop for prop in found if prop is not None]


def write(contacts: Iterable[Contact], version: str, group: str | None = None) -> Iterator[str]:
    """The text of a file of vCards, piece by piece. `group` adds a card of kind group with all of them (4.0 only)."""
    members: list[str] = []
    for contact in contacts:
        lines = ["BEGIN:VCARD", f"VERSION:{version}"]
        if contact.uid:
            lines.append(f"UID:{uid_of(contact, version)}")
        props = from_fields(contact)
        if contact.extra:
            props = properties_of(contact, kept_properties(contact)) + of_own_fields(contact)
        for prop in props:
            lines.append(str(prop if version == "4.0" else _as_3(prop)))
        lines.append("END:VCARD")
        yield "".join(map(folded, lines))
        if group is not None:
            members.append(uid_of(contact, version))
    if group is not None and version == "4.0":
        lines = ["BEGIN:VCARD", "VERSION:4.0", "KIND:group", f"FN:{escape(group)}"]
        lines += [f"MEMBER:{member}" for member in members] + ["END:VCARD"]
        yield "".join(map(folded, lines))


_OURS = re.compile(r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}").fullmatch


def uid_of(contact: Contact, version: str = "4.0") -> str:
    """The uid as a URI where it is one of ours (RFC 6350 section 6.7.6)."""
    if version == "4.0" and _OURS(contact.uid):
        return f"urn:uuid:{contact.uid}"
    return escape(contact.uid)


def _as_3(prop: Property) -> Property:
    """A property of 4.0 as one of 3.0 (RFC 2426)."""
    params: list[tuple[str, tuple[str, ...]]] = []
    types: list[str] = []
    value = prop.value
    for key, values in prop.params:
        if key == "TYPE":
            types += values
        elif key == "PREF":
            types.append("pref")
        elif key != "VALUE" or values != ("uri",) or prop.name not in ("TEL", "EMAIL"):
            params.append((key, values))
    if prop.name == "TEL" and value.lower().startswith("tel:"):
        value = value[4:]
    data = re.fullmatch(r"data:[a-z]+/([A-Za-z0-9.+-]+);base64,([A-Za-z0-9+/=]*)", unescape(value).replace("\\,", ","))
    if data:
        params.append(("ENCODING", ("b",)))
        types = [data[1].upper()]
        value = data[2]
    if types:
        params.insert(0, ("TYPE", tuple(dict.fromkeys(types))))
    name = f"X-{prop.name}" if prop.name in _NOT_IN_3 else prop.name
    return Property(prop.group, name, tuple(params), value)
