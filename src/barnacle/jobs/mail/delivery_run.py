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
from barnacle.core.addresses import envelope_address
from barnacle.core.errors import BarnacleError, MailError, UnwrittenError
from barnacle.core.mail import refusals
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.delivery import Answer, State, batches
from barnacle.core.mail.message import Mode
from barnacle.core.mail.refusals import About
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.limits import allowance_of, batch_size, limit_reached, moment
from barnacle.jobs.mail.outbox import audience_of, recipients_of
from barnacle.jobs.mail.plan import Run
from barnacle.net.smtp import Submission
from barnacle.net.smtp_line import LineLostError, SenderRefusedError, UnreachableError, quoted

# How often in a row the line may break, with nobody accepted in between, where this run shall not wait for it.
_LOST_LINES = 4
# The longest pause before a line that broke is tried again, and before a server that takes no more is (seconds).
_LONGEST_LINE, _LONGEST_REST = 30.0, 300.0
# A run that may wait goes on for so long with nobody accepted (seconds).
_WAITS = 3600.0
# A message that was refused as such so often in a row, with nobody accepted in between, is not offered again.
_REFUSED_IN_A_ROW = 3
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
        self.size = batch_size(desk, message.mode, len(everybody))
        self.size = min(self.size, first.most_recipients or self.size)
        self.ready: dict[str, bytes] = {}
        self.ahead: dict[str, Recipient] = {}  # who is next, where each gets a letter of their own
        self.paused: str | None = None
        self.pauses = [float(p) for p in desk.setting("mail.pauses")]
        self.patience = float(desk.setting("mail.patience"))
        self.tried: set[str] = set()
        self.lost = 0  # lines in a row that broke, with nobody accepted in between
        self.refused_in_a_row = 0
        self.rests = 0  # pauses in a row after which the server still took nobody
        self.hold_until = 0.0  # where the server has taken some and put off the rest
        self.put_off_with = ""  # what it said then, the last time
        self.gently = False
        self.at_last = run.clock()  # when somebody was accepted last, or the run began
        self.unsaid: list[Answer] = []  # who was accepted just now, and does not stand in the journal yet
        self.maybe: list[Answer] = []  # refused without saying why; the server may take nobody at all
        self.learned: int | None = None
        self.unwritten = False

    def work(self, recipients: list[str]) -> str | None:
        """Hand over to all of them. Returns why it stopped early, or None. Ctrl-C stops it in order; so does a journal
        that cannot be written any more, after which `unwritten` is true."""
        # Letters beyond a to z need what not every server can (RFC 6531): they shall not cost the others their mail.
        plain = [a for a in recipients if envelope_address(a).isascii()]
        others = [a for a in recipients if not envelope_address(a).isascii()]
        self.queue = deque(_Batch(b) for some in (plain, others) for b in batches(some, self.size))
        self.later: list[_Batch] = []  # deferred ones, tried again after all others
        self.total, self.settled = len(recipients), 0
        try:
            return self._until_stopped()
        except UnwrittenError as error:
            self.unwritten = True
            if self.submission is not None:
                self.submission.close()
            return (
                f"{error.why}, so that what the mail server answers could not be written down any more, and sending "
                f"stopped. Once that is put right, `barnacle send {self.message.number} --resume` continues."
            )

    def _until_stopped(self) -> str | None:
        try:
            return self._all()
        except KeyboardInterrupt:
            self.run.finish()
            return "Stopped before the end."
        finally:
            self._say()
            self._goodbye()
            self._judge_refusals()
            outbox.settle(self.book, self.message.id)

    def _all(self) -> str | None:
        while self.queue or self.later:
            batch = self._within_limits(self._next_due())
            if batch is None:
                return None
            try:
                self._connected()
                self._hand_over(batch)
            except SenderRefusedError as refusal:
                self._refuse_all(batch, refusal)
                return (
                    f"The mail server does not accept this message from {self.message.content.sender.address}: "
                    f"{quoted(refusal.code, refusal.reply)}. No address is to blame; once that is put right, "
                    f"`barnacle send {self.message.number} --resume` continues."
                )
            except MailError as error:
                return str(error)
            self.run.tick(self.settled, self.total)
            if why := self._enough():
                return why
        return None

    def _enough(self) -> str | None:
        """Why it is no use to go on, if it is none."""
        resume = f"`barnacle send {self.message.number} --resume` continues later"
        if self.refused_in_a_row >= _REFUSED_IN_A_ROW and self.queue:
            return (
                f"The mail server refuses this message itself. The rest are waiting; once that is put right, {resume}."
            )
        if self.lost >= _LOST_LINES and self._waited() >= self.patience:
            return f"The connection to the mail server kept breaking. The rest are waiting; {resume}."
        if self.rests > len(self.pauses) and not (self.run.wait and self._waited() < _WAITS):
            wait = "" if self.run.wait else ", or use --wait to continue by itself"
            why = f" ({self.put_off_with})" if self.put_off_with else ""
            return f"The mail server accepts no more for now{why}. The rest are waiting; {resume}{wait}."
        return None

    def _waited(self) -> float:
        """Seconds since somebody was accepted."""
        return self.run.clock() - self.at_last

    def _connected(self) -> None:
        """A connection, tried again and again for as long as the settings say. Raises MailError."""
        tries = 0
        while self.submission is None or not self.submission.is_open:
            self._say()
            try:
                self.submission = self.connect()
            except UnreachableError as error:
                left = self.patience - self._waited()
                if left <= 0:
                    raise
                if tries == 0:
                    self.run.tell(f"{error} Barnacle keeps trying until {moment(self.run.today() + left)}.")
                self._rest(min(2.0**tries, _LONGEST_LINE, left))
                tries += 1
        self.submission.gently = self.gently

    def _rest(self, seconds: float) -> None:
        if seconds <= 0:
            return
        self._say()
        self._goodbye()  # a server would close an idle line on us
        self.run.sleep(seconds)

    def _goodbye(self) -> None:
        if self.submission is not None:
            doubted = self.submission.close()
            self.submission = None
            self._doubt(doubted, "the server refused it after accepting it")

    def _doubt(self, addresses: list[str], reply: str) -> None:
        if addresses:
            outbox.record(self.book, self.message.id, [Answer(a, State.DOUBTFUL, None, reply) for a in addresses])

    def _next_due(self) -> _Batch:
        self._rest(self.hold_until - self.run.clock())
        self.hold_until = 0.0
        if self.queue:
            return self.queue.popleft()
        batch = min(self.later, key=lambda b: b.not_before)
        self.later.remove(batch)
        self._rest(batch.not_before - self.run.clock())
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
            self._rest(max((more_at or 0.0) - self.run.today(), 1.0))

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
                told_of_damage(self.book),
            ):  # what is wrong with it is told when it is its turn
                self.ready = {address: self._letter(address)}

    def _hand_over(self, batch: _Batch) -> None:
        """One transaction."""
        assert self.submission is not None
        sender = self.message.content.sender.address
        in_doubt: list[str] = []

        def before_dot(taken: list[str]) -> None:
            in_doubt.extend(taken)
            outbox.record(self.book, self.message.id, [Answer(a, State.SENDING) for a in taken])

        lost = False
        try:
            answers = self.submission.transact(
                sender, batch.addresses, self._raw(batch), before_dot, self._prepare_next, at_first=self._say
            )
        except LineLostError as error:
            lost = True
            answers = _answers_of_lost(batch.addresses, error, in_doubt)
            with self.run.undisturbed():
                self._say()
                self._doubt(list(error.earlier), error.why)
        self._say()
        self.unsaid = answers
        if any(one.state is not State.ACCEPTED for one in answers):
            self._say()
        self._count(answers, lost)
        self._go_on(batch, answers, lost)

    def _say(self) -> None:
        """Write into the journal who was accepted. It is done while the server works on the beginning of the next
        transaction, which comes at once, or before anything is waited for."""
        if self.unsaid:
            with self.run.undisturbed():
                outbox.record(self.book, self.message.id, self.unsaid)
                self.unsaid = []

    def _count(self, answers: list[Answer], lost: bool) -> None:
        """How the run stands after a transaction."""
        accepted = sum(a.state is State.ACCEPTED for a in answers)
        self.tried.update(a.address for a in answers if a.state is not State.WAITING)
        self.maybe += [a for a in answers if _says_no_reason(a)]
        put_off = [quoted(a.code, a.reply) for a in answers if a.state is State.DEFERRED and a.code]
        self.put_off_with = put_off[-1] if put_off else self.put_off_with
        if accepted:
            self.at_last = self.run.clock()
            self.rests = 0
        self.lost = self.lost + 1 if lost else 0
        if accepted or not answers or any(a.state is not State.NOT_TAKEN for a in answers):
            self.refused_in_a_row = 0
        else:
            self.refused_in_a_row += 1

    def _go_on(self, batch: _Batch, answers: list[Answer], lost: bool) -> None:
        """What comes next for those of a batch who are not settled."""
        submission = self.submission
        if submission is not None and submission.put_off:
            if submission.is_spent:
                self._goodbye()
            else:
                self._slow_down(False)
            self.queue.appendleft(batch)
            return
        waiting = [a.address for a in answers if a.state is State.WAITING]
        deferred = [a.address for a in answers if a.state is State.DEFERRED]
        self.settled += len(answers) - len(waiting) - len(deferred)
        if submission is not None and submission.most_taken and submission.most_taken < self.size:
            self._make_smaller(submission.most_taken)
        if submission is not None and deferred and (submission.cut_off or self.gently) and not lost:
            self._slow_down(any(a.state is State.ACCEPTED for a in answers))
            for some in batches([*deferred, *waiting], self.size):
                self.queue.append(_Batch(some, batch.attempt))
            return
        for some in batches(waiting, self.size):
            self.queue.append(_Batch(some, batch.attempt))
        if not deferred:
            return
        now = self.run.clock()
        if lost and self._waited() < self.patience:
            self.later.append(_Batch(deferred, batch.attempt, now + min(2.0**self.lost, _LONGEST_LINE)))
        elif batch.attempt < len(self.pauses):
            self.later.append(_Batch(deferred, batch.attempt + 1, now + self.pauses[batch.attempt]))
        elif self.run.wait and self._waited() < _WAITS:
            pause = min(max(self.pauses[-1:] or [60.0]) * 2, _LONGEST_REST)
            self.later.append(_Batch(deferred, batch.attempt, now + pause))
        else:
            self.settled += len(deferred)

    def _make_smaller(self, most: int) -> None:
        """The server takes so many at once: what is still to go is cut up anew, and the next run begins so."""
        self.size = self.learned = most
        self.queue = deque(_Batch(some, b.attempt) for b in self.queue for some in batches(b.addresses, most))

    def _slow_down(self, some_accepted: bool) -> None:
        """The server has put off the rest of those whom it was asked to take: it is left alone for a while, and asked
        gently after that."""
        self.gently = True
        self.rests += not some_accepted
        pauses = self.pauses or [0.0]
        pause = pauses[min(self.rests, len(pauses) - 1)]
        if self.rests >= len(pauses):
            pause = min(max(pause, 1.0) * 2.0 ** (self.rests - len(pauses) + 1), _LONGEST_REST)
        if self.rests <= len(self.pauses) or self.run.wait:
            self.hold_until = self.run.clock() + pause

    def _refuse_all(self, batch: _Batch, refusal: SenderRefusedError) -> None:
        """Nothing of this sender is taken: that holds for everybody who is left."""
        left = [a for b in (batch, *self.queue, *self.later) for a in b.addresses]
        self.tried.update(left)
        outbox.record(
            self.book, self.message.id, [Answer(a, State.NOT_TAKEN, refusal.code, refusal.reply) for a in left]
        )

    def _judge_refusals(self) -> None:
        """A refusal that gives no reason is about the mailbox where the server took others of this message, and else
        about the message (RFC 5321 section 4.2.3 has 550 for both)."""
        if self.maybe and not outbox.counts(self.book, self.message.id).get(State.ACCEPTED):
            answers = [answer._replace(state=State.NOT_TAKEN) for answer in self.maybe]
            outbox.record(self.book, self.message.id, answers)


def _says_no_reason(answer: Answer) -> bool:
    return (
        answer.state is State.REFUSED
        and answer.code is not None
        and refusals.of_recipient(answer.code, answer.reply, 0) is About.MAYBE
    )


def _answers_of_lost(addresses: list[str], error: LineLostError, in_doubt: list[str]) -> list[Answer]:
    known = {a.address: a for a in error.answers}
    for address in addresses:
        if address in known:
            continue
        if error.after_dot and address in in_doubt:
            reply = f"{error.why} before the server answered" if "line" in error.why else error.why
            known[address] = Answer(address, State.DOUBTFUL, None, reply)
        else:
            reply = f"{error.why} before the message had been handed over"
            known[address] = Answer(address, State.DEFERRED, None, reply)
    return [known[a] for a in addresses]
