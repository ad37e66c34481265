"""`barnacle send`."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from barnacle.cli.console.outcome import outcome_value, show_outcome
from barnacle.cli.console.screen import Screen, left_out, local_time
from barnacle.core.errors import BarnacleError, StoppedError, UnclearError
from barnacle.core.mail.delivery import in_words
from barnacle.core.text import count, listed, people, visible
from barnacle.core.typed import TYPE_CHECKING, Any
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.mail.due import Timer
    from barnacle.jobs.mail.plan import Plan


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Sends a message from the outbox. Nobody ever gets it twice unless you ask for that."
    parser.add_argument("message", metavar="mN", nargs="?")
    first = parser.add_argument_group("to yourself first")
    first.add_argument(
        "--test", action="store_true", help="send yourself just what a recipient will get; nothing is kept"
    )
    first.add_argument("--test-to", metavar="ADDRESS", help="the same to another address")
    first.add_argument("--as", metavar="WHO", dest="as_whom", help="of a message to each, this person's")
    later = parser.add_argument_group("later")
    later.add_argument("--at", metavar="TIME", help='when, such as "Friday 07:30"; `never` ends that')
    later.add_argument("--due", action="store_true", help="send all that are due by now, without asking")
    later.add_argument("--timer", action="store_true", help="have this computer do that by itself every five minutes")
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
    if args.timer:
        return _timer(desk, screen)
    if args.due:
        if args.message:
            raise UnclearError("--due sends all that are due; to send one message now, leave --due out.")
        return _all_due(args, desk, screen)
    if not args.message:
        raise UnclearError(f"Send which message? {_waiting(desk)}")
    if args.test or args.test_to or args.as_whom:
        return _test(args, desk, screen)
    if args.at and args.at.strip().lower() == "never":
        from barnacle.jobs.mail import due

        message = due.forget(desk, args.message)
        screen.value({"message": message.number, "due": None})
        screen.lines(f"{message.number}, {message.subject}, waits until you send it.")
        return 0
    return _send(args, args.message, desk, screen)


def _waiting(desk: Desk) -> str:
    """The messages that can be sent, by their numbers."""
    from barnacle.jobs.mail import outbox

    some = [f"{one.message.number} ({visible(one.message.subject, 40)})" for one in outbox.unfinished(desk)]
    return f"These wait: {listed(some)}." if some else "None waits; `barnacle compose` writes one."


def _test(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.mail import trial

    done = trial.send_test(desk, args.message, args.test_to, args.as_whom)
    answer = done.answer
    screen.value(
        {"message": done.number, "to": done.to, "as": done.as_whom, "state": answer.state, "reply": answer.reply}
    )
    whose = f" as {done.as_whom} will get it" if done.as_whom else ""
    if answer.state == "accepted":
        screen.lines(f"A test of {done.number}{whose} went to {done.to}. {done.number} itself is as it was.")
        return 0
    said = " ".join(filter(None, (str(answer.code or ""), answer.reply)))
    screen.lines(f"The test of {done.number} to {done.to} was not accepted ({answer.state}): {said}")
    return 1


def _all_due(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """Send what is due; one that cannot go does not hold up the others."""
    from barnacle.jobs.mail import due

    found = due.dues(desk)
    code = 0
    values: list[dict[str, Any]] = []
    for one in found.too_late:
        when = local_time(one.content.due)
        screen.trouble(
            f"{one.number}, {one.subject}, was to be sent {when}, over a day ago, and may say what is no longer so. "
            f"It was not sent; `barnacle send {one.number}` does that now."
        )
        code = 1
    for number in found.ready:
        try:
            code = max(code, _send(args, number, desk, screen, values.append))
        except BarnacleError as error:
            screen.trouble(f"{number}: {error}")
            values.append({"message": number, "trouble": str(error)})
            code = 1
        except KeyboardInterrupt:
            screen.trouble(f"Stopped at {number}. What has not gone yet goes at the next `barnacle send --due`.")
            code = 1
            break
    screen.value({"sent": values, "too_late": [one.number for one in found.too_late]})
    if not found.ready and not found.too_late:
        screen.say("Nothing is due.")
    return code


def _timer(desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.mail import due

    timer = due.plan_timer(desk)
    screen.say("This would have the computer look every five minutes for what is due, and send it:")
    screen.say()
    for line in timer.text.splitlines():
        screen.say(line)
    screen.say()
    if not screen.confirm("Set it up?", "Nothing was changed. In a script, confirm with --yes."):
        raise StoppedError("Nothing was changed.")
    due.set_timer(timer)
    screen.value({"files": [str(path) for path in timer.files], "line": timer.line})
    linger = " (`loginctl enable-linger` has it look also when you are not)" if timer.files else ""
    screen.say(
        f"Done. It looks {_while_on(timer)}{linger}, and needs your password without asking: `barnacle setup` can "
        "keep it."
    )
    return 0


def _while_on(timer: Timer) -> str:
    return f"while it is on{' and you are signed in' if timer.files else ''}"


def _send(
    args: argparse.Namespace,
    number: str,
    desk: Desk,
    screen: Screen,
    keep: Callable[[dict[str, Any]], None] | None = None,
) -> int:
    """Send one message, or keep when it is to be sent. With `keep` nobody is asked, its value is handed over, and
    KeyboardInterrupt raised where it was stopped."""
    from barnacle.jobs.mail import due, send
    from barnacle.jobs.mail.interrupts import Interrupts
    from barnacle.jobs.mail.plan import Run

    at = due.read_when(args.at) if args.at else None

    def confirm(plan: Plan) -> bool:
        if keep is not None:
            return True
        _show_plan(plan, args.wait, at, screen)
        word = plan.examined.misses_attachment
        if (
            word
            and screen.can_ask
            and not screen.confirm(f"It mentions an attachment (“{word}”) but has none. Send it anyway?", "")
        ):
            return False
        asked = f"Send it {local_time(at)}?" if at else "Send it now?"
        return screen.confirm(asked, "Nothing was sent. In a script, confirm with --yes.")

    with Interrupts() as interrupts, screen.progress(f"Sending {number}") as tick:
        try:
            result = send.send(
                desk,
                number,
                Run(
                    resume=args.resume or keep is not None,
                    at=at,
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
            if keep is not None:
                raise
            screen.error(
                f"Stopped. This command has sent nothing; `barnacle outbox show {number}` shows where it stands."
            )
            return 1
    if keep is not None:
        keep(outcome_value(result))
    elif screen.json:
        screen.value(outcome_value(result))
    if at:
        screen.lines(
            f"{number}, {result.message.subject}, is kept for {local_time(at)}, for whoever is on its lists then."
        )
        screen.say(
            f"This computer looks every five minutes for what is due, {_while_on(due.plan_timer(desk))}."
            if due.has_timer(desk)
            else "`barnacle send --due`, run then, sends it; `barnacle send --timer` has this computer look every five "
            "minutes by itself."
        )
        return 0
    done = result.is_complete and result.trouble is None and result.paused is None
    if result.tried == 0 and result.trouble is None and result.paused is None:
        screen.say(f"There is nothing left to send of {result.message.number}: {in_words(result.counts)}.")
        return 0 if done else 1
    show_outcome(result, screen, every=False)
    if result.learned:
        screen.say(
            f"Your mail server accepts {people(result.learned)} at once; Barnacle will remember (mail.server_takes)."
        )
    for remark in (result.trouble, result.paused, *result.copies):
        if remark:
            screen.say(remark)
    if keep is not None and interrupts.came:
        raise KeyboardInterrupt
    return 0 if done else 1


def _show_plan(plan: Plan, wait: bool, at: str | None, screen: Screen) -> None:
    from barnacle.jobs.mail.limits import moment

    verb = f"is to go {local_time(at)} to" if at else "continues to" if plan.resumed else "goes to"
    how = {
        "blind": f"in {count(plan.batches, 'batch', 'batches')} through {{place}}, blind",
        "each": "through {place}, to each separately",
        "open": "through {place}, OPEN: everybody will see everybody's address",
    }[plan.mode].format(place=f"{plan.server.host}:{plan.server.port}")
    done = plan.all_at if wait else plan.done_at
    until = f", finishing at about {moment(done)}" if at is None and (wait or plan.now != 0) else ""
    screen.say(f"{plan.message.number}, {plan.message.subject}, {verb} {people(plan.people)} {how}{until}.")
    if at is None and plan.now is not None and plan.now < len(plan.recipients):
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
