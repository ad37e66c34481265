"""`barnacle history`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.text import count
from barnacle.jobs import history
from barnacle.jobs.desk.desk import Desk

# So many are shown, unless more are asked for.
_LAST = 30


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "What was changed, and by which command, latest first: all, or of one list or person."
    parser.add_argument("what", metavar="WHAT", nargs="*", help="a list, a person, a message, or a day since when")
    parser.add_argument("--since", metavar="DATE", default="", help="only since that day (2026-11-23, Monday)")
    parser.add_argument("--all", action="store_true", help="all changes, not only the last 30")
    parser.set_defaults(run=run_history)


def run_history(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    entries, total, about = history.history(
        desk, None if args.all or screen.json else _LAST, " ".join(args.what), args.since
    )
    screen.value(
        [
            {"number": e.number, "at": e.at, "command": e.command, "title": e.title, "state": e.state or "done"}
            for e in entries
        ]
    )
    if about and entries:
        screen.say(f"{count(total, 'change')} {about}{', latest first' if total > 1 else ''}:")
    screen.table(
        ("Number", "When", "Command", "What", "State"),
        [(e.number, local_time(e.at), e.command, e.title, e.state) for e in entries],
        below=("State",),
    )
    if not entries:
        screen.say(f"No changes {about}." if about else "Nothing has been changed yet.")
    elif len(entries) < total:
        screen.say(f"\nThe last {len(entries)} of {total} changes; --all shows them all.")
    return 0
