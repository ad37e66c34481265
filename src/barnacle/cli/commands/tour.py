"""`barnacle tour`."""

from __future__ import annotations

import argparse
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Does the whole job on the made-up people of Tidewick Harbour, in a fresh folder and with a mail server that "
        "only pretends. Your own book is not touched."
    )
    parser.add_argument("--into", metavar="DIR", type=Path, help="the folder to use; without it, a new temporary one")
    parser.add_argument("--quick", action="store_true", help="only the main steps")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.demo import tour

    result = tour.take_tour(args.into, args.quick, screen.json, screen.lines)
    screen.value({"folder": str(result.folder), "steps": result.steps, "failures": result.failures})
    if result.failures:
        screen.error("The tour did not go as it should: " + "; ".join(result.failures) + ".")
        return 1
    screen.lines(
        f"\nThat was the whole job. To go on in this folder: export BARNACLE_HOME={result.folder}\n"
        'Then try `barnacle list`, or start your own book: `barnacle setup --me "Your Name <you@your.address>"`.'
    )
    return 0
