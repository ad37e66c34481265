"""`barnacle label`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.core.contact import check_label
from barnacle.core.text import fold, people
from barnacle.jobs import search
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.people.labels import change_label, labels, need_label
from barnacle.jobs.search import Search


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Without a verb: all labels with how many people have each. `barnacle contact label WHO --add LABEL` "
        "adds one; label:NAME means everybody who has it."
    )
    parser.set_defaults(run=run_overview)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    show = verbs.add_parser("show", help="see who has it", parents=[common])
    show.add_argument("label", metavar="LABEL")
    show.set_defaults(in_words=True)
    show.set_defaults(run=run_show)
    rename = verbs.add_parser("rename", help="for everybody who has it", parents=[common])
    rename.add_argument("label", metavar="LABEL")
    rename.add_argument("new", metavar="NEW-LABEL")
    rename.set_defaults(run=run_rename)
    remove = verbs.add_parser("remove", help="remove it from everybody; the people stay", parents=[common])
    remove.add_argument("label", metavar="LABEL")
    remove.set_defaults(run=run_remove)


def run_overview(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    every = labels(desk)
    screen.value([{"label": label, "people": number} for label, number in every.items()])
    screen.table(("Label", "People"), list(every.items()))
    if not every:
        screen.say("You have no labels yet. `barnacle contact label WHO --add LABEL` adds one.")
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.cli.commands import find

    found = search.find(desk, Search("", label=need_label(desk, args.label)))
    return find.show(found, [], screen)


def run_rename(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    new = check_label(args.new)
    had = {fold(label): number for label, number in labels(desk).items()}
    number = change_label(desk, args.label, new)
    screen.value({"label": new, "people": number})
    screen.say(f"{args.label} is now {new}, for {people(number)}.")
    before = had.get(fold(new), 0) if fold(new) != fold(args.label) else 0
    if before:
        together = next(number for label, number in labels(desk).items() if fold(label) == fold(new))
        screen.say(f"{people(before)} had it before; {together} have it together. `barnacle undo` parts them again.")
    return 0


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    number = change_label(desk, args.label, None)
    screen.value({"label": args.label, "people": number})
    screen.say(f"Took {args.label} off {people(number)}; they stay in the book.")
    return 0
