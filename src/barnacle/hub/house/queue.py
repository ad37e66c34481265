"""The queue of house lists: postings that were taken, the copies for each member, and what became of them.

A copy is `sleeping` until its posting was looked through, then `waiting`, `sending` while it is handed over, and ends
as `accepted`, `refused` or `doubtful`; `deferred` ones are tried again. Each step is on disk before the next begins.
"""

from __future__ import annotations

import os
import secrets
import socket
import time
from collections.abc import Collection, Sequence
from contextlib import suppress
from datetime import UTC, datetime

from sqlalchemy import (
    ColumnElement,
    Connection,
    CursorResult,
    Row,
    Text,
    and_,
    bindparam,
    cast,
    delete,
    func,
    insert,
    literal,
    or_,
    select,
    update,
)

from barnacle.core.mail.delivery import State
from barnacle.core.moments import in_utc
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import schema
from barnacle.hub.base import Part
from barnacle.hub.house.notices import Letter, written
from barnacle.hub.house.rows import IS_REACHED, H, House, M, count, new_token
from barnacle.hub.refusals import MissingError

C, P = schema.copy_of.c, schema.posting.c
SLEEPING = "sleeping"
WAITING, SENDING, DEFERRED = State.WAITING.value, State.SENDING.value, State.DEFERRED.value
ACCEPTED, REFUSED, DOUBTFUL = State.ACCEPTED.value, State.REFUSED.value, State.DOUBTFUL.value
# States of a posting: not looked through yet, waiting for a keeper, on its way, done, given up.
TAKEN, HELD, QUEUED, DONE, DROPPED = "taken", "held", "queued", "done", "dropped"
POSTING, NOTICE = "posting", "notice"
# After how many seconds a deferred copy is tried again; then it counts as refused.
AGAIN = (300, 1_800, 7_200, 28_800, 86_400)
# How long somebody may take over a copy, in seconds: longer than a mail server may (RFC 5321 section 4.5.3.2.6).
LEASE = 900.0
_DAY = 86_400
# Octets of a piece; a header has less.
_PART = 1 << 20
_KEPT_DONE, _KEPT_REFUSED = 3 * _DAY, 14 * _DAY
_UNDONE = (SLEEPING, WAITING, SENDING, DEFERRED)


def worker_name() -> str:
    """A name for this process: where it runs, its number, and something that no later one has."""
    return f"{socket.gethostname()[:60]}/{os.getpid()}/{secrets.token_hex(4)}"


def is_gone(worker: str) -> bool:
    """Whether it is certain that a process has ended: it ran here, and there is none of its number."""
    host, _, rest = worker.partition("/")
    number = rest.partition("/")[0]
    if host != socket.gethostname()[:60] or not number.isdigit():
        return False
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    with suppress(OSError), open(f"/proc/{number}/stat", encoding="ascii", errors="replace") as file:  # noqa: PTH123
        return file.read().rpartition(")")[2].split()[:1] == ["Z"]  # ended, and not yet collected
    return False


class Copy(NamedTuple):
    """A copy that somebody has taken over to send."""

    id: int
    posting: int
    member: int
    address: str
    way_out: str
    token: str
    tries: int


def take(connection: Connection, house: House, values: dict[str, Any], raw: bytes, state: str) -> int:
    """Keep a posting. Returns its number."""
    made = connection.execute(
        insert(schema.posting).values(
            list=house.made, kind=POSTING, at=time.time(), state=state, size=len(raw), ended=None, **values
        )
    )
    return _with_octets(connection, _number(made), raw)


def _with_octets(connection: Connection, posting: int, raw: bytes) -> int:
    whole = memoryview(raw)
    start = number = 0
    while start < len(raw):
        end = min(start + _PART, len(raw))
        end += raw[end - 1 : end + 1] == b"\r\n"  # never within a line's end
        piece = bytes(whole[start:end])
        connection.execute(insert(schema.posting_part).values(posting=posting, number=number, data=piece))
        start, number = end, number + 1
    return posting


def _number(made: CursorResult[Any]) -> int:
    key = made.inserted_primary_key
    assert key is not None
    return int(key[0])


def address_copies(connection: Connection, posting: int, made: str, state: str = SLEEPING) -> int:
    """Make a copy for everybody who is on the list at this moment. Returns how many."""
    if connection.dialect.name == "postgresql":
        token = func.replace(cast(func.gen_random_uuid(), Text), "-", "")
    else:
        token = func.lower(func.hex(func.randomblob(16)))
    columns = ["posting", "member", "address", "way_out", "token", "state", "tries", "due", "worker", "lease", "reply"]
    whom = select(
        literal(posting), M.id, M.address, M.token, token, literal(state), literal(0), literal(time.time()),
        literal(""), literal(0.0), literal(""),
    ).where(and_(M.list == made, IS_REACHED))  # fmt: skip
    return int(connection.execute(insert(schema.copy_of).from_select(columns, whom.order_by(M.id))).rowcount)


