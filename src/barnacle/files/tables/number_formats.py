"""How a workbook shows its numbers (ISO/IEC 29500-1 section 18.8.31; ODF 1.3 section 16.29): 7 as `0007`, 0.5 as `50%`,
441632960001 as `+44 1632 960001`. Whoever made the sheet means what it shows. The older binary workbooks are not
looked at."""

from __future__ import annotations

import datetime
import re
import unicodedata
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import lru_cache, partial
from html import unescape
from itertools import groupby
from operator import attrgetter, eq, ge, gt, le, lt, ne
from pathlib import Path

from barnacle.core.typed import NamedTuple
from barnacle.files.drafts import COLUMNS
from barnacle.files.tables.archive import (
    DAMAGED,
    column_of,
    name_of,
    names_of_parts,
    open_cells,
    parts_of_sheets,
    tags,
    value,
)

# What a cell's format makes of its number; empty where it says no more than the number itself.
Shows = Callable[[float], str]
# Formats that need not be spelled out (section 18.8.30): days and times, and percentages.
_OF_DAYS = frozenset((*range(14, 23), *range(27, 37), *range(45, 48), *range(50, 59)))
_PERCENT = {9: "0%", 10: "0.00%"}
_STYLES = rb"</?(?:\w+:)?(?:numFmt|cellXfs|xf)\b[^<>]*>"
_PLACE = re.compile(r"""<(?:\w+:)?c\b[^<>]*?\sr=["']([A-Za-z]{1,3})([0-9]{1,7})["']""").match
_STYLE = re.compile(r"""\ss=["'](\d{1,6})["']""").search
# One piece of a format: what is quoted, escaped, as wide as a character, filled up with one, in brackets, or plain.
_PIECE = re.compile(r'"([^"]*)"|\\(.)|[_*].|\[([^\[\]]*)\]|(.)', re.DOTALL)
_CONDITION = re.compile(r"(<=|>=|<>|[<>=])(\d{1,15})").fullmatch
_HOLDS = {"<": lt, "<=": le, ">": gt, ">=": ge, "=": eq, "<>": ne}
_DAY_LETTERS = frozenset("dmyhs")
_PLACES, _PLAIN = "0#?", "-+():' "
_GROUPED = re.compile(r"\d{1,3}(?:([.,'\u2019\s])\d{3})(?:\1\d{3})*").fullmatch
_LONGEST = 255  # characters of a format, the most that spreadsheet programs keep
_IN_OPEN_CELLS = r"</?office:annotation\b(?!-)[^<>]*>|<text:p\b[^<>]*>[^<]*"
_STYLES_OF_ODS = rb"</?number:(?:number-style|percentage-style|text|embedded-text|number)\b(?!-)[^<>]*>"
_MOST_TIMES = 1000


class _Section(NamedTuple):
    """A part of a format: for which numbers, and what it puts, digits at `0`, `#` and `?`, which stand alone."""

    condition: tuple[str, float] | None
    pieces: tuple[tuple[str, bool], ...]

    def fits(self, number: float) -> bool:
        """Whether it is for this number."""
        return self.condition is None or bool(_HOLDS[self.condition[0]](number, self.condition[1]))


def number_in(text: str) -> float:
    """A number; not one (NaN) where it is none."""
    try:
        return float(text) if len(text) < 400 else float("nan")
    except ValueError:
        return float("nan")


def as_percent(number: float) -> str:
    """A number as a percentage, with the decimals that it has."""
    return f"{number * 100:.10g}%" if abs(number) < 1e6 else ""


def if_telling(shown: str, number: float) -> str:
    """What is shown where it says more of a whole number than its digits: zeros in front, or something before or
    between them that neither groups them nor makes an amount of money, or a word instead. Empty elsewhere."""
    if not (0 <= number < 1e15 and number.is_integer()):
        return ""
    digits = str(int(number))
    if shown.isascii() and shown.isdecimal():
        return shown if len(shown) > len(digits) else ""
    shown = " ".join(shown.split())
    if shown.isalpha():
        return shown  # `yes` for 1
    if any(unicodedata.category(c) == "Sc" for c in shown):
        return ""
    found = re.sub(r"[^0-9]", "", shown)
    if found.lstrip("0") != digits.lstrip("0") or (not number and set(found) != set(shown)):
        return ""
    last = max(map(shown.rfind, "0123456789"), default=-1)
    head = shown[: last + 1]
    if len(found) == len(digits) and (head == digits or _GROUPED(head)):
        return ""
    return shown


