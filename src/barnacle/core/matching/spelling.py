"""Two spellings of one word of a name: by hand, by ear, through a scanner, in another alphabet.

The kinds of slip are those of Kukich ("Techniques for automatically correcting words in text", 1992) and of Christen
and Pudjijono ("Accurate synthetic generation of realistic personal information", 2009); the distance is Damerau's of
1964 with each letter moved once.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from enum import IntEnum
from functools import lru_cache

from barnacle.core.matching.short_forms import forms_of, known_given_names, names_in_their_own_right
from barnacle.core.matching.slips import slips

# How many contacts of the book have a word in their names, and from when on it is no slip of the pen but a usual name.
Counts = Callable[[str], int]
USUAL = 4


class Level(IntEnum):
    """How two words of names agree, from nothing to all."""

    NONE = 0
    INITIAL = 1
    BEGINS = 2  # cut short: Kar., Obermay
    FAR = 3  # more than one slip, or one where a name mostly changes to another
    NEAR = 4  # a letter makes the difference between a usual given name and one that nobody else has
    SLIP = 5
    SOUND = 6  # written by ear, or in another alphabet
    LOOSE_FORM = 7  # forms of one name that are given at the font too: Jack and John, Denis and Dennis
    FORM = 8
    SAME = 9


# German and Scandinavian vowels written out, and doubled letters: the same name on another keyboard.
_WRITTEN_OUT = (("ae", "a"), ("oe", "o"), ("ue", "u"), ("aa", "a"))
# Alphabets whose letters are sounds throughout, so that a name can be told in Latin letters; and those that leave
# vowels out. Of others (Han, Thai …) a word's Latin form depends on the language.
_LETTERS = ("CYRILLIC", "GREEK", "ARMENIAN", "GEORGIAN")
_CONSONANTS = ("ARABIC", "HEBREW")
_ARTICLE = "ال"  # al-, a particle of Arabic names

# What is heard alike in most of Europe, whatever it is written with, the longer first. Vowels stay, since they tell
# Maria from Mario, but only three kinds of them.
_HEARD = tuple(
    (re.compile(written), heard)
    for written, heard in (
        (r"shch|tzsch|tsch|sch|szcz|tch|sh|sz|zh|cz|rz", "s"),
        (r"ph|pf", "f"), (r"th|dt", "t"), (r"[gk]h|ck|cq", "k"), (r"dh", "d"), (r"rh", "r"), (r"wh|w", "v"),
        (r"qu", "kv"), (r"q", "k"), (r"x", "ks"), (r"ch", "k"), (r"c(?=[eiy])", "s"), (r"c", "k"),
        (r"ts|tz|dz|z", "s"), (r"gn|nh|nj|ny(?=[aou])", "n"), (r"lh|lj", "l"),
        (r"ough|augh|ou|oo|ow|aw|au|u|o", "o"), (r"igh|[eaoi]y|ij|ae|ai|ei|ea|ee|ie|y|j|e|i", "i"),
        (r"(?<=.)h", ""),
    )
)  # fmt: skip
# What a scanner, and a hasty reader, takes for one letter.
_SCANNED = (("rn", "m"), ("nn", "m"), ("in", "m"), ("cl", "d"), ("vv", "w"), ("ii", "u"), ("li", "h"), ("ri", "n"))
_ONE_INITIAL = ({"j", "y"}, {"c", "k"}, {"v", "w"})
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


@lru_cache(maxsize=65536)
def latin(word: str) -> str:
    """The word in Latin letters where its alphabet has one letter for a sound; else as it is."""
    if word.isascii():
        return word
    if _alphabet(word) not in (*_LETTERS, *_CONSONANTS):
        return word
    from anyascii import anyascii

    if word.startswith(_ARTICLE) and len(word) > len(_ARTICLE) + 2:
        word = word.removeprefix(_ARTICLE)
    told = "".join(c for c in anyascii(word).lower() if c.isalnum())
    return told if told and told.isascii() else word


def _alphabet(word: str) -> str:
    return unicodedata.name(word[0], "").partition(" ")[0]


def without_vowels(word: str) -> bool:
    """Whether a word's alphabet leaves vowels out."""
    return not word.isascii() and _alphabet(word) in _CONSONANTS


