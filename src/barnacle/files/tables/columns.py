"""What the columns of a table hold, worked out from its header row and from the cells themselves."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from barnacle.core.addresses import split_cell
from barnacle.core.contact_fields import FIELDS as CONTACT_FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.text import fold, visible, words
from barnacle.files.drafts import Row
from barnacle.files.tables.csv_writer import unharmed

FIELDS = (*(field.one or field.name for field in CONTACT_FIELDS), "uid")

# What people write above a column, word by word; the longest match counts.
_HEADERS: dict[str, str] = {
    "name": "name", "full name": "name", "display name": "name", "contact": "name", "contact name": "name",
    "person": "name", "who": "name", "member": "name", "owner": "name", "skipper": "name", "your name": "name",
    "name and surname": "name", "owner name": "name",
    "given": "given", "given name": "given", "first": "given", "first name": "given", "forename": "given",
    "christian name": "given", "vorname": "given",
    "family": "family", "family name": "family", "last": "family", "last name": "family", "surname": "family",
    "nachname": "family",
    "e mail": "address", "email": "address", "mail": "address", "e mail address": "address",
    "email address": "address", "mail address": "address", "e mails": "address", "emails": "address",
    "phone": "phone", "telephone": "phone", "tel": "phone", "phone number": "phone", "mobile": "phone",
    "mobile number": "phone", "mobile phone": "phone", "cell": "phone", "telephone number": "phone",
    "telefon": "phone", "phone no": "phone",
    "organisation": "org", "organization": "org", "org": "org", "company": "org", "firm": "org",
    "employer": "org", "business": "org", "company name": "org", "firma": "org",
    "job": "job", "job title": "job", "role": "job", "position": "job", "function": "job",
    "web": "web", "website": "web", "web site": "web", "url": "web", "homepage": "web", "web page": "web",
    "note": "note", "notes": "note", "comment": "note", "comments": "note", "remark": "note", "remarks": "note",
    "uid": "uid", "label": "label", "labels": "label", "tag": "label", "tags": "label", "category": "label",
    "categories": "label",
}  # fmt: skip
_KINDS = {
    "work": "work", "office": "work", "business": "work", "home": "home", "private": "home", "personal": "home",
    "mobile": "mobile", "cell": "mobile", "other": "other",
}  # fmt: skip
_SECOND = ("co owner", "coowner", "second owner", "partner", "spouse", "joint owner")
_SAMPLE = 200
_NAMES = ("name", "given", "family")
_HAS_ADDRESS = re.compile(r"\w@\w").search
_MAILBOX = re.compile(r"(?:[^<>@]*<)?[^\s@<>]+@[^\s@<>]+\.[^\s@<>]+>?").fullmatch


@dataclass(frozen=True, slots=True)
class Use:
    """What a column is taken for: a field of the first or the second person of its row, with a kind."""

    field: str
    person: int = 1
    kind: str = ""

    def __str__(self) -> str:
        kind = f"{self.kind} " if self.kind else ""
        return f"{kind}{self.field}" + (" of the second person" if self.person == 2 else "")


@dataclass(slots=True)
class Columns:
    """The columns of a table: their titles and uses, and the row the header stands in (0: none).

    What stands in a column without a use is kept with the contact as it is, unless the column is `dropped`."""

    titles: list[str]
    uses: list[Use | None]
    header: int
    dropped: frozenset[str] = frozenset()

    def described(self) -> dict[str, str | None]:
        """Each column's title with what it was taken for, None where it has no use here."""
        return {t: str(u) if u else None for t, u in zip(self.titles, self.uses, strict=True)}

    @property
    def names_people(self) -> bool:
        """Whether any column holds what somebody can be known by."""
        return any(use and use.field in ("name", "given", "family", "org", "address") for use in self.uses)

    def place(self, name: str) -> int | None:
        """Where the column stands that has this title, capitals and accents aside, or else this letter."""
        folded = [fold(title) for title in self.titles]
        if fold(name) in folded:
            return folded.index(fold(name))
        letters = [_letters(n) for n in range(len(self.titles))]
        return letters.index(name.upper()) if name.upper() in letters else None


def read_mapping(text: str) -> dict[str, str]:
    """`TITLE=USE, TITLE=USE`: what each column shall be taken for. Raises UnclearError."""
    result: dict[str, str] = {}
    for part in re.split(r"[,;\n]", text):
        title, sign, use = part.partition("=")
        if part.strip() and not (sign and title.strip() and use.strip()):
            raise UnclearError(
                f"`{visible(part.strip(), 60)}` does not say what a column is taken for. "
                "Write TITLE=USE, such as `E-mail=address, Boat=note`."
            )
        if part.strip():
            read_use(use)
            result[title.strip()] = use.strip()
    return result


def read_use(text: str) -> Use | str | None:
    """`work address`, `name 2`, `keep` (None) or `drop`. Raises UnclearError with the uses there are."""
    found = words(text.replace("of the second person", "2"))
    person = 2 if found[-1:] == ["2"] else 1
    if person == 2:
        found.pop()
    kind = found.pop(0) if len(found) == 2 and found[0] in _KINDS else ""
    if len(found) == 1 and found[0] in FIELDS:
        return Use(found[0], person, _KINDS.get(kind, ""))
    if found in (["keep"], ["drop"]):
        return None if found == ["keep"] else "drop"
    raise UnclearError(
        f"A column cannot be taken for `{visible(text.strip(), 40)}`. Uses are {', '.join(FIELDS)}, keep and drop; "
        "with a kind in front (`work address`) and a 2 behind for the second person of a row (`name 2`)."
    )