def notice(
    connection: Connection, house: House, address: str, letter: Letter, answer: str = "", member: int = 0
) -> None:
    """Send somebody a message of the hub's own; `answer` is where an answer leads."""
    raw = written(house, address, letter, answer)
    done = connection.execute(
        insert(schema.posting).values(
            list=house.made, kind=NOTICE, message_id="", sender="", proven=True, signed=False, subject="",
            at=time.time(), state=QUEUED, size=len(raw), ended=None,
        )
    )  # fmt: skip
    posting = _with_octets(connection, _number(done), raw)
    connection.execute(
        insert(schema.copy_of).values(
            posting=posting, member=member, address=address, way_out="", token=new_token(), state=WAITING, tries=0,
            due=time.time(), worker="", lease=0.0, reply="",
        )
    )  # fmt: skip


def was_here(connection: Connection, made: str, message_id: str) -> bool:
    """Whether a posting with that Message-ID came to the list before."""
    here = and_(P.list == made, P.message_id == message_id, P.kind == POSTING)
    return bool(message_id) and connection.execute(select(P.id).where(here).limit(1)).first() is not None


def lately(connection: Connection, made: str) -> int:
    """How many postings of a list went on within the last hour."""
    here = and_(P.list == made, P.kind == POSTING, P.at >= time.time() - 3600, P.state.in_((TAKEN, QUEUED, DONE)))
    return int(connection.execute(select(func.count()).where(here)).scalar_one())


_DUE = and_(
    C.state.in_((WAITING, DEFERRED)),
    C.due <= bindparam("now"),
    or_(C.worker == "", C.lease < bindparam("now")),
)
_ANY_DUE = select(C.id).where(_DUE).limit(1)
_NEXT = (
    select(C.id, C.posting, C.member, C.address, C.way_out, C.token, C.tries)
    .where(_DUE)
    .order_by(C.due, C.id)
    .limit(bindparam("most"))
    .with_for_update(skip_locked=True)
)
_MINE = (
    update(schema.copy_of)
    .where(C.id.in_(bindparam("ids", expanding=True)))
    .values(worker=bindparam("mine"), lease=bindparam("until"))
)
_BEGIN = (
    update(schema.copy_of)
    .where(and_(C.id == bindparam("copy"), C.worker == bindparam("mine")))
    .values(state=SENDING, lease=bindparam("until"))
)
# Of a copy that was given up for doubtful meanwhile it is good to know.
_END = (
    update(schema.copy_of)
    .where(and_(C.id == bindparam("copy"), or_(C.worker == bindparam("mine"), C.state == DOUBTFUL)))
    .values(
        state=bindparam("became"), reply=bindparam("said"), tries=bindparam("number"), due=bindparam("again"),
        worker="", lease=0.0,
    )
)  # fmt: skip


class Outcome(NamedTuple):
    """What became of a copy: its state, the server's words, how often it was tried, when it is due again."""

    copy: int
    state: str
    reply: str
    tries: int
    due: float = 0.0


def outcome(copy: Copy, code: int, reply: str) -> Outcome:
    """What a server's answer means (RFC 5321 section 4.2.1). What is put off too often counts as refused."""
    tries = copy.tries + 1
    said = f"{code} {reply}"[:500] if code else reply[:500]
    if 200 <= code < 300:
        return Outcome(copy.id, ACCEPTED, said, tries)
    if code >= 500:
        return Outcome(copy.id, REFUSED, said, tries)
    if tries > len(AGAIN):
        return Outcome(copy.id, REFUSED, f"after {tries} tries: {said}", tries)
    return Outcome(copy.id, DEFERRED, said, tries, time.time() + AGAIN[tries - 1])


