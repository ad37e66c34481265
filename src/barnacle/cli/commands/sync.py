"""`barnacle sync`."""

from __future__ import annotations

import argparse
import re
import sys
import time

from barnacle.cli.console.screen import Screen, in_a_sentence
from barnacle.core.errors import BarnacleError, SignedOutError, UnclearError
from barnacle.core.text import count, listed
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Exchanges changes of shared lists with the hub. Nothing is lost, also if it breaks off."
    parser.add_argument("--every", metavar="TIME", help="again and again, such as 15m or 2h; Ctrl-C ends it")
    parser.add_argument(
        "--drop-ended", action="store_true", help="remove lists in which your role has ended (else a copy stays)"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if not args.every:
        return _once(args, desk, screen)
    pause = _seconds(args.every)
    while True:
        try:
            _once(args, desk, screen)
        except SignedOutError:
            raise
        except (BarnacleError, OSError) as error:
            screen.error(f"{in_a_sentence(error)} The next exchange is in {args.every}.")
        sys.stdout.flush()  # whoever reads along in a file sees it now
        time.sleep(pause)


def _seconds(text: str) -> float:
    match = re.fullmatch(r"(\d{1,6})\s*([smh])", text.strip().lower())
    if not match or int(match[1]) == 0:
        raise UnclearError("Write how often as 30s, 15m or 2h.")
    return int(match[1]) * {"s": 1.0, "m": 60.0, "h": 3600.0}[match[2]]


def _once(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import sync

    with screen.progress("Exchanging") as tick:
        done = sync.sync(desk, args.drop_ended, tick)
    screen.value(
        {"lists": [{"title": one.title, "received": one.received, "sent": one.sent, "conflicts": one.conflicts,
                    "ended": one.ended, "refused": one.refused} for one in done]}
    )  # fmt: skip
    for one in done:
        if one.ended:
            kept = "It is gone here too." if args.drop_ended else "A private copy stays."
            screen.lines(f"{one.title}: your role has ended, or the list is shared no more. {kept}")
            continue
        parts = [
            f"{count(one.received, 'member')} came in" if one.received else "",
            f"{count(one.sent, 'member')} went out" if one.sent else "",
            f"{count(one.conflicts, 'conflict')} (`barnacle share conflicts`)" if one.conflicts else "",
        ]
        screen.lines(f"{one.title}: {listed([p for p in parts if p]) or 'nothing new'}.")
        if one.refused:
            screen.error(one.refused)
    if not done:
        screen.say("No list is shared. `barnacle share offer` shares one, `barnacle share waiting` shows offers.")
    return 1 if any(one.conflicts or one.ended or one.refused for one in done) else 0
