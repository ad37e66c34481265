"""Which pairs are worth judging: contacts that share a cheap key. Never all with all.

Each kind of key comes in steps: where more contacts share one than the step allows, those get the next step's finer
keys instead, and after the last step the key is dropped, or the contacts are taken in rows of neighbours. So the number
of pairs for a contact is bounded; it rises towards that, since in a larger book more have the same names.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import combinations

from barnacle.core.in_parts import InParts, alone
from barnacle.core.matching.forms import Form, joined_names, whole_names
from barnacle.core.matching.short_forms import forms_of
from barnacle.core.matching.slips import slips
from barnacle.core.matching.spelling import by_ear, latin, plain_spelling, sound
from barnacle.core.typed import NamedTuple

# Where even the finest key is shared by more, each contact is paired with so many neighbours in the order of names.
_NEIGHBOURS = 3
_FEW = 4
# Letters by which two spellings of a word may differ where the shorter has that many; else one.
_MOST_SLIPS, _LONG = 3, 5

Key = int | str | tuple[object, ...]
Keys = Callable[[int], Iterable[Key]]
Pair = tuple[int, int]
Tick = Callable[[int, int], None]


class _Step(NamedTuple):
    keys: Keys
    most: int


class _Kind(NamedTuple):
    """Keys in steps; whether what has too many of the last is taken in rows; and whether they are of names alone, so
    that the whole names must be alike."""

    steps: tuple[_Step, ...]
    in_rows: bool = False
    of_names: bool = False


class _Word(NamedTuple):
    """A word of a name: what is heard of it, its spelling, its sound and its first letter, each as a number; the
    numbers of the names that it may be short for; and whether it has a sound."""

    text: str
    ear: int
    spelt: int
    sound: int
    first: int
    short_for: frozenset[int]
    heard: bool


class _KeysOf:
    """The keys of each contact, by its place. Words, domains and organisations are numbers here, and so are most keys:
    there are some millions."""

    def __init__(self, forms: Sequence[Form]) -> None:
        self.forms = forms
        self._numbers: dict[str, int] = {}
        self._words: dict[str, _Word] = {}
        self._told = [[self._words.get(w) or self._word(w) for w in form.name.words] for form in forms]
        # With nicknames, and names before a marriage, where a name has any.
        self._all = list(self._told)
        for place, form in enumerate(forms):
            if form.name.otherwise:
                more = {word for words in form.name.otherwise for word in words}.difference(form.name.words)
                self._all[place] = self._told[place] + [self._word(word) for word in sorted(more)]

    def _number(self, text: str) -> int:
        return self._numbers.setdefault(text, len(self._numbers))

    def _word(self, word: str) -> _Word:
        found = self._words.get(word)
        if found is None:
            told = latin(word)
            spelt, heard = self._number(plain_spelling(word)), self._number(sound(word))
            has_sound = len(word) > 1 or not word.isascii()
            ear = self._number(by_ear(word))
            found = self._words[word] = _Word(word, ear, spelt, heard, ord(told[0]), forms_of(told), has_sound)
        return found

    def _where(self, place: int) -> list[int]:
        form = self.forms[place]
        found = {self._number(a.domain) for a in form.addresses}
        return [*found, self._number(form.org)] if form.org else list(found)

    def somewhere(self, keys: Keys) -> Keys:
        """The keys with each domain and organisation."""
        return lambda place: [(key, where) for where in self._where(place) for key in keys(place)]

    def with_sounds(self, points: Keys) -> Keys:
        """The keys with the sound of each word."""
        return lambda place: [(point, heard) for heard in self.sounds(place) for point in points(place)]

    def with_full(self, points: Keys) -> Keys:
        """The keys with the whole name."""
        return lambda place: [(point, full) for full in self.full(place) or (0,) for point in points(place)]

    def addresses(self, place: int) -> list[str]:
        return [a.base for a in self.forms[place].addresses]

    def phones(self, place: int) -> Iterable[str]:
        return self.forms[place].phones

    def locals(self, place: int) -> set[str]:
        return {a.local for a in self.forms[place].addresses if len(a.local) > 2 and not a.role}

    def like_locals(self, place: int) -> list[Key]:
        """The letters of local parts, whatever their order, at each domain: for slips."""
        addresses = self.forms[place].addresses
        return [(frozenset(a.local), a.domain) for a in addresses if len(a.local) > 4 and not a.role]

    def told(self, place: int) -> Iterable[str]:
        """The whole name run together, and local parts that are not made of it: for who has no name, or had another."""
        form = self.forms[place]
        whole = whole_names(form.name)
        found = {letters for a in form.addresses if not a.role and len(letters := a.letters) > 5}
        if found <= whole:
            return whole
        return whole | (found - joined_names(form.name))

    def own(self, place: int) -> Iterable[tuple[str, str]]:
        """Fields of one's own: a birthday, a member number, a street."""
        return self.forms[place].own

    def full(self, place: int) -> list[Key]:
        spelt = {word.spelt for word in self._told[place]}
        return [tuple(sorted(spelt))] if spelt else []

    def called(self, place: int) -> list[Key]:
        """Each given name under each name that it may be short for, with each other word."""
        words, mine = self._all[place], self._told[place]
        return [
            number << 32 | other.spelt
            for word in (*words[: max(self.forms[place].name.given, 1)], *words[len(mine) :])
            for number in word.short_for
            for other in words
            if other.spelt != word.spelt
        ]

    def short(self, place: int) -> list[Key]:
        """The first letter of each word with the sound of each other: for initials, and slips in one of the two."""
        words = self._all[place]
        return [a.first << 32 | b.sound for a in words for b in words if a is not b and b.heard]

    def sounds(self, place: int) -> list[Key]:
        return [word.sound for word in self._all[place] if word.heard]

    def names_alike(self, pair: Pair) -> bool:
        """Whether names that only sound alike may be one person's: each word of the shorter one must be like one of the
        other, but for one of three."""
        one, other = pair
        for place in pair:
            if self.forms[place].called_after or (name := self.forms[place].name).org or name.several:
                return True
        if len(self._told[one]) > len(self._told[other]):
            one, other = other, one
        return self._is_within(one, other) or (bool(self.forms[one].name.otherwise) and self._is_within(other, one))

    def _is_within(self, one: int, other: int) -> bool:
        """Whether each word of the one's name is like one of the other's, but for one of three."""
        fewer, more = self._told[one], self._all[other]
        unlike = 0
        for word in fewer:
            for its in more:
                if word is its or _may_be_one(word, its):
                    break
            else:
                unlike += 1
        return unlike <= (len(fewer) > 2)

    def kinds(self) -> tuple[_Kind, ...]:
        """All kinds of keys, in such an order that every other one is half of the work."""
        return (
            self._of_a_point(self.addresses),
            self._of_a_point(self.phones),
            _Kind((_Step(self.told, 10),)),
            self._of_names(self.short, 3, 8),
            _Kind((_Step(self.like_locals, 6),)),
            _Kind((_Step(self.locals, 10), _Step(self.with_sounds(self.locals), 10))),
            self._of_names(self.full, 10, 12),
            _Kind((_Step(self.own, 10),)),
            self._of_names(self.called, 6, 6),
            _Kind((_Step(self.sounds, 5),), of_names=True),
        )

    def _of_a_point(self, points: Keys) -> _Kind:
        finer = _Step(self.with_sounds(points), 25), _Step(self.with_full(points), 12)
        return _Kind((_Step(points, 25), *finer), in_rows=True)

    def _of_names(self, keys: Keys, most: int, most_somewhere: int) -> _Kind:
        return _Kind((_Step(keys, most), _Step(self.somewhere(keys), most_somewhere)), of_names=True)


