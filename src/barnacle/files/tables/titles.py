"""What a column's title says, word by word: the field, of whom, of which kind, and whether all of it was understood."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Sequence
from functools import cache, lru_cache
from itertools import groupby

from barnacle.core.text import fold, words
from barnacle.core.typed import NamedTuple
from barnacle.files.tables.title_words import CONCEPTS, LONGEST, changing, phrases

_NAMES = frozenset(("name", "given", "family", "both"))
# Roles of people whom a row names beside the one whom it is about; `somebody` is nobody whom the row brings.
SECONDS = ("second", "mother", "father", "parent", "child")
_ROLES = frozenset((*SECONDS, "somebody", "main"))
_KINDS = frozenset(("work", "home", "other"))
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])|(?<=[A-Za-z])(?=\d)|_")
_TITLE_LIMIT = 200
_PRONOUN = ("main", "filler")
_DOTTED = re.compile(r"(\w{4,30})\.")
# Titles of no more words may have some that are cut short without a dot.
_TERSE = 2
# `Home / mobile`: the one or the other.
_EITHER = re.compile(r"[/,&+|]|\b(?:or|and|oder|und|ou|et|o|e|y|of|en|eller|og|och|lub|i|tai|ja)\b", re.IGNORECASE)
# Of cases and articles, the shortest first: North Germanic, German, Polish, Finnish.
_ENDINGS = "n s a u y i en et er es ns ow ej an ens ets ers nes ernes".split()


class Title(NamedTuple):
    """What a title says. `concept` is one of title_words.CONCEPTS or empty; `role` whose it is; `kind` work, home,
    mobile or other; `number` the one at the end (`E-mail 2`); `is_thing` says that it speaks of something else than a
    person's data; `is_sure` that no word of it is unknown."""

    concept: str = ""
    role: str = ""
    kind: str = ""
    number: int = 0
    is_thing: bool = False
    is_sure: bool = False

    @property
    def is_known(self) -> bool:
        """Whether the title says anything that we understand."""
        return bool(self.concept or self.is_thing or self.role or self.kind)


@lru_cache(maxsize=4096)
def read_title(text: str) -> Title:
    """What a title says, as far as it is understood."""
    found = words(_CAMEL.sub(" ", text[:_TITLE_LIMIT]))
    number = 0
    numbers = [place for place, word in enumerate(found) if word.isdecimal() and 0 < int(word[:3]) < 10]
    if numbers and len(found) > 1:
        number = int(found.pop(numbers[-1]))
    tags, unknown = _tags(found, text)
    if not tags:
        return Title(number=number)
    return _meaning(tags, number, is_sure=not unknown, either=_EITHER.search(text[:_TITLE_LIMIT]) is not None)


def qualifier(text: str) -> tuple[str, ...]:
    """The words of a title that say of whom it speaks, as far as others may repeat them: `Groom` and `Groom's email`,
    `Co-Trainer` and `Mail Co-Trainer`."""
    said = _read_words(words(_CAMEL.sub(" ", text[:_TITLE_LIMIT])), text)
    return tuple(word for phrase, tags in said if not tags or tags[0][0] in _ROLES for word in phrase)


def _tags(found: list[str], text: str) -> tuple[list[tuple[str, ...]], int]:
    """The tags of a title's words and phrases in order, and how many words have none."""
    said = _read_words(found, text)
    return [one for _, tags in said for one in tags], sum(not tags for _, tags in said)


def _read_words(found: list[str], text: str) -> list[tuple[list[str], Sequence[tuple[str, ...]]]]:
    """The words and phrases of a title with their tags; bare numbers say nothing and are left out. `text` is the title
    as it stands."""
    known = phrases()
    # In a sentence, and in a question above all, only a dot says that a word is cut short: to come is no comment.
    dotted = set(_DOTTED.findall(fold(text[:_TITLE_LIMIT])))
    is_terse = len(found) <= _TERSE and "?" not in text
    said: list[tuple[list[str], Sequence[tuple[str, ...]]]] = []
    place = 0
    while place < len(found):
        for length in range(min(LONGEST, len(found) - place), 0, -1):
            phrase = found[place : place + length]
            if hit := known.get(tuple(phrase)) or _without_ending(phrase):
                said.append((phrase, (hit,)))
                place += length
                break
        else:
            parts = _compound(found[place])
            if not parts and (is_terse or found[place] in dotted):
                parts = _abbreviated(found[place])
            if parts or not found[place].isdecimal():
                said.append(([found[place]], parts))
            place += 1
    return said


