"""The loop of one sending: batches, answers, pauses, and lines that break."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from itertools import islice

from barnacle.book import outbox
from barnacle.book.opening import told_of_damage
from barnacle.book.store import Book
from barnacle.core.errors import BarnacleError, MailError
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.delivery import (
    Answer,
    State,
    batches,
)
from barnacle.core.mail.message import Mode
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.limits import allowance_of, limit_reached
from barnacle.jobs.mail.outbox import audience_of, recipients_of
from barnacle.jobs.mail.plan import Run
from barnacle.net.smtp import LineLostError, Submission

# How often in a row the line may break, with nobody accepted in between, before this run gives up.
_LOST_LINES = 4
# How many recipients of letters of their own are read from the book at once.
_AHEAD = 100


@dataclass(slots=True)
class _Batch:
    addresses: list[str]
    attempt: int = 0
    not_before: float = 0.0


class DeliveryRun:
    """The loop of one run: batches that are due, their answers, pauses, and lines that break."""

    def __init__(
        self,
        desk: Desk,
        book: Book,
        mailing: Mailing,
        connect: Callable[[], Submission],
        first: Submission,
        run: Run,
    ) -> None:
        self.book = book
        message = self.message = mailing.message
        self.connect = connect
        self.submission: Submission | None = first
        self.run = run
        self.desk = desk
        self.mailing = mailing
        everybody = audience_of(book, message).recipients if message.mode == Mode.OPEN else []
        self.shared = None if message.mode == Mode.EACH else self.mailing.raw(everybody=everybody)
        self.size = {Mode.EACH: 1, Mode.OPEN: len(everybody)}.get(message.mode, desk.setting("mail.per_message"))
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
            number, more_at = allowance_of(self.desk, self.book, self.run.today())
            if number is None or number >= len(batch.addresses):
                return batch
            # An open message is not split.
            if number and self.message.mode != Mode.OPEN:
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
            self.ahead = {r.address: r for r in recipients_of(self.book, self.message, soon)}
        return self.mailing.raw(self.ahead[address])

    def _prepare_next(self) -> None:
        """Write the next letter while the server works on this one."""
        if self.shared is None and self.queue:
            address = self.queue[0].addresses[0]
            with (
                suppress(BarnacleError),
                told_of_damage(self.book.path),
            ):  # what is wrong with it is told when it is its turn
                self.ready = {address: self._letter(address)}

    def _hand_over(self, batch: _Batch) -> int:
        """One transaction. Returns how many recipients have their last answer of this run."""
        assert self.submission is not None
        sender = self.message.content.sender.address
        in_doubt: list[str] = []

        def before_dot(taken: list[str]) -> None:
            in_doubt.extend(taken)
            outbox.record(self.book, self.message.id, [Answer(a, State.SENDING) for a in taken])

        try:
            answers = self.submission.transact(
                sender, batch.addresses, self._raw(batch), before_dot, self._prepare_next
            )
            self.lost = 0
        except LineLostError as error:
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


def _answers_of_lost(addresses: list[str], error: LineLostError, in_doubt: list[str]) -> list[Answer]:
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
