"""Which pairs are worth judging: contacts that share a cheap key. Never all with all.

Each kind of key comes in steps: where more contacts share one than the step allows, those get the next step's finer
keys instead, and after the last step the key is dropped, or the contacts are taken in rows of neighbours. So the number
of pairs grows with the number of contacts, not with its square.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import combinations
from typing import NamedTuple

from barnacle.core.matching.forms import Form, joined_names, whole_names
from barnacle.core.matching.short_forms import forms_of
from barnacle.core.matching.spelling import by_ear, latin, plain_spelling, sound

# Where even the finest key is shared by more, each contact is paired with so many neighbours in the order of names.
_NEIGHBOURS = 3
_FEW = 4

Keys = Callable[[Form], Iterable[str]]
Pair = tuple[int, int]


class _Step(NamedTuple):
    keys: Keys
    most: int


class _Kind(NamedTuple):
    steps: tuple[_Step, ...]
    in_rows: bool = False


def _sounds(form: Form) -> set[str]:
    return {sound(w) for w in form.name.words if len(w) > 1 or not w.isascii()}


def _spelt(form: Form) -> list[str]:
    return sorted({plain_spelling(w) for w in form.name.words})


def _full(form: Form) -> Iterable[str]:
    return [" ".join(_spelt(form))] if form.name.words else []


def _full_somewhere(form: Form) -> Iterable[str]:
    full = " ".join(_spelt(form))
    return [f"{full} {where}" for where in _where(form)]


def _where(form: Form) -> list[str]:
    return [form.org] * bool(form.org) + sorted({a.domain for a in form.addresses})


def _called(form: Form) -> Iterable[str]:
    """Each given name under each name that it may be short for, with each other word."""
    spelt = _spelt(form)
    for word in form.name.words[: max(form.name.given, 1)]:
        for number in forms_of(latin(word)):
            for other in spelt:
                if other != word:
                    yield f"{number} {other}"


def _called_somewhere(form: Form) -> Iterable[str]:
    return [f"{key} {where}" for key in _called(form) for where in _where(form)]


def _short(form: Form) -> Iterable[str]:
    """The first letter of each word with the sound of each other: for initials, and slips in one of the two."""
    words = form.name.words
    return {f"{latin(a)[0]} {sound(b)}" for a in words for b in words if a != b and len(b) > 1}


def _short_somewhere(form: Form) -> Iterable[str]:
    return [f"{key} {where}" for key in _short(form) for where in _where(form)]


def _with_sounds(points: Keys) -> Keys:
    return lambda form: [f"{point} {s}" for point in points(form) for s in _sounds(form)]


def _with_full(points: Keys) -> Keys:
    return lambda form: [f"{point} {' '.join(_spelt(form))}" for point in points(form)]


def _addresses(form: Form) -> Iterable[str]:
    return {a.base for a in form.addresses}


def _phones(form: Form) -> Iterable[str]:
    return set(form.phones)


def _locals(form: Form) -> Iterable[str]:
    return {a.local for a in form.addresses if len(a.local) > 2 and not a.role}


def _like_locals(form: Form) -> Iterable[str]:
    """The letters of local parts, whatever their order, at each domain: for slips."""
    return {
        f"{''.join(sorted(set(a.local)))[:12]} {a.domain}" for a in form.addresses if len(a.local) > 4 and not a.role
    }


def _told(form: Form) -> Iterable[str]:
    """The whole name run together, and local parts that are not made of it: for who has no name, or had another."""
    whole = whole_names(form.name)
    made = joined_names(form.name)
    return whole | {a.letters for a in form.addresses if not a.role and len(a.letters) > 5 and a.letters not in made}


def _by_point(points: Keys) -> _Kind:
    return _Kind((_Step(points, 25), _Step(_with_sounds(points), 25), _Step(_with_full(points), 12)), in_rows=True)


_KINDS = (
    _by_point(_addresses),
    _by_point(_phones),
    _Kind((_Step(_locals, 10), _Step(_with_sounds(_locals), 10))),
    _Kind((_Step(_like_locals, 6),)),
    _Kind((_Step(_told, 10),)),
    _Kind((_Step(_full, 10), _Step(_full_somewhere, 12))),
    _Kind((_Step(_called, 6), _Step(_called_somewhere, 6))),
    _Kind((_Step(_short, 3), _Step(_short_somewhere, 8))),
    _Kind((_Step(_sounds, 5),)),
)


def candidates(forms: Sequence[Form], tick: Callable[[int, int], None] = lambda done, total: None) -> list[Pair]:
    """Pairs of places in `forms` worth judging, in order: the smaller place first, each pair once."""
    found: set[Pair] = set()
    close: set[Pair] = set()  # so few share the address or phone that each pair is looked at, whatever the names
    for done, kind in enumerate(_KINDS):
        tick(done, len(_KINDS))
        where: Iterable[int] = range(len(forms))
        for number, step in enumerate(kind.steps):
            crowded: set[int] = set()
            for sharing in _sharing(forms, where, step.keys):
                if len(sharing) <= step.most:
                    found.update(combinations(sharing, 2))
                else:
                    crowded.update(sharing)
                    if kind.in_rows and number + 1 == len(kind.steps):
                        found.update(_neighbours(sharing, forms))
                if kind.in_rows and not number and len(sharing) <= _FEW:
                    close.update(combinations(sharing, 2))
            if not crowded:
                break
            where = sorted(crowded)
    return sorted(close.union(_fitting(forms, found)))


def _sharing(forms: Sequence[Form], where: Iterable[int], keys: Keys) -> Iterable[list[int]]:
    """The places that share a key, in order, for each key that several have."""
    # Most keys are one contact's: those cost no list, and none of them costs its text.
    first: dict[int, int] = {}
    several: dict[int, list[int]] = {}
    for place in where:
        for key in map(hash, keys(forms[place])):
            other = first.setdefault(key, place)
            if other != place:
                sharing = several.setdefault(key, [other])
                if sharing[-1] != place:
                    sharing.append(place)
    return several.values()


def _neighbours(sharing: Sequence[int], forms: Sequence[Form]) -> Iterator[Pair]:
    row = sorted(sharing, key=lambda place: (forms[place].name, forms[place].uid))
    for step in range(1, _NEIGHBOURS + 1):
        for a, b in zip(row, row[step:], strict=False):
            yield min(a, b), max(a, b)


def _fitting(forms: Sequence[Form], pairs: Iterable[Pair]) -> Iterator[Pair]:
    """The pairs whose names can be one person's as far as first letters tell: every first name, or one of the names it
    is a form of, begins like a word of the other, unless that is one word only. Who has no name, or one in another
    script, may fit anybody."""
    first = [_letters(form, form.name.words[:1]) for form in forms]
    every = [_letters(form, form.name.words) for form in forms]
    single = [len(form.name.words) == 1 for form in forms]
    for pair in pairs:
        one, other = pair
        if (first[one] & every[other] or single[other]) and (first[other] & every[one] or single[one]):
            yield pair


_ANY = (1 << 27) - 1


def _letters(form: Form, words: Iterable[str]) -> int:
    if not form.name.words or form.called_after or form.name.org or form.name.several:
        return _ANY
    bits = 0
    for word in words:
        told = latin(word)
        if not told.isascii() or not told[0].isalpha():
            return _ANY
        bits |= _letters_of(told)
    return bits


@lru_cache(maxsize=100_000)
def _letters_of(word: str) -> int:
    bits = 1 << (ord(word[0]) - 97)
    heard = by_ear(word)[:1]
    if heard.isalpha():
        bits |= 1 << (ord(heard) - 97)
    for number in forms_of(word):
        bits |= 1 << (27 + number % 30)  # two forms of one name share this bit
    return bits
