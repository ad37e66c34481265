"""What became of a message, as a table and as JSON."""

from __future__ import annotations

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.mail.delivery import State, in_words
from barnacle.core.typed import Any
from barnacle.jobs.mail.outbox import Outcome

SHOWN = 20


def stands(one: Outcome) -> str:
    """How a message stands; where a time is kept for it, also when it is to be sent, or was and is not."""
    due = one.message.due
    when = f", {'overdue since' if one.message.is_overdue else 'due'} {local_time(due)}" if due else ""
    return f"{one.state}{when}"


def show_outcome(result: Outcome, screen: Screen, every: bool) -> None:
    number = result.message.number
    screen.say(f"{number}, {result.message.subject}: {stands(result)}. {in_words(result.counts)}.")
    if held := result.message.content.held:
        screen.say(held)
    screen.say()
    rows = sorted((d for d in result.deliveries if every or d.state != "accepted"), key=lambda d: d.state == "accepted")
    shown = rows if every else rows[:SHOWN]
    screen.table(
        ("Address", "Name", "State", "The server said"),
        [
            (d.address, " and ".join(d.names), str(d.state), " ".join([str(d.code or ""), d.reply]).strip())
            for d in shown
        ],
    )
    if shown:
        screen.say()
    if len(rows) > len(shown):
        screen.say(f"… and {len(rows) - len(shown)} more; `barnacle outbox show {number}` has all.")
    if result.counts.get(State.NOT_TAKEN):
        screen.say(
            "Refused as a message: the server refused the message itself, not these addresses. When you have put that "
            f"right, or later, `barnacle send {number} --resume` tries them again."
        )
    elif result.counts.get("deferred") or (result.message.begun and result.counts.get("waiting")):
        screen.say(f"`barnacle send {number} --resume` continues with those waiting or deferred.")
    if result.counts.get("doubtful"):
        screen.say(
            f"Doubtful: it may or may not have arrived. `barnacle send {number} --retry-doubtful` sends it "
            "again, and they may get it twice."
        )


def outcome_value(result: Outcome) -> dict[str, Any]:
    counts = result.counts
    return {
        "message": result.message.number,
        "subject": result.message.subject,
        "mode": result.message.mode,
        "state": result.state,
        "due": result.message.content.due,
        "accepted": counts.get("accepted", 0),
        "refused": counts.get("refused", 0),
        "refused_as_a_message": counts.get(State.NOT_TAKEN, 0),
        "deferred": counts.get("deferred", 0),
        "doubtful": counts.get("doubtful", 0),
        "waiting": counts.get("waiting", 0) + counts.get("sending", 0),
        "recipients": [
            {"address": d.address, "names": d.names, "state": str(d.state), "code": d.code, "reply": d.reply}
            for d in result.deliveries
        ],
        "trouble": result.trouble,
        "paused": result.paused,
        "copies": [*result.copies],
    }
