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
from typing import Any, NamedTuple

from sqlalchemy import (
    Connection,
    CursorResult,
    Engine,
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

from barnacle.hub import schema
from barnacle.hub.base import Part
from barnacle.hub.house.rows import H, House, M, count, is_reached, new_token
from barnacle.hub.refusals import MissingError

C, P = schema.copy_of.c, schema.posting.c
SLEEPING, WAITING, SENDING, DEFERRED = "sleeping", "waiting", "sending", "deferred"
ACCEPTED, REFUSED, DOUBTFUL = "accepted", "refused", "doubtful"
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
    ).where(and_(M.list == made, is_reached()))  # fmt: skip
    return int(connection.execute(insert(schema.copy_of).from_select(columns, whom.order_by(M.id))).rowcount)


def notice(connection: Connection, made: str, address: str, raw: bytes, member: int = 0) -> None:
    """Send somebody a message of the hub's own."""
    done = connection.execute(
        insert(schema.posting).values(
            list=made, kind=NOTICE, message_id="", sender="", proven=True, signed=False, subject="", at=time.time(),
            state=QUEUED, size=len(raw), ended=None,
        )
    )  # fmt: skip
    connection.execute(
        insert(schema.copy_of).values(
            posting=_with_octets(connection, _number(done), raw), member=member, address=address, way_out="",
            token=new_token(),
            state=WAITING, tries=0, due=time.time(), worker="", lease=0.0, reply="",
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


_DUE = or_(C.worker == "", C.lease < bindparam("now"))
_NEXT = (
    select(C.id, C.posting, C.member, C.address, C.way_out, C.token, C.tries)
    .where(and_(C.state.in_((WAITING, DEFERRED)), C.due <= bindparam("now"), _DUE))
    .order_by(C.due, C.id)
    .limit(bindparam("most"))
    .with_for_update(skip_locked=True)
)
_MINE = (
    update(schema.copy_of)
    .where(C.id.in_(bindparam("ids", expanding=True)))
    .values(worker=bindparam("mine"), lease=bindparam("until"))
)
_BEGIN = update(schema.copy_of).where(C.id == bindparam("copy")).values(state=SENDING, lease=bindparam("until"))
_END = (
    update(schema.copy_of)
    .where(C.id == bindparam("copy"))
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

    def __init__(self, engine: Engine) -> None:
        super().__init__(engine)

    def claim(self, worker: str, most: int) -> list[Copy]:
        """Take some copies over that are due: nobody else sends them meanwhile."""
        now = time.time()
        with self.engine.begin() as connection:
            rows = [Copy(*row) for row in connection.execute(_NEXT, {"now": now, "most": most})]
            if rows:
                ids = [row.id for row in rows]
                connection.execute(_MINE, {"ids": ids, "mine": worker, "until": now + LEASE})
        return rows

    def step(self, done: Outcome | None, following: Copy | None) -> None:
        """On disk before the next is handed over: what became of one, and that the next one's turn has come."""
        with self.engine.begin() as connection:
            if done is not None:
                _record(connection, done)
            if following is not None:
                connection.execute(_BEGIN, {"copy": following.id, "until": time.time() + LEASE})

    def let_go(self, copies: Sequence[Copy], seconds: float = 0.0) -> None:
        """Copies that were taken over and not begun: somebody else may, in so many seconds."""
        if copies:
            values = {"worker": "", "lease": 0.0} | ({"due": time.time() + seconds} if seconds else {})
            with self.engine.begin() as connection:
                ids = [copy.id for copy in copies]
                connection.execute(update(schema.copy_of).where(C.id.in_(ids)).values(**values))

    def finish(self, postings: set[int]) -> None:
        """Count the copies of postings that have none left to send."""
        with self.engine.begin() as connection:
            for number in postings:
                row = connection.execute(
                    select(P.list, P.kind).where(and_(P.id == number, P.state == QUEUED)).with_for_update()
                ).first()
                left = and_(C.posting == number, C.state.in_(_UNDONE))
                if row is None or connection.execute(select(C.id).where(left).limit(1)).first():
                    continue
                if row.kind == POSTING:
                    for state, many in _states(connection, number).items():
                        count(connection, row.list, state, many)
                connection.execute(update(schema.posting).where(P.id == number).values(state=DONE, ended=time.time()))

    def of_the_dead(self, ended: Collection[str] = ()) -> int:
        """Copies whose sender has ended, or is among those: the ones not begun may be taken over again, the others are
        doubtful. Returns how many are doubtful now."""
        now = time.time()
        with self.engine.begin() as connection:
            rows = connection.execute(
                select(C.id, C.state, C.worker, C.lease, C.posting)
                .where(C.worker != "")
                .with_for_update(skip_locked=True)
            ).all()
            gone = {worker for worker in {row.worker for row in rows} if worker in ended or is_gone(worker)}
            dead = [row for row in rows if row.worker in gone or row.lease < now]
            doubtful = [row for row in dead if row.state == SENDING]
            for row in dead:
                values = {"state": DOUBTFUL, "reply": "the process that sent it ended before it was answered"}
                values = values if row.state == SENDING else {}
                connection.execute(update(schema.copy_of).where(C.id == row.id).values(worker="", lease=0.0, **values))
        self.finish({row.posting for row in doubtful})
        return len(doubtful)

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
                select(P.id, P.list, P.sender, P.subject, P.at, P.state, P.kind, H.title)
                .outerjoin(schema.house, H.list == P.list)
                .where(or_(P.state.in_((TAKEN, QUEUED)), and_(P.state == DONE, P.kind == POSTING)))
                .order_by(P.id)
            ).all()
            shown = []
            for row in rows:
                states = _states(connection, row.id)
                why = connection.execute(
                    select(C.reply)
                    .where(and_(C.posting == row.id, C.state.in_((DEFERRED, REFUSED, DOUBTFUL))))
                    .limit(1)
                ).scalar()
                due = connection.execute(
                    select(func.min(C.due)).where(and_(C.posting == row.id, C.state == DEFERRED))
                ).scalar()
                shown.append({
                    "number": row.id, "list": row.title or "", "from": row.sender or "the hub itself", "since": row.at,
                    "kind": row.kind, "state": row.state,
                    "waiting": sum(states.get(one, 0) for one in (SLEEPING, WAITING, SENDING)),
                    **{one: states.get(one, 0) for one in (ACCEPTED, REFUSED, DEFERRED, DOUBTFUL)},
                    "why": why or "", "again": due,
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
            values = {"state": REFUSED, "reply": "given up by whoever runs the hub"}
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
                connection.execute(delete(schema.copy_of).where(C.posting.in_(numbers)))
                connection.execute(delete(schema.posting_part).where(schema.posting_part.c.posting.in_(numbers)))
                connection.execute(delete(schema.posting).where(P.id.in_(numbers)))


def _record(connection: Connection, done: Outcome) -> None:
    connection.execute(
        _END, {"copy": done.copy, "became": done.state, "said": done.reply, "number": done.tries, "again": done.due}
    )


def _states(connection: Connection, posting: int) -> dict[str, int]:
    rows = connection.execute(select(C.state, func.count()).where(C.posting == posting).group_by(C.state))
    return {row[0]: row[1] for row in rows}


def octets(connection: Connection, posting: int) -> list[bytes]:
    """The octets of a posting as they came, in pieces."""
    d = schema.posting_part.c
    return list(connection.execute(select(d.data).where(d.posting == posting).order_by(d.number)).scalars())


def live(connection: Connection, made: str) -> dict[str, int]:
    """How many copies of a list's postings that are still under way were accepted and refused."""
    rows = connection.execute(
        select(C.state, func.count())
        .join(schema.posting, P.id == C.posting)
        .where(and_(P.list == made, P.kind == POSTING, P.state == QUEUED, C.state.in_((ACCEPTED, REFUSED, DOUBTFUL))))
        .group_by(C.state)
    )
    return {row[0]: row[1] for row in rows}


def waiting_since(connection: Connection) -> float:
    """How long the oldest copy has been due, in seconds."""
    oldest = connection.execute(select(func.min(C.due)).where(C.state.in_((WAITING, DEFERRED)))).scalar()
    return max(0.0, time.time() - oldest) if oldest else 0.0
