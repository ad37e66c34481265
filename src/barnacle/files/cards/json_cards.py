"""Cards in JSON: jCard (RFC 7095) and JSContact (RFC 9553), one or a list of them in a file."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from barnacle.core.contact import Contact
from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.cards import jcard, jscontact
from barnacle.files.drafts import Defect, Draft
from barnacle.files.encoding import Encoding

# The whole file is one value: it is read at once, so it is bounded. 64 MB are some 100,000 cards.
_LIMIT = 64 << 20
_DEPTH = 60


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """The cards of a file. Raises FileError where it is no JSON, or no cards."""
    if path.stat().st_size > _LIMIT:
        raise FileError(f"{visible(path.name)} has over {_LIMIT >> 20} MB, more than is read of JSON. Split it.")
    text = path.read_text(encoding=encoding.codec, errors=encoding.errors).lstrip("\ufeff")
    try:
        value = json.loads(text)
        depth = _depth(value)
    except json.JSONDecodeError as error:
        raise FileError(
            f"{visible(path.name)} is not valid JSON: see line {error.lineno}, column {error.colno}."
        ) from error
    except RecursionError:
        depth = _DEPTH + 1
    if depth > _DEPTH:
        raise FileError(f"{visible(path.name)} is nested too deeply for a card file. Nothing was added.")
    cards, read_card = _cards(value)
    for number, card in enumerate(cards, 1):
        try:
            yield read_card(card, number)
        except (TypeError, ValueError, KeyError, AttributeError, IndexError):
            shown = visible(json.dumps(card, ensure_ascii=False), 80)
            yield Draft(number, refused=[Defect(number, "", shown, "it is not structured as a card")])


def _depth(value: Any) -> int:
    """How deep lists and objects stand in each other, without recursion."""
    depth, level = 0, [value]
    while level and depth <= _DEPTH:
        depth += 1
        level = [
            inner
            for one in level
            if isinstance(one, (list, dict))
            for inner in (one.values() if isinstance(one, dict) else one)
        ]
    return depth


def _cards(value: Any) -> tuple[list[Any], Any]:
    if isinstance(value, list) and value[:1] == ["vcard"]:
        return [value], jcard.draft
    if isinstance(value, list) and value and isinstance(value[0], list):
        return value, jcard.draft
    return (value if isinstance(value, list) else [value]), jscontact.draft


def write(cards: Iterable[Any]) -> Iterator[str]:
    """A list of cards as the text of a file, piece by piece."""
    yield "[\n"
    for number, card in enumerate(cards):
        yield (",\n" if number else "") + json.dumps(card, ensure_ascii=False)
    yield "\n]\n"


def jcards(contacts: Iterable[Contact]) -> Iterator[Any]:
    """Each contact as a jCard."""
    return map(jcard.card, contacts)


def jscontacts(contacts: Iterable[Contact]) -> Iterator[Any]:
    """Each contact as a JSContact card."""
    return map(jscontact.card, contacts)