@lru_cache(maxsize=65536)
def plain_spelling(word: str) -> str:
    """One spelling for words that differ by how a letter is written out or doubled: Mueller, Müller, Muller."""
    word = latin(word)
    if not word.isascii():
        return word
    for long, short in _WRITTEN_OUT:
        word = word.replace(long, short)
    if word.startswith("mac") and len(word) > 6:
        word = "mc" + word[3:]
    return _single(word)


def _single(word: str) -> str:
    return "".join(c for n, c in enumerate(word) if n == 0 or c != word[n - 1])


@lru_cache(maxsize=65536)
def by_ear(word: str) -> str:
    """What is heard of a word, vowels included."""
    word = plain_spelling(word)
    if not word.isascii():
        return word
    for written, heard in _HEARD:
        word = written.sub(heard, word)
    return _single(word)


@lru_cache(maxsize=65536)
def sound(word: str) -> str:
    """What is left of a word when what is easily misheard or mistyped is taken off."""
    word = plain_spelling(word)
    if not word.isascii() or len(word) < 3:
        return word
    for heard, written in _SOUNDS:
        word = word.replace(heard, written)
    rest = word[1:].translate(_VOWELS)
    return word[0] + _single(rest)


@lru_cache(maxsize=65536)
def _scanned(word: str) -> str:
    for read, written in _SCANNED:
        word = word.replace(read, written)
    return word


def compare_words(one: str, other: str, counts: Counts, given: bool = True) -> Level:
    """How two words of names agree. For family names a slip may touch the first letter and the last."""
    if one == other:
        return Level.INITIAL if is_initial(one) else Level.SAME
    if not (one.isascii() and other.isascii()):
        return _across(one, other, counts, given)
    return _latin_words(one, other, counts, given)


def _across(one: str, other: str, counts: Counts, given: bool) -> Level:
    """Two words of which one at least is in another alphabet."""
    mine, theirs = latin(one), latin(other)
    if not (mine.isascii() and theirs.isascii()):
        return Level.NONE
    if without_vowels(one) or without_vowels(other):
        if without_vowels(one) == without_vowels(other):
            return Level.NONE  # a letter more or less is another name there
        return Level.SOUND if _consonants(mine) == _consonants(theirs) and len(_consonants(mine)) > 1 else Level.NONE
    if mine == theirs:
        return Level.INITIAL if is_initial(mine) else Level.SOUND
    return min(_latin_words(mine, theirs, counts, given), Level.FORM)


@lru_cache(maxsize=65536)
def _consonants(word: str) -> str:
    """The consonants as they are heard; of Arabic names long vowels are written, so no vowel counts."""
    heard = by_ear(word).replace("v", "").replace("k", "g")
    return _single("".join(c for n, c in enumerate(heard) if c not in "aeiouy" and (c != "h" or n == 0)))


def _latin_words(one: str, other: str, counts: Counts, given: bool) -> Level:
    if not (one.isalpha() and other.isalpha()):
        return Level.NONE  # a digit is another thing
    begins_alike = one[0] == other[0]
    if len(one) == 1 or len(other) == 1:
        return Level.INITIAL if begins_alike or {one[0], other[0]} in _ONE_INITIAL else Level.NONE
    both_names = given and _both_names(one, other)
    if begins_alike and not both_names and plain_spelling(one) == plain_spelling(other):
        return Level.SAME
    forms = forms_of(one)
    if forms and forms & forms_of(other):
        own = names_in_their_own_right()
        several = len(forms) > 1 and len(forms_of(other)) > 1  # Chris and Kit may be two
        return Level.LOOSE_FORM if several or (one in own and other in own) else Level.FORM
    if both_names:
        sounds_alike = begins_alike and by_ear(one) == by_ear(other) and _ends_alike(one, other)
        return Level.LOOSE_FORM if sounds_alike else Level.NONE
    return _slips(one, other, counts, given)


