"""Cards and lists as rows of the hub's tables, and the statements about them, each built once."""

from __future__ import annotations

import json
from collections.abc import Sequence

from sqlalchemy import Connection, Row, and_, bindparam, delete, func, insert, select, update

from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import conditions, schema
from barnacle.hub.base import JOINED, new_mark
from barnacle.hub.refusals import UnmetError


class Shelf(NamedTuple):
    """A shared list as its collection shows it, with the role of the caller."""

    id: str
    title: str
    fields: list[str]
    created: str
    seq: int
    mark: str
    role: str


class StoredCard(NamedTuple):
    """A card of a collection, or the trace of one (`gone`). `by` and `added` say who put it there and when, `last_by`
    and `changed` who changed it last, or took it off."""

    name: str
    uid: str
    etag: str
    data: str
    seq: int
    gone: bool
    by: str
    added: str
    changed: str
    last_by: str = ""
    size: int | None = None  # of one whose text was not read

    @property
    def octets(self) -> int:
        """How long the text is."""
        return len(self.data.encode()) if self.size is None else self.size


SHELVES = (
    select(schema.shared, schema.role.c.role, schema.change.c.mark)
    .join(schema.role, schema.role.c.list == schema.shared.c.id)
    .join(schema.change, and_(schema.change.c.list == schema.shared.c.id, schema.change.c.seq == schema.shared.c.seq))
)


ONE_SHELF = SHELVES.where(
    and_(
        schema.role.c.person == bindparam("person"),
        schema.role.c.state == JOINED,
        schema.shared.c.id == bindparam("made"),
    )
)
HERE = and_(schema.card.c.list == bindparam("made"), schema.card.c.name == bindparam("name"))
ONE_CARD = select(schema.card).where(HERE)
NAMED = select(schema.card).where(
    and_(schema.card.c.list == bindparam("made"), schema.card.c.name.in_(bindparam("names", expanding=True)))
)
HOLDERS = select(schema.card.c.uid, schema.card.c.name).where(
    and_(
        schema.card.c.list == bindparam("made"),
        schema.card.c.uid.in_(bindparam("uids", expanding=True)),
        ~schema.card.c.gone,
    )
)
NUMBER = select(func.count()).where(and_(schema.card.c.list == bindparam("made"), ~schema.card.c.gone))
FIELDS = ("uid", "etag", "data", "seq", "gone", "changed", "last_by")
CHANGE = (
    update(schema.card)
    .where(and_(schema.card.c.list == bindparam("made"), schema.card.c.name == bindparam("here")))
    .values({name: bindparam(f"new_{name}") for name in FIELDS})
)
DROP = delete(schema.card).where(HERE)
ADD = insert(schema.card)
COUNT_UP = (
    update(schema.shared)
    .where(schema.shared.c.id == bindparam("made"))
    .values(seq=schema.shared.c.seq + bindparam("number"))
    .returning(schema.shared.c.seq)
)
MARK = insert(schema.change)
# So many of a list's latest changes are remembered with who made them.
KEPT = 1_000
# After so many changes the oldest are forgotten.
_NOW_AND_THEN = 50
HAPPENED = insert(schema.happened)
FORGET = delete(schema.happened).where(
    and_(schema.happened.c.list == bindparam("made"), schema.happened.c.seq <= bindparam("until"))
)


def changed_values(made: str, name: str, values: dict[str, Any]) -> dict[str, Any]:
    """The values of a card that is changed, as `CHANGE` takes them."""
    return {"made": made, "here": name, **{f"new_{key}": value for key, value in values.items()}}


def shelf_of(row: Row[Any]) -> Shelf:
    """A list as its collection shows it."""
    return Shelf(row.id, row.title, json.loads(row.fields), row.created, row.seq, row.mark, row.role)


def stored(row: Row[Any]) -> StoredCard:
    """A row of cards."""
    return StoredCard(
        row.name, row.uid, row.etag, row.data, row.seq, row.gone, row.by, row.added, row.changed, row.last_by
    )


def find_card(connection: Connection, made: str, name: str) -> StoredCard | None:
    """A card by its name, or the trace of one."""
    row = connection.execute(ONE_CARD, {"made": made, "name": name}).first()
    return stored(row) if row else None


def hold_to(old: StoredCard | None, match: str | None, none_match: str | None) -> None:
    """The conditions of a request (RFC 9110 section 13). Raises UnmetError."""
    etag = old.etag if old is not None and not old.gone else None
    if match is not None and not conditions.names(match, etag):
        raise UnmetError("", "The card has been changed or taken off since.", 412)
    if none_match is not None and conditions.names(none_match, etag, weakly=True):
        raise UnmetError("", "That card exists already.", 412)


def note(
    connection: Connection, made: str, numbers: range, told: Sequence[tuple[str, str]], facts: dict[str, str]
) -> None:
    """Remember who did what to whom, of the latest changes of a list."""
    latest = list(zip(numbers, told, strict=True))[-KEPT:]
    if latest:
        rows = [{"list": made, "seq": seq, "what": what, "whom": whom, **facts} for seq, (what, whom) in latest]
        connection.execute(HAPPENED, rows)
        if numbers[-1] // _NOW_AND_THEN > (numbers[0] - 1) // _NOW_AND_THEN:
            connection.execute(FORGET, {"made": made, "until": numbers[-1] - KEPT})


def next_numbers(connection: Connection, made: str, number: int) -> range:
    """The numbers of so many changes, each with its mark."""
    if not number:
        return range(0)
    last: int = connection.execute(COUNT_UP, {"made": made, "number": number}).scalar_one()
    numbers = range(last - number + 1, last + 1)
    connection.execute(MARK, [{"list": made, "seq": seq, "mark": new_mark()} for seq in numbers])
    return numbers
