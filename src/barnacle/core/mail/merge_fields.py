"""Merge fields: `{given}` and the like in a message that goes to each by itself."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import NamedTuple

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import PLAIN
from barnacle.core.text import listed

NAMES = ("given", "family", "name", *(field.name for field in PLAIN if field.in_letters), "address")
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


def unknown(some: Sequence[Piece]) -> list[Field]:
    """The fields that there are none of that name."""
    return [piece for piece in some if isinstance(piece, Field) and piece.name not in NAMES]


def missing(some: Sequence[Piece], values: dict[str, str]) -> list[str]:
    """The names of fields that have no value here and no fallback."""
    return [p.name for p in some if isinstance(p, Field) and not values.get(p.name) and p.fallback is None]


def fill(some: Sequence[Piece], values: dict[str, str], quoted: Callable[[str], str] = str) -> str:
    """The text with its fields filled in; `quoted` makes a value harmless for where it goes."""
    return "".join(p if isinstance(p, str) else quoted(values.get(p.name) or p.fallback or "") for p in some)


def values_of(people: Sequence[Contact], address: str) -> dict[str, str]:
    """The values of whoever is reached at an address. People who share it are named together: "Una and Per"."""
    parts = [contact.parts() for contact in people]
    families = list(dict.fromkeys(family for _, family in parts if family))
    values = {
        "given": [given for given, _ in parts],
        "family": families,
        "name": [contact.name for contact in people],
    } | {field.name: [getattr(one, field.name) for one in people] for field in PLAIN if field.in_letters}
    joined = {name: listed(list(dict.fromkeys(v for v in some if v))) for name, some in values.items()}
    return {**joined, "address": address}
