"""The options of commands that read mail, from files or from one's own mailbox."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from barnacle.core.errors import UnclearError
from barnacle.jobs.mail.inbox import INBOX, Place


def options(parser: argparse.ArgumentParser) -> None:
    """What is said of one's own mailbox."""
    parser.add_argument(
        "--folder",
        metavar="NAME",
        action="append",
        help="a folder of your mailbox (default: the inbox); may be repeated",
    )
    parser.add_argument("--everything", action="store_true", help="read it all, not only what is new since last time")


def place_of(args: argparse.Namespace, purpose: str, since: str, tick: Callable[[int, int | None], None]) -> Place:
    """Where to look, by the options. Raises UnclearError."""
    if args.mailboxes and (args.folder or args.everything):
        raise UnclearError("--folder and --everything are about your own mailbox; leave the file out.")
    return Place(purpose, args.mailboxes, args.folder or [INBOX], args.everything, since, tick)
