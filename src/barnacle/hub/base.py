"""What all of the hub's data has in common: people as they are known, roles and what they allow."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime

from sqlalchemy import BindParameter, Connection, Engine, Row, and_, bindparam, delete, insert, select, update

from barnacle.core.addresses import address_key
from barnacle.core.moments import in_utc
from barnacle.core.sharing import OWNER, ROLES
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import schema
from barnacle.hub.refusals import ForbiddenError, MissingError

OFFERED, JOINED, DECLINED = "offered", "joined", "declined"
_RANK = {role: rank for rank, role in enumerate(ROLES)}


def now() -> str:
    """This moment in UTC, ISO 8601, to the second."""
    return in_utc(datetime.now(UTC))


def digest(secret: str) -> str:
    """How codes and tokens are kept."""
    return hashlib.sha256(secret.encode()).hexdigest()


# What a token is good for: everything that its person may do, or reading and writing cards alone.
EVERYTHING, CARDS = "all", "cards"


class Person(NamedTuple):
    """Somebody who may use the hub, with the scope of the token that was shown."""

    id: int
    address: str
    name: str
    scope: str = EVERYTHING

    @property
    def called(self) -> str:
        return f"{self.name} <{self.address}>" if self.name else self.address


class Part:
    """A part of the hub's data. Every operation is one transaction."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        with self.engine.connect().execution_options(only_reads=True) as connection:
            yield connection


def new_mark() -> str:
    return secrets.token_hex(5)


def find_person(connection: Connection, address: str) -> Person | None:
    row = connection.execute(select(schema.person).where(schema.person.c.key == address_key(address))).first()
    return Person(row.id, row.address, row.name) if row and row.address else None


# What is asked for with every request is built once: building a statement takes longer than SQLite's answer.
_ROLE = select(schema.role).where(
    and_(schema.role.c.list == bindparam("made"), schema.role.c.person == bindparam("person"))
)
_LOCK = select(schema.shared.c.seq).where(schema.shared.c.id == bindparam("made")).with_for_update()


def find_role(connection: Connection, made: str, person: int) -> Row[Any] | None:
    return connection.execute(_ROLE, {"made": made, "person": person}).first()


def lock(connection: Connection, made: str) -> int:
    """One change of a list at a time: the second waits here. Returns how many changes there were."""
    return connection.execute(_LOCK, {"made": made}).scalar() or 0


_SEEN = (
    select(schema.shared.c.seq, schema.role.c.role, schema.role.c.state)
    .join(schema.role, schema.role.c.list == schema.shared.c.id)
    .where(and_(schema.shared.c.id == bindparam("made"), schema.role.c.person == bindparam("person")))
)
_HELD = _SEEN.with_for_update(of=schema.shared)


def need(connection: Connection, made: str, person: Person, role: str, hold: bool = True) -> int:
    """Raises MissingError for who has not joined the list, ForbiddenError for a role that is less than what it takes.
    Returns how many changes the list has had, where it is held."""
    there = connection.execute(_HELD if hold else _SEEN, {"made": made, "person": person.id}).first()
    if there is None or there.state != JOINED:
        raise MissingError("There is no such list.")
    if _RANK[there.role] < _RANK[role]:
        raise ForbiddenError(f"That needs the role {role}, and yours in this list is {there.role}.")
    return int(there.seq)


def give(connection: Connection, made: str, person: int, role: str, state: str, by: int) -> None:
    where = and_(schema.role.c.list == made, schema.role.c.person == person)
    connection.execute(delete(schema.role).where(where))
    connection.execute(insert(schema.role).values(list=made, person=person, role=role, state=state, by=by, since=now()))


def is_last_owner(connection: Connection, made: str, person: int) -> bool:
    r = schema.role.c
    owners = connection.execute(
        select(r.person).where(and_(r.list == made, r.role == OWNER, r.state == JOINED))
    ).scalars()
    return set(owners) == {person}


def pass_on(connection: Connection, made: str) -> Person | None:
    """Make somebody else the owner of a list that has none: an editor before a reader, and who joined first."""
    rows = connection.execute(
        select(_R.role, _R.since, schema.person)
        .join(schema.person, schema.person.c.id == _R.person)
        .where(and_(_R.list == made, _R.state == JOINED))
    ).all()
    if not rows:
        return None
    next_one = min(rows, key=lambda row: (-_RANK[row.role], row.since, row.id))
    own(connection, made, next_one.id)
    return Person(next_one.id, next_one.address, next_one.name)


def own(connection: Connection, made: str, person: int) -> None:
    """Make somebody who has joined a list its owner."""
    where = and_(_R.list == made, _R.person == person)
    connection.execute(update(schema.role).where(where).values(role=OWNER))


def owners_of(connection: Connection, lists: Sequence[str]) -> dict[str, str]:
    """The owner who has been one longest, by list."""
    found: dict[str, str] = {}
    for part in _parts(lists):
        rows = connection.execute(_OWNERS, {"ids": part})
        found |= {row.list: row.address for row in rows}
    return found


def people_marks(connection: Connection, lists: Sequence[str]) -> dict[str, str]:
    """For each list a mark that changes with who has which role in it, or is called what."""
    marks: dict[str, Any] = {}
    for part in _parts(lists):
        for row in connection.execute(_PEOPLE, {"ids": part}):
            one = marks.setdefault(row.list, hashlib.sha256())
            one.update("\0".join(map(str, row)).encode() + b"\n")
    return {made: one.hexdigest()[:16] for made, one in marks.items()}


def _parts(lists: Sequence[str]) -> Iterator[Sequence[str]]:
    """So many lists are asked about together: a database takes no more values at once."""
    return (lists[n : n + 500] for n in range(0, len(lists), 500))


def newest(connection: Connection, lists: Sequence[str]) -> dict[str, str]:
    """For each list the sync token of what it is like now."""
    return {
        row.list: sync_token(row.list, row.seq, row.mark)
        for part in _parts(lists)
        for row in connection.execute(_NEWEST, {"ids": part})
    }


def sync_token(made: str, seq: int, mark: str) -> str:
    """A URI (RFC 6578 section 3.2) that names a moment in a list's life."""
    return f"urn:barnacle:sync:/{made}/{seq}-{mark}"


_R = schema.role.c
_IDS: BindParameter[Any] = bindparam("ids", expanding=True)
_OWNERS = (
    select(_R.list, schema.person.c.address)
    .join(schema.person, schema.person.c.id == _R.person)
    .where(and_(_R.list.in_(_IDS), _R.role == OWNER, _R.state == JOINED))
    .order_by(_R.since.desc())
)
_PEOPLE = (
    select(_R.list, schema.person.c.address, schema.person.c.name, _R.role, _R.state, _R.since)
    .join(schema.person, schema.person.c.id == _R.person)
    .where(_R.list.in_(_IDS))
    .order_by(_R.list, schema.person.c.key)
)
_NEWEST = (
    select(schema.change.c.list, schema.change.c.seq, schema.change.c.mark)
    .join(schema.shared, and_(schema.shared.c.id == schema.change.c.list, schema.shared.c.seq == schema.change.c.seq))
    .where(schema.shared.c.id.in_(_IDS))
)