class Queue(Part):
    """What waits, for whoever sends it."""

    def claim(self, worker: str, most: int) -> list[Copy]:
        """Take some copies over that are due: nobody else sends them meanwhile."""
        now = time.time()
        with self.reading() as connection:  # mostly there is nothing, and nobody need wait for that
            if connection.execute(_ANY_DUE, {"now": now}).first() is None:
                return []
        with self.engine.begin() as connection:
            rows = [Copy(*row) for row in connection.execute(_NEXT, {"now": now, "most": most})]
            if rows:
                ids = [row.id for row in rows]
                connection.execute(_MINE, {"ids": ids, "mine": worker, "until": now + LEASE})
        return rows

    def step(self, worker: str, done: Outcome | None, following: Copy | None = None) -> bool:
        """On disk before the next is handed over: what became of one, and that the next one's turn has come. False
        where that one is somebody else's by now, since this one took too long."""
        with self.engine.begin() as connection:
            if done is not None:
                _record(connection, worker, done)
            if following is None:
                return True
            values = {"copy": following.id, "mine": worker, "until": time.time() + LEASE}
            return bool(connection.execute(_BEGIN, values).rowcount)

    def let_go(self, worker: str, copies: Sequence[Copy]) -> None:
        """Copies that were taken over and not begun: somebody else may."""
        if copies:
            mine = and_(C.id.in_([copy.id for copy in copies]), C.worker == worker)
            with self.engine.begin() as connection:
                connection.execute(update(schema.copy_of).where(mine).values(worker="", lease=0.0))

    def finish(self, postings: set[int]) -> None:
        """Postings that have no copies left to send are done."""
        left = select(C.id).where(and_(C.posting == P.id, C.state.in_(_UNDONE))).exists()
        with self.engine.begin() as connection:
            done = and_(P.id.in_(postings), P.state == QUEUED, ~left)
            connection.execute(update(schema.posting).where(done).values(state=DONE, ended=time.time()))

    def of_the_dead(self, ended: Collection[str] = ()) -> int:
        """Copies whose sender has ended, or is among those: the ones not begun may be taken over again, the others are
        doubtful. Returns how many are doubtful now."""
        now = time.time()
        claimed = and_(C.state.in_((WAITING, DEFERRED, SENDING)), C.worker != "")
        with self.reading() as connection:
            rows = connection.execute(select(C.id, C.state, C.worker, C.lease, C.posting).where(claimed)).all()
        gone = {worker for worker in {row.worker for row in rows} if worker in ended or is_gone(worker)}
        dead = [row for row in rows if row.worker in gone or row.lease < now]
        if not dead:
            return 0
        doubtful = set()
        with self.engine.begin() as connection:
            for row in dead:
                values = {"worker": "", "lease": 0.0}
                if row.state == SENDING:
                    values |= {"state": DOUBTFUL, "reply": "the process that sent it ended before it was answered"}
                still = and_(C.id == row.id, C.worker == row.worker, C.state == row.state, C.lease == row.lease)
                if connection.execute(update(schema.copy_of).where(still).values(**values)).rowcount:
                    doubtful |= {row.posting} if row.state == SENDING else set()
        self.finish(doubtful)
        return sum(row.state == SENDING for row in dead)

    def untouched(self) -> int | None:
        """A posting that nobody has looked through yet."""
        with self.reading() as connection:
            return connection.execute(select(P.id).where(P.state == TAKEN).order_by(P.id).limit(1)).scalar()

    def whole(self, posting: int) -> tuple[Row[Any], list[bytes]] | None:
        """A posting with its octets in pieces, of which the first has the whole header."""
        with self.reading() as connection:
            row = connection.execute(select(schema.posting).where(P.id == posting)).first()
            return (row, octets(connection, posting)) if row is not None else None

    def shown(self) -> list[dict[str, Any]]:
        """What waits and what has ended lately, the oldest first."""
        with self.reading() as connection:
            rows = connection.execute(
                select(P.id, P.sender, P.at, H.title)
                .outerjoin(schema.house, H.list == P.list)
                .where(or_(P.state.in_((TAKEN, QUEUED)), and_(P.state == DONE, P.kind == POSTING)))
                .order_by(P.id)
            ).all()
            told: dict[int, dict[str, Row[Any]]] = {}
            several = select(C.posting, C.state, func.count().label("number"), func.min(C.due).label("due"),
                             func.max(C.reply).label("reply")).group_by(C.posting, C.state)  # fmt: skip
            for one in connection.execute(several):
                told.setdefault(one.posting, {})[one.state] = one
        shown = []
        for row in rows:
            states = told.get(row.id, {})
            numbers = {state: one.number for state, one in states.items()}
            why = next((states[one].reply for one in (DEFERRED, REFUSED, DOUBTFUL) if one in states), "")
            shown.append({
                "number": row.id, "list": row.title or "", "from": row.sender or "the hub itself", "since": row.at,
                "waiting": sum(numbers.get(one, 0) for one in (SLEEPING, WAITING, SENDING)),
                **{one: numbers.get(one, 0) for one in (ACCEPTED, REFUSED, DEFERRED, DOUBTFUL)},
                "why": why, "again": states[DEFERRED].due if DEFERRED in states else None,
            })  # fmt: skip
        return shown

    def waiting(self) -> dict[str, int]:
        """How many copies are in which state, of postings that have not ended."""
        with self.reading() as connection:
            states = select(C.state, func.count()).where(C.state.in_((*_UNDONE, DOUBTFUL))).group_by(C.state)
            return {row[0]: row[1] for row in connection.execute(states)}

    def retry(self, posting: int) -> int:
        """Try what was put off again now. Doubtful copies too: whoever says so may send something twice. Raises
        MissingError."""
        with self.engine.begin() as connection:
            self._need(connection, posting)
            some = and_(C.posting == posting, C.state.in_((DEFERRED, DOUBTFUL)))
            values = {"state": WAITING, "due": time.time(), "worker": ""}
            number = connection.execute(update(schema.copy_of).where(some).values(**values)).rowcount
            connection.execute(update(schema.posting).where(P.id == posting).values(state=QUEUED))
            return int(number)

    def drop(self, posting: int) -> int:
        """Give up what of a posting was not sent yet. Raises MissingError."""
        with self.engine.begin() as connection:
            self._need(connection, posting)
            some = and_(C.posting == posting, C.state.in_((SLEEPING, WAITING, DEFERRED)))
            values = {"state": REFUSED, "worker": "", "reply": "given up by whoever runs the hub"}
            number = connection.execute(update(schema.copy_of).where(some).values(**values)).rowcount
            connection.execute(
                update(schema.posting).where(and_(P.id == posting, P.state == TAKEN)).values(state=QUEUED)
            )
        self.finish({posting})
        return int(number)

    def _need(self, connection: Connection, posting: int) -> None:
        here = and_(P.id == posting, P.state.in_((TAKEN, QUEUED, DONE)))
        if connection.execute(select(P.id).where(here)).first() is None:
            raise MissingError(f"Nothing in the queue has the number {posting}.")

    def doubt_all(self) -> int:
        """After a backup was put back: what waited when it was made may have been sent since. Nothing of it is sent by
        itself. Returns how many copies that are."""
        with self.engine.begin() as connection:
            postings = set(connection.execute(select(C.posting).where(C.state.in_(_UNDONE)).distinct()).scalars())
            values = {
                "state": DOUBTFUL,
                "worker": "",
                "reply": "it waited when a backup was made, and may have been sent since",
            }
            number = connection.execute(update(schema.copy_of).where(C.state.in_(_UNDONE)).values(**values)).rowcount
            connection.execute(update(schema.posting).where(P.state == TAKEN).values(state=QUEUED))
        self.finish(postings)
        return int(number)

    def clear_away(self) -> None:
        """Delete what was delivered three days ago, and what was refused after fourteen."""
        now = time.time()
        with self.engine.begin() as connection:
            some = and_(C.posting == P.id, C.state.in_((REFUSED, DOUBTFUL)))
            refused = select(C.id).where(some).exists()
            old = or_(
                and_(P.state == DONE, P.ended < now - _KEPT_REFUSED),
                and_(P.state == DONE, P.ended < now - _KEPT_DONE, ~refused),
                and_(P.state == DROPPED, P.at < now - _KEPT_REFUSED),
            )
            numbers = list(connection.execute(select(P.id).where(old).limit(200)).scalars())
            if numbers:
                for made, month, state, number in _counted(connection, P.id.in_(numbers)):
                    count(connection, made, state, number, month)
                connection.execute(delete(schema.copy_of).where(C.posting.in_(numbers)))
                connection.execute(delete(schema.posting_part).where(schema.posting_part.c.posting.in_(numbers)))
                connection.execute(delete(schema.posting).where(P.id.in_(numbers)))


