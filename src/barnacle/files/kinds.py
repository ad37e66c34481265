"""What kind of file it is, by what stands in it."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path

from barnacle.core.addresses import parse_mailbox, split_pasted
from barnacle.core.errors import BadAddressError
from barnacle.files.drafts import Line
from barnacle.files.encoding import Encoding
from barnacle.files.free_text import people_in
from barnacle.files.mail_heads import is_mailbox, is_message
from barnacle.files.records import are_records
from barnacle.files.tables.text_line import may_reach, people_of
from barnacle.files.tables.titles import read_title

# Every kind that is read, with its name for people.
KINDS = {
    "csv": "a table of text",
    "xlsx": "a workbook",
    "html": "tables of a web page",
    "document": "tables of a document",
    "text": "people in a text",
    "records": "fields, each with its title",
    "json": "lists in JSON",
    "xml": "lists in XML",
    "calendar": "who is invited to events",
    "vcard": "vCards",
    "jcard": "jCards",
    "jscontact": "JSContact cards",
    "ldif": "LDIF entries",
    "line": "pasted addresses",
    "mail": "a message",
    "mbox": "a mailbox",
    "saved": "a message that a mail program saved",
}

# Of which the titles of columns stand in no row.
FIELDED = ("records", "json", "xml", "calendar")

# What JSContact has and other JSON has not (RFC 9553): a type, or names and addresses that are objects.
_CARD = re.compile(
    r'"@type"\s*:\s*"Card"|"emails"\s*:\s*\{|"name"\s*:\s*\{[^{}]*"(?:full|components|@type)"|"kind"\s*:\s*"group"'
)
_PAGE = re.compile(r"(?i)<(?:!doctype html|html)[\s>]")
_PART_OF_A_PAGE = re.compile(r"(?i)<(?:!doctype html|html|body|table|p|div|ul|ol)[\s>]")
_ELEMENT = re.compile(r"<[A-Za-z_][\w:.-]*(?:\s[^<>]*)?>")
# What a title of a column may say that a table of people has.
_FIELDS = frozenset(("name", "given", "family", "both", "email", "phone", "mobile"))


def kind_by_octets(head: bytes) -> str | None:
    """What kind of file begins so, a key of KINDS, where that can be told without knowing its encoding."""
    if head.startswith((b"PK\x03\x04", b"\xd0\xcf\x11\xe0")):
        return "xlsx"
    if is_mailbox(head):
        return "mbox"
    return "mail" if is_message(head) else None


def kind_by_text(path: Path, found: Encoding) -> str:
    """What kind of text file it is, by its content; a key of KINDS."""
    with path.open(encoding=found.codec, errors="replace") as file:
        text = file.read(64 * 1024).lstrip("\ufeff \t\r\n")
    begin = text[:200].upper()
    if begin.startswith("BEGIN:VCARD") or re.search(r"(?im)^[\s\0]*BEGIN:VCARD[ \t\r]*$", text):
        return "vcard"
    if re.match(r'\[\s*(?:\[\s*)?"vcard"', begin, re.IGNORECASE):
        return "jcard"
    if begin.startswith("BEGIN:VCALENDAR"):
        return "calendar"
    if begin.startswith("{") or re.match(r"\[\s*\{", begin):
        return "jscontact" if _CARD.search(text) else "json"
    if re.match(r'\[\s*"[^"@]*@', begin):
        return "json"
    of_a_page = _PAGE if begin.startswith("<?XML") else _PART_OF_A_PAGE
    if begin.startswith("<") and of_a_page.search(text):
        return "html"
    if begin.startswith("<?XML") or (_ELEMENT.match(text) and "</" in text):
        return "xml"
    if _is_ldif(text):
        return "ldif"
    lines = _whole_lines(text)
    if _is_pasted(lines):
        return "line"
    numbered = [Line(number, line.strip(), False) for number, line in enumerate(lines, 1) if line.strip()]
    if are_records(numbered):
        return "records"
    return "text" if _is_free(numbered) else "csv"


def _is_ldif(text: str) -> bool:
    """Whether the first line that is no remark (RFC 2849) nor its continuation names a version or an entry, or what
    follows is plainly entries."""
    for line in text.splitlines():
        if line.strip() and not line.startswith(("#", " ")):
            if re.match(r"version\s*:\s*\d+\s*$|dn:", line, re.IGNORECASE):
                return True
            break
    return re.search(r"(?im)^dn::? .*\n(?: .*\n)*(?:objectclass|changetype|cn|mail):", text) is not None


def _whole_lines(text: str) -> list[str]:
    """The first lines of a text, without one that may have been cut."""
    lines = text[:8000].splitlines()
    if len(text) > 8000 and len(lines) > 1:
        lines.pop()
    return lines


def _is_pasted(text: list[str]) -> bool:
    """Whether the text is nothing but addresses, with names or without, from its first line on."""
    lines = [line for line in text[:50] if line.strip()]
    if not lines or "@" not in lines[0]:
        return False
    pieces = [piece for line in lines for piece in split_pasted(line)]
    good = 0
    for number, piece in enumerate(pieces):
        try:
            good += bool(parse_mailbox(piece))
        except BadAddressError:
            if number == 0 and "@" not in piece:
                return False
    # Where the lines are cut into the same number of cells, it is a table with something wrong in it.
    return good >= 0.7 * len(pieces) or (good >= 0.3 * len(pieces) and not _is_cut_alike(lines))


def _is_free(numbered: list[Line]) -> bool:
    """Whether people stand in a text that is no table: there is no column of addresses, no line has titles of columns
    in it, one of ten lines at least has somebody's address, and most of those have a name."""
    lines = [line.text for line in numbered]
    if not any(map(may_reach, lines)) or _has_column(lines) or any(map(_is_quoted, lines)):
        return False
    if any(map(_has_titles, lines[:20])):
        return False
    told = [(draft, person) for draft in people_in(numbered) for person in draft.people]
    people = [person for draft, person in told if person.addresses or draft.refused]
    return len(people) >= 0.1 * len(lines) and sum(bool(person.called) for person in people) >= 0.5 * len(people)


