"""`barnacle check`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.core.text import count
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.lists import check


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Checks lists before you need them: people without an address or who opted out, mistyped domains, "
        "addresses that the mail server refused, duplicates, outsiders on a list of your own domain. Each comes with "
        "the command that puts it right."
    )
    parser.add_argument("lists", metavar="LIST", nargs="*", help="the lists to check; all of them if you name none")
    parser.add_argument(
        "--idle-since",
        metavar="DATE",
        default="",
        help="also show who has had no contact with you since then",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.progress("Checking") as tick:
        found = check.check_lists(desk, args.lists, args.idle_since, tick)
    screen.value([{"list": title, **finding._asdict()} for title, findings in found.items() for finding in findings])
    for title, findings in found.items():
        if not findings:
            screen.say(f"{title}: nothing wrong.")
            continue
        screen.say(f"{title}: {count(len(findings), 'thing')} to look at:")
        if screen.is_terminal:
            for f in findings:
                screen.lines(f"  {f.name}: {f.what}\n    {f.mend}")
        else:
            screen.table(("What", "Who", "Why", "Put it right with"), findings)
        screen.say()
    if not found:
        screen.say("There are no lists yet.")
    return 0
