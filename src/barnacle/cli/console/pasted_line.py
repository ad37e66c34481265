"""A command line that was copied from a message or a document: there `"` has become a pair of marks that no shell
knows, `--` a long dash, and some spaces do not break."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence

from barnacle.core.quotation_marks import PAIRS

_DASH = re.compile("[‐‑‒–—―−]{1,2}([a-z][a-z-]*)(?:=.*)?", re.DOTALL)
# What a mark may stand behind: an option, `label:`, `find:`.
_IN_FRONT = re.compile(r"(?:--[a-z-]+=|[a-z]+:)?")
_UNBROKEN = re.compile("[\u00a0\u202f\u2007]")
# The straight one comes through a shell only where it was meant.
_OPENING = "".join(PAIRS).replace('"', "")


def as_it_was(words: Sequence[str]) -> list[str]:
    """The words as they were before. One with a space in it stood in quotation marks that the shell knows, and one that
    is a file is its name: they stay."""
    found: list[str] = []
    for word in words:
        is_kept = " " in word or os.path.lexists(word)
        found += [word] if is_kept else filter(None, _UNBROKEN.split(_with_dashes(word)))
    result: list[str] = []
    while found:
        end = _end(found)
        result.append(_without_marks(" ".join(found[:end])) if end else found[0])
        del found[: end or 1]
    return result


def _with_dashes(word: str) -> str:
    if dash := _DASH.fullmatch(word):
        return f"{'-' if len(dash[1]) == 1 else '--'}{word[dash.start(1) :]}"
    return word


def _mark(word: str) -> int:
    """Where a mark stands that opens, or -1."""
    front = _IN_FRONT.match(word)
    place = front.end() if front else 0
    return place if word[place : place + 1] and word[place] in _OPENING else -1


def _end(words: Sequence[str]) -> int:
    """How many of the first words stand between marks; 0 where the first does not open, or nothing closes."""
    place = _mark(words[0])
    if place < 0 or " " in words[0]:
        return 0
    closing = PAIRS[words[0][place]]
    for n, word in enumerate(words):
        if word.endswith(tuple(closing)) and len(word) > (place + 1 if n == 0 else 0):
            return n + 1
    return 0


def _without_marks(text: str) -> str:
    place = _mark(text)
    return text[:place] + text[place + 1 : -1]
