"""A hub's data copied as a whole, for backups; and what ended since one was made, which stays ended."""

from __future__ import annotations

from sqlalchemy import Connection, Engine, and_, select, text, update

from barnacle.core.errors import BookError
from barnacle.core.house import OFF, ON, PAUSED
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub.schema import NUMBERED, TABLES, house_member, person, posting_part, role, shared, token


class Known(NamedTuple):
    """Who may use a hub (comparable addresses), which tokens are good, who has which role, and who has left which house
    list by themselves."""

    people: frozenset[str]
    tokens: frozenset[str]
    roles: frozenset[tuple[str, str]]
    lists: frozenset[str]
    left: frozenset[tuple[str, str]] = frozenset()


_LEFT = and_(house_member.c.state == OFF, house_member.c.left_self)


def known(engine: Engine) -> Known:
    """What a hub knows of who may do what."""
    with engine.connect().execution_options(only_reads=True) as connection:
        roles = connection.execute(select(role.c.list, person.c.key).join(person, person.c.id == role.c.person))
        return Known(
            frozenset(connection.execute(select(person.c.key)).scalars()),
            frozenset(connection.execute(select(token.c.digest)).scalars()),
            frozenset((made, key) for made, key in roles),
            frozenset(connection.execute(select(shared.c.id)).scalars()),
            frozenset((row.list, row.key) for row in connection.execute(select(house_member).where(_LEFT))),
        )


def end_unknown(connection: Connection, had: Known) -> list[str]:
    """End the tokens and roles that were not known any more. Says which, in words."""
    ended = []
    rows = connection.execute(select(token, person.c.address).join(person, person.c.id == token.c.person)).all()
    for row in rows:
        if row.digest not in had.tokens:
            connection.execute(token.delete().where(token.c.digest == row.digest))
            ended.append(f"the token {row.name} of {row.address}")
    roles = connection.execute(
        select(role, person.c.key, person.c.address, shared.c.title)
        .join(person, person.c.id == role.c.person)
        .join(shared, shared.c.id == role.c.list)
    ).all()
    for row in roles:
        if row.list in had.lists and (row.list, row.key) not in had.roles:
            connection.execute(role.delete().where(and_(role.c.list == row.list, role.c.person == row.person)))
            ended.append(f"the role of {row.address} in {row.title}")
    m = house_member.c
    for member in connection.execute(select(house_member).where(m.state.in_((ON, PAUSED)))).all():
        if (member.list, member.key) in had.left:
            off = {"state": OFF, "left": member.since, "left_self": True}
            connection.execute(update(house_member).where(m.id == member.id).values(**off))
            ended.append(f"the place of {member.address} on a house list, which they have left")
    return ended


def copy(source: Engine, target: Engine, over: bool = False) -> dict[str, int]:
    """Copy everything from one hub's database into another that is empty, or `over` it, whichever kind each is. Returns
    the number of rows by table. Raises BookError."""
    counts: dict[str, int] = {}
    options: dict[str, Any] = {"only_reads": True}
    if source.dialect.name == "postgresql":
        options["isolation_level"] = "REPEATABLE READ"  # one moment for all tables, as SQLite has it anyway
    with source.connect().execution_options(**options) as old, old.begin(), target.begin() as new:
        used = new.execute(select(person.c.id).limit(1)).first() or new.execute(select(shared.c.id).limit(1)).first()
        if used and not over:
            raise BookError("There is already a hub where this should go. Name an empty place, or add --over.")
        for table in reversed(TABLES):
            new.execute(table.delete())
        for table in TABLES:
            counts[table.name] = 0
            many = 8 if table is posting_part else 1000
            rows = old.execution_options(yield_per=many).execute(select(table))
            for part in rows.mappings().partitions(many):
                new.execute(table.insert(), [dict(row) for row in part])
                counts[table.name] += len(part)
        if new.dialect.name == "postgresql":
            for table in NUMBERED:
                name = table.name
                last = f"(SELECT coalesce(max(id), 1) FROM {name})"
                new.execute(text(f"SELECT setval(pg_get_serial_sequence('{name}', 'id'), {last})"))
    return counts
