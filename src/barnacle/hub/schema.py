"""The hub's tables, on SQLite or PostgreSQL alike, and the steps from one version of them to the next."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlalchemy import (
    Boolean,
    Column,
    Connection,
    Engine,
    Float,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    Table,
    Text,
    create_engine,
    event,
    inspect,
    select,
    text,
)
from sqlalchemy.exc import SQLAlchemyError

from barnacle.core.errors import BookError
from barnacle.core.text import visible

FILE_NAME = "hub.sqlite"

metadata = MetaData()
version = Table("hub_version", metadata, Column("number", Integer, nullable=False))
# `key` is the comparable address; a code is valid once and until `code_until` (seconds since the epoch). Codes and
# tokens are kept as SHA-256: they are random and long enough for that.
person = Table(
    "person",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("key", Text, nullable=False, unique=True),
    Column("address", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("code", Text),
    Column("code_until", Float),
    Column("since", Text, nullable=False),
    sqlite_autoincrement=True,
)
token = Table(
    "token",
    metadata,
    Column("digest", Text, primary_key=True),
    Column("person", Integer, ForeignKey("person.id"), nullable=False),
    Column("name", Text, nullable=False),
    Column("since", Text, nullable=False),
    Column("last_used", Text),
    Index("token_name", "person", "name", unique=True),
)
# `seq` counts the changes of the list's cards.
shared = Table(
    "shared_list",
    metadata,
    Column("id", Text, primary_key=True),
    Column("title", Text, nullable=False),
    Column("fields", Text, nullable=False),
    Column("created", Text, nullable=False),
    Column("seq", Integer, nullable=False),
)
role = Table(
    "role",
    metadata,
    Column("list", Text, ForeignKey("shared_list.id"), primary_key=True),
    Column("person", Integer, ForeignKey("person.id"), primary_key=True),
    Column("role", Text, nullable=False),
    Column("state", Text, nullable=False),
    Column("by", Integer, ForeignKey("person.id"), nullable=False),
    Column("since", Text, nullable=False),
    Index("role_person", "person"),
)
# A card that was taken off stays as a trace (`gone`), so that whoever synchronises hears of it.
card = Table(
    "card",
    metadata,
    Column("list", Text, ForeignKey("shared_list.id"), primary_key=True),
    Column("name", Text, primary_key=True),
    Column("uid", Text, nullable=False),
    Column("etag", Text, nullable=False),
    Column("data", Text, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("gone", Boolean, nullable=False),
    Column("by", Text, nullable=False),
    Column("added", Text, nullable=False),
    Column("changed", Text, nullable=False),
    Index("card_seq", "list", "seq"),
    Index("card_uid", "list", "uid"),
)
# Each change of a list has a random mark, which is part of the sync token: after a backup was put back, tokens from
# the time after it are known to be none.
change = Table(
    "change",
    metadata,
    Column("list", Text, ForeignKey("shared_list.id"), primary_key=True),
    Column("seq", Integer, primary_key=True),
    Column("mark", Text, nullable=False),
)
# Wrong tries to sign in, by address and by caller.
attempt = Table(
    "attempt",
    metadata,
    Column("key", Text, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("last", Float, nullable=False),
)
# In an order in which each refers to those before it.
TABLES = (person, token, shared, role, card, change, attempt)


def _first(connection: Connection) -> None:
    metadata.create_all(connection)


# One step for each version; a database of version n needs STEPS[n:].
STEPS: list[Callable[[Connection], None]] = [_first]
_LOCK = 0x426E6331


def open_engine(data: Path | None, database: str | None) -> Engine:
    """The database in a folder, or at a URL, its tables made or brought up to date. Raises BookError."""
    try:
        if database is None:
            assert data is not None
            data.mkdir(parents=True, exist_ok=True, mode=0o700)
            return open_file(data / FILE_NAME)
        engine = create_engine(database, pool_pre_ping=True, pool_size=20, max_overflow=20)
        with engine.begin() as connection:
            _bring_up(connection)
    except (SQLAlchemyError, OSError, ImportError) as error:
        where = str(data) if database is None else database.rpartition("@")[2]
        reason = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
        raise BookError(f"The hub's data at {visible(where)} cannot be opened: {visible(reason, 200)}") from error
    return engine


def open_file(path: Path) -> Engine:
    """The database in an SQLite file, which is made where there is none; its owner alone may read it."""
    if not path.exists():
        path.touch(mode=0o600)
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30, "check_same_thread": False})
    _tame(engine)
    with engine.begin() as connection:
        _bring_up(connection)
    return engine


def _tame(engine: Engine) -> None:
    """SQLite as a server needs it: writers one after the other and on disk when they are done (its documentation on
    transactions and on write-ahead logs)."""

    @event.listens_for(engine, "connect")
    def connect(connection: Any, _record: Any) -> None:
        connection.isolation_level = None
        for pragma in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        reads = connection.get_execution_options().get("only_reads")
        connection.exec_driver_sql("BEGIN" if reads else "BEGIN IMMEDIATE")


def _bring_up(connection: Connection) -> None:
    if connection.dialect.name == "postgresql":
        connection.execute(text(f"SELECT pg_advisory_xact_lock({_LOCK})"))  # several processes may start at once
    found = 0
    if inspect(connection).has_table("hub_version"):
        found = connection.execute(select(version.c.number)).scalar_one()
    if found > len(STEPS):
        raise BookError("This hub's data was made by a newer Barnacle. Install that version, then start it again.")
    for number, step in enumerate(STEPS[found:], found + 1):
        step(connection)
        connection.execute(version.delete())
        connection.execute(version.insert().values(number=number))


def copy(source: Engine, target: Engine) -> dict[str, int]:
    """Copy everything from one hub's database into another that is empty, whichever kind each is. Returns the number of
    rows by table. Raises BookError."""
    counts: dict[str, int] = {}
    options: dict[str, Any] = {"only_reads": True}
    if source.dialect.name == "postgresql":
        options["isolation_level"] = "REPEATABLE READ"  # one moment for all tables, as SQLite has it anyway
    with source.connect().execution_options(**options) as old, old.begin(), target.begin() as new:
        if new.execute(select(person.c.id).limit(1)).first() or new.execute(select(shared.c.id).limit(1)).first():
            raise BookError("There is a hub already where this should go. Name an empty place.")
        for table in TABLES:
            counts[table.name] = 0
            rows = old.execution_options(yield_per=1000).execute(select(table))
            for part in rows.mappings().partitions(1000):
                new.execute(table.insert(), [dict(row) for row in part])
                counts[table.name] += len(part)
        if new.dialect.name == "postgresql":
            new.execute(
                text("SELECT setval(pg_get_serial_sequence('person', 'id'), (SELECT coalesce(max(id), 1) FROM person))")
            )
    return counts
