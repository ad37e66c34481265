"""What became of each recipient: the states, what a server's answer means, how a message is split."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from itertools import islice, pairwise

from barnacle.core.text import people
from barnacle.core.typed import NamedTuple


class State(StrEnum):
    """The state of one recipient. `sending` is on disk before the final dot of DATA leaves (RFC 5321, 4.1.1.4);
    what is found in it without a sender at work is `doubtful`."""

    WAITING = "waiting"
    SENDING = "sending"
    ACCEPTED = "accepted"
    REFUSED = "refused"
    DEFERRED = "deferred"
    DOUBTFUL = "doubtful"
    NOT_TAKEN = "refused as a message"  # the server did not want the message; nothing is wrong with the address


class MessageState(StrEnum):
    """How a message stands as a whole."""

    HELD = "held"
    WAITING = "waiting"
    HANDED_OVER = "handed over"  # to one's own mail program
    NOT_SENT = "not sent yet"  # it was begun, and nobody can have it
    SENT_IN_PART = "sent in part"  # some recipients are open
    REFUSED = "refused"  # none was accepted
    NOT_TAKEN = "refused as a message"  # the same, and the addresses are not why
    SENT = "sent"


# What a plain `send` goes on with, and what only `--retry-doubtful` adds.
DUE = (State.WAITING, State.DEFERRED, State.NOT_TAKEN)


class Answer(NamedTuple):
    """What is known about one recipient; `code` is None where the server gave no answer."""

    address: str
    state: State
    code: int | None = None
    reply: str = ""


def batches(addresses: Iterable[str], size: int) -> Iterator[list[str]]:
    """The recipients of each mail transaction, at most `size` of them."""
    rest = iter(addresses)
    while batch := list(islice(rest, max(1, size))):
        yield batch


def batch_count(recipients: int, size: int) -> int:
    """How many mail transactions that many recipients take."""
    return -(-recipients // max(1, size))


def message_state(counts: dict[str, int], held: bool, begun: bool, handed: bool = False) -> MessageState:
    """The state of a message, from how many recipients are in each."""
    if not begun:
        return MessageState.HELD if held else MessageState.HANDED_OVER if handed else MessageState.WAITING
    if counts.get(State.NOT_TAKEN) and not any(
        counts.get(s) for s in State if s not in (State.NOT_TAKEN, State.WAITING)
    ):
        return MessageState.NOT_TAKEN
    open_ones = (State.WAITING, State.SENDING, State.DEFERRED, State.DOUBTFUL, State.NOT_TAKEN)
    if any(counts.get(state) for state in open_ones):
        gone = any(counts.get(state) for state in (State.ACCEPTED, State.SENDING, State.DOUBTFUL))
        return MessageState.SENT_IN_PART if gone else MessageState.NOT_SENT
    return MessageState.SENT if counts.get(State.ACCEPTED) else MessageState.REFUSED


class Allowance(NamedTuple):
    """How many more recipients the limits allow now (None: as many as one likes), and the moment (seconds since the
    epoch) from which on it is more."""

    number: int | None
    more_at: float | None


def allowance(now: float, handed_over: Sequence[float], per_hour: int, per_day: int) -> Allowance:
    """What limits of rolling hours and days leave, given when recipients were handed over in the last day (seconds
    since the epoch, earliest first); a limit of 0 is none. What seems to lie in the future (the clock was set back)
    counts as now."""
    left: int | None = None
    more_at: float | None = None
    for most, seconds in ((per_hour, 3600.0), (per_day, 86400.0)):
        if not most:
            continue
        inside = [min(moment, now) for moment in handed_over if moment > now - seconds]
        here = max(most - len(inside), 0)
        if left is None or here < left:
            left = here
        if here == 0:
            # The first to leave the window makes room for one more.
            more_at = max(more_at or 0.0, inside[len(inside) - most] + seconds)
    return Allowance(left, more_at)


def done_by(now: float, handed_over: Sequence[float], number: int, per_hour: int, per_day: int, pace: float) -> float:
    """When the last of a number of recipients will have been handed over (seconds since the epoch), where each takes
    `pace` seconds and waits for the limits; `handed_over` as in `allowance`."""
    moments = [min(moment, now) for moment in handed_over]
    at = now
    for _ in range(number):
        at += pace
        for most, seconds in ((per_hour, 3600.0), (per_day, 86400.0)):
            if most and len(moments) >= most:
                at = max(at, moments[-most] + seconds)
        moments.append(at)
    return at


def pace_of(moments: Sequence[float], pause: float = 60.0) -> float:
    """Seconds that one recipient took, from the moments at which recipients of a message were handed over, earliest
    first; what lies longer than `pause` seconds apart was a pause. A tenth of a second where there are too few."""
    gaps = [after - before for before, after in pairwise(moments) if after - before <= pause]
    return max(sum(gaps) / len(gaps), 0.01) if len(gaps) >= 10 else 0.1


def in_words(counts: dict[str, int]) -> str:
    """`41 accepted, 1 refused`: the counts that are not zero, in the order of the states."""
    order = ["accepted", "refused", "refused as a message", "deferred", "doubtful", "sending", "waiting"]
    return ", ".join(f"{counts[s]:,} {s}" for s in order if counts.get(s)) or people(0)
