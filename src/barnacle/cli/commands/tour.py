"""`barnacle tour`."""

from __future__ import annotations

import argparse
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.demo.tour import Chapter

# As barnacle.demo.tour has them; that is loaded only when the tour begins.
CHAPTERS = ("people", "lists", "tidying", "sending", "directory", "sharing", "house")


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Does the whole job with the made-up people of Tidewick Harbour, in a fresh folder and with a mail server that "
        "only pretends. Your own book is not touched."
    )
    parser.add_argument("--chapter", choices=CHAPTERS, help=f"only that part: {', '.join(CHAPTERS)}")
    parser.add_argument("--quick", action="store_true", help="only the main steps")
    parser.add_argument("--into", metavar="DIR", type=Path, help="the folder to use (default: a new temporary one)")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.demo import tour

    if args.chapter in ("sharing", "house") and args.quick:
        raise UnclearError("The quick tour has no chapter on sharing. Leave out --quick.")

    def go_on(chapter: Chapter) -> bool:
        if not screen.can_ask or screen.yes:
            return True
        return input(f"\nEnter for the next chapter ({visible(chapter.title)}), q to stop: ").strip().lower() != "q"

    if args.chapter and args.chapter != CHAPTERS[0]:
        screen.say("First, unseen, what this chapter builds on. That takes a moment.")
    result = tour.take_tour(args.into, args.quick, screen.json, screen.lines, args.chapter, go_on)
    screen.value({"folder": str(result.folder), "steps": result.steps, "failures": result.failures})
    if result.failures:
        screen.error("The tour went wrong: " + "; ".join(result.failures) + ".")
        return 1
    ended = "That was it." if args.chapter else "That was the whole job."
    screen.lines(
        f"\n{ended} To carry on in this folder: export BARNACLE_HOME={result.folder}\n"
        "Then try `barnacle list`, or start your own book: `barnacle setup`."
    )
    return 0
