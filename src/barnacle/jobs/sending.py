"""Sending a message: each recipient exactly once, with everything the server says kept."""

from __future__ import annotations

import sqlite3
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import islice
from types import MappingProxyType
from typing import NamedTuple

from barnacle.book import contacts, outbox
from barnacle.book.outbox import Kept
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, check_address
from barnacle.core.audience import Audience, LeftOut, Recipient
from barnacle.core.delivery import (
    DUE,
    Allowance,
    Answer,
    State,
    allowance,
    batch_count,
    batches,
    done_by,
    in_words,
    pace_of,
)
from barnacle.core.errors import BarnacleError, MailError, Stopped
from barnacle.core.text import listed, people
from barnacle.jobs import composing, letters, messages
from barnacle.jobs.desk import Desk
from barnacle.jobs.letters import Sheet
from barnacle.jobs.messages import Outcome, only_sender, outcome
from barnacle.jobs.passwords import mail_password
from barnacle.net.server import Server, read_server
from barnacle.net.smtp import LineLost, Submission

# How often in a row the line may break, with nobody accepted in between, before this run gives up.
_LOST_LINES = 4
# How many recipients of letters of their own are read from the book at once.
_AHEAD = 100
# How long a server that is only tried may take to answer.
_PATIENCE = 8.0


@dataclass(slots=True)
class Plan:
    """What sending would do: to whom, in how many batches, who came or went since the message was composed, and what
    the limits say."""

    message: Kept
    recipients: list[str]
    people: int
    batches: int
    joined: list[str]
    gone: list[str]
    left_out: list[LeftOut]
    server: Server
    resumed: bool = False
    mode: str = letters.BLIND
    now: int | None = None  # how many the limits allow now; None: all of them
    more_at: float | None = None  # when the next may go (seconds since the epoch)
    done_at: float = 0.0  # when those who may go now will have got it, and
    all_at: float = 0.0  # when all will, if one waits for the limits


@dataclass(slots=True)
class Run:
    """Options of one `send`. `confirm` is asked with the plan; `tick` told after each batch how many are done."""

    resume: bool = False
    retry_doubtful: bool = False
    allowed: Sequence[str] = ()
    open_to: int | None = None
    wait: bool = False
    whole: bool = True  # whether the outcome names also those who were accepted
    confirm: Callable[[Plan], bool] = lambda plan: False
    tick: Callable[[int, int], None] = lambda done, total: None
    sleep: Callable[[float], None] = time.sleep
    clock: Callable[[], float] = time.monotonic
    today: Callable[[], float] = time.time


def send(desk: Desk, number: str, run: Run) -> Outcome:
    """Send a message, or go on with one. What the server answers is in the book when this returns.

    Raises Stopped (privacy, nobody left, not confirmed, another sender at work), MailError (the server cannot be
    reached before anything was tried), Unclear.
    """
    with desk.open() as book, only_sender(desk.path, number):
        outbox.keep_little(book)
        message = outbox.get(book, number)
        if message.begun is not None:
            outbox.settle(book, message.id)
            states = (*DUE, State.DOUBTFUL) if run.retry_doubtful else DUE
            if not outbox.addresses_in(book, message.id, states):
                return outcome(book, message, run.whole)
            if not (run.resume or run.retry_doubtful):
                counts = in_words(outbox.counts(book, message.id))
                raise Stopped(
                    f"Sending {message.number} was begun already: {counts}. "
                    f"`barnacle send {message.number} --resume` goes on with who is waiting or deferred."
                )
        if message.begun is None and "handed" in message.doc:
            raise Stopped(
                f"{message.number} was handed over to your own mail program ({message.doc['handed']}). To send it from "
                f"here after all, make another like it: `barnacle compose --like {message.number}`."
            )
        server = _server(desk)
        sheet = Sheet.of(book, message)
        plan, audience = _plan(desk, book, sheet, server, run)
        if plan.now == 0 and not run.wait:
            raise Stopped(f"{limit_reached(desk, plan.more_at)} Nothing was sent.")
        if not run.confirm(plan):
            raise Stopped("Nothing was sent.")
        connect = _connector(desk, server)
        submission = connect()  # before anything is fixed: a server that is not there costs nothing
        _fits(sheet, audience, submission)
        if message.begun is None:
            with book.action("send") as action:
                action.final = True
                action.title = f"Sent {message.number}, {message.subject}, to {people(plan.people)}"
                message = outbox.begin(book, message, audience.recipients)
        del audience  # with ten thousand recipients it is the most that is in memory
        sender = _Sender(desk, book, sheet._replace(message=message), connect, submission, run)
        trouble = sender.work(plan.recipients)
        result = outcome(book, message, run.whole)
        return result._replace(
            tried=len(sender.tried), accepted_now=sender.accepted, trouble=trouble, paused=sender.paused
        )