def candidates(
    forms: Sequence[Form],
    tick: Tick = lambda done, total: None,
    among: Collection[int] | None = None,
    in_parts: InParts = alone,
) -> list[Pair]:
    """Pairs of places in `forms` worth judging, in order: the smaller place first, each pair once. `among` are places
    of which each pair has one; else it is any two."""
    keys_of = _KeysOf(forms)
    kinds = keys_of.kinds()

    def part(number: int, parts: int) -> list[Pair]:
        told = tick if number == 0 else lambda done, total: None
        return _brought_together(keys_of, kinds[number::parts], told, among)

    return sorted(set(in_parts(part)))


def _brought_together(
    keys_of: _KeysOf, kinds: Sequence[_Kind], tick: Tick, among: Collection[int] | None
) -> list[Pair]:
    """The pairs of some kinds of keys."""
    at_points: set[Pair] = set()
    by_name: set[Pair] = set()
    close: set[Pair] = set()  # so few share the address or phone that each pair is looked at, whatever the names
    forms = keys_of.forms
    among = range(len(forms)) if among is None else among
    most_of_all = 2 * len(among) > len(forms)
    for done, kind in enumerate(kinds):
        tick(done, len(kinds))
        where: Iterable[int] = range(len(forms))
        found = by_name if kind.of_names else at_points
        for number, step in enumerate(kind.steps):
            crowded: set[int] = set()
            for sharing in _sharing(where, step.keys) if most_of_all else _sharing_with(among, where, step.keys):
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
    if len(among) < len(forms):
        for some in (at_points, by_name, close):
            some.intersection_update([pair for pair in some if pair[0] in among or pair[1] in among])
    return [*close.union(_fitting(forms, at_points.union(filter(keys_of.names_alike, by_name - at_points))))]


