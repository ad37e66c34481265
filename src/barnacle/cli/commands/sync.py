"""`barnacle sync`."""

from __future__ import annotations

import argparse
import re
import sys
import time

from barnacle.cli.console.exchanged import met, stayed, told
from barnacle.cli.console.screen import Screen, in_a_sentence
from barnacle.core.errors import BarnacleError, SignedOutError, UnclearError
from barnacle.core.sharing import MAY
from barnacle.core.text import listed, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.sharing.shared_list import Exchanged


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Exchanges changes to shared lists with the hub. Nothing is lost if the connection breaks."
    parser.add_argument("--every", metavar="TIME", help="repeat, such as every 15m or 2h, until Ctrl-C")
    parser.add_argument(
        "--drop-ended", action="store_true", help="remove lists in which your role has ended (default: keep a copy)"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if not args.every:
        return _once(args, desk, screen)
    pause = _seconds(args.every)
    while True:
        screen.has_value = False  # a value each time
        try:
            _once(args, desk, screen)
        except SignedOutError:
            raise
        except (BarnacleError, OSError) as error:
            screen.error(f"{in_a_sentence(error)} The next attempt is in {args.every}.")
        sys.stdout.flush()  # whoever reads along in a file sees it now
        time.sleep(pause)


def _seconds(text: str) -> float:
    match = re.fullmatch(r"(\d{1,6})\s*([smh])", text.strip().lower())
    if not match or int(match[1]) == 0:
        raise UnclearError("Write how often like 30s, 15m or 2h.")
    return int(match[1]) * {"s": 1.0, "m": 60.0, "h": 3600.0}[match[2]]


def _once(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import sync

    with screen.progress("Exchanging") as tick:
        synced = sync.sync(desk, args.drop_ended, tick)
    done = synced.lists
    screen.value(
        {"lists": [{"title": one.title, "received": one.received, "sent": one.sent, "conflicts": one.conflicts,
                    "came": len(one.came), "changed": len(one.changed - one.came), "off": len(one.off - one.came),
                    "role": one.role, "taken_back": one.taken_back, "unreadable": one.unreadable,
                    "ended": one.ended, "refused": one.refused}
                   for one in done],
         "offered": [{"list": one.title, "from": one.giver, "role": one.role} for one in synced.offered]}
    )  # fmt: skip
    quiet = [one.title for one in done if not _news(one)]
    for one in done:
        if _news(one):
            _tell(one, screen, args.drop_ended)
    if quiet:
        screen.lines(f"{listed(quiet, _NAMED)}: nothing new.")
    if synced.offered:
        offers = listed([f"{visible(one.title)} from {visible(one.giver)}" for one in synced.offered], _NAMED)
        screen.say(f"Offered to you: {offers} (`barnacle share accept LIST`, or `decline`).")
    if not done:
        screen.say(
            "You share no lists. `barnacle share offer` shares one; `barnacle share waiting` shows what you are "
            "offered."
        )
    return 1 if any(one.conflicts or one.ended or one.refused or one.unreadable for one in done) else 0


# So many titles stand in one line.
_NAMED = 8


def _news(one: Exchanged) -> bool:
    return bool(
        one.received
        or one.sent
        or one.conflicts
        or one.role
        or one.ended
        or one.refused
        or one.unreadable
        or one.stayed
        or one.taken_back
    )


def _tell(one: Exchanged, screen: Screen, dropped: bool) -> None:
    """What an exchange did for one list, in words."""
    if one.ended:
        kept = "It has been removed here too." if dropped else "You keep a private copy."
        screen.lines(f"{one.title}: your role has ended, or the list is no longer shared. {kept}")
        return
    if said := told(one):
        screen.lines(f"{one.title}: {said}.")
    if one.role:
        screen.lines(f"{one.title}: you are now {one.role}, and may {MAY[one.role]}.")
    if one.taken_back:
        what = listed([visible(text) for text in one.taken_back], _NAMED)
        screen.warn(f"{one.title}: you may only see it, so what you changed and had not sent is taken back: {what}.")
    if one.met:
        screen.say(met(one))
    if one.stayed:
        screen.say(stayed(one))
    for line in one.unreadable[:_NAMED]:
        screen.error(f"{one.title}, not read: {line}")
    if len(one.unreadable) > _NAMED:
        screen.error(f"{one.title}: {len(one.unreadable) - _NAMED} more; `barnacle check` names them.")
    if one.refused:
        screen.error(f"{one.title}: {one.refused}")
