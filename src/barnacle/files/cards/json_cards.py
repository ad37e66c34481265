"""Cards in JSON: jCard (RFC 7095) and JSContact (RFC 9553), one or a list of them in a file."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.core.contact import Contact
from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.cards import jcard, jscontact
from barnacle.files.drafts import Defect, Draft
from barnacle.files.encoding import Encoding

# The text of a file is in memory as a whole, its cards are not.
_LIMIT = 50 << 20
_CARD_LIMIT = 4 << 20
_DEPTH = 60
_DIGITS = 300  # Python turns no more than some thousand into a number
_SIGN = re.compile(r'["\[\]{},]')
_IN_STRING = re.compile(r'["\\]')
_HALF = re.compile(r"\\u[dD][89a-fA-F]")


class _Lines:
    """Which line and column a place of a text is in, for places one behind the other."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._at = 0
        self._line = 1
        self._begins = 0

    def of(self, place: int) -> tuple[int, int]:
        self._line += self.text.count("\n", self._at, place)
        self._begins = max(self._begins, self.text.rfind("\n", self._at, place) + 1)
        self._at = place
        return self._line, place - self._begins + 1


class _Piece(NamedTuple):
    """A card's text: where it begins and ends, how deep it is, and whether the file ends within it."""

    begin: int
    end: int
    depth: int
    is_cut: bool


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """The cards of a file, each read by itself: one that is broken costs that one. Raises FileError where there are
    none."""
    if path.stat().st_size > _LIMIT:
        raise FileError(f"{visible(path.name)} has over {_LIMIT >> 20} MB, more than is read of JSON. Split it.")
    text = path.read_text(encoding=encoding.codec, errors=encoding.errors)
    begin = len(text) - len(text.lstrip("\ufeff \t\r\n"))
    is_list = re.compile(r'\[\s*(?!"vcard")').match(text, begin) is not None
    lines = _Lines(text)
    number = good = 0
    wrong: Defect | None = None
    for number, piece in enumerate(_pieces(text, begin + is_list, int(is_list)), 1):
        draft = _draft(lines, piece, number)
        good += bool(draft.people or draft.group)
        wrong = wrong or next(iter(draft.refused), None)
        yield draft
    if not good and number <= 1:
        why = wrong.reason.removeprefix("it ") if wrong else "has no card in it"
        raise FileError(f"{visible(path.name)} {why}. Nothing was added.")


def _pieces(text: str, at: int, base: int) -> Iterator[_Piece]:
    """What stands in a list (`base` 1), or at the top, cut up without being read."""
    depth = deepest = base
    begin = at
    while hit := _SIGN.search(text, at):
        sign, at = hit.group(), hit.end()
        if sign == '"':
            at = _string_end(text, at)
        elif sign in "[{":
            depth += 1
            deepest = max(deepest, depth)
        elif sign in "]}":
            depth -= 1
            if depth < base or (base == 0 and depth == 0):
                end = at if base == 0 else hit.start()
                if text[begin:end].strip():
                    yield _Piece(begin, end, deepest - base, False)
                begin, deepest = at, base
                if depth < base:
                    break
        elif depth == base:
            if text[begin : hit.start()].strip():
                yield _Piece(begin, hit.start(), deepest - base, False)
            begin, deepest = at, base
    if text[begin:].strip():
        yield _Piece(begin, len(text), deepest - base, depth >= base and (base, depth) != (0, 0))


def _string_end(text: str, at: int) -> int:
    while hit := _IN_STRING.search(text, at):
        if hit.group() == '"':
            return hit.end()
        at = hit.end() + 1
    return len(text)


def _draft(lines: _Lines, piece: _Piece, number: int) -> Draft:
    """What one piece comes to."""
    text = lines.text

    def refused(reason: str) -> Draft:
        shown = visible(" ".join(text[piece.begin : min(piece.begin + 200, piece.end)].split()), 80)
        return Draft(number, refused=[Defect(number, "", shown, reason)])

    if piece.end - piece.begin > _CARD_LIMIT:
        return refused(f"it has over {_CARD_LIMIT >> 20} MB")
    if piece.depth > _DEPTH:
        return refused("it is nested too deeply for a card")
    odd: list[str] = []

    def whole(digits: str) -> int | str:
        if len(digits) <= _DIGITS:
            return int(digits)
        odd.append(f"a number of {len(digits):,} digits is kept as text")
        return digits

    def fraction(digits: str) -> float | str:
        if not math.isinf(found := float(digits)):
            return found
        odd.append("a number that is too large is kept as text")
        return digits[:_DIGITS]

    def nothing(word: str) -> None:
        odd.append(f"`{word}` is no value in JSON and was left out")

    source = text[piece.begin : piece.end].strip()
    if source[0] not in "[{":
        return refused("it is not structured as a card")
    try:
        value = json.loads(source, parse_int=whole, parse_float=fraction, parse_constant=nothing)
        if _HALF.search(source):
            # Half a pair of code units (RFC 8259 section 8.2) is no character and can be written nowhere.
            plain = json.dumps(value, ensure_ascii=False)
            mended = plain.encode("utf-8", "replace").decode("utf-8")
            if mended != plain:
                odd.append("half a character became a question mark")
                value = json.loads(mended)
        read_card = jcard.draft if isinstance(value, list) else jscontact.draft
        draft = read_card(value, number)
    except json.JSONDecodeError as error:
        line, column = lines.of(text.index(source[0], piece.begin) + error.pos)
        cut = ", where the file ends" if piece.is_cut else ""
        return refused(f"it is not valid JSON: see line {line}, column {column}{cut}")
    except (TypeError, ValueError, KeyError, AttributeError, IndexError, RecursionError):
        return refused("it is not structured as a card")
    draft.cleaned += [Defect(number, "", "", one) for one in dict.fromkeys(odd)]
    return draft


def write(cards: Iterable[Any]) -> Iterator[str]:
    """A list of cards as the text of a file, piece by piece."""
    yield "[\n"
    for number, card in enumerate(cards):
        yield (",\n" if number else "") + json.dumps(card, ensure_ascii=False)
    yield "\n]\n"


def jcards(contacts: Iterable[Contact]) -> Iterator[Any]:
    """Each contact as a jCard."""
    return map(jcard.card, contacts)


def jscontacts(contacts: Iterable[Contact]) -> Iterator[Any]:
    """Each contact as a JSContact card."""
    return map(jscontact.card, contacts)
