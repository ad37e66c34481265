"""Passing on: a process of its own takes what is due from the queue and hands it to the mail server, copy by copy."""

from __future__ import annotations

import json
import logging
import os
import signal
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError

from barnacle.core.errors import MailError
from barnacle.core.mail.delivery import Answer, State
from barnacle.core.mail.returned import Verdict, verdict
from barnacle.core.text import tidy
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import schema
from barnacle.hub.app import Hub
from barnacle.hub.base import now
from barnacle.hub.house.people import leave_link
from barnacle.hub.house.queue import (
    DOUBTFUL,
    NOTICE,
    REFUSED,
    Copy,
    Outcome,
    Queue,
    outcome,
    worker_name,
)
from barnacle.hub.house.rows import House, Settings, find_house, settings_of
from barnacle.net.credentials import Credentials
from barnacle.net.server import Server
from barnacle.net.smtp import Submission
from barnacle.net.smtp_line import LineLostError, SenderRefusedError
from barnacle.post.looking import hold_back, look_through, outgoing, own_lines

log = logging.getLogger("barnacle.hub")
_TOGETHER = 50
_IDLE, _NO_SERVER, _NO_DATABASE = 0.2, 15.0, 2.0
_UPKEEP = 10.0
PASSWORD = "BARNACLE_HUB_MAIL_PASSWORD"  # the variable's name, not a secret


class _Ready(NamedTuple):
    """A posting as it goes out: what its copies have in common, and what they need of the server."""

    house: House | None
    kind: str
    parts: Sequence[bytes | memoryview]
    options: tuple[str, ...]


class _TakenOverError(Exception):
    """A copy is somebody else's by now: this sender took too long over those before it."""


