"""vCards in files: versions 2.1, 3.0 (RFC 2426) and 4.0 (RFC 6350) in, 4.0 and 3.0 out."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.core.contact import Contact
from barnacle.core.contentline import LOGICAL_LIMIT, Property, decoded, escape, folded, parse_line, unescape, unfolded
from barnacle.core.text import visible
from barnacle.core.typed import TextIO
from barnacle.files.cards.plain_cards import LONGEST as PLAIN_LIMIT
from barnacle.files.cards.plain_cards import plain_card
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
    return _Cards(file, whole).run()


def read_card(text: str) -> Contact | None:
    """The contact of a text that is one card; None where it is none, or of nobody."""
    return next((draft.people[0] for draft in read_cards(io.StringIO(text, newline="\n")) if draft.people), None)


class _Cards:
    """The cards of a text: those of the plain kind at once, all others line by line."""

    def __init__(self, file: TextIO, whole: bool) -> None:
        self.lines = _Lines(file)
        self.whole = whole
        self.number = 0
        self.outside = False

    def run(self) -> Iterator[Draft]:
        while not self.lines.at_end():
            if (contact := self.lines.plain_card()) is not None:
                self.number += 1
                self.outside = False
                yield Draft(self.number, [contact])
            else:
                yield from self._by_line()

    def _by_line(self) -> Iterator[Draft]:
        """What stands up to the end of a card behind which another begins."""
        card: list[Property] | None = None
        size, begun, odd = 0, 0, 0
        for line_number, line in unfolded(self.lines.up_to_card(), self.lines.number + 1):
            head = line.strip().upper() if line[:1] in "BEbe \t" else ""
            if head == "BEGIN:VCARD":
                self.outside = False
                if card is not None:
                    yield self._refused(f"the card that begins in line {begun} has no end")
                card, size, begun, odd = [], 0, line_number, 0
                self.number += 1
            elif card is None:
                # Of many lines in a row only the first is named: a file may hold more than cards.
                if line.strip() and not self.outside:
                    self.number += 1
                    self.outside = True
                    reason = f"line {line_number} is outside any card, and so is what follows it"
                    yield self._refused(reason, line)
            elif head == "END:VCARD":
                if size > LOGICAL_LIMIT:
                    yield self._refused(f"the card that begins in line {begun} has over {LOGICAL_LIMIT >> 20} MB")
                else:
                    draft = draft_of(_brought_up(card), self.number, self.whole)
                    if odd:
                        reason = f"line {odd} could not be read and was left out"
                        draft.cleaned.append(Defect(self.number, "", "", reason))
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
            cut_off = ": the file was cut off" if self.lines.at_end() else ""
            yield self._refused(f"the card that begins in line {begun} has no end{cut_off}")

    def _refused(self, reason: str, value: str = "") -> Draft:
        return Draft(self.number, refused=[Defect(self.number, "", visible(value, 80), reason)])


_ENDS = re.compile(r"\r\n?|(?<=\A\0)\0*(?=[^\0])")
_EMPTY_LINES = re.compile(r"(?:\r?\n)*").match
_AT_ONCE = 1 << 16


class _Lines:
    """The lines of a text, or whole cards in place of theirs. `number` is how many lines were taken."""

    def __init__(self, file: TextIO) -> None:
        self._file = file
        self._text = ""
        self._at = 0
        self._ended = False
        self.number = 0

    def _read_on(self, ahead: int) -> None:
        """Have so many characters ahead, if there are."""
        while len(self._text) - self._at < ahead and not self._ended:
            more = self._file.read(max(_AT_ONCE, ahead))
            self._ended = not more
            self._text = self._text[self._at :] + more
            self._at = 0

    def at_end(self) -> bool:
        """Whether there is nothing more."""
        self._read_on(1)
        return self._at == len(self._text)

    def plain_card(self) -> Contact | None:
        """The contact of the next card, if that is of the plain kind."""
        begin = self._next()  # which may read on
        found = plain_card(self._text, begin)
        if found is None:
            return None
        contact, after = found
        self.number += self._text.count("\n", self._at, after)
        self._at = after
        return contact

    def up_to_card(self) -> Iterator[str]:
        """The lines up to the end of a card behind which another begins."""
        while line := self._line():
            # Old files end lines with a carriage return alone; a disk that failed leaves zeros.
            if "\r" in line[:-2] or line.startswith("\0"):
                some = [part + "\n" for part in _ENDS.split(line.rstrip("\r\n"))]
                self.number += len(some)
                yield from some
            else:
                self.number += 1
                yield line
                if line[:1] in "Ee" and line.strip().upper() == "END:VCARD" and self._begins():
                    return

    def _begins(self) -> bool:
        begin = self._next()
        return self._text.startswith("BEGIN:VCARD", begin)

    def _next(self) -> int:
        """Where the next line begins that is not empty."""
        self._read_on(2 * PLAIN_LIMIT)
        match = _EMPTY_LINES(self._text, self._at, self._at + PLAIN_LIMIT)
        return match.end() if match else self._at

    def _line(self) -> str:
        """The next line with its end; of a longer one than is read at once, a part."""
        while not (end := self._text.find("\n", self._at, self._at + _LINE_LIMIT) + 1):
            ahead = len(self._text) - self._at
            if self._ended or ahead >= _LINE_LIMIT:
                end = self._at + min(ahead, _LINE_LIMIT)
                break
            self._read_on(ahead + 1)
        line = self._text[self._at : end]
        self._at = end
        return line


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
