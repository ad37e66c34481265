"""Collections of cards: what is in them, what has changed, and changing it."""

from __future__ import annotations

import json
import re
import secrets
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from sqlalchemy import Connection, Engine, Row, and_, bindparam, delete, func, insert, select, update

from barnacle.core.sharing import EDITOR, READER
from barnacle.core.text import tidy
from barnacle.files.contentline import folded
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Keeper, Person, need, new_mark, now
from barnacle.hub.cards import CardInfo, check_card
from barnacle.hub.refusals import Missing, NeedsMore, Unmet


class Shelf(NamedTuple):
    """A shared list as its collection shows it, with the role of the caller."""

    id: str
    title: str
    fields: list[str]
    created: str
    seq: int
    mark: str
    role: str


class Kept(NamedTuple):
    """A card of a collection, or the trace of one (`gone`). `by` and `added` say who put it there and when."""

    name: str
    uid: str
    etag: str
    data: str
    seq: int
    gone: bool
    by: str
    added: str
    changed: str


class Limits(NamedTuple):
    """How much the hub takes."""

    card_octets: int = 256_000
    cards: int = 100_000
    hrefs: int = 5_000
    requests: int = 1_000  # of one person, in a second


# The collection, what has changed, the new sync token, and whether there is more.
Changes = tuple[Shelf, list[Kept], str, bool]
# A card's new ETag, and whether it is new.
Put = tuple[str, bool]


class Shelves(Keeper):
    """The collections of cards."""

    def __init__(self, engine: Engine, limits: Limits | None = None) -> None:
        super().__init__(engine)
        self.limits = limits or Limits()

    def shelves(self, person: Person) -> list[Shelf]:
        """The collections that somebody may see."""
        t = schema
        with self.reading() as connection:
            rows = connection.execute(
                _SHELF.where(and_(t.role.c.person == person.id, t.role.c.state == JOINED)).order_by(
                    t.shared.c.title, t.shared.c.id
                )
            )
            return [_shelf(row) for row in rows]

    def shelf(self, person: Person, made: str) -> Shelf:
        """One of them. Raises Missing, the same for what is hidden as for what is not there."""
        with self.reading() as connection:
            return self._shelf_in(connection, person, made)

    def _shelf_in(self, connection: Connection, person: Person, made: str) -> Shelf:
        row = connection.execute(_ONE_SHELF, {"person": person.id, "made": made}).first()
        if row is None:
            raise Missing("There is no such list.")
        return _shelf(row)

    def cards(self, person: Person, made: str, names: Sequence[str] | None = None) -> tuple[Shelf, list[Kept]]:
        """The cards of a collection, all or some by name."""
        c = schema.card.c
        where = and_(c.list == made, ~c.gone)
        if names is not None:
            where = and_(where, c.name.in_(names))
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            return shelf, [_kept(row) for row in connection.execute(select(schema.card).where(where).order_by(c.name))]

    def card(self, person: Person, made: str, name: str) -> Kept:
        """One card. Raises Missing."""
        _, found = self.cards(person, made, [name])
        if not found:
            raise Missing("There is no such card.")
        return found[0]

    def changes(self, person: Person, made: str, since: str | None, limit: int | None) -> Changes:
        """What has changed since a sync token (RFC 6578): the cards and traces, the new token, and whether there is
        more. Raises Unmet for a token that is none (any more)."""
        c = schema.card.c
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            after = -1
            if since:
                seq, _, mark = since.rpartition("/")[2].partition("-")
                known = None
                if seq.isascii() and seq.isdigit() and len(seq) < 10 and f"/{made}/" in since:
                    known = connection.execute(
                        select(schema.change.c.mark).where(
                            and_(schema.change.c.list == made, schema.change.c.seq == int(seq))
                        )
                    ).scalar()
                if known is None or known != mark:
                    raise Unmet("valid-sync-token", "That sync token is none of this list. Begin without one.", 403)
                after = int(seq)
            query = select(schema.card).where(and_(c.list == made, c.seq > after, c.seq <= shelf.seq)).order_by(c.seq)
            if after < 0:
                query = query.where(~c.gone)
            rows = [_kept(row) for row in connection.execute(query.limit(limit + 1) if limit else query)]
            if limit and len(rows) > limit:
                rows = rows[:limit]
                last = rows[-1].seq
                mark = connection.execute(
                    select(schema.change.c.mark).where(and_(schema.change.c.list == made, schema.change.c.seq == last))
                ).scalar_one()
                return shelf, rows, sync_token(made, last, mark), True
        return shelf, rows, sync_token(made, shelf.seq, shelf.mark), False

    def put(
        self, person: Person, made: str, name: str, read: Callable[[], str], match: str | None, none_match: bool
    ) -> Put:
        """Keep a card, whose text `read` gives once it is known that its sender may change the list. `match` is the
        ETag that it must have now (`*`: any), `none_match` says that it must not be there. Returns its new ETag and
        whether it is new. Raises Missing, Forbidden, Unmet, TooLarge, NeedsMore."""
        with self.engine.begin() as connection:
            seq = need(connection, made, person, EDITOR)
            data = read()
            info = check_card(data, self.limits.card_octets)
            old = _card(connection, made, name)
            _hold_to(old, match, none_match)
            if (old is None or old.gone) and seq >= self.limits.cards:  # with fewer changes it cannot be full
                c = schema.card.c
                count = connection.execute(select(func.count()).where(and_(c.list == made, ~c.gone))).scalar_one()
                if count >= self.limits.cards:
                    raise NeedsMore(f"This list is full: it has {count:,} cards.")
            return self._put_in(connection, person, made, name, data, info, old)

    def _put_in(
        self, connection: Connection, person: Person, made: str, name: str, data: str, info: CardInfo, old: Kept | None
    ) -> Put:
        where = {"made": made, "name": name}
        twin = connection.execute(_TWIN, {**where, "uid": info.uid}).scalar()
        if twin is not None:
            raise Unmet("no-uid-conflict", "Another card of this list has that UID.", 409, href=f"{twin}")
        there = old is not None and not old.gone
        if there and old is not None and old.data == data:
            return old.etag, False  # done twice, it is done once
        moment, etag = now(), secrets.token_hex(10)
        values = {"uid": info.uid, "etag": etag, "data": data, "seq": _next(connection, made), "gone": False,
                  "changed": moment}  # fmt: skip
        if there:
            connection.execute(_CHANGE, _changed(made, name, values))
        else:
            if old is not None:
                connection.execute(_DROP, where)
            added = {"list": made, "name": name, "by": person.called, "added": moment}
            connection.execute(_ADD, {**added, **values})
        return etag, not there

    def opt_out(self, person: Person, made: str, name: str, since: str) -> None:
        """Mark somebody who must not be written to: whoever has joined may, for that is nobody's to refuse. A card that
        has such a mark keeps it. Raises Missing."""
        with self.engine.begin() as connection:
            need(connection, made, person, READER)
            old = _card(connection, made, name)
            if old is None or old.gone:
                raise Missing("There is no such card.")
            if re.search(r"(?mi)^X-OPT-OUT[:;]", old.data):
                return
            head, end, tail = old.data.rpartition("END:VCARD")
            data = f"{head}{folded(f'X-OPT-OUT:{tidy(since, 300)}')}{end}{tail}"
            self._put_in(connection, person, made, name, data, check_card(data, self.limits.card_octets), old)

    def take_off(self, person: Person, made: str, name: str, match: str | None) -> None:
        """Take a card off. Raises Missing, Forbidden, Unmet."""
        with self.engine.begin() as connection:
            need(connection, made, person, EDITOR)
            old = _card(connection, made, name)
            if old is None or old.gone:
                raise Missing("There is no such card.")
            _hold_to(old, match, False)
            gone = {"gone": True, "data": "", "seq": _next(connection, made), "changed": now()}
            connection.execute(_CHANGE, _changed(made, name, {"uid": old.uid, "etag": old.etag, **gone}))


