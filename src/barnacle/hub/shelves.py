"""Collections of cards: what is in them, what has changed, and changing it."""

from __future__ import annotations

import json
import re
import secrets
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from sqlalchemy import Connection, Engine, Row, Select, and_, bindparam, delete, func, insert, select, update

from barnacle.core.contentline import folded
from barnacle.core.sharing import EDITOR, READER
from barnacle.core.text import tidy
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Keeper, Person, need, new_mark, now
from barnacle.hub.cards import CardInfo, check_card
from barnacle.hub.refusals import MissingError, NeedsMoreError, RefusalError, UnmetError


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
    at_once: int = 200  # cards that are kept with one request
    answer_octets: int = 4_000_000  # of cards in one answer about changes; the rest is asked for by its token
    requests: int = 1_000  # of one person, in a second


# The collection, what has changed, the new sync token, and whether there is more.
Changes = tuple[Shelf, list[StoredCard], str, bool]
# A card's new ETag, and whether it is new.
Put = tuple[str, bool]


class Wanted(NamedTuple):
    """A card that somebody wants to be kept. `match` is the ETag that it must have now (`*`: any), `none_match` says
    that it must not be there."""

    name: str
    data: str
    match: str | None
    none_match: bool


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
        """One of them. Raises MissingError, the same for what is hidden as for what is not there."""
        with self.reading() as connection:
            return self._shelf_in(connection, person, made)

    def _shelf_in(self, connection: Connection, person: Person, made: str) -> Shelf:
        row = connection.execute(_ONE_SHELF, {"person": person.id, "made": made}).first()
        if row is None:
            raise MissingError("There is no such list.")
        return _shelf(row)

    def cards(self, person: Person, made: str, names: Sequence[str] | None = None) -> tuple[Shelf, list[StoredCard]]:
        """The cards of a collection, all or some by name."""
        c = schema.card.c
        where = and_(c.list == made, ~c.gone)
        if names is not None:
            where = and_(where, c.name.in_(names))
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            return shelf, [_kept(row) for row in connection.execute(select(schema.card).where(where).order_by(c.name))]

    def card(self, person: Person, made: str, name: str) -> StoredCard:
        """One card. Raises MissingError."""
        _, found = self.cards(person, made, [name])
        if not found:
            raise MissingError("There is no such card.")
        return found[0]

    def changes(self, person: Person, made: str, since: str | None, limit: int | None) -> Changes:
        """What has changed since a sync token (RFC 6578): the cards and traces, the new token, and whether there is
        more. Raises UnmetError for a token that is none (any more)."""
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
                    raise UnmetError(
                        "valid-sync-token", "That sync token is none of this list. Begin without one.", 403
                    )
                after = int(seq)
            where = and_(c.list == made, c.seq > after, c.seq <= shelf.seq)
            if after < 0:
                where = and_(where, ~c.gone)
            rows, more = self._fitting(connection, select(schema.card).where(where).order_by(c.seq), limit)
            seq_now, mark = shelf.seq, shelf.mark
            if more:
                seq_now = rows[-1].seq
                mark = connection.execute(
                    select(schema.change.c.mark).where(
                        and_(schema.change.c.list == made, schema.change.c.seq == seq_now)
                    )
                ).scalar_one()
        return shelf, rows, sync_token(made, seq_now, mark), more

    def _fitting(self, connection: Connection, query: Select[Any], limit: int | None) -> tuple[list[StoredCard], bool]:
        """As many of the rows as fit in an answer, and whether there are more, which are not read."""
        rows: list[StoredCard] = []
        octets = 0
        with connection.execute(query, execution_options={"yield_per": _AT_A_TIME}) as found:
            for row in found:
                octets += len(row.data) + _LEAST
                if rows and (len(rows) == limit or octets > self.limits.answer_octets):
                    return rows, True
                rows.append(_kept(row))
        return rows, False

    def put(
        self, person: Person, made: str, name: str, read: Callable[[], str], match: str | None, none_match: bool
    ) -> Put:
        """Keep a card, whose text `read` gives once it is known that its sender may change the list. `match` is the
        ETag that it must have now (`*`: any), `none_match` says that it must not be there. Returns its new ETag and
        whether it is new. Raises MissingError, Forbidden, UnmetError, TooLarge, NeedsMoreError."""
        with self.engine.begin() as connection:
            seq = need(connection, made, person, EDITOR)
            return self._keep_one(connection, person, made, seq, Wanted(name, read(), match, none_match))

    def put_many(self, person: Person, made: str, wanted: Sequence[Wanted]) -> list[Put | RefusalError]:
        """Keep cards of different names; each that cannot be kept, as `put` would say, comes to its refusal, and costs
        the others nothing. Raises MissingError, Forbidden."""
        with self.engine.begin() as connection:
            return self._keep(connection, person, made, need(connection, made, person, EDITOR), wanted)

    def _keep_one(self, connection: Connection, person: Person, made: str, seq: int, one: Wanted) -> Put:
        (outcome,) = self._keep(connection, person, made, seq, [one])
        if isinstance(outcome, RefusalError):
            raise outcome
        return outcome

    def _keep(
        self, connection: Connection, person: Person, made: str, seq: int, wanted: Sequence[Wanted]
    ) -> list[Put | RefusalError]:
        infos = [self._checked(one.data) for one in wanted]
        uids = [info.uid for info in infos if isinstance(info, CardInfo)]
        olds = {
            row.name: _kept(row)
            for row in connection.execute(_NAMED, {"made": made, "names": [one.name for one in wanted]})
        }
        holders = {row.uid: row.name for row in connection.execute(_HOLDERS, {"made": made, "uids": uids})}
        room = len(wanted)
        if seq + len(wanted) > self.limits.cards:  # with fewer changes it cannot be full
            room = self.limits.cards - connection.execute(_NUMBER, {"made": made}).scalar_one()
        outcomes: list[Put | RefusalError] = []
        fresh, changed, moment = [], [], now()
        for one, info in zip(wanted, infos, strict=True):
            old = olds.get(one.name)
            there = old is not None and not old.gone
            try:
                if isinstance(info, RefusalError):
                    raise info
                _hold_to(old, one.match, one.none_match)
                if not there and room < 1:
                    raise NeedsMoreError(f"This list is full: it has {self.limits.cards:,} cards.")
                if holders.setdefault(info.uid, one.name) != one.name:
                    href = holders[info.uid]
                    raise UnmetError("no-uid-conflict", "Another card of this list has that UID.", 409, href=href)
            except RefusalError as refusal:
                outcomes.append(refusal)
                continue
            if there and old is not None and old.data == one.data:
                outcomes.append((old.etag, False))  # done twice, it is done once
                continue
            etag = secrets.token_hex(10)
            outcomes.append((etag, not there))
            values = {"uid": info.uid, "etag": etag, "data": one.data, "gone": False, "changed": moment}
            if there:
                changed.append((one.name, values))
            else:
                fresh.append((one.name, values))
                room -= 1
        numbers = iter(_next(connection, made, len(fresh) + len(changed)))
        if traces := [{"made": made, "name": name} for name, _ in fresh if name in olds]:
            connection.execute(_DROP, traces)
        added = {"list": made, "by": person.called, "added": moment}
        if fresh:
            connection.execute(_ADD, [{**added, **one, "name": name, "seq": next(numbers)} for name, one in fresh])
        if changed:
            connection.execute(_CHANGE, [_changed(made, name, {**one, "seq": next(numbers)}) for name, one in changed])
        return outcomes

    def _checked(self, data: str) -> CardInfo | RefusalError:
        try:
            return check_card(data, self.limits.card_octets)
        except RefusalError as refusal:
            return refusal

    def opt_out(self, person: Person, made: str, name: str, since: str) -> None:
        """Mark somebody who must not be written to: whoever has joined may, for that is nobody's to refuse. A card that
        has such a mark keeps it. Raises MissingError."""
        with self.engine.begin() as connection:
            seq = need(connection, made, person, READER)
            old = _card(connection, made, name)
            if old is None or old.gone:
                raise MissingError("There is no such card.")
            if re.search(r"(?mi)^X-OPT-OUT[:;]", old.data):
                return
            head, end, tail = old.data.rpartition("END:VCARD")
            data = f"{head}{folded(f'X-OPT-OUT:{tidy(since, 300)}')}{end}{tail}"
            self._keep_one(connection, person, made, seq, Wanted(name, data, None, False))

    def take_off(self, person: Person, made: str, name: str, match: str | None) -> None:
        """Take a card off. Raises MissingError, Forbidden, UnmetError."""
        with self.engine.begin() as connection:
            need(connection, made, person, EDITOR)
            old = _card(connection, made, name)
            if old is None or old.gone:
                raise MissingError("There is no such card.")
            _hold_to(old, match, False)
            gone = {"gone": True, "data": "", "seq": _next(connection, made, 1)[0], "changed": now()}
            connection.execute(_CHANGE, _changed(made, name, {"uid": old.uid, "etag": old.etag, **gone}))


