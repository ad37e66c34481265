"""What the cells of a column look like, whatever stands above them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from barnacle.core.addresses import split_cell
from barnacle.core.names import GENERATIONS, PARTICLES, TITLES, is_organisation
from barnacle.core.own_fields import yes_or_no
from barnacle.core.text import fold

_HAS_ADDRESS = re.compile(r"\w@\w").search
_MAILBOX = re.compile(r"(?:[^<>@]*<)?[^\s@<>]+@[^\s@<>]+\.[^\s@<>]+>?").fullmatch
_HAS_SIGN = re.compile(r"\S*@\S*").fullmatch
_MEANT_ADDRESS = re.compile(
    r"@|(?<!\S)\S{1,64} ?[(\[]?at[)\]]? ?\S{1,200}\.\w{2,20}$|^[\w.-]+\.(?:com|org|net|de|fr|example)$", re.IGNORECASE
).search
_NUMBER = re.compile(r"(?=(?:\D*\d){1,6}\D*$)[\d.,' ]+ ?[€$£%]?").fullmatch
_COUNT = re.compile(r"\d{1,2}").fullmatch
_DATE = re.compile(
    r"\d{1,4}[./-] ?\d{1,2}[./-] ?\d{1,4}\.?"
    r"(?:(?:T|,? )(?:kl\.? )?[012]?\d[:.][0-5]\d(?:[:.][0-5]\d(?:[.,]\d{1,9})?)?"
    r"(?: ?[apAP]\.?[mM]\.?)?(?:Z|[+-]\d\d:?\d\d| [A-Z]{1,4}(?:[+-]\d\d?)?)?)?"
    r"|\d{1,2}\.? [^\W\d]{3,10}\.? \d{2,4}"
).fullmatch
_SPACED = re.compile(r"\+\d|\d[ /-]\d").search
_PHONE = re.compile(r"[+(0][\d ()./+-]{5,}\d").match
_WEB = re.compile(r"(?:https?://|www\.)\S+|[\w-]+(?:\.[\w-]+)*\.[a-z]{2,}(?:/\S*)?", re.IGNORECASE).fullmatch
_ELIDED = re.compile("[a-zà-ÿ]{1,5}['’][A-ZÀ-Þ]").match  # d'Arc, dell'Orto
_CELL = 400


@dataclass(frozen=True, slots=True)
class Content:
    """Shares (0 to 1) of a column's filled cells that look like something; `filled` is how many there are."""

    filled: int = 0
    addresses: float = 0.0  # with an address in it
    only_addresses: float = 0.0  # nothing but addresses
    meant_addresses: float = 0.0  # also mistyped ones
    signs: float = 0.0  # one word with an @ in it
    phones: float = 0.0  # with a number in it that begins as phone numbers do
    digits: float = 0.0  # seven digits or more, and hardly anything else
    spaced: float = 0.0  # with a plus in front, or spaces or strokes between digits
    numbers: float = 0.0
    counts: float = 0.0  # of one or two figures
    dates: float = 0.0
    webs: float = 0.0
    yes_no: float = 0.0
    honorifics: float = 0.0
    names: float = 0.0  # two to five words as people are called
    words: float = 0.0  # one to three words with a capital
    distinct: float = 0.0
    length: float = 0.0  # characters of a cell, on average

    @property
    def is_other(self) -> bool:
        """Whether it is neither a name nor something to reach somebody by."""
        return max(self.numbers, self.dates, self.yes_no, self.honorifics) >= 0.6


def look_at(cells: Sequence[str]) -> Content:
    """What the filled cells of a column look like."""
    number = len(cells)
    if not number:
        return Content()
    cut = [cell[:_CELL] for cell in cells]

    def share(test: object) -> float:
        return sum(bool(test(cell)) for cell in cut) / number  # type: ignore[operator]

    addresses = share(_HAS_ADDRESS)
    only = share(only_addresses) if addresses else 0.0
    return Content(
        number, addresses, only, share(_MEANT_ADDRESS), share(_HAS_SIGN), share(_is_phone), share(_is_digits),
        share(_SPACED), share(_NUMBER), share(_COUNT), share(_DATE),
        share(_WEB), share(lambda cell: cell == "-" or yes_or_no(cell)), share(_is_honorific), share(looks_like_name),
        share(_is_words), len({fold(cell) for cell in cut}) / number,
        sum(map(len, cut)) / number,
    )  # fmt: skip


def only_addresses(cell: str) -> bool:
    """Whether a cell holds addresses and nothing else, with names or without."""
    return _HAS_ADDRESS(cell) is not None and all(_MAILBOX(piece) for piece in split_cell(cell))


def has_address(cell: str) -> bool:
    """Whether there is an address somewhere in the cell."""
    return _HAS_ADDRESS(cell) is not None


def is_date(cell: str) -> bool:
    """Whether a cell is a day, with a time or without, also in brackets."""
    return _DATE(cell.strip("()[] ")) is not None


def _is_phone(cell: str) -> bool:
    return _PHONE(cell) is not None and not is_date(cell) and sum(c.isdigit() for c in cell) >= 7


def _is_digits(cell: str) -> bool:
    found = sum(c.isdigit() for c in cell)
    return 7 <= found <= 15 and found >= 0.6 * len(cell) and not is_date(cell)


def _is_honorific(cell: str) -> bool:
    return all(word.strip(".") in TITLES | {"sig", "pan", "m"} for word in fold(cell).split())


def looks_like_name(cell: str) -> bool:
    """Whether a cell may be the name of a person: two to five words of letters that begin with a capital, where their
    script has any."""
    parts = cell.replace(",", " ").split()
    return 2 <= len(parts) <= 5 and not is_organisation(cell) and all(map(_is_name_word, parts))


def _is_name_word(word: str) -> bool:
    bare = re.sub(r"['’.-]", "", word)
    return bare.isalpha() and (
        not word[:1].islower()
        or _ELIDED(word) is not None
        or fold(word) in PARTICLES
        or fold(word.strip(".")) in TITLES | GENERATIONS
    )


def _is_words(cell: str) -> bool:
    parts = cell.split()
    return 1 <= len(parts) <= 3 and all(map(_is_name_word, parts))


def beginning(phrases: str) -> re.Pattern[str]:
    """What matches a folded text that begins with one of some phrases, which have commas between them."""
    return re.compile(rf"(?:{'|'.join(' '.join(phrase.split()) for phrase in phrases.split(','))})\b[^\n]*")