def shown_by_text(kind: str, text: str) -> Shows | None:
    """What a cell of an OpenDocument sheet makes of its number, by the kind of its value and the text that it shows."""
    if kind == "float":
        return partial(if_telling, text)
    return as_percent if kind == "percentage" else None


def time_of(span: datetime.timedelta) -> str:
    """A time of the day, or a span of more than that: hours and minutes, and seconds where there are any."""
    seconds = round(span.total_seconds())
    text = f"{seconds // 3600:02}:{seconds // 60 % 60:02}"
    return f"{text}:{seconds % 60:02}" if seconds % 60 else text


def shows_by(code: str) -> Shows | None:
    """What a format makes of numbers; None where that is nothing that their digits do not say."""
    sections: list[_Section] = []
    condition: tuple[str, float] | None = None
    pieces: list[tuple[str, bool]] = []
    is_plain = True
    for piece in _PIECE.finditer(code[:_LONGEST]):
        quoted, escaped, brackets, plain = piece.groups()
        if plain == ";":
            sections.append(_Section(condition, tuple(pieces)))
            condition, pieces = None, []
        elif plain == "%":
            return as_percent
        elif plain is not None:
            # Decimals, thousands, fractions, days, text: its digits say it.
            is_plain = is_plain and (plain in _PLACES or plain in _PLAIN)
            pieces.append((plain, plain in _PLACES))
        elif brackets is not None:
            if said := _CONDITION(brackets):
                condition = said[1], float(said[2])
            is_plain = is_plain and not re.match(r"\$[^-]", brackets)  # money
        else:
            pieces.append((quoted or escaped or "", False))
    sections.append(_Section(condition, tuple(pieces)))
    return partial(_by_sections, tuple(sections)) if is_plain else None


def _by_sections(sections: tuple[_Section, ...], number: float) -> str:
    if not (0 <= number < 1e15 and number.is_integer()):
        return ""
    if any(section.condition for section in sections):
        section = next((one for one in sections if one.fits(number)), sections[-1])
    else:
        section = sections[2 if number == 0 and len(sections) > 2 else 0]
    digits = list(str(int(number)))
    put: list[str] = []
    places = sum(is_place for _, is_place in section.pieces)
    for text, is_place in reversed(section.pieces):
        if not is_place:
            put.append(text)
            continue
        places -= 1
        if not places:  # the first takes all that is left
            put.append("".join(digits) or ("0" if text == "0" else ""))
            digits = []
        else:
            put.append(digits.pop() if digits else "0" if text == "0" else "")
    return if_telling("".join(reversed(put)), number)


class Formats(NamedTuple):
    """Of an Office Open XML workbook: which styles of its cells show days or times, and what some make of numbers."""

    of_days: frozenset[int]
    shows: Mapping[int, Shows]


def formats_of(path: Path) -> Formats:
    """The formats of a workbook's cells, by the numbers of their styles."""
    codes = dict(_PERCENT)
    of_days, days, shows = set(_OF_DAYS), set[int](), dict[int, Shows]()
    number, within = -1, False
    for tag in tags(path, "xl/styles.xml", _STYLES) if "xl/styles.xml" in names_of_parts(path) else ():
        name = tag.strip("</>").split()[0].rpartition(":")[2]
        if name == "numFmt":
            known, code = _number(value(tag, "numFmtId")), unescape(value(tag, "formatCode"))
            codes[known] = code
            if _is_of_days(code):
                of_days.add(known)
        elif name == "cellXfs":
            within = not tag.startswith("</")
        elif within and not tag.startswith("</"):
            number += 1
            known = _number(value(tag, "numFmtId") or "0")
            if known in of_days:
                days.add(number)
            elif show := shows_by(codes.get(known, ".")):
                shows[number] = show
    return Formats(frozenset(days), shows)