def _record(connection: Connection, worker: str, done: Outcome) -> None:
    values = {"copy": done.copy, "became": done.state, "said": done.reply, "number": done.tries, "again": done.due}
    connection.execute(_END, {**values, "mine": worker})


def octets(connection: Connection, posting: int) -> list[bytes]:
    """The octets of a posting as they came, in pieces."""
    d = schema.posting_part.c
    return list(connection.execute(select(d.data).where(d.posting == posting).order_by(d.number)).scalars())


def live(connection: Connection, made: str) -> list[tuple[str, str, str, int]]:
    """What became of the copies of a list's postings that have not been deleted yet: list, month, state, number."""
    return _counted(connection, P.list == made)


def _counted(connection: Connection, which: ColumnElement[bool]) -> list[tuple[str, str, str, int]]:
    query = select(P.list, P.at, C.state, func.count()).join(schema.posting, P.id == C.posting)
    rows = connection.execute(query.where(and_(which, P.kind == POSTING)).group_by(P.list, P.at, C.state))
    return [(made, in_utc(datetime.fromtimestamp(at, UTC))[:7], state, number) for made, at, state, number in rows]


def waiting_since(connection: Connection) -> float:
    """How long the oldest copy has been due, in seconds."""
    oldest = connection.execute(select(func.min(C.due)).where(C.state.in_((WAITING, DEFERRED)))).scalar()
    return max(0.0, time.time() - oldest) if oldest else 0.0
