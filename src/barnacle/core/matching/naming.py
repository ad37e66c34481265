"""Two names side by side: can they be one person's, and what speaks for and against it?

Word by word, in any order: cultures put the family name first or last, leave out middle names and patronymics, write
one of two surnames, drop particles (van, de, al-). What is left over on both sides is what tells two people apart.
"""

from __future__ import annotations

from collections.abc import Callable

from barnacle.core.matching.name_forms import NameForm, name_form
from barnacle.core.matching.short_forms import known_given_names
from barnacle.core.matching.slips import slips
from barnacle.core.matching.spelling import (
    USUAL,
    Counts,
    Level,
    compare_words,
    is_initial,
    latin,
    plain_spelling,
    without_vowels,
)
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple


class Pairing(NamedTuple):
    """Two words that were held to be the same one, how, and whether they are given names."""

    one: str
    other: str
    level: Level
    given: bool


class Comparison(NamedTuple):
    """What two names have in common. `contradiction` says in words why they are two people's, `doubt` why that cannot
    be told; mostly both are empty. `turned` where one has the family name first; `complete` where no word is left;
    `aside` where what is left may be the name that one of them goes by (Xiu Aleksei Lakaro, Aleksei Lakaro), `part`
    where it is part of a family name (Keel-Strand, Strand)."""

    pairs: tuple[Pairing, ...] = ()
    contradiction: str = ""
    doubt: str = ""
    turned: bool = False
    complete: bool = False
    aside: bool = False
    part: bool = False

    @property
    def given(self) -> Level:
        """How the given names agree; NONE where one has none."""
        return max((p.level for p in self.pairs if p.given), default=Level.NONE)


NOTHING = Comparison()
RENAMED = "the family names differ"
SCRIPTS = "the names are in different scripts"


# Of the contacts that have a word in their names, the share that have it for a given name; None where too few have it.
Givens = Callable[[str], float | None]
# How two words agree, the third saying whether a given name is among them.
Words = Callable[[str, str, bool], Level]


def compare_names(
    one: NameForm,
    other: NameForm,
    counts: Counts,
    givens: Givens = lambda word: None,
    words: Words | None = None,
) -> Comparison:
    """Compare two names. `counts` says how many contacts have a word in their names: what differs by a letter from one
    that many have is another name rather than a slip. `givens` tells given names from family names where the names do
    not, and without it the more frequent word is the given name. `words` compares two words, where somebody keeps the
    answers."""
    if one.otherwise or other.otherwise:
        return max(
            (compare_names(a, b, counts, givens, words) for a in _ways(one) for b in _ways(other)),
            key=lambda f: (not f.contradiction, not f.doubt, f.complete, sum(p.level for p in f.pairs)),
        )
    if not one.words or not other.words:
        return NOTHING
    if one == other and not one.org:
        return Comparison(tuple(_itself(word, n < one.given) for n, word in enumerate(one.words)), complete=True)
    if one.several != other.several and not (one.org or other.org):
        return Comparison(contradiction="one is for several people")
    if one.org or other.org:
        return _compare_orgs(one, other, counts)
    if one.generation != other.generation:
        which = one.generation or other.generation
        both = one.generation and other.generation
        return Comparison(
            contradiction="one is the elder, one the younger" if both else f"only one is called the {which}"
        )
    plain = "".join(one.words + other.words).isascii()
    if not plain and not _comparable(one.words, other.words):
        return Comparison(doubt=SCRIPTS)
    if one.particles or other.particles:
        one, other = _without_particle(one, other), _without_particle(other, one)
    if len(one.words) != len(other.words):
        one, other = _run_together(one, other), _run_together(other, one)
    pairs, left, right = _pair_off(one, other, words or (lambda a, b, given: compare_words(a, b, counts, given)))
    found = _judged(one, other, pairs, left, right, counts, givens)
    if (
        not plain
        and found.contradiction
        and any(map(without_vowels, one.words)) != any(map(without_vowels, other.words))
    ):
        return Comparison(doubt=SCRIPTS)  # which vowels belong there, nobody wrote down
    return found


def _ways(one: NameForm) -> list[NameForm]:
    """The name as it stands, and with what it is otherwise."""
    return [one._replace(words=words, otherwise=()) for words in (one.words, *one.otherwise)]


