"""`barnacle history`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen, local_time
from barnacle.jobs import history
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "What was changed, and by which command, latest first."
    parser.add_argument("--all", action="store_true", help="all changes, not only the last 30")
    parser.set_defaults(run=run_history)


def run_history(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    entries = history.history(desk, None if args.all or screen.json else 30)
    screen.value(
        [
            {"number": e.number, "at": e.at, "command": e.command, "title": e.title, "state": e.state or "done"}
            for e in entries
        ]
    )
    screen.table(
        ("Number", "When", "Command", "What", "State"),
        [(e.number, local_time(e.at), e.command, e.title, e.state) for e in entries],
        below=("State",),
    )
    if not entries:
        screen.say("Nothing has been changed yet.")
    return 0
