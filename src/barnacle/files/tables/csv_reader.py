"""Comma-separated values (RFC 4180) as people really have them: other separators, ragged rows, lost quotes."""

from __future__ import annotations

import csv
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import chain, islice
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import NamedTuple, TextIO
from barnacle.files.drafts import Defect, Fits, Fitting, Row, row_of
from barnacle.files.encoding import Encoding, find_encoding

SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
_SAMPLE = 60
# A quoted cell may run over lines; one that runs over more than this has lost its closing quote.
_LINES_IN_A_CELL = 60
_LINE_LIMIT = 1 << 20
_BLOCK = 1 << 16
_CELL_LIMIT = 131_072


class Layout(NamedTuple):
    """How a file is written: its encoding, its separator, whether its first line only names that, and whether it is
    drawn, with rules under titles or between rows, and with bars at both ends of its lines."""

    encoding: Encoding
    separator: str
    declared: bool
    drawn: bool = False
    edged: bool = False

    def __str__(self) -> str:
        return f"{self.encoding.label}, separated by {SEPARATORS[self.separator]}"


def find_layout(path: Path, encoding: Encoding | None = None) -> Layout:
    """Work out encoding and separator. Raises FileError where the file is not a table of text."""
    encoding = encoding or find_encoding(path)
    with _open(path, encoding) as file:
        lines = [line for line in islice(_lines(file), _SAMPLE) if line and line.strip()]
    if not lines:
        raise FileError(f"{visible(path.name)} is empty.")
    declared = lines[0].strip().lower()
    if declared.startswith("sep=") and declared[4:] in SEPARATORS:
        return Layout(encoding, declared[4:], True)
    separator = max(SEPARATORS, key=lambda s: _fitness(lines, s))
    if separator != "|" or not any(map(_is_rule, lines)):
        return Layout(encoding, separator, False)
    rows = [line.strip() for line in lines if "|" in line]
    return Layout(encoding, separator, False, True, all(row[0] == row[-1] == "|" for row in rows))


def _is_rule(line: str) -> bool:
    """Whether a line is one under titles, or round a table: `|---|:--|`, `------+-----`."""
    return "--" in line and not line.strip(" \t\r\n-=+:|")


def _fitness(lines: list[str], separator: str) -> tuple[float, int]:
    """How well a separator cuts the lines into the same number of cells, more than one."""
    widths = Counter(len(next(csv.reader([line[:_CELL_LIMIT]], delimiter=separator), [])) for line in lines)
    widths.pop(1, None)
    if not widths:
        return 0.0, 0
    width, times = widths.most_common(1)[0]
    return times / len(lines), width


def read_rows(path: Path, layout: Layout, fits: Fits | None = None) -> Iterator[Row | Fitting]:
    """The rows of a file, one at a time; a row that cannot be cut into cells comes with its defect.

    A row on one line that `fits`, with nothing in quotes, comes as it is.
    """
    return _undrawn(path, layout) if layout.drawn else _read_rows(path, layout, fits)


def _undrawn(path: Path, layout: Layout) -> Iterator[Row]:
    """The rows of a table that is drawn, without its rules and the bars at both ends."""
    for row in _read_rows(path, layout, None):
        if isinstance(row, Row) and not _is_rule("|".join(row.cells)):
            cells = row.cells
            within = layout.edged and len(cells) > 2 and not cells[0].strip() and not cells[-1].strip()
            yield row._replace(cells=cells[1:-1]) if within else row


def _read_rows(path: Path, layout: Layout, fits: Fits | None) -> Iterator[Row | Fitting]:
    long = _has_long_line(path)
    with _open(path, layout.encoding) as file:
        blocks: Iterator[Sequence[str | None]] = ([line] for line in _lines(file)) if long else _many_lines(file)
        lines = _Lines(blocks, fits)
        separator = layout.separator
        if layout.declared:
            lines.next()
        while True:
            if fits is not None and (some := lines.fitting()).lines:  # nine of ten rows in a long file
                yield some
                continue
            line = lines.next()
            if line == "":
                return
            number = lines.number
            if line is None:
                yield _refused(number, "", f"the line is longer than {_LINE_LIMIT:,} characters")
                continue
            if '"' not in line and len(line) < _CELL_LIMIT:
                yield row_of(number, line.rstrip("\r\n").split(separator))
                continue
            record = [line]
            while _is_open(record, separator):
                more = lines.next()
                if not more or len(record) == _LINES_IN_A_CELL:
                    lines.back([*record[1:], *([more] if more != "" else [])])
                    record = []
                    break
                record.append(more)
            lines.number = number  # rows are counted, whatever lines they run over
            if not record:
                yield _refused(number, line, "a quote opens in this row and is never closed")
                continue
            try:
                yield row_of(number, next(csv.reader(record, delimiter=separator), []))
            except csv.Error:
                yield _refused(number, line, f"a cell is longer than {_CELL_LIMIT:,} characters")


