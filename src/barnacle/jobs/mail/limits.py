"""How many recipients may go at once, in an hour and in a day."""

from __future__ import annotations

import time
from datetime import UTC, datetime

from barnacle.book import outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.mail.audience import Audience
from barnacle.core.mail.delivery import Allowance, allowance, batch_count
from barnacle.core.mail.message import Mode
from barnacle.core.moments import in_utc, since_epoch
from barnacle.core.text import listed
from barnacle.jobs.desk.desk import Desk


def most_at_once(desk: Desk) -> int:
    """How many recipients may get one message that is not split: no more than a batch holds, and an hour and a day let
    go."""
    limits: list[int] = [desk.setting(f"mail.per_{span}") for span in ("message", "hour", "day")]
    return min(limit for limit in limits if limit)


def batch_size(desk: Desk, mode: Mode, recipients: int) -> int:
    """The most recipients of one mail transaction of a message to so many, as far as it is known before the server has
    been asked."""
    if mode is Mode.EACH:
        return 1
    size: int = recipients if mode is Mode.OPEN else desk.setting("mail.per_message")
    return min(size, desk.setting("mail.server_takes") or size)


def batches_of(desk: Desk, message: StoredMessage, audience: Audience) -> int:
    """How many mail transactions the audience takes."""
    number = len(audience.recipients)
    return batch_count(number, batch_size(desk, message.mode, number))


def limit_reached(desk: Desk, more_at: float | None) -> str:
    """The limits that stop a run, and when to go on, in words."""
    limits = [f"{desk.setting(f'mail.per_{span}')} {word}" for span, word in (("hour", "an hour"), ("day", "a day"))
              if desk.setting(f"mail.per_{span}")]  # fmt: skip
    when = f"after {moment(more_at)}" if more_at is not None else "later"
    return f"Your limit of {listed(limits)} has been reached; you can send more {when}."


def moment(at: float) -> str:
    """A moment of the next days as one says it: `14:20`, or `Tuesday 09:10` where it is not today."""
    local = time.localtime(at)
    return time.strftime("%H:%M" if local[:3] == time.localtime()[:3] else "%A %H:%M", local)


def limits_of(desk: Desk) -> tuple[int, int]:
    """The most recipients in an hour and in a day; 0: no limit."""
    return desk.setting("mail.per_hour"), desk.setting("mail.per_day")


def handed_over(book: Book, today: float) -> list[float]:
    """When each recipient of the day before `today` was handed over (all in seconds since the epoch)."""
    day_ago = in_utc(datetime.fromtimestamp(today - 86_400, UTC))
    return [since_epoch(at) for at in outbox.tried_since(book, day_ago)]


def allowance_of(desk: Desk, book: Book, today: float) -> Allowance:
    """How many may go at that moment (seconds since the epoch), and when the next may."""
    limits = limits_of(desk)
    return allowance(today, handed_over(book, today), *limits) if any(limits) else Allowance(None, None)
