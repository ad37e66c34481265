"""What a hub answers (docs/hub.md), read and checked: what answers may be no hub, or mean ill."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

import orjson

from barnacle.core.errors import HubError
from barnacle.core.sharing import ROLES
from barnacle.core.text import tidy

_NONE = "What answers there is no hub, or its answer was cut off. Nothing more was changed; try again."
_ID = re.compile(r"[0-9A-Za-z]{1,64}").fullmatch
_STATES = ("offered", "joined", "declined")


class Card(NamedTuple):
    """A card that has changed: its text, or None where it was taken off; who added it and when."""

    name: str
    etag: str
    data: str | None
    by: str
    added: str


class Page(NamedTuple):
    """An answer about changes: the cards, the next token, whether there is more to be asked for with that, and how long
    it was (octets)."""

    cards: list[Card]
    token: str
    more: bool
    octets: int


def read_page(data: bytes) -> Page:
    """The answer about changes. Raises HubError where it is none."""
    known: dict[str, str] = {}  # few have added many cards

    def tidied(text: str) -> str:
        if text not in known:
            known[text] = tidy(text, 300)
        return known[text]

    try:
        doc = orjson.loads(data)
        cards = [Card(name, etag, text, tidied(by), tidied(added)) for name, etag, text, by, added in doc["cards"]]
        page = Page(cards, doc["token"], bool(doc["more"]), len(data))
        texts = [page.token, *(value for card in cards for value in (card.name, card.etag, card.data or ""))]
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise HubError(_NONE) from error
    if not page.token or not all(isinstance(text, str) for text in texts):
        raise HubError(_NONE)
    return page


def read_lists(data: bytes) -> list[dict[str, Any]]:
    """The lists that one has joined, with `fields` and `owner`, or is offered. Raises HubError."""
    result = []
    for doc in _rows(data):
        one: dict[str, Any] = _texts(doc, "id", "title", "role", "state", "from", "since")
        if not _ID(one["id"]) or one["role"] not in ROLES or one["state"] not in _STATES:
            raise HubError(_NONE)
        if one["state"] == "joined":
            fields = doc.get("fields")
            if not isinstance(fields, list) or not all(isinstance(name, str) for name in fields):
                raise HubError(_NONE)
            one |= {"fields": fields, **_texts(doc, "owner")}
        result.append(one)
    return result


def read_people(data: bytes) -> list[dict[str, Any]]:
    """Who has which role in a list, or is offered one. Raises HubError."""
    return [_texts(doc, "address", "name", "role", "state", "since") for doc in _rows(data)]


def read_tokens(data: bytes) -> list[dict[str, Any]]:
    """One's tokens; one that was never used has no `last_used`. Raises HubError."""
    return [
        {"last_used": None, **_texts(doc, "name", "since", *(["last_used"] if doc.get("last_used") else []))}
        for doc in _rows(data)
    ]


def read_value(data: bytes, key: str) -> str:
    """The one value that matters of an answer: the id of a list, a token. Raises HubError."""
    doc = _loaded(data)
    if not isinstance(doc, dict):
        raise HubError(_NONE)
    return str(_texts(doc, key)[key])


def read_outcomes(data: bytes, number: int) -> list[tuple[int, str, str]]:
    """What became of so many cards: for each the status, the new ETag, and what stands against it. Raises HubError."""
    doc = _loaded(data)
    cards = doc.get("cards") if isinstance(doc, dict) else None
    if not isinstance(cards, list) or len(cards) != number:
        raise HubError(_NONE)
    result = []
    for one in cards:
        status = one.get("status") if isinstance(one, dict) else None
        if not isinstance(status, int):
            raise HubError(_NONE)
        texts = _texts(one, "error") if status >= 400 else _texts(one, "etag")
        result.append((status, texts.get("etag", ""), texts.get("error", "")))
    return result


def _loaded(data: bytes) -> Any:
    try:
        return orjson.loads(data)
    except ValueError as error:
        raise HubError(_NONE) from error


def _rows(data: bytes) -> list[dict[str, Any]]:
    rows = _loaded(data)
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise HubError(_NONE)
    return rows


def _texts(doc: dict[str, Any], *keys: str) -> dict[str, Any]:
    """These values of an object, each as a clean line. Raises HubError where one is no text."""
    if not all(isinstance(doc.get(key), str) for key in keys):
        raise HubError(_NONE)
    return {key: tidy(doc[key], 300) for key in keys}