def sync_token(made: str, seq: int, mark: str) -> str:
    """A URI (RFC 6578 section 3.2) that names a moment in a list's life."""
    return f"urn:barnacle:sync:/{made}/{seq}-{mark}"


_SHELF = (
    select(schema.shared, schema.role.c.role, schema.change.c.mark)
    .join(schema.role, schema.role.c.list == schema.shared.c.id)
    .join(schema.change, and_(schema.change.c.list == schema.shared.c.id, schema.change.c.seq == schema.shared.c.seq))
)


_ONE_SHELF = _SHELF.where(
    and_(
        schema.role.c.person == bindparam("person"),
        schema.role.c.state == JOINED,
        schema.shared.c.id == bindparam("made"),
    )
)
_HERE = and_(schema.card.c.list == bindparam("made"), schema.card.c.name == bindparam("name"))
_CARD = select(schema.card).where(_HERE)
_TWIN = select(schema.card.c.name).where(
    and_(
        schema.card.c.list == bindparam("made"),
        schema.card.c.uid == bindparam("uid"),
        ~schema.card.c.gone,
        schema.card.c.name != bindparam("name"),
    )
)
_FIELDS = ("uid", "etag", "data", "seq", "gone", "changed")
_CHANGE = (
    update(schema.card)
    .where(and_(schema.card.c.list == bindparam("made"), schema.card.c.name == bindparam("here")))
    .values({name: bindparam(f"new_{name}") for name in _FIELDS})
)
_DROP = delete(schema.card).where(_HERE)
_ADD = insert(schema.card)
_COUNT_UP = (
    update(schema.shared)
    .where(schema.shared.c.id == bindparam("made"))
    .values(seq=schema.shared.c.seq + 1)
    .returning(schema.shared.c.seq)
)
_MARK = insert(schema.change)


def _changed(made: str, name: str, values: dict[str, Any]) -> dict[str, Any]:
    return {"made": made, "here": name, **{f"new_{key}": value for key, value in values.items()}}


def _shelf(row: Row[Any]) -> Shelf:
    return Shelf(row.id, row.title, json.loads(row.fields), row.created, row.seq, row.mark, row.role)


def _kept(row: Row[Any]) -> Kept:
    return Kept(row.name, row.uid, row.etag, row.data, row.seq, row.gone, row.by, row.added, row.changed)


def _card(connection: Connection, made: str, name: str) -> Kept | None:
    row = connection.execute(_CARD, {"made": made, "name": name}).first()
    return _kept(row) if row else None


def _hold_to(old: Kept | None, match: str | None, none_match: bool) -> None:
    """The conditions of a request (RFC 9110 section 13). Raises Unmet."""
    there = old is not None and not old.gone
    if none_match and there:
        raise Unmet("", "There is such a card already.", 412)
    if match is not None and (not there or (match != "*" and old is not None and old.etag not in match)):
        raise Unmet("", "The card has been changed since, or taken off.", 412)


def _next(connection: Connection, made: str) -> int:
    seq: int = connection.execute(_COUNT_UP, {"made": made}).scalar_one()
    connection.execute(_MARK, {"list": made, "seq": seq, "mark": new_mark()})
    return seq