# What an answer has of each change besides the card; how many cards are read from the database at a time.
_LEAST, _AT_A_TIME = 400, 100


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
_NAMED = select(schema.card).where(
    and_(schema.card.c.list == bindparam("made"), schema.card.c.name.in_(bindparam("names", expanding=True)))
)
_HOLDERS = select(schema.card.c.uid, schema.card.c.name).where(
    and_(
        schema.card.c.list == bindparam("made"),
        schema.card.c.uid.in_(bindparam("uids", expanding=True)),
        ~schema.card.c.gone,
    )
)
_NUMBER = select(func.count()).where(and_(schema.card.c.list == bindparam("made"), ~schema.card.c.gone))
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
    .values(seq=schema.shared.c.seq + bindparam("number"))
    .returning(schema.shared.c.seq)
)
_MARK = insert(schema.change)


def _changed(made: str, name: str, values: dict[str, Any]) -> dict[str, Any]:
    return {"made": made, "here": name, **{f"new_{key}": value for key, value in values.items()}}


def _shelf(row: Row[Any]) -> Shelf:
    return Shelf(row.id, row.title, json.loads(row.fields), row.created, row.seq, row.mark, row.role)


def _kept(row: Row[Any]) -> StoredCard:
    return StoredCard(row.name, row.uid, row.etag, row.data, row.seq, row.gone, row.by, row.added, row.changed)


def _card(connection: Connection, made: str, name: str) -> StoredCard | None:
    row = connection.execute(_CARD, {"made": made, "name": name}).first()
    return _kept(row) if row else None


def _hold_to(old: StoredCard | None, match: str | None, none_match: bool) -> None:
    """The conditions of a request (RFC 9110 section 13). Raises UnmetError."""
    there = old is not None and not old.gone
    if none_match and there:
        raise UnmetError("", "There is such a card already.", 412)
    if match is not None and (not there or (match != "*" and old is not None and old.etag not in match)):
        raise UnmetError("", "The card has been changed since, or taken off.", 412)


def _next(connection: Connection, made: str, number: int) -> range:
    """The numbers of so many changes, each with its mark."""
    if not number:
        return range(0)
    last: int = connection.execute(_COUNT_UP, {"made": made, "number": number}).scalar_one()
    numbers = range(last - number + 1, last + 1)
    connection.execute(_MARK, [{"list": made, "seq": seq, "mark": new_mark()} for seq in numbers])
    return numbers
