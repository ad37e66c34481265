"""Which pairs are worth judging: contacts that share a cheap key. Never all with all.

Each kind of key comes in steps: where more contacts share one than the step allows, those get the next step's finer
keys instead, and after the last step the key is dropped, or the contacts are taken in rows of neighbours. So the number
of pairs grows with the number of contacts, not with its square.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from barnacle.core.matching.forms import Form
from barnacle.core.matching.naming import plain_spelling
from barnacle.core.matching.short_forms import forms_of

_VOWELS = str.maketrans("", "", "aeiouyhw")
_SOUNDS = (
    ("ph", "f"),
    ("ck", "k"),
    ("sch", "s"),
    ("c", "k"),
    ("z", "s"),
    ("v", "f"),
    ("q", "k"),
    ("x", "s"),
    ("d", "t"),
)
# Where even the finest key is shared by more, each contact is paired with so many neighbours in the order of names.
_NEIGHBOURS = 3
_FEW = 4

Keys = Callable[[Form], Iterable[str]]
Pairs = NDArray[np.int64]


class _Step(NamedTuple):
    keys: Keys
    most: int


class _Kind(NamedTuple):
    steps: tuple[_Step, ...]
    in_rows: bool = False


@lru_cache(maxsize=200_000)
def sound(word: str) -> str:
    """What is left of a word when what is easily misheard or mistyped is taken off."""
    word = plain_spelling(word)
    if not word.isascii() or len(word) < 3:
        return word
    for heard, written in _SOUNDS:
        word = word.replace(heard, written)
    rest = word[1:].translate(_VOWELS)
    return word[0] + "".join(c for n, c in enumerate(rest) if n == 0 or c != rest[n - 1])


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
        for number in forms_of(word):
            for other in spelt:
                if other != word:
                    yield f"{number} {other}"


def _called_somewhere(form: Form) -> Iterable[str]:
    return [f"{key} {where}" for key in _called(form) for where in _where(form)]


def _short(form: Form) -> Iterable[str]:
    """The first letter of each word with the sound of each other: for initials, and slips in one of the two."""
    words = form.name.words
    return {f"{a[0]} {sound(b)}" for a in words for b in words if a != b and len(b) > 1}


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


def _by_point(points: Keys) -> _Kind:
    return _Kind((_Step(points, 25), _Step(_with_sounds(points), 25), _Step(_with_full(points), 12)), in_rows=True)


_KINDS = (
    _by_point(_addresses),
    _by_point(_phones),
    _Kind((_Step(_locals, 10), _Step(_with_sounds(_locals), 10))),
    _Kind((_Step(_like_locals, 6),)),
    _Kind((_Step(_full, 10), _Step(_full_somewhere, 12))),
    _Kind((_Step(_called, 6), _Step(_called_somewhere, 6))),
    _Kind((_Step(_short, 6), _Step(_short_somewhere, 8))),
    _Kind((_Step(_sounds, 5),)),
)


def candidates(forms: Sequence[Form], tick: Callable[[int, int], None] = lambda done, total: None) -> Pairs:
    """Pairs of places in `forms` worth judging: an array of two columns, the smaller place first, each pair once."""
    found: list[Pairs] = []
    close: list[Pairs] = []  # so few share the address or phone that each pair is looked at, whatever the names
    for done, kind in enumerate(_KINDS):
        tick(done, len(_KINDS))
        where = np.arange(len(forms))
        for number, step in enumerate(kind.steps):
            hashes, places = _keyed(forms, where, step.keys)
            last = number + 1 == len(kind.steps)
            pairs, crowded = _blocks(hashes, places, step.most)
            found.append(pairs)
            if kind.in_rows and not number:
                close.append(_blocks(hashes, places, _FEW)[0])
            if not len(crowded):
                break
            if last and kind.in_rows:
                found.append(_neighbours(hashes, places, step.most, forms))
            where = np.unique(crowded)
    pairs = _each_once(found, len(forms))
    return _each_once([pairs[_may_fit(forms, pairs)], *close], len(forms))


def _each_once(some: list[Pairs], number: int) -> Pairs:
    codes = np.unique(np.concatenate([p[:, 0] * number + p[:, 1] for p in some]))
    return np.column_stack((codes // max(number, 1), codes % max(number, 1)))


def _keyed(forms: Sequence[Form], where: NDArray[np.int64], keys: Keys) -> tuple[Pairs, Pairs]:
    hashes: list[int] = []
    places: list[int] = []
    for place in where.tolist():
        for key in keys(forms[place]):
            hashes.append(hash(key))
            places.append(place)
    return np.array(hashes, dtype=np.int64), np.array(places, dtype=np.int64)


def _runs(hashes: Pairs, places: Pairs) -> tuple[Pairs, Pairs, Pairs]:
    """The places in the order of their keys, and where each key begins and how many have it."""
    order = np.lexsort((places, hashes))
    ordered, places = hashes[order], places[order]
    starts = np.flatnonzero(np.concatenate(([True], ordered[1:] != ordered[:-1]))) if len(ordered) else ordered
    sizes = np.diff(np.append(starts, len(ordered)))
    return places, starts, sizes


def _blocks(hashes: Pairs, places: Pairs, most: int) -> tuple[Pairs, Pairs]:
    """All pairs inside each key that at most so many share, and the places of those whose keys more share."""
    places, starts, sizes = _runs(hashes, places)
    found = [np.empty((0, 2), dtype=np.int64)]
    for size in range(2, most + 1):
        begins = starts[sizes == size]
        if len(begins):
            left, right = np.triu_indices(size, 1)
            members = places[begins[:, None] + np.arange(size)]
            found.append(np.column_stack((members[:, left].ravel(), members[:, right].ravel())))
    crowded = [places[b : b + s] for b, s in zip(starts[sizes > most], sizes[sizes > most], strict=True)]
    return np.concatenate(found), np.concatenate(crowded) if crowded else np.empty(0, dtype=np.int64)


def _neighbours(hashes: Pairs, places: Pairs, most: int, forms: Sequence[Form]) -> Pairs:
    places, starts, sizes = _runs(hashes, places)
    found = []
    for begin, size in zip(starts[sizes > most].tolist(), sizes[sizes > most].tolist(), strict=True):
        row = sorted(places[begin : begin + size].tolist(), key=lambda place: (forms[place].name, forms[place].uid))
        for step in range(1, _NEIGHBOURS + 1):
            found += [(min(a, b), max(a, b)) for a, b in zip(row, row[step:], strict=False)]
    return np.array(found, dtype=np.int64).reshape(-1, 2)


def _may_fit(forms: Sequence[Form], pairs: Pairs) -> NDArray[np.bool_]:
    """Whether two names can be one person's as far as first letters tell: every first name, or one of the names it is a
    form of, begins like a word of the other, unless that is one word only. Who has no name, or one in another script,
    may fit anybody."""
    first = np.fromiter((_letters(f, f.name.words[:1]) for f in forms), dtype=np.int64, count=len(forms))
    every = np.fromiter((_letters(f, f.name.words) for f in forms), dtype=np.int64, count=len(forms))
    single = np.fromiter((len(f.name.words) == 1 for f in forms), dtype=np.bool_, count=len(forms))
    one, other = pairs[:, 0], pairs[:, 1]
    there, back = (first[one] & every[other]) != 0, (first[other] & every[one]) != 0
    result: NDArray[np.bool_] = (there | single[other]) & (back | single[one])
    return result


_ANY = (1 << 27) - 1


def _letters(form: Form, words: Iterable[str]) -> int:
    if not form.name.words or form.called_after or form.name.org or form.name.several:
        return _ANY
    bits = 0
    for word in words:
        if not word.isascii() or not word[0].isalpha():
            return _ANY
        bits |= _letters_of(word)
    return bits


@lru_cache(maxsize=100_000)
def _letters_of(word: str) -> int:
    bits = 1 << (ord(word[0]) - 97)
    for number in forms_of(word):
        bits |= 1 << (27 + number % 30)  # two forms of one name share this bit
    return bits