class PassingOn:
    """One sender. `stopping` says when to end."""

    def __init__(self, engine: Engine, server: Server, stopping: Callable[[], bool]) -> None:
        self.hub = Hub(engine)
        self.queue = Queue(engine)
        self.server = server
        self.stopping = stopping
        self.name = worker_name()
        self.ended: set[str] = set()  # names that this one had before the database failed it
        self._line: Submission | None = None
        self._wait_until = 0.0  # while the mail server is away
        self._ready: tuple[int, _Ready] | None = None
        self._upkeep = 0.0
        self._kept: Settings | None = None

    def run(self) -> None:
        """Until it is time to stop."""
        while not self.stopping():
            try:
                busy = self._round()
            except SQLAlchemyError as error:
                _tell(type(error).__name__)
                # What became of the copy at hand was not written: this sender is as one that ended.
                self._close()
                self.ended.add(self.name)
                self.name = worker_name()
                time.sleep(_NO_DATABASE)
                continue
            if not busy:
                if self._line is not None and not self._line.is_open:
                    self._line = None
                time.sleep(_IDLE)
        self._close()

    def _round(self) -> bool:
        """One piece of work; says whether there was any."""
        if time.monotonic() >= self._upkeep:
            self._upkeep = time.monotonic() + _UPKEEP
            self.look_after()
        taken = self.queue.untouched()
        if taken is not None:
            self._look(taken)
        if time.monotonic() < self._wait_until:
            return taken is not None
        copies = self.queue.claim(self.name, _TOGETHER)
        if copies:
            self._send(deque(copies))
        return bool(copies) or taken is not None

    def _look(self, posting: int) -> None:
        """Look a posting through. One that a parser of files gives up on in a way that nobody foresaw waits for a
        keeper: it must not stop all others."""
        try:
            look_through(self.hub, posting)
        except SQLAlchemyError:
            raise
        except Exception as error:
            _tell(f"posting {posting} could not be looked through: {type(error).__name__}")
            hold_back(self.hub, posting, "it could not be searched for members' addresses")

    def look_after(self) -> None:
        """What comes up from time to time."""
        doubtful = self.queue.of_the_dead(self.ended)
        self.ended.clear()
        if doubtful:
            _tell(f"{doubtful} copies are doubtful: the process that sent them ended")
        self.hub.held.tell_keepers()
        self.hub.house_care.tell_the_new()
        self.hub.house_care.report_fails()
        self.hub.held.end_old()
        self.hub.house_care.ask_the_paused()
        self.queue.clear_away()

    def _send(self, copies: deque[Copy]) -> None:
        postings = {copy.posting for copy in copies}
        done: Outcome | None = None
        while copies and not self.stopping():
            copy = copies.popleft()
            line = self._connected()
            if line is None:
                copies.appendleft(copy)
                break
            done = self._one(line, copy, done)
            if line.is_spent:
                self._close()
                copies.appendleft(copy)
            elif line.put_off and done is not None:
                # That is about none of the members: those of the same posting wait as long, and are not asked about.
                same = [one for one in copies if one.posting == copy.posting]
                copies = deque(one for one in copies if one.posting != copy.posting)
                for one in same:
                    self._write(outcome(one, 0, done.reply))
        if done is not None:
            self.queue.step(self.name, done)
        self.queue.let_go(self.name, copies)
        self.queue.finish(postings)

    def _one(self, line: Submission, copy: Copy, before: Outcome | None) -> Outcome | None:
        """Hand one copy over. What became of the one before is written together with that this one's turn has come;
        where it does not come to that, it is written by itself. A line that is spent leaves the copy as it was."""
        unwritten = before

        def turn(_: list[str]) -> None:
            nonlocal unwritten
            begun = self.queue.step(self.name, unwritten, copy)
            unwritten = None
            if not begun:
                raise _TakenOverError

        ready = self._posting(copy.posting)
        if ready is None:
            self._write(unwritten)
            return Outcome(copy.id, REFUSED, "its posting is gone, or cannot be read", copy.tries)
        sender, parts = self._composed(ready, copy)
        try:
            (answer,) = line.transact(sender, [copy.address], parts, turn, options=ready.options)
        except LineLostError as error:
            self._close()
            self._write(unwritten)
            if error.after_dot:
                return Outcome(
                    copy.id, DOUBTFUL, tidy(f"the connection broke after the message: {error.why}", 300), copy.tries + 1
                )
            return outcome(copy, 0, tidy(f"the connection broke: {error.why}", 300))
        except _TakenOverError:
            self._close()  # before the dot, so that nothing of it counts
            return None
        except SenderRefusedError as refusal:
            self._write(unwritten)
            return outcome(copy, refusal.code, refusal.reply)
        self._write(unwritten)
        if line.is_spent:  # this copy's turn has not come
            return None
        became = _outcome(copy, answer)
        if answer.state is State.REFUSED and copy.member:  # the mailbox, not the message
            gone = verdict("failed", "", became.reply) is Verdict.GONE
            self.hub.house_care.came_back(copy.member, gone, became.reply)
        return became

    def _write(self, unwritten: Outcome | None) -> None:
        if unwritten is not None:
            self.queue.step(self.name, unwritten)

    def _posting(self, number: int) -> _Ready | None:
        if self._ready is None or self._ready[0] != number:
            self._ready = None  # two large ones need not be here at once
            found = self.queue.whole(number)
            if found is None:
                return None
            row, parts = found
            with self.queue.reading() as connection:
                house, settings = find_house(connection, row.list), settings_of(connection)
            if row.kind == NOTICE or house is None:
                ready = _Ready(house, NOTICE, parts, ())
            else:
                try:
                    head, body = outgoing(house, settings, row.signed, parts[0])
                except Exception as error:  # one that nobody foresaw must not stop all others
                    _tell(f"posting {number} cannot be passed on: {type(error).__name__}")
                    return None
                options = [] if all(map(bytes.isascii, parts)) else ["BODY=8BITMIME"]  # RFC 6152
                if not head.isascii():
                    options.append("SMTPUTF8")  # RFC 6531
                ready = _Ready(house, row.kind, [head, body, *parts[1:]], tuple(options))
            self._ready = number, ready
        return self._ready[1]

    def _composed(self, ready: _Ready, copy: Copy) -> tuple[str, Sequence[bytes | memoryview]]:
        """The return address of a copy, and its octets in parts."""
        domain = ready.house.domain if ready.house is not None else "localhost"
        sender = f"bounce+{copy.token}@{domain}"
        if ready.kind == NOTICE or ready.house is None:
            return sender, ready.parts
        with_link = own_lines(ready.house, leave_link(self._settings(), copy.way_out), copy.way_out)
        return sender, [with_link, *ready.parts]

    def _settings(self) -> Settings:
        if self._kept is None:
            with self.queue.reading() as connection:
                self._kept = settings_of(connection)
        return self._kept

    def _connected(self) -> Submission | None:
        if self._line is not None and self._line.is_open:
            return self._line
        try:
            self._line = Submission(self.server, Credentials(lambda: os.environ.get(PASSWORD)), advice="")
        except MailError as error:
            _tell(tidy(str(error), 300))
            self._line = None
            self._wait_until = time.monotonic() + _NO_SERVER
        return self._line

    def _close(self) -> None:
        if self._line is not None:
            with suppress(OSError):
                self._line.close()
            self._line = None


def _outcome(copy: Copy, answer: Answer) -> Outcome:
    if answer.state is State.ACCEPTED:
        return outcome(copy, answer.code or 250, answer.reply)
    if answer.state in (State.DEFERRED, State.WAITING):
        return outcome(copy, 0 if answer.code is None else min(answer.code, 499), answer.reply)
    if answer.state is State.DOUBTFUL:
        return Outcome(copy.id, DOUBTFUL, answer.reply, copy.tries + 1)
    return outcome(copy, max(answer.code or 550, 500), answer.reply)


def _tell(text: str) -> None:
    log.warning(json.dumps({"at": now(), "trouble": "passing on", "what": text}))


def run(data: str | None, database: str | None, server: Server, parent: int) -> None:
    """A sender as a process: it ends with SIGTERM, and when the hub that began it has gone."""
    log.setLevel(logging.INFO)
    log.propagate = False
    log.handlers = [logging.StreamHandler(sys.stderr)]
    ended = False

    def end(*_: Any) -> None:
        nonlocal ended
        ended = True

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # of the terminal: the hub tells us
    engine = schema.open_engine(Path(data) if data else None, database, 2)
    PassingOn(engine, server, lambda: ended or os.getppid() != parent).run()
