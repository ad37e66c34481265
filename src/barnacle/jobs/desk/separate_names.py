"""Where one name ends and the next begins in words of the command line: `Crew and Bo Lund except Una`."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import looks_like_address, split_pasted, typed_mailbox
from barnacle.core.patterns import pattern

# So much of a uid's end is shown for namesakes, and understood.
UID_SHOWN = 8
# Words between two people; none of them is a name, alone.
JOINTS = r"(?:and|&|\+|und|et|y|og|och|plus)"
JOINT, _BETWEEN = pattern(JOINTS, re.IGNORECASE), pattern(rf"[,;]|\s{JOINTS}\s", re.IGNORECASE)
# The same for whom to leave out.
_SAVE = (
    r"(?:except(?: for)?|without|but not|not|minus|ohne|außer|sauf|sans|excepto|salvo|sin|tranne|senza|zonder|behalve"
    r"|uten|unntatt|undtagen|utan|utom)"
)
_EXCEPT, _BEFORE_EXCEPT = pattern(_SAVE, re.IGNORECASE), pattern(rf"(\S.*?)\s{_SAVE}\s(.*)", re.IGNORECASE | re.DOTALL)
# Small words between people and the list that they come onto or off, and between lists and whom they are shared with;
# none of them is a part of a name.
ONTO, OFF, WITH = ("to", "into", "onto"), ("from", "off", "of"), ("with", "to")
SMALL = frozenset((*ONTO, *OFF, *WITH, "on", "as"))
# Of so many words a name may be that was typed without quotation marks.
_MOST_WORDS = 5
# What may stand before a colon to say how the rest is meant.
DIRECTORY = "directory"
_KINDS = ("label", "find", "where", DIRECTORY)


def kind_of(text: str) -> str:
    """Which of the kinds a word says that it is; empty where none."""
    kind, colon, _ = text.partition(":")
    kind = kind.strip().lower()
    return kind if colon and kind in _KINDS else ""


def one_by_one(book: Book, texts: Sequence[str]) -> list[str]:
    """Words of the command line, each one's own: one may hold several addresses, as they were copied from a message, or
    several names with commas or `and` between, where nothing is called so as a whole."""
    found: list[str] = []
    for place, text in enumerate(texts):
        if 0 < place < len(texts) - 1 and JOINT.fullmatch(text) and not is_called(book, text):
            continue
        if kind_of(text):
            found.append(text)
        elif text.count("@") > 1:
            found += split_pasted(text)
        elif "@" in text:
            found.append(text.strip(" ,;"))
        else:
            found += _names_in(book, text)
    return found


def put_together(book: Book, texts: Sequence[str]) -> list[str]:
    """Words of the command line; those that together are a list's title or somebody's name, or have all of the words in
    it, as one."""
    texts = [part for text in texts for part in _at_commas(book, text) if part not in (",", ";")]
    found: list[str] = []
    place = 0
    while place < len(texts):
        most = min(place + _MOST_WORDS + _in_front(texts[place:]), len(texts))
        # What has a blank in it was put together by whoever typed it; a comma ends a name.
        alone = (n for n in range(place, most) if " " in texts[n] or "@" in texts[n] or kind_of(texts[n]))
        comma = (n + 1 for n in range(place, most) if texts[n][-1:] in (",", ";"))
        end = _end_of_name(book, texts, place, min(next(alone, most), next(comma, most)))
        is_one = end == place + 1 and (" " in texts[place] or kind_of(texts[place]))
        found.append(texts[place] if is_one else " ".join(_trimmed(texts[place:end])))
        place = end
    return found


def _at_commas(book: Book, text: str) -> list[str]:
    """A word as it was typed, or the words of one in which commas stand without spaces: `una,bo`."""
    inner = text.strip(",;")
    if "," not in inner or " " in text or "@" in text or kind_of(text) or _is_known(book, text):
        return [text]
    return [part for part in re.split(r"(?<=,)", text) if part]


def _in_front(texts: Sequence[str]) -> int:
    """How many words stand in front of a title that say no more than that it is one."""
    said = " ".join(texts[: 2 * _MOST_WORDS])
    return said[: len(said) - len(lists.bare_title(said))].count(" ")


def _end_of_name(book: Book, texts: Sequence[str], place: int, most: int) -> int:
    for is_name in (is_called, _is_within):
        for end in range(most, place + 1, -1):
            some = _trimmed(texts[place:end])
            if is_name(book, " ".join(some)) and not all(is_called(book, one) for one in some):
                return end
    return place + 1


def _is_within(book: Book, text: str) -> bool:
    """Whether all of some words are in a title or a name."""
    named = lists.bare_title(text)
    if any(JOINT.fullmatch(word) or _EXCEPT.fullmatch(word) or word.lower() in SMALL for word in named.split()):
        return False
    return _is_known(book, text)


def _trimmed(texts: Sequence[str]) -> list[str]:
    return [one.strip(" ,;") for one in texts]


def parted(book: Book, texts: Sequence[str]) -> tuple[list[str], list[str]]:
    """Words of the command line, and those behind an `except`, which leave somebody out: `Crew except Bo`."""
    said: list[str] = []
    for place, text in enumerate(texts):
        if 0 < place < len(texts) - 1 and _EXCEPT.fullmatch(text) and not is_called(book, text):
            return said, [*texts[place + 1 :]]
        found = None if kind_of(text) or "@" in text else _BEFORE_EXCEPT.fullmatch(text)
        if found and not _is_known(book, text) and all(_is_known(book, one) for one in _names_in(book, found[1])):
            return [*said, found[1]], [found[2], *texts[place + 1 :]]
        said.append(text)
    return said, []


def _names_in(book: Book, text: str) -> list[str]:
    parts = [part.strip() for part in _BETWEEN.split(text) if part.strip()]
    several = len(parts) > 1 and not _is_known(book, text) and all(_is_known(book, part) for part in parts)
    return parts if several else [text]


def _is_known(book: Book, text: str) -> bool:
    return bool(lists.by_title(book, text) or called(book, text))


def is_called(book: Book, text: str) -> bool:
    """Whether it is a list's or a person's whole name."""
    return bool(text) and (lists.by_exact_title(book, text) is not None or bool(contacts.called(book, text)))


def called(book: Book, text: str) -> list[StoredContact]:
    """Who has a uid; else an address, and of several the one of the name beside it; else a name with these words; else
    a uid with that end."""
    known = contacts.by_uid(book, text.strip())
    if known is not None:
        return [known]
    if looks_like_address(text):
        mailbox = typed_mailbox(text)
        found = contacts.by_address(book, mailbox.address)
        if mailbox.name and len(found) > 1:
            named = {kept.id for kept in contacts.by_name(book, mailbox.name)}
            found = [kept for kept in found if kept.id in named] or found
        return found
    found = contacts.by_name(book, text)
    if not found and len(text.strip()) == UID_SHOWN:
        found = contacts.by_uid_end(book, text.strip())
    return found
