"""`barnacle send` and `barnacle outbox`."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from barnacle.cli.screen import Screen, left_out, local_time
from barnacle.core.delivery import in_words
from barnacle.core.errors import Unclear
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
        parser.add_argument("--open-to", metavar="N", type=int, help="how many will see each other in an open message")
        parser.add_argument("--wait", action="store_true", help="at a limit per hour or day, wait and go on")
        parser.set_defaults(run=run_send)
        return
    parser.description = "Without a verb: all messages with their state."
    parser.set_defaults(run=run_outbox)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    show = verbs.add_parser("show", help="what became of each recipient", parents=[common], allow_abbrev=False)
    show.add_argument("message", metavar="mN")
    show.set_defaults(run=run_show)
    from barnacle.cli import compose

    edit = verbs.add_parser(
        "edit", help="change a message that waits: the options of compose", parents=[common], allow_abbrev=False
    )
    edit.add_argument("message", metavar="mN")
    compose.options(edit)
    edit.set_defaults(run=run_edit)
    remove = verbs.add_parser(
        "remove", help="take out a message that was not sent", parents=[common], allow_abbrev=False
    )
    remove.add_argument("message", metavar="mN")
    remove.set_defaults(run=run_remove)


def run_send(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs import sending

    def confirm(plan: Plan) -> bool:
        _show_plan(plan, args.wait, screen)
        return screen.confirm("Send it now?", "To send it from a script, say so with --yes. Nothing was sent.")

    with screen.progress(f"Sending {args.message}") as tick:
        result = sending.send(
            desk,
            args.message,
            sending.Run(
                args.resume,
                args.retry_doubtful,
                args.allow_mention,
                args.open_to,
                args.wait,
                screen.json,
                confirm,
                lambda done, total: tick(done, total),
            ),
        )
    if screen.json:
        screen.value(_value(result))
    if result.tried == 0 and result.trouble is None:
        screen.say(f"Nothing is due: {result.message.number} stands at {in_words(result.counts)}.")
        return 0
    _show_outcome(result, screen, every=False)
    for remark in (result.trouble, result.paused):
        if remark:
            screen.say(remark)
    if result.tried == 0:
        return 2
    return 0 if result.accepted_now == result.tried and not result.trouble else 1


def _show_plan(plan: Plan, wait: bool, screen: Screen) -> None:
    from barnacle.jobs.sending import moment

    verb = "goes on to" if plan.resumed else "goes to"
    how = {
        "blind": f"in {count(plan.batches, 'batch', 'batches')} by {{place}}, blind",
        "each": "by {place}, to each by itself",
        "open": "by {place}, OPEN: everybody will see everybody's address",
    }[plan.mode].format(place=f"{plan.server.host}:{plan.server.port}")
    done = plan.all_at if wait else plan.done_at
    until = f", done by about {moment(done)}" if wait or plan.now != 0 else ""
    screen.say(f"{plan.message.number}, {plan.message.subject}, {verb} {people(plan.people)} {how}{until}.")
    if plan.now is not None and plan.now < len(plan.recipients):
        resume = f"`barnacle send {plan.message.number} --resume` later"
        what = ", and this command with them"
        if not wait:
            what = f": {resume}, or --wait now, done by about {moment(plan.all_at)}"
        left = len(plan.recipients) - plan.now
        screen.say(f"Your limits let {count(plan.now, 'address', 'addresses')} go now; {left:,} must wait{what}.")
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


def run_edit(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.cli import compose
    from barnacle.jobs import composing

    if args.like:
        raise Unclear("A message that is there already is like itself; --like is for `barnacle compose`.")
    return compose.tell(composing.compose(desk, compose.wish_of(args, new=False), args.message), screen)


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs import composing

    message = composing.remove(desk, args.message)
    screen.value({"message": message.number, "removed": True})
    screen.lines(f"{message.number}, {message.subject}, is out of the outbox. `barnacle undo` brings it back.")
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
    if shown:
        screen.say()
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
        "paused": result.paused,
    }