class _Lines:
    """The lines of a file, one by one, or all at once that are of a kind. `number` counts those that were given out."""

    def __init__(self, blocks: Iterator[Sequence[str | None]], fits: Fits | None) -> None:
        self.number = 0
        self._blocks = blocks
        self._fits = fits
        self._block: Sequence[str | None] = []
        self._at = 0
        # The lines of this block that were held against the kind, what was found of each, and the places of those that
        # are of another kind, and its end.
        self._held: list[str] = []
        self._found: list[tuple[str, ...]] = []
        self._others: list[int] = [0]

    def _read(self) -> bool:
        """Have a block of which something is left; says whether there is one."""
        if self._at < len(self._block):
            return True
        self._block, self._at, self._found, self._others = next(self._blocks, []), 0, [], [0]
        self._held = [line for line in self._block if line is not None]
        if self._fits is not None and len(self._held) == len(self._block):
            self._found = self._fits(self._held)
            self._others = [place for place, parts in enumerate(self._found) if parts[-1]]
            self._others.append(len(self._block))
        return bool(self._block)

    def next(self) -> str | None:
        """The next line; None for one that is too long, an empty one at the end."""
        if not self._read():
            return ""
        self._at += 1
        self.number += 1
        return self._block[self._at - 1]

    def back(self, lines: list[str | None]) -> None:
        """Lines that were given out are to be looked at once more, one by one, and so is what is left of this block."""
        self._block, self._at = [*lines, *self._block[self._at :]], 0
        self._found, self._others = [], [0]
        self.number -= len(lines)

    def fitting(self) -> Fitting:
        """All lines from the next one on that are of the kind asked for; none where that one is not."""
        self._read()
        start, end = self._at, self._others[bisect_left(self._others, self._at)] if self._found else self._at
        self._at = end
        self.number += end - start
        return Fitting(self.number - (end - start) + 1, self._held[start:end], self._found[start:end])


def _is_open(record: list[str], separator: str) -> bool:
    try:
        list(csv.reader(record, delimiter=separator, strict=True))
    except csv.Error as error:
        return "unexpected end of data" in str(error)
    return False


def _refused(number: int, line: str, reason: str) -> Row:
    return Row(number, [], Defect(number, "", tidy(line, 80), reason))


def _open(path: Path, encoding: Encoding) -> TextIO:
    # Bytes that the encoding has no character for become U+FFFD; the row's own checks then speak of them.
    return path.open(encoding=encoding.codec, errors=encoding.errors, newline="")


def _many_lines(file: TextIO) -> Iterator[list[str]]:
    """The lines of a file that has no long ones, many at a time: a step for each would take as long as all the rest."""
    while lines := file.readlines(_BLOCK):
        if any(line.endswith("\r") for line in lines):
            lines = [line.removesuffix("\r") + "\n" if line.endswith("\r") else line for line in lines if line != "\r"]
        yield lines


def _has_long_line(path: Path) -> bool:
    """Whether there are more octets between two line ends than a line may have characters."""
    long = 0
    with path.open("rb") as file:
        while block := file.read(_LINE_LIMIT):
            if b"\n" not in block and b"\r" not in block:
                long += len(block)
                if long >= _LINE_LIMIT:
                    return True
            else:
                ends = max(block.find(b"\n"), 0) or max(block.find(b"\r"), 0)
                if long + ends >= _LINE_LIMIT:
                    return True
                long = len(block) - 1 - max(block.rfind(b"\n"), block.rfind(b"\r"))
    return long >= _LINE_LIMIT


def _lines(file: TextIO) -> Iterator[str | None]:
    """Lines with their ends; None for one that is too long to be taken."""
    while line := file.readline(_LINE_LIMIT):
        if len(line) == _LINE_LIMIT and not line.endswith("\n"):
            while (rest := file.readline(_LINE_LIMIT)) and not rest.endswith("\n"):
                pass
            yield None
        elif "\r" in line and not line.endswith("\r\n"):
            yield from chain.from_iterable(
                [part + "\n"] for part in line.replace("\r\n", "\n").split("\r") if part.strip("\n")
            )
        else:
            yield line
