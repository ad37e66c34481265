"""`barnacle text`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.text import tidy
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import texts
from barnacle.jobs.mail.texts import KeptText

_BEGINNING = 60


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Texts that you write again and again. Without a verb: all of them. `barnacle compose --use NAME` begins a "
        "message with one; fields such as {given|neighbour} in it are filled in where it goes to each."
    )
    parser.set_defaults(run=run_texts)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    keep = verbs.add_parser("keep", help="keep subject and text of a message under a name", parents=[common])
    keep.add_argument("name", metavar="NAME")
    keep.add_argument("message", metavar="mN")
    keep.set_defaults(run=run_keep)
    for name, purpose, run in (("show", "see one", run_show), ("remove", "forget one", run_remove)):
        verb = verbs.add_parser(name, help=purpose, parents=[common])
        verb.add_argument("name", metavar="NAME")
        verb.set_defaults(run=run, in_words=True)


def run_texts(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    some = texts.every(desk)
    screen.value([_value(one) for one in some])
    screen.table(
        ("Name", "Subject", "Begins", "Kept"),
        [(one.name, one.subject, tidy(one.text, _BEGINNING), local_time(one.created)) for one in some],
    )
    if not some:
        screen.say("No text is kept. `barnacle text keep NAME mN` keeps that of a message.")
    return 0


def run_keep(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    was_there = texts.keep(desk, args.name, args.message)
    screen.value({"name": args.name, "replaced": was_there})
    screen.lines(f"{'Kept anew' if was_there else 'Kept'} as {args.name}.")
    screen.say("`barnacle compose --use NAME` begins a message with it.")
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    one = texts.need(desk, args.name)
    screen.value(_value(one))
    screen.lines(f"{one.name}: {one.subject}")
    screen.lines("")
    for line in one.text.splitlines():
        screen.lines(line)
    return 0


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    one = texts.remove(desk, args.name)
    screen.value({"removed": one.name})
    screen.lines(f"{one.name} is no longer kept. `barnacle undo` brings it back.")
    return 0


def _value(one: KeptText) -> dict[str, object]:
    return {
        "name": one.name,
        "subject": one.subject,
        "text": one.text,
        "markdown": one.markdown,
        "kept": one.created,
    }