def _has_column(lines: list[str]) -> bool:
    """Whether lines are cut alike, and addresses stand in one place of most that have any, not all else beside them."""
    if not _is_cut_alike(lines):
        return False
    for separator in ",;\t|":
        rows = [line.split(separator) for line in lines if "@" in line and separator in line]
        places = Counter(next(n for n, cell in enumerate(row) if "@" in cell) for row in rows)
        if not places:
            continue
        place, times = places.most_common(1)[0]
        told = [people_of(row[place])[0] for row in rows if "@" in "".join(row[place : place + 1])]
        if times >= 0.8 * len(rows) and sum(bool(one.name and one.phones) for one in told) < 0.5 * times:
            return True
    return False


def _is_quoted(line: str) -> bool:
    return re.search(r'(?:^|[,;|\t])"[^"]*"(?:$|[,;|\t])', line) is not None


def _has_titles(line: str) -> bool:
    """Whether a line is the header of a table: titles of columns, at least two unless it is all that stands there."""
    if "@" in line or re.search(r"\d{3}", line):
        return False
    cells = [cell for cell in re.split(r"[,;|\t]", line) if cell.strip()]
    known = [title for cell in cells if (title := read_title(cell)).is_sure and title.is_known]
    of_people = any(title.concept in _FIELDS for title in known)
    return of_people and (len(known) > 1 or (len(cells) == 1 and not re.search(r"[:\d]", line)))


def _is_cut_alike(lines: list[str]) -> bool:
    """Whether most lines have the same separators in them, as often."""
    counts = [tuple(line.count(separator) for separator in ",;\t|") for line in lines]
    usual, times = Counter(counts).most_common(1)[0]
    return any(usual) and len(lines) > 1 and times >= 0.8 * len(lines)
