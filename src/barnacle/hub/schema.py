"""The hub's tables, on SQLite or PostgreSQL alike, and the steps from one version of them to the next."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from filelock import FileLock, Timeout
from sqlalchemy import (
    Boolean,
    Column,
    Connection,
    Engine,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Table,
    Text,
    create_engine,
    event,
    false,
    inspect,
    select,
    text,
    true,
)
from sqlalchemy.exc import SQLAlchemyError

from barnacle.core.errors import BookError
from barnacle.core.text import visible
from barnacle.core.typed import Any

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
    Column("last_from", Text),
    Column("scope", Text, nullable=False, server_default="all"),
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
    Column("last_by", Text, nullable=False, server_default=""),
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
# Who did what to whom, of the latest changes of a list's cards; `whom` is the name on the card.
happened = Table(
    "happened",
    metadata,
    Column("list", Text, ForeignKey("shared_list.id"), primary_key=True),
    Column("seq", Integer, primary_key=True),
    Column("at", Text, nullable=False),
    Column("by", Text, nullable=False),
    Column("what", Text, nullable=False),
    Column("whom", Text, nullable=False),
)
# Wrong tries to sign in, by address and by caller.
attempt = Table(
    "attempt",
    metadata,
    Column("key", Text, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("last", Float, nullable=False),
)
# A shared list with an address (docs/house-lists.md); `rules` are JSON, `read` is how many of the list's changes are
# taken over into its members, `told` and `told_of_fails` when its keepers were last told that something waits, or that
# mail comes back (seconds since the epoch), `alone` since when it has had no keeper.
house = Table(
    "house",
    metadata,
    Column("list", Text, primary_key=True),
    Column("title", Text, nullable=False),
    Column("key", Text, nullable=False, unique=True),
    Column("address", Text, nullable=False),
    Column("official", Boolean, nullable=False),
    Column("rules", Text, nullable=False),
    Column("opened", Text, nullable=False),
    Column("by", Text, nullable=False),
    Column("closed", Text),
    Column("read", Integer, nullable=False),
    Column("told", Float, nullable=False),
    Column("told_of_fails", Float, nullable=False, server_default="0"),
    Column("alone", Float),
)
# Every address that a house list has or once had: none is given away again.
house_address = Table(
    "house_address",
    metadata,
    Column("key", Text, primary_key=True),
    Column("list", Text, nullable=False),
)
# Who is on a house list or was, is invited, or asks: by comparable address. `others` are the keys of other addresses on
# the same card, each on a line of its own. `token` is the way out, into, or back. `told` says that they know of it.
# `fails` are the days (JSON) on which mail to them came back, `why` is what was said then, `reported` that the keepers
# know of it, `asked` when they were last asked whether mail reaches them again. Outsiders on a list that is closed to
# them are `off` without having left.
house_member = Table(
    "house_member",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("list", Text, nullable=False),
    Column("key", Text, nullable=False),
    Column("card", Text),
    Column("address", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("others", Text, nullable=False),
    Column("how", Text, nullable=False),
    Column("by", Text, nullable=False),
    Column("since", Text, nullable=False),
    Column("state", Text, nullable=False),
    Column("opted_out", Boolean, nullable=False),
    Column("token", Text, nullable=False, unique=True),
    Column("until", Float),
    Column("fails", Text, nullable=False),
    Column("asked", Float),
    Column("left", Text),
    Column("left_self", Boolean, nullable=False, server_default=false()),
    Column("told", Boolean, nullable=False),
    Column("why", Text, nullable=False, server_default=""),
    Column("reported", Boolean, nullable=False, server_default=true()),
    Index("house_member_key", "list", "key", unique=True),
    Index("house_member_card", "list", "card"),
    sqlite_autoincrement=True,
)
# A message on its way through a house list, or one of the hub's own (`kind`).
posting = Table(
    "posting",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("list", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("message_id", Text, nullable=False),
    Column("sender", Text, nullable=False),
    Column("proven", Boolean, nullable=False),
    Column("signed", Boolean, nullable=False),
    Column("subject", Text, nullable=False),
    Column("at", Float, nullable=False),
    Column("state", Text, nullable=False),
    Column("size", Integer, nullable=False),
    Column("ended", Float),
    Index("posting_message", "list", "message_id"),
    Index("posting_state", "state", "id"),
    sqlite_autoincrement=True,
)
# Its octets as they came, in pieces, so that no large one is in memory more than once.
posting_part = Table(
    "posting_part",
    metadata,
    Column("posting", Integer, primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("data", LargeBinary, nullable=False),
)
# One copy for one member. `token` is its return address; `worker` who sends it, until `lease` at most.
copy_of = Table(
    "house_copy",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("posting", Integer, nullable=False),
    Column("member", Integer, nullable=False),
    Column("address", Text, nullable=False),
    Column("way_out", Text, nullable=False),
    Column("token", Text, nullable=False, unique=True),
    Column("state", Text, nullable=False),
    Column("tries", Integer, nullable=False),
    Column("due", Float, nullable=False),
    Column("worker", Text, nullable=False),
    Column("lease", Float, nullable=False),
    Column("reply", Text, nullable=False),
    Index("house_copy_due", "state", "due", "id"),
    Index("house_copy_posting", "posting", "state"),
    sqlite_autoincrement=True,
)
# What waits for a keeper: a posting, or somebody who wants to be on the list.
held = Table(
    "house_held",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("list", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("posting", Integer),
    Column("member", Integer),
    Column("sender", Text, nullable=False),
    Column("subject", Text, nullable=False),
    Column("why", Text, nullable=False),
    Column("since", Float, nullable=False),
    Index("house_held_list", "list"),
    sqlite_autoincrement=True,
)
# Numbers by month, without who wrote or got what.
house_month = Table(
    "house_month",
    metadata,
    Column("list", Text, primary_key=True),
    Column("month", Text, primary_key=True),
    Column("what", Text, primary_key=True),
    Column("number", Integer, nullable=False),
)
# How often somebody was answered by itself today (RFC 3834), by comparable address.
house_answer = Table(
    "house_answer",
    metadata,
    Column("key", Text, primary_key=True),
    Column("day", Text, nullable=False),
    Column("number", Integer, nullable=False),
)
# How this hub takes and passes on mail, as it was last started with: for all of its processes and commands.
house_setting = Table(
    "house_setting",
    metadata,
    Column("name", Text, primary_key=True),
    Column("value", Text, nullable=False),
)
HOUSE = (
    house,
    house_address,
    house_member,
    posting,
    posting_part,
    copy_of,
    held,
    house_month,
    house_answer,
    house_setting,
)
# In an order in which each refers to those before it.
TABLES = (person, token, shared, role, card, change, happened, attempt, *HOUSE)
# Those whose rows are numbered by the database.
NUMBERED = (person, house_member, posting, copy_of, held)


def _first(connection: Connection) -> None:
    metadata.create_all(connection)


def _second(connection: Connection) -> None:
    """Who changed a card last, and the latest events; of tokens what they are for, and from where they were used."""
    there = {table: {c["name"] for c in inspect(connection).get_columns(table)} for table in ("card", "token")}
    for table, column, kind in (
        ("card", "last_by", "TEXT NOT NULL DEFAULT ''"),
        ("token", "last_from", "TEXT"),
        ("token", "scope", "TEXT NOT NULL DEFAULT 'all'"),
    ):
        if column not in there[table]:  # `_first` makes tables as they are today
            connection.execute(text(f"ALTER TABLE {table} ADD COLUMN {column} {kind}"))
    metadata.create_all(connection, tables=[happened])


def _third(connection: Connection) -> None:
    """House lists."""
    metadata.create_all(connection, tables=list(HOUSE))


# One step for each version; a database of version n needs STEPS[n:].
STEPS: list[Callable[[Connection], None]] = [_first, _second, _third]
_LOCK = 0x426E6331
# So many seconds a request waits for a connection to the database.
_PATIENCE = 30
# How often a writer looks whether it is its turn, in seconds.
_GLANCE = 0.0005


def open_engine(data: Path | None, database: str | None, connections: int = 20) -> Engine:
    """The database in a folder, or at a URL with so many connections at most, its tables made or brought up to date.
    Raises BookError."""
    try:
        if database is None:
            assert data is not None
            data.mkdir(parents=True, exist_ok=True, mode=0o700)
            return open_file(data / FILE_NAME)
        engine = create_engine(
            database, pool_pre_ping=True, pool_size=max(connections, 1), max_overflow=0, pool_timeout=_PATIENCE
        )
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
    _tame(engine, path)
    with engine.begin() as connection:
        _bring_up(connection)
    return engine


def close_file(engine: Engine, path: Path) -> None:
    """Done with a file that no hub works with: nothing is left beside it."""
    engine.dispose()
    _turns(path).unlink(missing_ok=True)


def _turns(path: Path) -> Path:
    return path.with_name(f"{path.name}-turn")


def _tame(engine: Engine, path: Path) -> None:
    """SQLite as a server needs it: writers one after the other and on disk when they are done (its documentation on
    transactions and on write-ahead logs)."""

    @event.listens_for(engine, "connect")
    def connect(connection: Any, record: Any) -> None:
        # SQLite lets a writer that waits sleep longer and longer, while one that writes all the time, as whoever passes
        # mail on does, comes first each time: so that writers of all processes take turns.
        record.info["turn"] = FileLock(_turns(path), timeout=_PATIENCE, mode=0o600, thread_local=False)
        connection.isolation_level = None
        for pragma in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        reads = connection.get_execution_options().get("only_reads")
        if not reads:
            with suppress(Timeout, OSError):  # then the database itself says that it is somebody else's turn
                connection.info["turn"].acquire(poll_interval=_GLANCE)
        connection.exec_driver_sql("BEGIN" if reads else "BEGIN IMMEDIATE")

    @event.listens_for(engine, "checkin")
    def checkin(_connection: Any, record: Any) -> None:
        record.info["turn"].release()


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
