"""`barnacle undo`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.jobs import history
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Undoes the last change to your book, or the one with that number in the history."
    parser.add_argument("number", metavar="NUMBER", nargs="?", type=int)
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.working("Undoing"):
        title = history.take_back(desk, args.number)
    screen.value({"undone": title})
    screen.say(f"Undone: {title}.")
    return 0
