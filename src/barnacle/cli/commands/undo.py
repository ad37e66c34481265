"""`barnacle undo`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.core.text import listed
from barnacle.jobs import history
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Undoes your last change, or the one with that number in the history. What colleagues changed in a list that "
        "you share stays unless you name it."
    )
    parser.add_argument("number", metavar="NUMBER", nargs="?", type=int)
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.working("Undoing"):
        done = history.take_back(desk, args.number)
    screen.value({"undone": done.title})
    screen.say(f"Undone: {done.title}.")
    if done.waits:
        one = len(done.waits) == 1
        screen.say(
            f"{listed(done.waits, 8)} {'is' if one else 'are'} shared: `barnacle sync` does the same for all who share "
            f"{'it' if one else 'them'}."
        )
    if done.stays is not None:
        screen.say(f"What others changed since stays; `barnacle undo {done.stays}` takes it back, for them too.")
    return 0