def _without_ending(phrase: list[str]) -> tuple[str, ...] | None:
    """The tags of a phrase whose last word has an ending: `Omistajan`, `Ejers`, `Ägarens`, `e-postadressen`."""
    *first, last = phrase
    for ending in _ENDINGS:
        stem = last.removesuffix(ending)
        if stem != last and len(stem) >= 3:
            for form in (stem, f"{stem}e"):
                hit = changing().get((*first, form))
                if hit and hit[0] not in ("filler", "number"):
                    return hit
    return None


@lru_cache(maxsize=4096)
def _abbreviated(word: str) -> tuple[tuple[str, ...], ...]:
    """The tags of a word that is cut short (`dienstl.`, `priv.`), where all that begin so say the same."""
    if len(word) < 4:
        return ()
    known = _single_words()
    begin_so = known[bisect_left(known, (word,)) : bisect_left(known, (f"{word}\U0010ffff",))]
    tags = {tags for _, tags in begin_so}
    firsts = {one[0] for one in tags}
    return (tags.pop(),) if len(firsts) == 1 and firsts.isdisjoint(("filler", "else")) else ()


@cache
def _single_words() -> list[tuple[str, tuple[str, ...]]]:
    return sorted((phrase[0], tags) for phrase, tags in changing().items() if len(phrase) == 1)


@lru_cache(maxsize=4096)
def _compound(word: str) -> tuple[tuple[str, ...], ...]:
    """The tags of a word that is put together from two known ones (`Privattelefon`, `sähköpostiosoite`), or nothing."""
    known = changing()
    if len(word) < 7:
        return ()
    for cut in range(len(word) - 3, 2, -1):
        head, tail = known.get((word[:cut],)), known.get((word[cut:],))
        if head is None and word[cut - 1] in "sen":
            head = known.get((word[: cut - 1],))
        if head and tail and "filler" not in (head[-1], tail[-1]):
            return head, tail
    return ()


def _meaning(tags: list[tuple[str, ...]], number: int, is_sure: bool, either: bool = False) -> Title:
    # A word that may be a concept or less is less where something else in the title is one.
    firm = [one[0] for one in tags if len(one) == 1 and one[0] in CONCEPTS]
    plain = []
    for one in tags:
        weak = [tag for tag in one if tag not in CONCEPTS]
        if firm and weak and one[0] in CONCEPTS and not ("org" in one and set(firm) <= _NAMES):
            plain.append(weak[-1])
        elif one == _PRONOUN and not firm and not is_sure:
            plain.append("filler")  # what of yours it asks for, nobody knows
        else:
            plain.append(one[0])
    told = [tag for tag, _ in groupby(tag for tag in plain if tag != "filler")]
    have = set(told)
    role = next((tag for tag in ("somebody", *SECONDS, "main") if tag in have), "")
    if {"mother", "father"} <= have or {"parent", "somebody"} <= have:
        role = "parent"
    kind = next((tag for tag in ("work", "home", "other") if tag in have), "")
    concept, is_thing = _concept(told, have)
    if concept == "mobile":
        concept, kind = "phone", "" if either and (kind or "phone" in have) else "mobile"
    if concept in ("email", "phone") and "org" in have and not kind:
        kind = "work"
    if not concept and not is_thing and role == "somebody":
        concept = "name"
    return Title(concept, role, kind, number, is_thing, is_sure)


def _concept(told: list[str], have: set[str]) -> tuple[str, bool]:
    """The field of which a title speaks, and whether it speaks of something else than people's data."""
    for concept in ("uid", "optout", "infix", "email", "mobile", "phone"):
        if concept in have:
            return concept, False
    names = [tag for tag in told if tag in _NAMES]
    if "else" in have:
        return ("", True) if names or not have & set(CONCEPTS) else (_first(told), False)
    if "number" in have and not names:
        return ("phone", False) if have & _KINDS and "main" not in have else ("", True)
    if names and "org" in have:
        return "org", False
    if names:
        return _of_names(names), False
    if "web" in have:
        return "web", False
    if "org" in have and "addr" in have:
        return "", True
    return _first(told), False


def _first(told: list[str]) -> str:
    return next((tag for tag in told if tag in CONCEPTS), "")


def _of_names(names: list[str]) -> str:
    """`First name, surname` is a whole name; `Surname, first name` one that is turned round."""
    first, last = names[0], names[-1]
    if "both" in names or (len(names) > 1 and last in ("given",) and first in ("family", "name")):
        return "both"
    if len(names) > 1 and first == "family" and last == "name":
        return "both"
    return first if len(names) == 1 else "name"
