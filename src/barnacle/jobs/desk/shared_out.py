"""Which words of a command line go to which of its places, where names need no quotation marks: `list add Ferry crews
Bo Lund`, or `list add Bo Lund to Ferry crews`."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.patterns import pattern
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.separate_names import JOINT, SMALL, WITH, called, is_called, kind_of, put_together

# Before a new title, and between one and whom the new list is made of.
_TO, _MADE_OF = ("to", "as", "into"), ("with", "from")
_NEW = ("NEW-TITLE", "NEW-LABEL")
# How the words look that are no part of a name.
_SHAPES = {"ADDRESS": pattern(r"\S+@\S+"), "mN": pattern(r"m?\d+", re.IGNORECASE)}


class Place(NamedTuple):
    """A place for words: its name, what it takes (LIST, WHO and LABEL are names in the book; WHAT may be any of them),
    and whether it takes several."""

    name: str
    takes: str
    several: bool = False


_Shared = tuple[dict[str, str | list[str]], list[str]]


def shared_out(desk: Desk, words: Sequence[str], places: Sequence[Place], in_words: bool) -> _Shared:
    """Some words for one place or two, shared out; and those that are left. A place that gets none is not among them.
    `in_words` says that all of them are one name, also where it is not known."""
    with desk.open() as book:
        if places[0].several:
            return {places[0].name: _several(book, words, places[0])}, []
        if len(places) == 1:
            return _one_name(book, words, places[0], in_words)
        first, second = places
        if words[-1] and _begin(book, first, words) == len(words) and not _is(book, first, words[0]):
            return {first.name: " ".join(words)}, []
        if not second.several:
            return _name_and_text(book, words, first, second)
        if first.takes == second.takes:
            one, *others = _several(book, words, second)
            return {first.name: one, second.name: others[others[0].lower() in WITH and len(others) > 1 :]}, []
        return _list_and_people(book, words, first, second), []


def new_title(desk: Desk, words: Sequence[str]) -> tuple[str, list[str]]:
    """A new list's title, and the words behind it: it is one word, or those before `with` or a colon; or those of a
    list that there is already."""
    for place, word in enumerate(words[:-1]):
        if place and word.lower() in _MADE_OF:
            return " ".join(words[:place]), [*words[place + 1 :]]
        if len(word) > 1 and word.endswith(":") and not kind_of(word):
            return " ".join(words[: place + 1])[:-1], [*words[place + 1 :]]
    size = words_of_title(desk, words)
    return " ".join(words[:size]), [*words[size:]]


def in_a_rule(word: str) -> str:
    """A word of a rule that was typed without quotation marks around all of it: those within, the shell took off."""
    return f'"{word}"' if " " in word else word


def words_of_title(desk: Desk, words: Sequence[str]) -> int:
    """How many of the first words are a list's title; 1 where it is not known where it ends."""
    with desk.open() as book:
        return _begin(book, Place("", "LIST"), words) or 1


def _one_name(book: Book, words: Sequence[str], place: Place, in_words: bool) -> _Shared:
    end = _begin(book, place, words)
    if in_words or (not end and len(_meant(book, place, " ".join(words))) == 1):
        end = len(words)
    return {place.name: " ".join(words[: end or 1])}, [*words[end or 1 :]]


def _name_and_text(book: Book, words: Sequence[str], first: Place, second: Place) -> _Shared:
    shape = _SHAPES.get(second.takes)
    if shape and shape.fullmatch(words[0]) and not shape.fullmatch(words[-1]):
        words = [*words[1 + (len(words) > 2 and words[1].lower() in SMALL) :], words[0]]
    end = _begin(book, first, words[:-1])
    if not end and second.takes == "ADDRESS" and (joint := _behind(book, first, words)):
        return {first.name: " ".join(words[joint + 1 :]), second.name: " ".join(words[:joint])}, []
    if (shape and shape.fullmatch(words[-1])) or (not end and " " in words[-1]):
        end = len(words) - 1
        end -= end > 1 and second.takes in _NEW and words[end - 1].lower() in _TO
    elif not end and (len(words) == 2 or len(_meant(book, first, words[0])) == 1):
        end = 1
    if not end:
        return {first.name: words[0], second.name: words[1]}, [*words[2:]]
    rest = words[end + 1 :] if second.takes in _NEW and words[end].lower() in _TO else words[end:]
    if second.takes == "RULE" and len(rest) > 1:
        rest = [in_a_rule(word) for word in rest]
    return {first.name: " ".join(words[:end]), second.name: " ".join(rest)}, []


def _list_and_people(book: Book, words: Sequence[str], first: Place, second: Place) -> dict[str, str | list[str]]:
    end = _begin(book, first, words[:-1])
    if not end:
        # The list may stand behind them: `Bo Lund to Ferry crews`, `bo Crew`.
        joint = _behind(book, first, words)
        found = (
            joint + 1 if joint else next((n for n in range(1, len(words)) if _is(book, first, " ".join(words[n:]))), 0)
        )
        if found and (joint or not _meant(book, first, words[0])):
            return {first.name: " ".join(words[found:]), second.name: put_together(book, words[: joint or found])}
        end = 1
    return {first.name: " ".join(words[:end]), second.name: put_together(book, words[end:])}


def _behind(book: Book, place: Place, words: Sequence[str]) -> int:
    """Which of the small words stands before what is meant by all behind it; 0 where none does."""
    joints = (n for n in range(1, len(words) - 1) if words[n].lower() in SMALL)
    return next((n for n in joints if len(_meant(book, place, " ".join(words[n + 1 :]))) == 1), 0)


def _several(book: Book, words: Sequence[str], place: Place) -> list[str]:
    named = put_together(book, words)
    ends = (0, len(named) - 1)
    return [one for n, one in enumerate(named) if n in ends or not JOINT.fullmatch(one) or is_called(book, one)]


def _begin(book: Book, place: Place, words: Sequence[str]) -> int:
    """How many of the words, from the first on, are a name to the letter; the most that are, 0 where none."""
    ends = range(len(words), 0, -1)
    return next((end for end in ends if _is(book, place, " ".join(words[:end]))), 0)


def _is(book: Book, place: Place, text: str) -> bool:
    if place.takes == "LIST":
        return lists.by_exact_title(book, text) is not None
    if place.takes == "LABEL":
        return bool(contacts.labelled(book, text))
    return place.takes == "WHO" and bool(contacts.called(book, text))


def _meant(book: Book, place: Place, text: str) -> Sequence[object]:
    """What may be meant in a place."""
    if place.takes == "LIST":
        return lists.by_title(book, text)
    return called(book, text) if place.takes == "WHO" else ()
