"""People's names: their parts, and whether two can be one person's."""

from __future__ import annotations

import re
from typing import NamedTuple

from barnacle.core.text import fold, tidy

_TITLES = frozenset(
    """
mr mrs ms miss mx dr prof professor sir dame lady lord rev capt captain cdr lt sgt hr fru herr frau mme
""".split()
)
_ELDER = frozenset({"sen", "snr", "sr", "senior", "elder"})
_YOUNGER = frozenset({"jun", "jnr", "jr", "junior", "younger", "ii", "iii"})
_GENERATIONS = _ELDER | _YOUNGER
_PARTICLES = frozenset(
    """
van von der den de da di du del della la le el al bin ibn ter ten af av zu dos das st
""".split()
)

# Each row is one given name with the short forms English speakers use for it.
_SHORT_FORMS = """
alexander alex alec sandy|alexandra alex sandra|andrew andy drew|anthony tony|benjamin ben|catherine cathy kate
|charles charlie chuck|christopher chris|daniel dan danny|david dave|deborah debbie|edward ed eddie ted
|elizabeth liz beth betty lizzie eliza|frederick fred|gregory greg|james jim jimmy jamie|jennifer jen jenny
|john jack johnny|joseph joe|katherine kathy kate katie|kenneth ken|lawrence larry|leonard len|margaret maggie
peggy meg|matthew matt|michael mike mick|nicholas nick|patricia pat|patrick pat paddy|peter pete|philip phil
|rebecca becky|richard rick dick|robert rob bob bobby robbie bo|ronald ron|samuel sam|samantha sam|stephen steve
|steven steve|susan sue|thomas tom tommy|timothy tim|victoria vicky|walter walt|william will bill billy
"""
_FORMS: dict[str, set[int]] = {}
for _number, _row in enumerate(_SHORT_FORMS.split("|")):
    for _form in _row.split():
        _FORMS.setdefault(_form, set()).add(_number)


class PersonName(NamedTuple):
    """The parts of a person's name as they are written."""

    given: str
    family: str


def may_be_split(given: str, family: str) -> bool:
    """Whether two words in small letters are a given and a family name, and not a title or a word such as "senior"."""
    return given not in _TITLES and family not in _GENERATIONS


def split_name(name: str) -> PersonName:
    """Given and family name of a display name: `Holt, Maren`, `Maren Holt`, `Jan van der Meer`.

    A single word is a given name. Titles in front and words such as "senior" behind are left off.
    """
    given, _, family = name.partition(" ")
    if given.isalpha() and family.isalpha() and may_be_split(given.lower(), family.lower()):
        return PersonName(given, family)  # most names, told without a search
    before, comma, after = name.partition(",")
    if comma and after.strip() and fold(after.strip(" .")) not in _GENERATIONS:
        return PersonName(after.strip(), before.strip())
    parts = [p for p in re.split(r"[\s,]+", name) if p]
    while len(parts) > 1 and fold(parts[0].strip(".")) in _TITLES:
        parts.pop(0)
    while len(parts) > 1 and fold(parts[-1].strip(".")) in _GENERATIONS:
        parts.pop()
    if len(parts) < 2:
        return PersonName(parts[0] if parts else "", "")
    start = len(parts) - 1
    while start > 1 and fold(parts[start - 1]) in _PARTICLES:
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


def contradicts(one: str, other: str) -> bool:
    """Whether two names at the same address plainly belong to two people.

    They do not when one is empty, is part of the other, or differs by initials, short forms or a slip of the
    pen. "Una Berg" and "Per Berg" contradict each other; so do "Tom Pike" and "Tom Pike jun.".
    """
    if not one or not other or fold(one) == fold(other):
        return False
    mine, theirs = _comparable(one), _comparable(other)
    if mine.generation != theirs.generation:
        return True
    if len(mine.words) > len(theirs.words):
        mine, theirs = theirs, mine
    left = list(theirs.words)
    for word in mine.words:
        match = next((w for w in left if w == word), None) or next((w for w in left if _alike(word, w)), None)
        if match is None:
            return True
        left.remove(match)
    return False


class _Comparable(NamedTuple):
    words: list[str]
    generation: str


def _comparable(name: str) -> _Comparable:
    found = re.findall(r"\w+", fold(name))
    generation = next(("elder" if w in _ELDER else "younger" for w in found if w in _GENERATIONS), "")
    kept = [w for w in found if w not in _TITLES and w not in _ELDER and w not in _YOUNGER]
    return _Comparable(kept or found, generation)


def _alike(one: str, other: str) -> bool:
    if len(one) == 1 or len(other) == 1:
        return one[0] == other[0]
    if _FORMS.get(one, set()) & _FORMS.get(other, set()):
        return True
    longer = max(len(one), len(other))
    # A slip of the pen keeps the first and the last letter; Erik and Erika, Paul and Paula are two people.
    if longer < 4 or one[0] != other[0] or one[-1] != other[-1]:
        return False
    from rapidfuzz.distance import OSA

    return OSA.distance(one, other) <= (2 if longer >= 8 else 1)
