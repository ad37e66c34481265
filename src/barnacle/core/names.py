"""People's names and their parts. Whether two can be one person's: matching.naming."""

from __future__ import annotations

import re
from typing import NamedTuple

from barnacle.core.text import fold, tidy

TITLES = frozenset(
    """
mr mrs ms miss mx dr prof professor sir dame lady lord rev capt captain cdr lt sgt hr fru herr frau mme
""".split()
)
ELDER = frozenset({"sen", "snr", "sr", "senior", "elder"})
YOUNGER = frozenset({"jun", "jnr", "jr", "junior", "younger", "ii", "iii"})
GENERATIONS = ELDER | YOUNGER
PARTICLES = frozenset(
    """
van von der den de da di du del della la le el al bin ibn ter ten af av zu dos das st
""".split()
)


class PersonName(NamedTuple):
    """The parts of a person's name as they are written."""

    given: str
    family: str


def may_be_split(given: str, family: str) -> bool:
    """Whether two words in small letters are a given and a family name, and not a title or a word such as "senior"."""
    return given not in TITLES and family not in GENERATIONS


def split_name(name: str) -> PersonName:
    """Given and family name of a display name: `Holt, Maren`, `Maren Holt`, `Jan van der Meer`.

    A single word is a given name. Titles in front and words such as "senior" behind are left off.
    """
    given, _, family = name.partition(" ")
    if given.isalpha() and family.isalpha() and may_be_split(given.lower(), family.lower()):
        return PersonName(given, family)  # most names, told without a search
    before, comma, after = name.partition(",")
    if comma and after.strip() and fold(after.strip(" .")) not in GENERATIONS:
        return PersonName(after.strip(), before.strip())
    parts = [p for p in re.split(r"[\s,]+", name) if p]
    while len(parts) > 1 and fold(parts[0].strip(".")) in TITLES:
        parts.pop(0)
    while len(parts) > 1 and fold(parts[-1].strip(".")) in GENERATIONS:
        parts.pop()
    if len(parts) < 2:
        return PersonName(parts[0] if parts else "", "")
    start = len(parts) - 1
    while start > 1 and fold(parts[start - 1]) in PARTICLES:
        start -= 1
    return PersonName(" ".join(parts[:start]), " ".join(parts[start:]))


def display_name(given: str, family: str) -> str:
    """`Maren Holt` from its two parts, either of which may be empty."""
    return tidy(f"{given} {family}")


def turned(name: str) -> str:
    """`Holt, Maren` as `Maren Holt`; any other name as it is."""
    if name.count(",") != 1:
        return name
    parts = split_name(name)
    return display_name(parts.given, parts.family) if parts.family and parts.given else name