def _sharing(where: Iterable[int], keys: Keys) -> Iterable[list[int]]:
    """The places that share a key, in order, for each key that several have."""
    # Most keys are one contact's: those cost no list, and none of them costs its text.
    first: dict[int, int] = {}
    several: dict[int, list[int]] = {}
    for place in where:
        for key in map(hash, keys(place)):
            other = first.setdefault(key, place)
            if other != place:
                sharing = several.setdefault(key, [other])
                if sharing[-1] != place:
                    sharing.append(place)
    return several.values()


def _sharing_with(among: Collection[int], where: Iterable[int], keys: Keys) -> Iterable[list[int]]:
    """Like `_sharing`, for each key that one `among` them has."""
    where = list(where)
    several: dict[int, list[int]] = {}
    for place in where:
        if place in among:
            several.update((key, []) for key in map(hash, keys(place)))
    for place in where:
        for key in map(hash, keys(place)):
            sharing = several.get(key)
            if sharing is not None and (not sharing or sharing[-1] != place):
                sharing.append(place)
    return (sharing for sharing in several.values() if len(sharing) > 1)


def _neighbours(sharing: Sequence[int], forms: Sequence[Form]) -> Iterator[Pair]:
    row = sorted(sharing, key=lambda place: (forms[place].name, forms[place].uid))
    for step in range(1, _NEIGHBOURS + 1):
        for a, b in zip(row, row[step:], strict=False):
            yield min(a, b), max(a, b)


def _may_be_one(one: _Word, other: _Word) -> bool:
    """Whether two words are worth comparing: one may be the other's initial, short form, beginning or misspelling."""
    if one.ear == other.ear or not one.short_for.isdisjoint(other.short_for):
        return True
    shorter, longer = (one.text, other.text) if len(one.text) <= len(other.text) else (other.text, one.text)
    if len(shorter) == 1 or longer.startswith(shorter) or not (shorter.isascii() and longer.isascii()):
        return True
    most = _MOST_SLIPS if len(shorter) >= _LONG else 1
    return len(longer) - len(shorter) <= most and slips(shorter, longer, most) <= most


def _fitting(forms: Sequence[Form], pairs: Iterable[Pair]) -> Iterator[Pair]:
    """The pairs whose names can be one person's as far as first letters tell: every first name, or one of the names it
    is a form of, begins like a word of the other, unless that is one word only. Who has no name, or one in another
    script, may fit anybody."""
    letters: dict[int, tuple[int, int]] = {}
    for pair in pairs:
        for place in pair:
            if place not in letters:
                letters[place] = _letters(forms[place], 1), _letters(forms[place], None)
        one, other = (letters[place] for place in pair)
        single = [len(forms[place].name.words) == 1 for place in pair]
        if (one[0] & other[1] or single[1]) and (other[0] & one[1] or single[0]):
            yield pair


_ANY = (1 << 27) - 1


def _letters(form: Form, number: int | None) -> int:
    """The first letters of the first words of a name, or of all."""
    if not form.name.words or form.called_after or form.name.org or form.name.several:
        return _ANY
    bits = 0
    for word in (*form.name.words[:number], *(word for words in form.name.otherwise for word in words[:number])):
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
