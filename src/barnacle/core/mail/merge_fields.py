"""Merge fields: `{given}` and the like in a message that goes to each by itself."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from functools import lru_cache

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import PLAIN
from barnacle.core.own_fields import own_fields
from barnacle.core.text import fold, listed
from barnacle.core.typed import NamedTuple

NAMES = ("given", "family", "name", *(field.name for field in PLAIN if field.in_letters), "address")
# How values of one's own fields are named among the others: a field may be called as one of those is.
OWN = "own:"
_FIELD = re.compile(r"\{\{|\{([^{}|\n]*)(?:\|([^{}\n]*))?\}")


class Field(NamedTuple):
    """A place in a text where a value of the recipient goes; `fallback` is used where there is none (None: no
    fallback was given). `line` counts from 1."""

    name: str
    fallback: str | None
    line: int


Piece = str | Field


@lru_cache(maxsize=8)  # the same two texts for each recipient
def pieces(text: str) -> tuple[Piece, ...]:
    """The text cut at its fields; `{{` stands for a brace."""
    result: list[Piece] = []
    end = 0
    for match in _FIELD.finditer(text):
        result.append(text[end : match.start()])
        end = match.end()
        if match.group() == "{{":
            result.append("{")
        else:
            line = text.count("\n", 0, match.start()) + 1
            result.append(Field(match[1].strip().lower(), match[2], line))
    return tuple(piece for piece in (*result, text[end:]) if piece != "")


def unknown(some: Sequence[Piece], own: Collection[str] = ()) -> list[Field]:
    """The fields that there are none of that name; `own` are the titles of one's own fields, folded."""
    return [p for p in some if isinstance(p, Field) and p.name not in NAMES and fold(p.name) not in own]


def missing(some: Sequence[Piece], values: dict[str, str]) -> list[str]:
    """The names of fields that have no value here and no fallback."""
    return [p.name for p in some if isinstance(p, Field) and not value_of(p.name, values) and p.fallback is None]


def fill(some: Sequence[Piece], values: dict[str, str], quoted: Callable[[str], str] = str) -> str:
    """The text with its fields filled in; `quoted` makes a value harmless for where it goes."""
    return "".join(p if isinstance(p, str) else quoted(value_of(p.name, values) or p.fallback or "") for p in some)


def value_of(name: str, values: dict[str, str]) -> str:
    """The value that a field of that name is filled with, empty where there is none."""
    return values.get(name) or values.get(f"{OWN}{fold(name)}") or ""


def values_of(people: Sequence[Contact], address: str) -> dict[str, str]:
    """The values of whoever is reached at an address. People who share it are named together: "Una and Per"."""
    parts = [contact.parts() for contact in people]
    families = list(dict.fromkeys(family for _, family in parts if family))
    values = {
        "given": [given for given, _ in parts],
        "family": families,
        "name": [contact.name for contact in people],
    } | {field.name: [getattr(one, field.name) for one in people] for field in PLAIN if field.in_letters}
    for one in people:
        for title, value in own_fields(one).items():
            values.setdefault(f"{OWN}{fold(title)}", []).append(value)
    joined = {name: listed(list(dict.fromkeys(v for v in some if v))) for name, some in values.items()}
    return {**joined, "address": address}
