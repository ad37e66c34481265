"""What all of the hub's data has in common: people as they are known, roles and what they allow."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sqlalchemy import Connection, Engine, Row, and_, bindparam, delete, insert, select

from barnacle.core.addresses import address_key
from barnacle.core.moments import in_utc
from barnacle.core.sharing import OWNER, ROLES
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


class Person(NamedTuple):
    """Somebody who may use the hub."""

    id: int
    address: str
    name: str

    @property
    def called(self) -> str:
        return f"{self.name} <{self.address}>" if self.name else self.address


class Keeper:
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


def need(connection: Connection, made: str, person: Person, role: str, hold: bool = True) -> int:
    """Raises MissingError for who has not joined the list, ForbiddenError for a role that is less than what it takes.
    Returns how many changes the list has had, where it is held."""
    seq = lock(connection, made) if hold else 0
    there = find_role(connection, made, person.id)
    if there is None or there.state != JOINED:
        raise MissingError("There is no such list.")
    if _RANK[there.role] < _RANK[role]:
        raise ForbiddenError(f"That takes the role {role}, and yours in this list is {there.role}.")
    return seq


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


def owners_of(connection: Connection, lists: Sequence[str]) -> dict[str, str]:
    """The owner who has been one longest, by list."""
    r = schema.role.c
    rows = connection.execute(
        select(r.list, schema.person.c.address)
        .join(schema.person, schema.person.c.id == r.person)
        .where(and_(r.list.in_(lists), r.role == OWNER, r.state == JOINED))
        .order_by(r.since.desc())
    )
    return {row.list: row.address for row in rows}
