"""`barnacle history` and `barnacle undo`."""

from __future__ import annotations

import argparse

from barnacle.cli.screen import Screen, local_time
from barnacle.jobs import looking_back
from barnacle.jobs.desk import Desk


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    if command == "undo":
        parser.description = "Takes the last change back, or the one with that number in the history."
        parser.add_argument("number", metavar="NUMBER", nargs="?", type=int)
        parser.set_defaults(run=run_undo)
        return
    parser.description = "What was changed by which command, latest first."
    parser.add_argument("--all", action="store_true", help="not only the last 30 changes")
    parser.set_defaults(run=run_history)


def run_history(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    entries = looking_back.history(desk, None if args.all or screen.json else 30)
    screen.value(
        [
            {"number": e.number, "at": e.at, "command": e.command, "title": e.title, "state": e.state or "done"}
            for e in entries
        ]
    )
    screen.table(
        ("Number", "When", "Command", "What", "State"),
        [(e.number, local_time(e.at), e.command, e.title, e.state) for e in entries],
    )
    if not entries:
        screen.say("Nothing was changed yet.")
    return 0


def run_undo(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    title = looking_back.take_back(desk, args.number)
    screen.value({"undone": title})
    screen.say(f"Undone: {title}.")
    return 0
