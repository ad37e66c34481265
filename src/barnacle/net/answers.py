"""What a hub answers (docs/hub.md), typed and checked at the door: what answers may be no hub, or mean ill."""

from __future__ import annotations

from typing import Annotated, Literal, TypeVar

import msgspec
from msgspec import Meta, Raw, Struct, field

from barnacle.core.errors import HubError
from barnacle.core.sharing import Sharer
from barnacle.core.text import tidy

_NONE = "What answers there is not a hub, or its answer was cut off. Nothing more was changed; try again."
_LINE, _MOST = 300, 1_000
Id = Annotated[str, Meta(pattern=r"\A[0-9A-Za-z]{1,64}\Z")]
Role = Literal["reader", "editor", "owner"]
State = Literal["offered", "joined", "declined"]
T = TypeVar("T")


class _Tidied(Struct):
    """Every text is a clean line."""

    def __post_init__(self) -> None:
        for name in self.__struct_fields__:
            value = getattr(self, name)
            if isinstance(value, str):
                setattr(self, name, tidy(value, _LINE))
            elif isinstance(value, list):
                setattr(self, name, [tidy(one, _LINE) if isinstance(one, str) else one for one in value[:_MOST]])


class Card(Struct, array_like=True):
    """A card that has changed: its text, or None where it was taken off; who added it and when, who changed it last and
    when."""

    name: str
    etag: str
    data: str | None
    by: str
    added: str
    last_by: str = ""
    changed: str = ""


class Page(Struct):
    """An answer about changes: the cards, the next token, and whether there is more to be asked for with that."""

    cards: list[Card]
    token: Annotated[str, Meta(min_length=1)]
    more: bool


class HubList(_Tidied):
    """A list that one is offered, or has joined and then knows the `fields` and the `owner` of, the `token` of what it
    is like now, a mark that changes with who has which role (`people`), and the address that it has of its own, with
    its rules in words (`house`)."""

    id: Id
    title: str
    role: Role
    state: State
    giver: str = field(name="from")
    since: str
    fields: list[str] = []
    owner: str = ""
    token: str = ""
    people: str = ""
    house: list[str] = []


class _Person(_Tidied):
    address: str
    name: str
    role: str
    state: str
    since: str


class Happened(_Tidied):
    """Something that was done to a member of a list: `added`, `changed` or `taken off`, by whom, when."""

    at: str
    by: str
    what: str
    whom: str


class HubToken(_Tidied):
    """One's own token; one that was never used has no `last_used`, and from where that was. `scope` is what it is good
    for: `all`, or `cards`."""

    name: str
    since: str
    last_used: str | None = None
    last_from: str | None = None
    scope: str = "all"


class Outcome(_Tidied):
    """What became of a card that was sent: the status, its new ETag or that it is `gone`, or what stands against it."""

    status: int
    etag: str = ""
    gone: bool = False
    error: str = ""


class Reply(Struct):
    """The answer to one of many requests that travelled together."""

    status: int
    body: Raw = Raw(b"null")


class _Replies(Struct):
    answers: list[Reply]


class _Outcomes(Struct):
    cards: list[Outcome]


class HouseList(_Tidied):
    """A list with an address of its own: who may write to it, come onto it, see who is on it; how many are (None where
    one may not know), how many postings there were in thirty days, and how many things wait for its keepers. `of` is
    who opened it."""

    id: Id
    title: str
    address: str
    official: bool
    writers: str
    joining: str
    looking: str
    outsiders: bool
    listed: bool
    members: int | None
    postings: int
    held: int
    of: str = ""
    words: list[str] = []


class Mine(Struct):
    """The house lists that one keeps or edits, and those that one is on."""

    keep: list[HouseList]
    on: list[HouseList]


class HouseMember(_Tidied):
    """Somebody on a house list: since when and how, by whom, which role in it, how it stands with them, on how many
    days mail to them came back, when they left, or why they get nothing."""

    address: str
    name: str
    since: str
    how: str
    role: str
    state: str
    by: str = ""
    fails: int = 0
    left: str | None = None
    why: str = ""


class HeldThing(_Tidied):
    """A posting, or somebody who wants to be on a list, that waits for a keeper."""

    number: int
    list: str
    kind: str
    from_: str = field(name="from")
    subject: str
    why: str
    since: str


class Settled(_Tidied):
    """What became of something held: `let`, `refused`, or `missing`."""

    number: int
    state: str
    members: int | None = None


class PutOn(_Tidied):
    """What became of somebody who was invited or put on: a state, and why where it is `refused`."""

    address: str
    state: str
    why: str = ""


_PAGE = msgspec.json.Decoder(Page)
_LISTS = msgspec.json.Decoder(list[HubList])
_PEOPLE = msgspec.json.Decoder(list[_Person])
_HISTORY = msgspec.json.Decoder(list[Happened])
_TOKENS = msgspec.json.Decoder(list[HubToken])
_REPLIES = msgspec.json.Decoder(_Replies)
_OUTCOMES = msgspec.json.Decoder(_Outcomes)
_OBJECT = msgspec.json.Decoder(dict[str, Raw])


def _read(decoder: msgspec.json.Decoder[T], data: bytes) -> T:
    try:
        return decoder.decode(data)
    except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError) as error:
        raise HubError(_NONE) from error


def read_page(data: bytes) -> Page:
    """The answer about changes. Raises HubError where it is none."""
    page = _read(_PAGE, data)
    known: dict[str, str] = {}  # few have added many cards
    for card in page.cards:
        texts = card.by, card.added, card.last_by, card.changed
        card.by, card.added, card.last_by, card.changed = (known.setdefault(t, tidy(t, _LINE)) for t in texts)
    return page


def read_lists(data: bytes) -> list[HubList]:
    """The lists that one has joined or is offered. Raises HubError."""
    lists = _read(_LISTS, data)
    if any(one.state == "joined" and not one.fields for one in lists):
        raise HubError(_NONE)
    return lists


def read_people(data: bytes) -> list[Sharer]:
    """Who has which role in a list, or is offered one. Raises HubError."""
    return [Sharer(one.address, one.name, one.role, one.state, one.since) for one in _read(_PEOPLE, data)]


def read_history(data: bytes) -> list[Happened]:
    """What was done to a list's members. Raises HubError."""
    return _read(_HISTORY, data)


def read_tokens(data: bytes) -> list[HubToken]:
    """One's tokens. Raises HubError."""
    return _read(_TOKENS, data)


def read_value(data: bytes, key: str) -> str:
    """The one value that matters of an answer: the id of a list, a token. Raises HubError."""
    raw = _read(_OBJECT, data).get(key)
    if raw is None:
        raise HubError(_NONE)
    try:
        return tidy(msgspec.json.decode(raw, type=str), _LINE)
    except msgspec.MsgspecError as error:
        raise HubError(_NONE) from error


def read_outcomes(data: bytes, number: int) -> list[Outcome]:
    """What became of so many cards. Raises HubError."""
    cards = _read(_OUTCOMES, data).cards
    if len(cards) != number or not all(one.error if one.status >= 400 else one.etag or one.gone for one in cards):
        raise HubError(_NONE)
    return cards


def read_replies(data: bytes, number: int) -> list[Reply]:
    """The answers to so many requests. Raises HubError."""
    answers = _read(_REPLIES, data).answers
    if len(answers) != number:
        raise HubError(_NONE)
    return answers


def read_as(kind: type[T], data: bytes) -> T:
    """An answer about house lists, as one of the structures above. Raises HubError."""
    return _read(msgspec.json.Decoder(kind), data)