def limit_reached(desk: Desk, more_at: float | None) -> str:
    """The limits that stop a run, and when to go on, in words."""
    limits = [f"{desk.setting(f'mail.per_{span}')} {word}" for span, word in (("hour", "an hour"), ("day", "a day"))
              if desk.setting(f"mail.per_{span}")]  # fmt: skip
    at = moment(more_at) if more_at is not None else "later"
    return f"Your limit of {listed(limits)} is reached; more may go from {at} on."


def moment(at: float) -> str:
    """A moment of the next days as one says it: `14:20`, or `Tuesday 09:10` where it is not today."""
    local = time.localtime(at)
    return time.strftime("%H:%M" if local[:3] == time.localtime()[:3] else "%A %H:%M", local)


def _fits(sheet: Sheet, audience: Audience, submission: Submission) -> None:
    """Raises Stopped where the message is larger than the server takes (RFC 1870), before anything is fixed."""
    message, most = sheet.message, submission.most_octets
    if message.begun is None and most:
        size = len(sheet.raw(audience.recipients[0], audience.recipients))
        if size > most:
            submission.close()
            raise Stopped(
                f"{message.number} has {size / 1e6:.1f} MB, and {submission.server.host} takes {most / 1e6:.1f} MB at "
                "most. Nothing was sent. Attach less, or send a link."
            )


def _server(desk: Desk) -> Server:
    url = desk.setting("mail.server")
    if not url:
        raise MailError(
            "Barnacle doesn't know your mail server yet. Name it with `barnacle setup --mail smtp://USER@HOST`, "
            "then send again."
        )
    return read_server(url)


class Offered(NamedTuple):
    """What a mail server said when it was tried: the largest message it takes in octets and how many recipients at once
    (0: it does not say), and what it can do. `trouble` is why it could not be reached, or turned us away."""

    most_octets: int = 0
    most_recipients: int = 0
    offers: Mapping[str, bool] = MappingProxyType({})
    trouble: str = ""


def try_server(desk: Desk) -> Offered:
    """Connect to the mail server of the settings and log in, without sending anything."""
    server = _server(desk)
    try:
        line = Submission(server, lambda: mail_password(desk, server), _PATIENCE)
    except MailError as error:
        return Offered(trouble=str(error))
    offered = Offered(line.most_octets, line.most_recipients, line.offers)
    line.close()
    return offered


def _connector(desk: Desk, server: Server) -> Callable[[], Submission]:
    remembered: list[str | None] = []

    def password() -> str | None:
        if not remembered:
            remembered.append(mail_password(desk, server))
        return remembered[0]

    return lambda: Submission(server, password)


def _plan(desk: Desk, book: Book, sheet: Sheet, server: Server, run: Run) -> tuple[Plan, Audience]:
    message = sheet.message
    size = 1 if message.mode == letters.EACH else desk.setting("mail.per_message")
    if message.begun is not None:
        left_out = _opted_out_since(book, message)
        states = (*DUE, State.DOUBTFUL) if run.retry_doubtful else DUE
        due = outbox.addresses_in(book, message.id, states)
        plan = Plan(message, due, len(due), batch_count(len(due), size), [], [], left_out, server, True, message.mode)
        return _timed(plan, desk, book, run), Audience()
    audience = messages.audience_of(book, message)
    allowed = [address_key(check_address(a)) for a in run.allowed]
    held = letters.why_held(sheet, audience, composing.most_at_once(desk), allowed, run.open_to)
    if held:
        raise Stopped(held)
    addresses = [r.address for r in audience.recipients]
    gone = set(message.doc["composed_for"])
    joined = [a for a in addresses if a not in gone]
    gone.difference_update(addresses)
    plan = Plan(
        message, addresses, audience.people, composing.batches_of(desk, message, audience),
        joined, sorted(gone), audience.left_out, server,
        False, message.mode,
    )  # fmt: skip
    return _timed(plan, desk, book, run), audience


