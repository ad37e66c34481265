"""A checklist to pick people from: what is shown, what is ticked, where the cursor stands."""

from __future__ import annotations

import re
from collections.abc import Iterable

from barnacle.core.errors import UnclearError
from barnacle.core.text import fold, visible
from barnacle.core.typed import NamedTuple


class Line(NamedTuple):
    """Something to pick: a key that tells it from all others, and the line that is shown."""

    key: str
    line: str


class Checklist:
    """Lines with ticks; typing narrows what is shown and never changes a tick."""

    def __init__(self, choices: Iterable[Line], ticked: Iterable[str]) -> None:
        self.choices = list(choices)
        self.ticked = set(ticked)
        self.filter = ""
        self.cursor = 0
        self._folded = [fold(choice.line) for choice in self.choices]
        self._shown = list(range(len(self.choices)))

    @property
    def shown(self) -> list[Line]:
        """The choices that have every word of the filter in them."""
        return [self.choices[number] for number in self._shown]

    def type(self, text: str) -> None:
        """Narrow what is shown by more letters."""
        self._narrow(self.filter + text)

    def rub_out(self) -> None:
        """Take the filter's last letter back."""
        self._narrow(self.filter[:-1])

    def _narrow(self, text: str) -> None:
        self.filter = text
        wanted = fold(text).split()
        self._shown = [n for n, line in enumerate(self._folded) if all(w in line for w in wanted)]
        self.cursor = 0

    def move(self, by: int) -> None:
        """Move the cursor, as far as there are lines."""
        self.cursor = max(0, min(len(self._shown) - 1, self.cursor + by))

    def tick(self) -> None:
        """Tick what the cursor stands on, or take its tick away, and go on to the next."""
        if self._shown:
            self.ticked ^= {self.choices[self._shown[self.cursor]].key}
            self.move(1)

    def tick_shown(self) -> None:
        """Tick all that is shown, or, where all of it is ticked, none of it."""
        keys = {choice.key for choice in self.shown}
        self.ticked = self.ticked - keys if keys <= self.ticked else self.ticked | keys

    def window(self, height: int) -> tuple[int, list[Line]]:
        """The part of what is shown that fits `height` lines around the cursor, with the number of its first line."""
        start = max(0, min(self.cursor - height // 2, len(self._shown) - height))
        return start, [self.choices[n] for n in self._shown[start : start + height]]


def chosen_numbers(text: str, most: int) -> list[int]:
    """`1,3-5` as numbers from 1 to `most`. Raises UnclearError."""
    result: list[int] = []
    for part in re.split(r"[,;\s]+", text.strip()):
        match = re.fullmatch(r"(\d{1,7})(?:-(\d{1,7}))?", part)
        first, last = (int(match[1]), int(match[2] or match[1])) if match else (0, 0)
        if not 1 <= first <= last <= most:
            raise UnclearError(f"`{visible(part, 20)}` is not a number between 1 and {most}, such as 3 or 5-8.")
        result += [n for n in range(first, last + 1) if n not in result]
    return result
