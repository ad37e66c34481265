"""Bars on a terminal."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

# From full to the emptiest part of a bar; the same in ASCII, for a terminal that has no more.
_SIGNS = ("█", "▒", "░", "·", "-")
_PLAIN = ("#", "=", "+", ".", "-")
_TITLE, _BAR = 26, 26


def signs() -> Sequence[str]:
    """What the parts of a bar are drawn with."""
    encoding = (sys.stdout.encoding or "ascii").lower()
    return _SIGNS if "utf" in encoding and os.environ.get("TERM") != "dumb" else _PLAIN


def bar(numbers: Sequence[int], most: int, width: int = _BAR) -> str:
    """A bar of parts, as wide as `most` would be; a part that is there is seen."""
    drawn = ""
    total = 0
    for number, sign in zip(numbers, signs(), strict=False):
        total += number
        upto = round(total / most * width) if most else 0
        if number:
            drawn += sign * max(upto - len(drawn), 1)
    return drawn[: width + len(numbers)]


def beside(title: str, drawn: str, words: str) -> str:
    """A line: a title, a bar, and what it says."""
    return f"{_fitted(title, _TITLE)}  {drawn}{' ' if drawn else ''}{words}"


def _fitted(text: str, width: int) -> str:
    """A text of just that width on a terminal, with … where it was cut."""
    from wcwidth import wcswidth, wcwidth

    cells = wcswidth(text)
    if 0 <= cells <= width:
        return text + " " * (width - cells)
    kept, used = "", 0
    for sign in text:
        size = max(wcwidth(sign), 0)
        if used + size > width - 1:
            break
        kept, used = kept + sign, used + size
    return f"{kept}…" + " " * (width - 1 - used)
