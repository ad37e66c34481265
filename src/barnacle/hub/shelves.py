"""Collections of cards: what is in them, what has changed, and changing it."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence

from sqlalchemy import (
    Connection,
    Engine,
    LargeBinary,
    Select,
    and_,
    cast,
    func,
    select,
)

from barnacle.core.sharing import EDITOR, READER
from barnacle.core.text import tidy
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Part, Person, need, now, sync_token
from barnacle.hub.card_rows import (
    ADD,
    CHANGE,
    DROP,
    HOLDERS,
    KEPT,
    NAMED,
    NUMBER,
    ONE_SHELF,
    SHELVES,
    Shelf,
    StoredCard,
    changed_values,
    find_card,
    hold_to,
    next_numbers,
    note,
    shelf_of,
    stored,
)
from barnacle.hub.cards import CardInfo, carried_over, check_card, marked_as_before, name_on, opted_out
from barnacle.hub.refusals import MissingError, NeedsMoreError, RefusalError, UnmetError
from barnacle.hub.turns import Turns


class Limits(NamedTuple):
    """How much the hub takes."""

    card_octets: int = 256_000
    cards: int = 100_000
    hrefs: int = 5_000
    at_once: int = 200  # cards that are kept with one request
    together: int = 500  # requests that are answered together
    answer_octets: int = 4_000_000  # of cards in one answer about changes; the rest is asked for by its token
    requests: int = 1_000  # of one person, in a second
    seconds: int = 20  # for the head of a request to come; the body may take six times as long
    tokens: int = 50  # of one person
    lists: int = 1_000  # that one person is on


# The collection, what has changed, the new sync token, and whether there is more.
Changes = tuple[Shelf, list[StoredCard], str, bool]


class Put(NamedTuple):
    """A card that was kept: its new ETag (none where it was taken off), whether it is new, and whether it is what was
    sent to the octet."""

    etag: str
    new: bool
    as_sent: bool


# What a card is, or why it cannot be kept; None where it is to be taken off.
Checked = CardInfo | RefusalError | None


class Wanted(NamedTuple):
    """A card that somebody wants to be kept, or without data to be taken off. `match` are the ETags of which it
    must have one now (`*`: any), `none_match` those that it must not have. A card `of_others`
    comes from a program that may leave out what it does not know."""

    name: str
    data: str | None
    match: str | None
    none_match: str | None
    of_others: bool = False


class Shelves(Part):
    """The collections of cards."""

    def __init__(self, engine: Engine, limits: Limits | None = None) -> None:
        super().__init__(engine)
        self.limits = limits or Limits()
        self.turns = Turns(engine)

    def shelves(self, person: Person) -> list[Shelf]:
        """The collections that somebody may see."""
        t = schema
        with self.reading() as connection:
            rows = connection.execute(
                SHELVES.where(and_(t.role.c.person == person.id, t.role.c.state == JOINED)).order_by(
                    t.shared.c.title, t.shared.c.id
                )
            )
            return [shelf_of(row) for row in rows]

    def shelf(self, person: Person, made: str) -> Shelf:
        """One of them. Raises MissingError, the same for what is hidden as for what is not there."""
        with self.reading() as connection:
            return self._shelf_in(connection, person, made)

    def _shelf_in(self, connection: Connection, person: Person, made: str) -> Shelf:
        row = connection.execute(ONE_SHELF, {"person": person.id, "made": made}).first()
        if row is None:
            raise MissingError("There is no such list.")
        return shelf_of(row)

    def cards(self, person: Person, made: str, names: Sequence[str]) -> tuple[Shelf, list[StoredCard]]:
        """Some cards of a collection, by name."""
        c = schema.card.c
        where = and_(c.list == made, ~c.gone, c.name.in_(names))
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            return shelf, [stored(row) for row in connection.execute(select(schema.card).where(where).order_by(c.name))]

    def heads(self, person: Person, made: str) -> tuple[Shelf, list[StoredCard]]:
        """All cards of a collection without their texts."""
        c = schema.card.c
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            postgresql = connection.dialect.name == "postgresql"
            octets = func.octet_length(c.data) if postgresql else func.length(cast(c.data, LargeBinary))
            columns = c.name, c.uid, c.etag, octets.label("size"), c.seq, c.by, c.added, c.changed, c.last_by
            where = and_(c.list == made, ~c.gone)
            return shelf, [
                StoredCard(r.name, r.uid, r.etag, "", r.seq, False, r.by, r.added, r.changed, r.last_by, r.size)
                for r in connection.execute(select(*columns).where(where).order_by(c.name))
            ]

    def some_cards(
        self,
        person: Person,
        made: str,
        octets: int,
        limit: int | None = None,
        fits: Callable[[StoredCard], bool] = lambda one: True,
    ) -> tuple[Shelf, list[StoredCard], bool]:
        """The cards of a collection that fit, up to so many and so many octets, and whether there are more."""
        c = schema.card.c
        found: list[StoredCard] = []
        size = 0
        with self.reading() as connection:
            shelf = self._shelf_in(connection, person, made)
            query = select(schema.card).where(and_(c.list == made, ~c.gone)).order_by(c.name)
            with connection.execute(query, execution_options={"yield_per": _AT_A_TIME}) as rows:
                for row in rows:
                    one = stored(row)
                    if not fits(one):
                        continue
                    size += len(one.data)
                    if found and (len(found) == limit or size > octets):
                        return shelf, found, True
                    found.append(one)
        return shelf, found, False

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
                        "valid-sync-token", "That sync token does not belong to this list. Begin without one.", 403
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
                rows.append(stored(row))
        return rows, False

    def put(
        self, person: Person, made: str, name: str, read: Callable[[], str], match: str | None, none_match: str | None
    ) -> Put:
        """Keep a card that another program sends, whose text `read` gives; what such programs leave out though they
        know nothing of it stays (`cards.carried_over`). `match` and `none_match` are conditions
        (RFC 9110 section 13.1). Raises MissingError, Forbidden, UnmetError, TooLarge,
        NeedsMoreError."""

        def keep(connection: Connection) -> Put:
            seq = need(connection, made, person, EDITOR)
            return self._keep_one(connection, person, made, seq, Wanted(name, read(), match, none_match, True))

        return self.turns.write(made, keep)

    def put_many(self, person: Person, made: str, wanted: Sequence[Wanted]) -> list[Put | RefusalError]:
        """Keep cards of different names, or take them off; each that cannot be, as `put` would say, comes to its
        refusal, and costs the others nothing. Raises MissingError, Forbidden."""
        checked = [(one, self._checked(one.data)) for one in wanted]

        def keep(connection: Connection) -> list[Put | RefusalError]:
            return self._keep(connection, person, made, need(connection, made, person, EDITOR), checked)

        return self.turns.write(made, keep)

    def _keep_one(self, connection: Connection, person: Person, made: str, seq: int, one: Wanted) -> Put:
        (outcome,) = self._keep(connection, person, made, seq, [(one, self._checked(one.data))])
        if isinstance(outcome, RefusalError):
            raise outcome
        return outcome

    def _keep(
        self, connection: Connection, person: Person, made: str, seq: int, wanted: Sequence[tuple[Wanted, Checked]]
    ) -> list[Put | RefusalError]:
        uids = [info.uid for _, info in wanted if isinstance(info, CardInfo)]
        olds = {
            row.name: stored(row)
            for row in connection.execute(NAMED, {"made": made, "names": [one.name for one, _ in wanted]})
        }
        holders = {row.uid: row.name for row in connection.execute(HOLDERS, {"made": made, "uids": uids})}
        room = len(wanted)
        if seq + len(wanted) > self.limits.cards:  # with fewer changes it cannot be full
            room = self.limits.cards - connection.execute(NUMBER, {"made": made}).scalar_one()
        outcomes: list[Put | RefusalError] = []
        fresh, changed, moment = [], [], now()
        joined: list[tuple[str, str]] = []  # what is told of those that are new, and of the others
        told: list[tuple[str, str]] = []
        for one, info in wanted:
            old = olds.get(one.name)
            there = old is not None and not old.gone
            try:
                hold_to(old, one.match, one.none_match)
                if isinstance(info, RefusalError):
                    raise info
                if info is None:
                    if old is None or not there:
                        raise MissingError("There is no such card.")
                    gone = {"uid": old.uid, "etag": old.etag, "gone": True, "data": "", "changed": moment}
                    changed.append((one.name, {**gone, "last_by": person.called}))
                    told.append(("taken off", name_on(old.data)))
                    outcomes.append(Put("", False, True))
                    continue
                if not there and room < 1:
                    raise NeedsMoreError(f"This list is full: it has {self.limits.cards:,} cards.")
                if there and old is not None and old.uid != info.uid:
                    raise UnmetError("no-uid-conflict", "A card keeps its UID.", 409, href=one.name)
                if holders.setdefault(info.uid, one.name) != one.name:
                    href = holders[info.uid]
                    raise UnmetError("no-uid-conflict", "Another card of this list has that UID.", 409, href=href)
            except RefusalError as refusal:
                outcomes.append(refusal)
                continue
            data = one.data or ""
            if old is not None and there:
                data = carried_over(old.data, data) if one.of_others else marked_as_before(old.data, data)
            if there and old is not None and old.data == data:
                outcomes.append(Put(old.etag, False, data == one.data))  # done twice, it is done once
                continue
            etag = secrets.token_hex(10)
            outcomes.append(Put(etag, not there, data == one.data))
            values = {"uid": info.uid, "etag": etag, "data": data, "gone": False, "changed": moment}
            if there:
                changed.append((one.name, {**values, "last_by": person.called}))
                told.append(("changed", info.name))
            else:
                joined.append(("added", info.name))
                fresh.append((one.name, values))
                room -= 1
        range_of = next_numbers(connection, made, len(fresh) + len(changed))
        note(connection, made, range_of, [*joined, *told], {"by": person.called, "at": moment})
        numbers = iter(range_of)
        if traces := [{"made": made, "name": name} for name, _ in fresh if name in olds]:
            connection.execute(DROP, traces)
        added = {"list": made, "by": person.called, "added": moment, "last_by": person.called}
        if fresh:
            connection.execute(ADD, [{**added, **one, "name": name, "seq": next(numbers)} for name, one in fresh])
        if changed:
            connection.execute(
                CHANGE, [changed_values(made, name, {**one, "seq": next(numbers)}) for name, one in changed]
            )
        return outcomes

    def keep_for(self, connection: Connection, writer: Person, made: str, seq: int, wanted: Wanted) -> Put:
        """Keep a card, or take it off, within a transaction that holds the list, for somebody who may need no role: the
        rules of a house list let them. Raises MissingError, NeedsMoreError, UnmetError."""
        return self._keep_one(connection, writer, made, seq, wanted)

    def _checked(self, data: str | None) -> Checked:
        if data is None:
            return None
        try:
            return check_card(data, self.limits.card_octets)
        except RefusalError as refusal:
            return refusal

    def opt_out(self, person: Person, made: str, name: str, since: str) -> None:
        """Mark somebody who must not be written to: whoever has joined may, for that is nobody's to refuse. A card that
        has such a mark keeps it. Raises MissingError."""

        def mark(connection: Connection) -> None:
            seq = need(connection, made, person, READER)
            old = find_card(connection, made, name)
            if old is None or old.gone:
                raise MissingError("There is no such card.")
            data = opted_out(old.data, tidy(since, 300))
            if data is not None:
                self._keep_one(connection, person, made, seq, Wanted(name, data, None, None))

        self.turns.write(made, mark)

    def history(self, person: Person, made: str) -> list[dict[str, str]]:
        """Who added, changed or took off whom, and when: the latest first. Raises MissingError."""
        h = schema.happened.c
        with self.reading() as connection:
            self._shelf_in(connection, person, made)
            rows = connection.execute(select(schema.happened).where(h.list == made).order_by(h.seq.desc()).limit(KEPT))
            return [{"at": r.at, "by": r.by, "what": r.what, "whom": r.whom} for r in rows]

    def take_off(self, person: Person, made: str, name: str, match: str | None) -> None:
        """Take a card off. Raises MissingError, Forbidden, UnmetError."""

        def take(connection: Connection) -> None:
            seq = need(connection, made, person, EDITOR)
            old = find_card(connection, made, name)
            if old is None or old.gone:
                raise MissingError("There is no such card.")
            self._keep_one(connection, person, made, seq, Wanted(name, None, match, None))

        self.turns.write(made, take)


# What an answer has of each change besides the card; how many cards are read from the database at a time.
_LEAST, _AT_A_TIME = 400, 100