def mapped(columns: Columns, wanted: dict[str, str], name: str) -> Columns:
    """The columns with the uses that somebody said they have. Raises UnclearError for a column that is not there."""
    uses, dropped = list(columns.uses), set(columns.dropped)
    for title, text in wanted.items():
        place = columns.place(title)
        if place is None:
            titles = ", ".join(visible(t, 30) for t in columns.titles[:12])
            raise UnclearError(f"{name} has no column `{visible(title, 60)}`. Its columns are: {titles}.")
        use = read_use(text)
        uses[place] = use if isinstance(use, Use) else None
        if use == "drop":
            dropped.add(columns.titles[place])
    return Columns(columns.titles, uses, columns.header, frozenset(dropped))


def find_columns(rows: Sequence[Row]) -> Columns:
    """Work out the columns from a table's first rows.

    The header is the first row that names something we know, or the first with several cells of which none is an
    address; rows above it (titles) are skipped.
    """
    rows = [row for row in rows if any(c.strip() for c in row.cells)]
    header = _find_header(rows)
    body = [row.cells for row in rows if row.number > (header.number if header else 0)][:_SAMPLE]
    width = max([len(header.cells) if header else 0, *(len(cells) for cells in body)], default=0)
    titles = _titles(header, width)
    uses = [_from_title(title) if header else None for title in titles]
    for number in range(width):
        cells = [c[number].strip() for c in body if number < len(c) and c[number].strip()]
        uses[number] = _from_content(uses[number], titles[number], cells)
    if header is None:
        _guess_name(uses, body)
    return Columns(titles, _no_twice(uses), header.number if header else 0)


def _find_header(rows: Sequence[Row]) -> Row | None:
    known = [(sum(_from_title(c) is not None for c in row.cells), row) for row in rows[:20]]
    best = max((count for count, _ in known), default=0)
    if best:
        first = next(row for count, row in known if count == best)
        if not any("@" in c for c in first.cells):
            return first
    for row in rows[:20]:
        filled = [c for c in row.cells if c.strip()]
        if any("@" in c for c in filled):
            return None
        if len(filled) > 1:
            return row
    return None


def _titles(header: Row | None, width: int) -> list[str]:
    titles: list[str] = []
    for number in range(width):
        own = unharmed(" ".join(header.cells[number].split())) if header and number < len(header.cells) else ""
        title = own or f"column {_letters(number)}"
        titles.append(title if title not in titles else f"{title} ({_letters(number)})")
    return titles


def _letters(number: int) -> str:
    """0 is A, 26 is AA, as spreadsheets name columns."""
    result = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        result = chr(65 + rest) + result
    return result


def _from_title(title: str) -> Use | None:
    found = words(title)
    text = " ".join(found)
    person = 1
    for phrase in _SECOND:
        if text.startswith(phrase):
            person, text = 2, text[len(phrase) :].strip() or "name"
    if text.endswith(" 2"):
        person, text = 2, text[:-2]
    elif text.endswith(" 1"):
        text = text[:-2]
    if text in _HEADERS:
        kind = _KINDS.get(text.split()[0], "") if _HEADERS[text] == "phone" else ""
        return Use(_HEADERS[text], person, kind)
    for first in ("owner", "owner s", "skipper", "contact", "your", "main", "preferred"):
        if text.startswith(first + " ") and text[len(first) + 1 :] in _HEADERS:
            return Use(_HEADERS[text[len(first) + 1 :]], person)
    first_word, _, rest = text.partition(" ")
    if first_word in _KINDS and rest in _HEADERS:
        return Use(_HEADERS[rest], person, _KINDS[first_word])
    return None


def _from_content(use: Use | None, title: str, cells: list[str]) -> Use | None:
    """A column full of addresses is addresses whatever its title; so are numbers that begin like a phone's. Where the
    title says that it is something else than a name, an address among other words (in a note) does not make it one."""
    if not cells or (use and use.field == "address"):
        return use
    told = _only_addresses if use and use.field not in _NAMES else _HAS_ADDRESS
    if sum(bool(told(c)) for c in cells) >= 0.6 * len(cells):
        text = " ".join(words(title))
        kind = next((_KINDS[w] for w in text.split() if w in ("work", "office", "home", "private")), "")
        return Use("address", 2 if text.startswith(_SECOND) else 1, kind)
    if use is None and sum(c[0] in "+0(" and sum(x.isdigit() for x in c) >= 7 for c in cells) >= 0.8 * len(cells):
        return Use("phone")
    return use


def _only_addresses(cell: str) -> bool:
    return _HAS_ADDRESS(cell) is not None and all(_MAILBOX(piece) for piece in split_cell(cell[:1_000]))


def _guess_name(uses: list[Use | None], body: list[list[str]]) -> None:
    """Without a header: the first column of words is the name."""
    for number, use in enumerate(uses):
        cells = [c[number] for c in body if number < len(c) and c[number].strip()]
        wordy = sum(c.replace(".", "").replace("-", "").replace(" ", "").replace(",", "").isalpha() for c in cells)
        if use is None and cells and wordy >= 0.8 * len(cells):
            uses[number] = Use("name")
            return


def _no_twice(uses: list[Use | None]) -> list[Use | None]:
    """Only addresses, phones, notes and labels may come from several columns; of the others the first counts."""
    seen: set[tuple[str, int]] = set()
    result: list[Use | None] = []
    for use in uses:
        key = (use.field, use.person) if use else None
        if use and key in seen and use.field not in ("address", "phone", "note", "label"):
            result.append(None)
            continue
        if key:
            seen.add(key)
        result.append(use)
    return result