def _is_of_days(code: str) -> bool:
    for _, _, brackets, plain in map(re.Match.groups, _PIECE.finditer(code[:_LONGEST])):
        if (plain or "").lower() in _DAY_LETTERS or (brackets or "").lower() in ("h", "hh", "m", "mm", "s", "ss"):
            return True
    return False


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 8 else -1


@lru_cache(maxsize=1)
def _known(path: Path, _changed: int) -> tuple[Mapping[int, Shows], dict[str, str], bool]:
    """What styles make of numbers, the parts of the sheets; whether it is a workbook of ODF that has such styles."""
    names = names_of_parts(path)
    with suppress(*DAMAGED):
        if "xl/workbook.xml" in names:
            return formats_of(path).shows, parts_of_sheets(path, names), False
        if "content.xml" in names:
            return {}, {}, any(map(partial(_has_some, path), names & {"content.xml", "styles.xml"}))
    return {}, {}, False


def _has_some(path: Path, part: str) -> bool:
    within = False
    for tag in tags(path, part, _STYLES_OF_ODS):
        name = tag.split()[0].strip("</>")
        if name == "number:number-style":
            within = not tag.startswith("</")
            continue
        has_zeros = _number(value(tag, "number:min-integer-digits") or "1") > 1
        if name in ("number:percentage-style", "number:embedded-text") or (
            within and (has_zeros or name == "number:text")
        ):
            return True
    return False


def shown_numbers(path: Path, sheet: str) -> Iterator[tuple[int, dict[int, Shows]]]:
    """Of the rows (counted from 1) of a sheet with numbers that are shown otherwise than by their digits alone: what
    makes something else of them, by their columns (counted from 0). In the order of the file, as far as it can be
    read."""
    shows, parts, is_open = _known(path, path.stat().st_mtime_ns)
    with suppress(*DAMAGED):
        if is_open:
            yield from _of_ods(path, sheet)
        elif shows and sheet in parts:
            yield from _of_part(path, parts[sheet], shows)


def _of_part(path: Path, part: str, shows: Mapping[int, Shows]) -> Iterator[tuple[int, dict[int, Shows]]]:
    found: dict[int, Shows] = {}
    row, column = 0, -1
    for tag in tags(path, part, _those_of(path, part, shows)):
        if (place := _PLACE(tag)) is not None:
            at, column = int(place[2]), column_of(place[1])
        else:
            is_row = name_of(tag).endswith("row")
            at, column = (int(value(tag, "r") or row + 1), -1) if is_row else (row, column + 1)
        if at != row:
            if found:
                yield row, found
            row, found = at, {}
        if (style := _STYLE(tag)) and (show := shows.get(int(style[1]))) is not None and column >= 0:
            found[column] = show
    if found:
        yield row, found


def _those_of(path: Path, part: str, shows: Mapping[int, Shows]) -> bytes:
    """Which tags to look at: the cells of those styles, where cells say their places; else they must be counted."""
    first = next(tags(path, part, rb"<(?:\w+:)?c\b[^<>]*>"), "")
    if not _PLACE(first):
        return rb"<(?:\w+:)?(?:row|c)\b[^<>]*>"
    return rb"<(?:\w+:)?c\s(?:[^<>]*\s)?s=[\"'](?:%s)[\"'][^<>]*>" % "|".join(map(str, shows)).encode()


def _of_ods(path: Path, sheet: str) -> Iterator[tuple[int, dict[int, Shows]]]:
    cells = (cell for cell in open_cells(path, _IN_OPEN_CELLS) if cell.sheet == sheet)
    for (row, rows), some in groupby(cells, key=attrgetter("row", "rows")):
        found: dict[int, Shows] = {}
        kind, is_aside = "", False
        for cell in some:
            name = name_of(cell.tag)
            if name == "office:annotation":
                is_aside = not cell.tag.startswith("</")
            elif name.startswith("table:"):
                kind = value(cell.tag, "office:value-type")
            elif not is_aside:
                if show := shown_by_text(kind, unescape(cell.tag.partition(">")[2])):
                    found |= dict.fromkeys(range(cell.column, cell.column + min(cell.columns, COLUMNS)), show)
                kind = ""  # the first line alone
        for number in range(row, row + min(rows, _MOST_TIMES)) if found else ():
            yield number, found
