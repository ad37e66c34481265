"""What sending would do: to whom, in how many batches, until when."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field

from barnacle.book import contacts, outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import StoppedError
from barnacle.core.mail.audience import Audience, LeftOut
from barnacle.core.mail.delivery import (
    DUE,
    State,
    batch_count,
    done_by,
    pace_of,
)
from barnacle.core.mail.message import Mode
from barnacle.core.moments import since_epoch
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import holds
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.limits import allowance_of, batches_of, handed_over, limits_of, most_at_once
from barnacle.jobs.mail.outbox import audience_of
from barnacle.net.server import Server


@dataclass(slots=True, kw_only=True)
class Plan:
    """What sending would do: to whom, in how many batches, who came or went since the message was composed, and what
    the limits say."""

    message: StoredMessage
    mode: Mode
    recipients: list[str]
    people: int
    batches: int
    server: Server
    left_out: list[LeftOut]
    joined: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    examined: holds.Examined = field(default_factory=holds.Examined)
    resumed: bool = False
    now: int | None = None  # how many the limits allow now; None: all of them
    more_at: float | None = None  # when the next may go (seconds since the epoch)
    done_at: float = 0.0  # when those who may go now will have got it, and
    all_at: float = 0.0  # when all will, if one waits for the limits


@dataclass(slots=True, kw_only=True)
class Run:
    """Options of one `send`. `confirm` is asked with the plan; `tick` told after each batch how many are done;
    `tell` is told what a run waits for. Nothing stops what is done in `undisturbed`, or after `finish`."""

    resume: bool = False
    retry_doubtful: bool = False
    allowed: Sequence[str] = ()
    allowed_files: Sequence[str] = ()
    open_to: int | None = None
    wait: bool = False
    at: str | None = None  # not now but then (ISO 8601, UTC)
    whole: bool = True  # whether the outcome names also those who were accepted
    confirm: Callable[[Plan], bool] = lambda plan: False
    tick: Callable[[int, int], None] = lambda done, total: None
    tell: Callable[[str], None] = lambda sentence: None
    undisturbed: Callable[[], AbstractContextManager[None]] = nullcontext
    finish: Callable[[], None] = lambda: None
    sleep: Callable[[float], None] = time.sleep
    clock: Callable[[], float] = time.monotonic
    today: Callable[[], float] = time.time


def make_plan(desk: Desk, book: Book, mailing: Mailing, server: Server, run: Run) -> tuple[Plan, Audience]:
    message = mailing.message
    size = 1 if message.mode == Mode.EACH else desk.setting("mail.per_message")
    if message.begun is not None:
        left_out = _opted_out_since(book, message)
        states = (*DUE, State.DOUBTFUL) if run.retry_doubtful else DUE
        due = outbox.addresses_in(book, message.id, states)
        plan = Plan(
            message=message, mode=message.mode, recipients=due, people=len(due), batches=batch_count(len(due), size),
            left_out=left_out, server=server, resumed=True,
        )  # fmt: skip
        return _timed(plan, desk, book, run), Audience()
    audience = audience_of(book, message)
    allowed = holds.Allowed([address_key(check_address(a)) for a in run.allowed], run.allowed_files, run.open_to)
    examined = holds.examine(book, mailing, audience, most_at_once(desk), allowed)
    if examined.held:
        raise StoppedError(examined.held)
    addresses = [r.address for r in audience.recipients]
    gone = set(message.content.composed_for)
    joined = [a for a in addresses if a not in gone]
    gone.difference_update(addresses)
    plan = Plan(
        message=message, mode=message.mode, recipients=addresses, people=audience.people,
        batches=batches_of(desk, message, audience), joined=joined, gone=sorted(gone), left_out=audience.left_out,
        server=server, examined=examined,
    )  # fmt: skip
    return _timed(plan, desk, book, run), audience


def _timed(plan: Plan, desk: Desk, book: Book, run: Run) -> Plan:
    """The plan with what the limits say, and until when it will take."""
    plan.now, plan.more_at = allowance_of(desk, book, run.today())
    limits = limits_of(desk)
    pace = pace_of([since_epoch(at) for at in outbox.last_tried(book)])
    number = len(plan.recipients)
    at_once = number if plan.now is None else min(plan.now, number)
    plan.done_at = plan.all_at = run.today() + at_once * pace
    if at_once < number:
        plan.all_at = done_by(run.today(), handed_over(book, run.today()), number, *limits, pace)
    return plan


def _opted_out_since(book: Book, message: StoredMessage) -> list[LeftOut]:
    """Take those off who opted out between the first try and this one."""
    left_out = []
    due = outbox.addresses_in(book, message.id, (*DUE, State.DOUBTFUL))
    for key, contact in contacts.opted_out_at(book, [address_key(a) for a in due]).items():
        for address in due:
            if address_key(address) == key:
                outbox.drop(book, message.id, address)
                left_out.append(LeftOut(contact.title, address, "opted out since sending began"))
    return left_out
