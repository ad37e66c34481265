"""`barnacle send` and `barnacle outbox`."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from barnacle.cli.screen import Screen, left_out, local_time
from barnacle.core.delivery import in_words
from barnacle.core.text import count, listed, people
from barnacle.jobs import messages
from barnacle.jobs.desk import Desk
from barnacle.jobs.messages import Outcome

if TYPE_CHECKING:
    from barnacle.jobs.sending import Plan

SHOWN = 20


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    if command == "send":
        parser.description = "Sends a message from the outbox. Nobody ever gets it twice unless you ask for that."
        parser.add_argument("message", metavar="mN")
        parser.add_argument("--resume", action="store_true", help="go on with who is waiting or deferred")
        parser.add_argument(
            "--retry-doubtful", action="store_true",
            help="also those for whom the line broke before the answer came; they may get it twice",
        )  # fmt: skip
        parser.add_argument(
            "--allow-mention", metavar="ADDRESS", nargs="+", action="extend", default=[],
            help="let this address stand in the message",
        )  # fmt: skip
        parser.set_defaults(run=run_send)
        return
    parser.description = "Without a verb: all messages with their state."
    parser.set_defaults(run=run_outbox)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    show = verbs.add_parser("show", help="what became of each recipient", parents=[common], allow_abbrev=False)
    show.add_argument("message", metavar="mN")
    show.set_defaults(run=run_show)


def run_send(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs import sending

    def confirm(plan: Plan) -> bool:
        _show_plan(plan, screen)
        return screen.confirm("Send it now?", "To send it from a script, say so with --yes. Nothing was sent.")

    with screen.progress(f"Sending {args.message}") as tick:
        result = sending.send(
            desk,
            args.message,
            sending.Run(
                args.resume, args.retry_doubtful, args.allow_mention, confirm, lambda done, total: tick(done, total)
            ),
        )
    screen.value(_value(result))
    if result.tried == 0 and result.trouble is None:
        screen.say(f"Nothing is due: {result.message.number} stands at {in_words(result.counts)}.")
        return 0
    _show_outcome(result, screen, every=False)
    if result.trouble:
        screen.say(result.trouble)
    if result.tried == 0:
        return 2
    return 0 if result.accepted_now == result.tried and not result.trouble else 1


def _show_plan(plan: Plan, screen: Screen) -> None:
    verb = "goes on to" if plan.resumed else "goes to"
    screen.say(
        f"{plan.message.number}, {plan.message.subject}, {verb} {people(plan.people)} in "
        f"{count(plan.batches, 'batch', 'batches')} by {plan.server.host}:{plan.server.port}, blind."
    )
    if plan.joined:
        screen.say(f"Since it was composed these have come in: {listed(plan.joined)}.")
    if plan.gone:
        screen.say(f"Since it was composed these have gone: {listed(plan.gone)}.")
    left_out(plan.left_out, screen)


def run_outbox(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    rows = messages.every(desk)
    screen.value([{**_value(one), "created": one.message.created} for one in rows])
    screen.table(
        ("Message", "Subject", "State", "Recipients", "Composed"),
        [
            (one.message.number, one.message.subject, one.state, in_words(one.counts), local_time(one.message.created))
            for one in rows
        ],
    )
    if not rows:
        screen.say('The outbox is empty. `barnacle compose --for LIST --subject "…" --text "…"` makes a message.')
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = messages.show(desk, args.message)
    screen.value(_value(result))
    _show_outcome(result, screen, every=True)
    return 0


def _show_outcome(result: Outcome, screen: Screen, every: bool) -> None:
    number = result.message.number
    screen.say(f"{number}, {result.message.subject}: {result.state}. {in_words(result.counts)}.")
    if result.state == "held":
        screen.say(result.message.doc["held"])
    screen.say()
    rows = [d for d in result.deliveries if every or d.state != "accepted"]
    shown = rows if every else rows[:SHOWN]
    screen.table(
        ("Address", "Name", "State", "The server said"),
        [
            (d.address, " and ".join(d.names), str(d.state), " ".join([str(d.code or ""), d.reply]).strip())
            for d in shown
        ],
    )
    if len(rows) > len(shown):
        screen.say(f"… and {len(rows) - len(shown)} more; `barnacle outbox show {number}` has all.")
    if result.counts.get("deferred") or (result.message.begun and result.counts.get("waiting")):
        screen.say(f"`barnacle send {number} --resume` goes on with who is waiting or deferred.")
    if result.counts.get("doubtful"):
        screen.say(
            f"Doubtful: it may have arrived or not. `barnacle send {number} --retry-doubtful` sends it once more."
        )


def _value(result: Outcome) -> dict[str, Any]:
    counts = result.counts
    return {
        "message": result.message.number,
        "subject": result.message.subject,
        "mode": result.message.mode,
        "state": result.state,
        "accepted": counts.get("accepted", 0),
        "refused": counts.get("refused", 0),
        "deferred": counts.get("deferred", 0),
        "doubtful": counts.get("doubtful", 0),
        "waiting": counts.get("waiting", 0) + counts.get("sending", 0),
        "recipients": [
            {"address": d.address, "names": d.names, "state": str(d.state), "code": d.code, "reply": d.reply}
            for d in result.deliveries
        ],
        "trouble": result.trouble,
    }