def _without_particle(one: NameForm, other: NameForm) -> NameForm:
    """The name without its first word where the other name says that it is a particle: Di Marco, Anna Di Marco."""
    if len(one.words) > 1 and not one.sure and one.words[0] in other.particles:
        return one._replace(words=one.words[1:], given=max(one.given - 1, 1))
    return one


def _run_together(one: NameForm, other: NameForm) -> NameForm:
    """The name with two words made one where the other name has them so: Juan Carlos, Juancarlos."""
    if len(one.words) > 1:
        for n, (first, second) in enumerate(zip(one.words, one.words[1:], strict=False)):
            if first + second in other.words:
                words = (*one.words[:n], first + second, *one.words[n + 2 :])
                return one._replace(words=words, given=max(one.given - (n < one.given), min(one.given, 1)))
    return one


def _itself(word: str, given: bool) -> Pairing:
    return Pairing(word, word, Level.INITIAL if is_initial(word) else Level.SAME, given)


class _Match(NamedTuple):
    mine: int
    theirs: int
    level: Level


def _pair_off(one: NameForm, other: NameForm, words: Words) -> tuple[list[_Match], list[int], list[int]]:
    """The words paired off, the surest first; of equal ones those in the same role, then in the same place."""
    strict = one.sure or other.sure
    left, right = list(range(len(one.words))), list(range(len(other.words)))
    possible = []

    def add(m: int, t: int, level: Level) -> None:
        possible.append((-level, (m < one.given) != (t < other.given), abs(m - t), m, t, level))

    # What is the same word goes before all others, and need be compared with none of them.
    same = [w for w in one.words if len(w) > 1 and w in other.words]
    if same and len(set(one.words)) == len(one.words) and len(set(other.words)) == len(other.words):
        for word in same:
            m, t = one.words.index(word), other.words.index(word)
            add(m, t, Level.SAME)
            left.remove(m)
            right.remove(t)
    for m in left:
        for t in right:
            if level := words(one.words[m], other.words[t], m < one.given or t < other.given):
                add(m, t, level)
    possible.sort()
    pairs: list[_Match] = []
    left, right = list(range(len(one.words))), list(range(len(other.words)))
    for _, _, _, m, t, level in possible:
        if m in left and t in right:
            left.remove(m)
            right.remove(t)
            pairs.append(_Match(m, t, level))
    crossed = [p for p in pairs if (p.mine < one.given) != (p.theirs < other.given)]
    if strict and len(crossed) == 1 and crossed[0].level < Level.LOOSE_FORM and crossed[0].level != Level.INITIAL:
        # Where it is known which is the family name, a given name is no slip of it, unless they changed places.
        pairs.remove(crossed[0])
        left = sorted([*left, crossed[0].mine])
        right = sorted([*right, crossed[0].theirs])
    return pairs, left, right


