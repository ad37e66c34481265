"""`barnacle returns`."""

from __future__ import annotations

import argparse

from barnacle.cli.console import mailboxes
from barnacle.cli.console.pipes import in_file
from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, listed, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import marks, returns
from barnacle.jobs.mail.returns import Returned, Unsure


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Reads delivery reports and opt-out replies in your mail, and marks the addresses and people they are about; "
        "what is uncertain is listed with the command that would do it. Whoever is marked is left out of your "
        "messages, with the reason. Without a file it reads your own mailbox and changes nothing there; the next time "
        "only what is new."
    )
    parser.add_argument(
        "mailboxes", metavar="MAILBOX", type=in_file, nargs="*", help="an mbox file, a Maildir, or a message"
    )
    mailboxes.options(parser)
    parser.add_argument("--file-away", metavar="FOLDER", help="move what was dealt with to this folder of your mailbox")
    parser.add_argument("--watch", action="store_true", help="wait for new mail, and read it as it comes")
    parser.add_argument("--fails", metavar="ADDRESS", nargs="+", help="mark an address as failing for good yourself")
    parser.add_argument("--review", action="store_true", help="go through what is not certain, one by one")
    parser.add_argument(
        "--works-again", metavar="WHO", nargs="+", help="forget the reports about somebody: they can be reached again"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.works_again:
        cleared = marks.works_again(desk, args.works_again)
        screen.value({"cleared": cleared})
        screen.lines(f"Cleared for {listed(cleared)}." if cleared else "Nothing was marked for them.")
        return 0
    if args.fails:
        failing = marks.mark_failing(desk, args.fails)
        screen.value({"failing": failing})
        screen.lines(f"Marked as failing: {listed(failing, len(failing))}. `--works-again WHO` reverses that.")
        return 0
    if args.mailboxes and (args.file_away or args.watch):
        raise UnclearError("--file-away and --watch are about your own mailbox; leave the file out.")
    if args.watch:
        return _watch(args, desk, screen)
    with screen.progress("Reading your mail") as tick:
        found = returns.read_returns(desk, mailboxes.place_of(args, "returns", "", tick), args.file_away)
    _tell(found, args, desk, screen)
    return 0


def _watch(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """Tell what comes as it comes, until stopped."""
    if screen.json:
        raise UnclearError(
            "--watch goes on and on; --json is one value. Run `barnacle returns --json` again and again."
        )
    place = mailboxes.place_of(args, "returns", "", lambda done, total: None)

    def tell(found: Returned) -> None:
        if found.messages or found.remarks:
            _tell(found, args, desk, screen)
        screen.say("Waiting for new mail; Ctrl-C ends it.")

    try:
        returns.watch(desk, place, args.file_away, tell)
    except KeyboardInterrupt:
        screen.say("Stopped. What had come is in the book.")
    return 0


def _tell(found: Returned, args: argparse.Namespace, desk: Desk, screen: Screen) -> None:
    screen.value(
        {
            "messages": found.messages,
            "marked": [one._asdict() for one in found.marked],
            "unsure": [_value(one) for one in found.unsure],
            "unknown": found.unknown,
            "already": found.already,
            "unread": found.unread,
            "remarks": found.remarks,
        }
    )
    for remark in found.remarks:
        screen.say(remark)
    screen.not_read(found.unread)
    screen.lines(f"{count(found.messages, 'message')} read, {count(len(found.marked), 'address', 'addresses')} marked.")
    if found.marked:
        screen.say()
        screen.table(
            ("Name", "Address", "Now", "Why", "On the lists"),
            [(m.name, m.address, m.state, m.why, ", ".join(m.lists)) for m in found.marked],
            below=("Why", "On the lists"),
        )
        screen.say()
    if found.already:
        screen.say(f"{count(found.already, 'report')} brought nothing new.")
    if found.unknown:
        screen.say(f"Nobody in the book has {listed([visible(a, 60) for a in found.unknown])}.")
    if found.unsure and args.review and screen.can_ask:
        from barnacle.cli.console.settle import walk

        screen.say(walk(desk, found.unsure))
    elif found.unsure:
        unsure(found.unsure, screen)
    if any(m.state != "deferred" for m in found.marked):
        screen.say(
            "Your messages leave out people who opted out and addresses that fail (`--works-again WHO` reverses that)."
        )


def unsure(some: list[Unsure], screen: Screen) -> None:
    """What is not certain, with the command that would settle each."""
    screen.say(f"{count(len(some), 'message')} may ask for something, but nothing was marked:")
    screen.say()
    screen.table(
        ("May be", "From", "Subject", "Why it is not certain", "To do it"),
        [(one.kind, one.sender, one.subject, _why(one), one.command or f"look at {one.place}") for one in some],
        below=("Why it is not certain", "To do it"),
    )
    screen.say()
    screen.say("`--review` goes through them one by one.")


def _why(one: Unsure) -> str:
    return one.why if one.about in ("", one.sender) else f"{one.about}: {one.why}"


def _value(one: Unsure) -> dict[str, str]:
    return {**{name: value for name, value in one._asdict().items() if name != "settling"}, "command": one.command}
