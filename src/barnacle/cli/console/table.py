"""Tables on a terminal: as wide as it is, no address and no command broken. What does not fit goes below its row."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Mapping, Sequence

from wcwidth import wcswidth

# Between columns, and before what stands below a row.
_GAP, _INDENT = 2, "    "
# A column that is cut at words keeps at least so many characters.
_LEAST = 8
_BOLD, _END = "\x1b[1m", "\x1b[0m"
# A word of a command, with what it has in quotes.
_WORD = re.compile(r"""(?:[^\s"']|"[^"]*"|'[^']*'|["'])+""")
# Colours of the terminal's own palette, which people set to be read on their background.
_CODES = {"red": "\x1b[31m", "magenta": "\x1b[35m"}


def colours() -> bool:
    """Whether the terminal is to be given colours: FORCE_COLOR and CLICOLOR_FORCE ask for them, NO_COLOR, CLICOLOR=0
    and a terminal that has none forbid them."""
    if os.environ.get("NO_COLOR"):
        return False
    if any(os.environ.get(name, "0") not in ("0", "") for name in ("FORCE_COLOR", "CLICOLOR_FORCE")):
        return True
    return sys.stdout.isatty() and os.environ.get("CLICOLOR") != "0" and os.environ.get("TERM", "dumb") != "dumb"


def fitted(
    columns: Sequence[str], rows: Sequence[Sequence[str]], width: int, below: Sequence[str], styles: Mapping[str, str]
) -> list[str]:
    """The lines of a table of at most that width, where that can be. Columns named in `below` stand below their row;
    so do those that do not fit, the last ones first. `styles` has the colour of cells by their text."""
    beside = [n for n, title in enumerate(columns) if title not in below and any(row[n] for row in rows)] or [0]
    under = [n for n, title in enumerate(columns) if title in below]
    titles = {n: _cells(title) for n, title in enumerate(columns)}
    most = {n: max(_cells(row[n]) for row in rows) for n in range(len(columns))}
    if sum(max(most[n], titles[n]) for n in beside) + _GAP * (len(beside) - 1) > width:
        titles = {n: _unbroken(title) for n, title in enumerate(columns)}  # then a title may take two lines
    most = {n: max(most[n], titles[n]) for n in most}
    least = {n: min(most[n], max(_LEAST, titles[n], *(_unbroken(row[n]) for row in rows))) for n in beside}
    while len(beside) > 1 and sum(least[n] for n in beside) + _GAP * (len(beside) - 1) > width:
        under.insert(0, beside.pop())
    widths = _shared_out({n: most[n] for n in beside}, least, width - _GAP * (len(beside) - 1))
    right = {n for n in beside if all(row[n].replace(",", "").isdigit() for row in rows)}
    shown = colours()
    lines = _lines(columns, beside, widths, right, _BOLD if shown else "", {})
    for row in rows:
        lines += _lines(row, beside, widths, right, "", styles if shown else {})
        moved = [f"{columns[n]}: {row[n]}" for n in under if columns[n] not in below and row[n]]
        for text in (" · ".join(moved), *(row[n] for n in under if columns[n] in below)):
            lines += [_INDENT + line for line in wrap(text, width - len(_INDENT))] if text else []
    return [line.replace("\u00a0", " ") for line in lines]


def _cells(text: str) -> int:
    """How many columns a text takes (Unicode Standard Annex 11)."""
    return len(text) if text.isascii() else max(wcswidth(text), 0)


def wrap(text: str, width: int) -> list[str]:
    """A text cut at words; an address is never cut, nor a command in backticks. A text that is all command is cut
    before options, so that it can be copied into a shell as it is."""
    if _cells(text) <= width:
        return [text]
    if text.startswith("barnacle "):
        return _command(text, width)
    whole = "`".join(part.replace(" ", "\0") if n % 2 else part for n, part in enumerate(text.split("`")))
    lines: list[str] = []
    for word in filter(None, whole.split(" ")):  # other spaces are there so that nothing is cut
        if lines and _cells(f"{lines[-1]} {word}") <= width:
            lines[-1] += f" {word}"
        else:
            lines.append(word)
    return [line.replace("\0", " ") for line in lines]


def _command(text: str, width: int) -> list[str]:
    parts: list[str] = []
    for word in _WORD.findall(text):
        if parts and not word.startswith("--"):
            parts[-1] += f" {word}"
        else:
            parts.append(word)
    lines = parts[:1]
    for part in parts[1:]:
        if _cells(f"{lines[-1]} {part} \\") <= width:
            lines[-1] += f" {part}"
        else:
            lines.append(f"  {part}")
    return [line + " \\" for line in lines[:-1]] + lines[-1:]


def _unbroken(text: str) -> int:
    """The length of the longest part that must stay in one piece."""
    return max((_cells(line) for line in wrap(text, 1)), default=0)


def _shared_out(most: dict[int, int], least: dict[int, int], width: int) -> dict[int, int]:
    """Widths of columns: what each needs where there is room; else at least what it must have, and the rest to those
    that want the least more, so that as few as can be are cut."""
    widths = {n: least[n] for n in most}
    left = width - sum(widths.values())
    for n in sorted(most, key=lambda n: most[n] - widths[n]):
        more = max(min(most[n] - widths[n], left), 0)
        widths[n] += more
        left -= more
    return widths


def _lines(
    row: Sequence[str],
    beside: Sequence[int],
    widths: dict[int, int],
    right: set[int],
    style: str,
    by_text: Mapping[str, str],
) -> list[str]:
    """A row as lines, its cells cut at words."""
    wrapped = {n: wrap(row[n], widths[n]) or [""] for n in beside}
    lines = []
    for place in range(max(map(len, wrapped.values()))):
        parts = []
        for n in beside:
            cell = wrapped[n][place] if place < len(wrapped[n]) else ""
            room = " " * max(widths[n] - _cells(cell), 0)
            code = style or _CODES.get(by_text.get(row[n], ""), "")
            text = f"{code}{cell}{_END}" if code and cell else cell
            parts.append(room + text if n in right else text + room)
        lines.append((" " * _GAP).join(parts).rstrip())
    return lines
