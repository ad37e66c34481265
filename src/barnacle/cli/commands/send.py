"""`barnacle send`."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from barnacle.cli.console.outcome import outcome_value, show_outcome
from barnacle.cli.console.screen import Screen, left_out
from barnacle.core.mail.delivery import in_words
from barnacle.core.text import count, listed, people
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.mail.plan import Plan


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Sends a message from the outbox. Nobody ever gets it twice unless you ask for that."
    parser.add_argument("message", metavar="mN")
    parser.add_argument("--resume", action="store_true", help="continue with those waiting or deferred")
    parser.add_argument(
        "--retry-doubtful", action="store_true",
        help="also retry those for whom the connection broke before the answer came; they may get it twice",
    )  # fmt: skip
    parser.add_argument(
        "--allow-mention", metavar="ADDRESS", nargs="+", action="extend", default=[],
        help="allow this address in the message",
    )  # fmt: skip
    parser.add_argument(
        "--allow-file", metavar="NAME", nargs="+", action="extend", default=[],
        help="send this attachment even though it could not be searched for addresses",
    )  # fmt: skip
    parser.add_argument(
        "--open-to", metavar="N", type=int, help="confirm how many people will see each other in an open message"
    )
    parser.add_argument(
        "--wait", action="store_true", help="when an hourly or daily limit is reached, wait and continue"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.mail import send
    from barnacle.jobs.mail.interrupts import Interrupts
    from barnacle.jobs.mail.plan import Run

    def confirm(plan: Plan) -> bool:
        _show_plan(plan, args.wait, screen)
        word = plan.examined.misses_attachment
        if (
            word
            and screen.can_ask
            and not screen.confirm(f"It mentions an attachment (“{word}”) but has none. Send it anyway?", "")
        ):
            return False
        return screen.confirm("Send it now?", "Nothing was sent. In a script, confirm with --yes.")

    with Interrupts() as interrupts, screen.progress(f"Sending {args.message}") as tick:
        try:
            result = send.send(
                desk,
                args.message,
                Run(
                    resume=args.resume,
                    retry_doubtful=args.retry_doubtful,
                    allowed=args.allow_mention,
                    allowed_files=args.allow_file,
                    open_to=args.open_to,
                    wait=args.wait,
                    whole=screen.json,
                    confirm=confirm,
                    tick=lambda done, total: tick(done, total),
                    tell=screen.say,
                    undisturbed=interrupts.undisturbed,
                    finish=interrupts.finish,
                ),
            )
        except KeyboardInterrupt:
            interrupts.finish()
            screen.error(
                f"Stopped. This command has sent nothing; `barnacle outbox show {args.message}` shows where it stands."
            )
            return 1
    if screen.json:
        screen.value(outcome_value(result))
    done = result.is_complete and result.trouble is None and result.paused is None
    if result.tried == 0 and result.trouble is None and result.paused is None:
        screen.say(f"There is nothing to send: {result.message.number} is at {in_words(result.counts)}.")
        return 0 if done else 1
    show_outcome(result, screen, every=False)
    if result.learned:
        screen.say(
            f"Your mail server accepts {people(result.learned)} at once; Barnacle will remember (mail.server_takes)."
        )
    for remark in (result.trouble, result.paused):
        if remark:
            screen.say(remark)
    return 0 if done else 1


def _show_plan(plan: Plan, wait: bool, screen: Screen) -> None:
    from barnacle.jobs.mail.limits import moment

    verb = "continues to" if plan.resumed else "goes to"
    how = {
        "blind": f"in {count(plan.batches, 'batch', 'batches')} through {{place}}, blind",
        "each": "through {place}, to each separately",
        "open": "through {place}, OPEN: everybody will see everybody's address",
    }[plan.mode].format(place=f"{plan.server.host}:{plan.server.port}")
    done = plan.all_at if wait else plan.done_at
    until = f", finishing at about {moment(done)}" if wait or plan.now != 0 else ""
    screen.say(f"{plan.message.number}, {plan.message.subject}, {verb} {people(plan.people)} {how}{until}.")
    if plan.now is not None and plan.now < len(plan.recipients):
        resume = f"`barnacle send {plan.message.number} --resume` later"
        what = ", and so does this command"
        if not wait:
            what = f": {resume}, or --wait now, finishing at about {moment(plan.all_at)}"
        left = len(plan.recipients) - plan.now
        screen.say(f"Your limits allow {count(plan.now, 'address', 'addresses')} now; {left:,} must wait{what}.")
    if plan.joined:
        screen.say(f"Added since it was composed: {listed(plan.joined)}.")
    if plan.gone:
        screen.say(f"Gone since it was composed: {listed(plan.gone)}.")
    left_out(plan.left_out, screen)
    for warning in plan.examined.warnings:
        screen.say(warning)