def _timed(plan: Plan, desk: Desk, book: Book, run: Run) -> Plan:
    """The plan with what the limits say, and until when it will take."""
    plan.now, plan.more_at = _allowance(desk, book, run)
    limits = _limits(desk)
    pace = pace_of([datetime.fromisoformat(at).timestamp() for at in outbox.last_tried(book)])
    number = len(plan.recipients)
    at_once = number if plan.now is None else min(plan.now, number)
    plan.done_at = plan.all_at = run.today() + at_once * pace
    if at_once < number:
        plan.all_at = done_by(run.today(), _handed_over(book, run), number, *limits, pace)
    return plan


def _limits(desk: Desk) -> tuple[int, int]:
    return desk.setting("mail.per_hour"), desk.setting("mail.per_day")


def _handed_over(book: Book, run: Run) -> list[float]:
    """When each recipient of the last day was handed over."""
    day_ago = datetime.fromtimestamp(run.today() - 86_400, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return [datetime.fromisoformat(at).timestamp() for at in outbox.tried_since(book, day_ago)]


def _allowance(desk: Desk, book: Book, run: Run) -> Allowance:
    limits = _limits(desk)
    return allowance(run.today(), _handed_over(book, run), *limits) if any(limits) else Allowance(None, None)


def _opted_out_since(book: Book, message: Kept) -> list[LeftOut]:
    """Take those off who opted out between the first try and this one."""
    left_out = []
    due = outbox.addresses_in(book, message.id, (*DUE, State.DOUBTFUL))
    for key, contact in contacts.opted_out_at(book, [address_key(a) for a in due]).items():
        for address in due:
            if address_key(address) == key:
                outbox.drop(book, message.id, address)
                left_out.append(LeftOut(contact.title, address, "opted out since sending began"))
    return left_out


@dataclass(slots=True)
class _Batch:
    addresses: list[str]
    attempt: int = 0
    not_before: float = 0.0


class _Sender:
    """The loop of one run: batches that are due, their answers, pauses, and lines that break."""

    def __init__(
        self,
        desk: Desk,
        book: Book,
        sheet: Sheet,
        connect: Callable[[], Submission],
        first: Submission,
        run: Run,
    ) -> None:
        self.book = book
        message = self.message = sheet.message
        self.connect = connect
        self.submission: Submission | None = first
        self.run = run
        self.desk = desk
        self.sheet = sheet
        everybody = messages.audience_of(book, message).recipients if message.mode == letters.OPEN else []
        self.shared = None if message.mode == letters.EACH else self.sheet.raw(everybody=everybody)
        self.size = {letters.EACH: 1, letters.OPEN: len(everybody)}.get(message.mode, desk.setting("mail.per_message"))
        self.ready: dict[str, bytes] = {}
        self.ahead: dict[str, Recipient] = {}  # who is next, where each gets a letter of their own
        self.paused: str | None = None
        self.pauses = [float(p) for p in desk.setting("mail.pauses")]
        self.tried: set[str] = set()
        self.accepted = 0
        self.lost = 0

    def work(self, recipients: list[str]) -> str | None:
        """Hand over to all of them. Returns why it stopped early, or None."""
        self.queue = deque(_Batch(b) for b in batches(recipients, self.size))
        self.later: list[_Batch] = []  # deferred ones, tried again after all others
        settled = 0
        try:
            while self.queue or self.later:
                batch = self._within_limits(self._next_due())
                if batch is None:
                    return None
                try:
                    if self.submission is None or not self.submission.is_open:
                        self.submission = self.connect()
                    settled += self._hand_over(batch)
                except MailError as error:
                    return str(error)
                self.run.tick(settled, len(recipients))
                if self.lost >= _LOST_LINES:
                    return "The line to the mail server broke again and again. The rest waits; try again later."
        finally:
            if self.submission is not None:
                self.submission.close()
            outbox.settle(self.book, self.message.id)
        return None

    def _next_due(self) -> _Batch:
        if self.queue:
            return self.queue.popleft()
        batch = min(self.later, key=lambda b: b.not_before)
        self.later.remove(batch)
        pause = batch.not_before - self.run.clock()
        if pause > 0:
            if self.submission is not None:
                self.submission.close()  # a server would close an idle line on us
                self.submission = None
            self.run.sleep(pause)
        return batch

    def _within_limits(self, batch: _Batch) -> _Batch | None:
        """As much of a batch as the limits allow; the rest comes after. None, and why in `paused`, where nothing may go
        now and this run shall not wait."""
        while True:
            number, more_at = _allowance(self.desk, self.book, self.run)
            if number is None or number >= len(batch.addresses):
                return batch
            # An open message is not split.
            if number and self.message.mode != letters.OPEN:
                self.queue.appendleft(_Batch(batch.addresses[number:], batch.attempt))
                return _Batch(batch.addresses[:number], batch.attempt)
            if not self.run.wait:
                self.paused = limit_reached(self.desk, more_at)
                return None
            if self.submission is not None:
                self.submission.close()
                self.submission = None
            self.run.sleep(max((more_at or 0.0) - self.run.today(), 1.0))

    def _raw(self, batch: _Batch) -> bytes:
        """What this batch gets: its own letter, or the one that all share."""
        if self.shared is not None:
            return self.shared
        address = batch.addresses[0]
        letter = self.ready.pop(address, None)
        return letter if letter is not None else self._letter(address)

    def _letter(self, address: str) -> bytes:
        if address not in self.ahead:
            soon = [address, *(one.addresses[0] for one in islice(self.queue, _AHEAD - 1))]
            self.ahead = {r.address: r for r in messages.recipients_of(self.book, self.message, soon)}
        return self.sheet.raw(self.ahead[address])

    def _prepare_next(self) -> None:
        """Write the next letter while the server works on this one."""
        if self.shared is None and self.queue:
            address = self.queue[0].addresses[0]
            with suppress(BarnacleError, sqlite3.Error):  # what is wrong with it is told when it is its turn
                self.ready = {address: self._letter(address)}

    def _hand_over(self, batch: _Batch) -> int:
        """One transaction. Returns how many recipients have their last answer of this run."""
        assert self.submission is not None
        sender = self.message.doc["sender"][1]
        in_doubt: list[str] = []

        def before_dot(taken: list[str]) -> None:
            in_doubt.extend(taken)
            outbox.record(self.book, self.message.id, [Answer(a, State.SENDING) for a in taken])

        try:
            answers = self.submission.transact(
                sender, batch.addresses, self._raw(batch), before_dot, self._prepare_next
            )
            self.lost = 0
        except LineLost as error:
            self.lost += 1
            answers = _answers_of_lost(batch.addresses, error, in_doubt)
        self.accepted += sum(a.state is State.ACCEPTED for a in answers)
        self.tried.update(a.address for a in answers if a.state is not State.WAITING)
        outbox.record(self.book, self.message.id, answers)
        waiting = [a.address for a in answers if a.state is State.WAITING]
        deferred = [a.address for a in answers if a.state is State.DEFERRED]
        if waiting:
            self.queue.append(_Batch(waiting, batch.attempt))
        again = bool(deferred) and batch.attempt < len(self.pauses)
        if again:
            later = self.run.clock() + self.pauses[batch.attempt]
            self.later.append(_Batch(deferred, batch.attempt + 1, later))
        return len(answers) - len(waiting) - (len(deferred) if again else 0)


def _answers_of_lost(addresses: list[str], error: LineLost, in_doubt: list[str]) -> list[Answer]:
    known = {a.address: a for a in error.answers}
    for address in addresses:
        if address in known:
            continue
        if error.after_dot and address in in_doubt:
            reply = "the line broke off before the server's answer came"
            known[address] = Answer(address, State.DOUBTFUL, None, reply)
        else:
            known[address] = Answer(
                address, State.DEFERRED, None, "the line broke off before the message was handed over"
            )
    return [known[a] for a in addresses]
