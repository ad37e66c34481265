"""What people write above columns, in forty languages: words and phrases, folded, with what each speaks of.

The words stand in `title_words.toml`, each phrase under a tag; those of twelve languages are known with other endings,
put together and cut short, too. Those in `more_title_words.toml` are taken as they stand. Concepts are what a column
may hold of a person; roles (main, second, mother, father, parent, child, somebody) say of which person of the row it
speaks, `somebody` of one whom the row does not bring; kinds (work, home, other) tell several values of one field apart;
fillers say nothing. Words of other things (`else`) matter as much: a column of towns looks like one of names, and only
its title tells.
"""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

CONCEPTS = (
    "name", "given", "family", "both", "email", "addr", "phone", "mobile", "org", "job", "web", "note", "label", "uid",
    "optout", "title", "infix",
)  # fmt: skip
# Which of a phrase's tags counts where several languages disagree: the one that says most of the column.
_ORDER = (
    "uid", "infix", "both", "email", "mobile", "given", "family", "phone", "name", "optout", "somebody", "mother",
    "father", "parent", "child", "second", "org", "job", "web", "label", "note", "title", "addr", "main", "else",
    "home", "work", "other", "number", "filler",
)  # fmt: skip
# So many words the longest phrase has.
LONGEST = 5


Phrases = dict[tuple[str, ...], tuple[str, ...]]


@cache
def phrases() -> Phrases:
    """Every phrase by its folded words, with all tags that some language gives it, the one that says most first. Where
    they disagree, what the twelve say counts."""
    return _read("more_title_words.toml") | changing()


@cache
def changing() -> Phrases:
    """The phrases of the twelve languages."""
    return _read("title_words.toml")


def _read(name: str) -> Phrases:
    languages = tomllib.loads((files(__package__) / name).read_text("utf-8"))
    found: dict[tuple[str, ...], set[str]] = {}
    for tags in languages.values():
        for tag, listed in tags.items():
            for phrase in listed.split("|"):
                found.setdefault(tuple(phrase.split()), set()).add(tag)
    return {phrase: tuple(sorted(tags, key=_ORDER.index)) for phrase, tags in found.items()}