def _judged(
    one: NameForm,
    other: NameForm,
    pairs: list[_Match],
    left: list[int],
    right: list[int],
    counts: Counts,
    givens: Givens,
) -> Comparison:
    if not pairs:
        return Comparison(contradiction="the names have nothing in common")
    crossed = [m for m in pairs if (m.mine < one.given) != (m.theirs < other.given)]
    turned = len(crossed) >= 2
    # Which words are given names: as the surer of the two says, else the longer, which has both; else both must say so.
    rank, its = (one.sure, len(one.words)), (other.sure, len(other.words))
    first = min((one.words[m.mine] for m in crossed), default="")
    rests = [one.words[n] for n in left] + [other.words[n] for n in right]

    def is_given(match: _Match) -> bool:
        here, there = match.mine < one.given, match.theirs < other.given
        if rank != its:
            return here if rank > its else there
        word = one.words[match.mine]
        if turned or (here == there and (len(pairs) > 1 or not left or not right)):
            return here if here == there else word == first
        # One word in common, and nobody says which: given names are those that many have. "Kemika Aleksei" and "Aleksei
        # Romiso" have the given name in common, "Berg Una" and "Berg Per" the family name.
        for shares, else_given in (([givens(word)], True), ([givens(rest) for rest in rests], False)):
            told = [share for share in shares if share is not None]
            if told and len(told) == len(shares) and (min(told) > 0.7 or max(told) < 0.3):
                return (min(told) > 0.7) is else_given
        known = known_given_names()
        if all(rest in known for rest in rests) or all(counts(rest) > 3 * counts(word) for rest in rests):
            return False
        if here and there:
            return True
        return (here or there) and (word in known or all(counts(word) > 3 * counts(rest) for rest in rests))

    named = tuple(Pairing(one.words[m.mine], other.words[m.theirs], m.level, is_given(m)) for m in pairs)
    mine, theirs = rests[: len(left)], rests[len(left) :]
    if crossed and not turned and one.sure and other.sure:
        firsts = _said(one.words[: one.given]), _said(other.words[: other.given])
        return Comparison(named, f"{firsts[0]} is not {firsts[1]}")
    if not left or not right:
        if len(named) < 2 and named[0].level == Level.INITIAL:
            return Comparison(contradiction="the names share only a letter")
        longer, rest = (one, left) if left else (other, right)
        family = {m.mine if left else m.theirs for m, pair in zip(pairs, named, strict=True) if not pair.given}
        aside = any(n == 0 or (n - 1 in family and n + 1 < len(longer.words)) for n in rest)
        part = (
            bool(rest)
            and bool(family)
            and not turned
            and all(n >= longer.given or n - 1 in family or n + 1 in family for n in rest)
        )
        return Comparison(named, turned=turned, complete=not rest, aside=aside and not part, part=part)
    any_given = any(p.given for p in named)
    strong_family = any(not p.given and p.level > Level.INITIAL for p in named)
    given_left, given_right = any(n < one.given for n in left), any(n < other.given for n in right)
    if len(named) == 1 and rank == its and named[0].given:
        given_left = given_right = False  # what is left are family names, whichever way round they stand
    if any_given and not any(not p.given for p in named) and not (given_left and given_right):
        return Comparison(named, doubt=RENAMED, turned=turned)
    if any_given and strong_family and not (given_left and given_right):
        # One has a further given name, the other a further family name: "Ana Ruiz Soto", "Ana Maria Ruiz".
        return Comparison(named, turned=turned)
    return Comparison(named, f"{_said(mine)} is not {_said(theirs)}")


def _comparable(one: tuple[str, ...], other: tuple[str, ...]) -> bool:
    """Whether there are words in both that can be compared: both tell sounds, or both are in one other script."""
    return any(latin(w).isascii() for w in one) == any(latin(w).isascii() for w in other) or bool(set(one) & set(other))


def _said(words: tuple[str, ...] | list[str]) -> str:
    return " ".join(w.capitalize() for w in words)


def _compare_orgs(one: NameForm, other: NameForm, counts: Counts) -> Comparison:
    left, right = list(one.words), list(other.words)
    pairs = []
    for word in one.words:
        found = next((w for w in right if plain_spelling(w) == plain_spelling(word)), None)
        found = found or next((w for w in right if _org_alike(word, w, counts)), None)
        if found is not None:
            level = Level.SAME if plain_spelling(found) == plain_spelling(word) else Level.SLIP
            pairs.append(Pairing(word, found, level, False))
            left.remove(word)
            right.remove(found)
    if not one.org or not other.org:
        # A person at an organisation is not the organisation; a name that is the organisation's to the word is.
        if left or right:
            return Comparison(contradiction="one is an organisation, the other a person")
    elif (left and right) or not pairs:
        return Comparison(contradiction="the organisations have other names")
    elif (left or right) and (left or right)[0] != (one.words if left else other.words)[-1]:
        # "Kelp Yard" and "Kelp": the end may be missing, no more.
        return Comparison(contradiction="the organisations have other names")
    return Comparison(tuple(pairs), complete=not left and not right)


def _org_alike(one: str, other: str, counts: Counts) -> bool:
    if one.rstrip("s") == other.rstrip("s"):
        return True
    return min(len(one), len(other)) >= 5 and _org_slip(one, other) and not (counts(one) >= USUAL <= counts(other))


def _org_slip(one: str, other: str) -> bool:
    most = 2 if max(len(one), len(other)) >= 8 else 1
    return slips(one, other, most) <= most


def contradicts(one: str, other: str) -> bool:
    """Whether two names at the same address plainly belong to two people, or cannot be told.

    They do not when one is empty, is part of the other, or differs by initials, short forms or a slip of the pen. "Una
    Berg" and "Per Berg" contradict each other; so do "Tom Pike" and "Tom Pike jun.".
    """
    if not one or not other or fold(one) == fold(other):
        return False
    found = compare_names(name_form(one), name_form(other), lambda word: 0)
    return bool(found.contradiction or found.doubt) or found.given in (Level.FAR, Level.NEAR)