def _slips(one: str, other: str, counts: Counts, given: bool) -> Level:
    """What of the same word was written otherwise, and how badly."""
    shorter, longer = sorted((one, other), key=len)
    if not given and _two_of_a_family(one, other):
        return Level.NONE
    if longer.startswith(shorter) and _cut_short(shorter, longer, given):
        return Level.BEGINS
    if len(longer) - len(shorter) > 3 or len(shorter) < 3:
        return Level.NONE
    if not set(one[:2]) & set(other[:2]) and not set(one[-2:]) & set(other[-2:]):
        return Level.NONE  # two slips cannot do that; and most words end here
    usual = counts(one) >= USUAL <= counts(other)
    distance = slips(one, other, 3)
    heard = by_ear(one) == by_ear(other) and len(shorter) > 3
    read = distance > 1 and _scanned(one) == _scanned(other)
    if usual:
        # Maier and Meyer are two families; in one name with all else alike they may be one all the same.
        return Level.FAR if heard and not given else Level.NONE
    if given:
        return _given_slip(one, other, counts, distance, heard, read)
    if heard:
        return Level.SOUND
    if len(longer) >= (5 if one[0] != other[0] else 4) and (read or distance <= (2 if len(longer) >= 8 else 1)):
        return Level.SLIP
    return Level.FAR if _far(shorter, longer, distance) else Level.NONE


def _given_slip(one: str, other: str, counts: Counts, distance: int, heard: bool, read: bool) -> Level:
    known = known_given_names()
    longest = max(len(one), len(other))
    # A slip of the pen keeps the first and the last letter; Erik and Erika, Paul and Paula are two people.
    swapped = sorted(one) == sorted(other)
    kept = one[0] == other[0] and (one[-1] == other[-1] or swapped) and longest > 3
    if kept and (read or distance <= (2 if longest >= 8 else 1)):
        return Level.SLIP
    if heard and _ends_alike(one, other):
        return Level.SOUND
    if distance <= (2 if longest >= 8 else 1) and (one in known or counts(one) >= USUAL) != (
        other in known or counts(other) >= USUAL
    ):
        return Level.NEAR
    shorter, longer = sorted((one, other), key=len)
    return Level.FAR if _ends_alike(one, other) and _far(shorter, longer, distance) else Level.NONE


def _far(shorter: str, longer: str, distance: int) -> bool:
    """Whether so much of two words is the same that they may be one, with two slips or three."""
    alike = shorter[0] == longer[0] or shorter[-2:] == longer[-2:]
    if distance <= (3 if len(longer) >= 9 else 2 if len(shorter) >= 5 else 1):
        return alike and len(shorter) > 3
    if abs(len(shorter) - len(longer)) > 2 or len(shorter) < 5:
        return False
    ears = slips(by_ear(shorter), by_ear(longer), 1)
    return min(ears, slips(_scanned(shorter), _scanned(longer), 1)) <= 1 and distance <= 3


def _ends_alike(one: str, other: str) -> bool:
    """Whether no ending tells that one is a woman's name, the other a man's."""
    ends = one[-1], other[-1]
    return ends[0] == ends[1] or not {"a", "o"} & set(ends)


def _two_of_a_family(one: str, other: str) -> bool:
    # Petrov and Petrova may be a couple.
    return one in (other + "a", other[:-1] + "a") or other in (one + "a", one[:-1] + "a")


def _cut_short(shorter: str, longer: str, given: bool) -> bool:
    """Whether a word is another without its end: an abbreviation (Chr.), a field that was too narrow (Obermay)."""
    if given:
        return 2 <= len(shorter) <= 4 and len(longer) > len(shorter) + 1
    return len(shorter) >= 6 and len(longer) > len(shorter)


def _both_names(one: str, other: str) -> bool:
    known = known_given_names()
    return one in known and other in known


def is_initial(word: str) -> bool:
    """Whether a word is a single Latin letter."""
    return len(word) == 1 and word.isascii() and word.isalpha()
