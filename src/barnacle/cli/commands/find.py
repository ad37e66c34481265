"""`barnacle find`."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from barnacle.cli.console import json_shapes
from barnacle.cli.console.screen import Screen
from barnacle.core.contact import Contact
from barnacle.core.text import count
from barnacle.core.text import people as people_words
from barnacle.jobs import search
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.separate_names import kind_of
from barnacle.jobs.search import Search

ON_A_TERMINAL = 100


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Finds people and lists by any part of any field. "
        "With several words, all must match; with none, everybody is shown."
    )
    parser.add_argument("words", metavar="WORD", nargs="*")
    parser.add_argument("--label", metavar="LABEL", help="only people with this label")
    parser.add_argument("--in", metavar="LIST", dest="in_list", help="only people on this list")
    parser.add_argument("--on-no-list", action="store_true", help="only people who are on no list")
    parser.add_argument("--unreachable", action="store_true", help="only people whom no message reaches, and why")
    parser.add_argument("--where", metavar="RULE", help="only people who match a rule (`barnacle help rules`)")
    parser.add_argument("--most", metavar="N", type=int, help=f"show at most N people (on a terminal {ON_A_TERMINAL})")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    most = args.most or (ON_A_TERMINAL if screen.is_terminal and not screen.json else None)
    words = [word for word in args.words if not _is_a_wish(args, word)]
    wish = Search(" ".join(words), args.label, args.in_list, args.where, most, args.on_no_list, args.unreachable)
    found = search.find(desk, wish)
    if args.unreachable and not found.contacts:
        screen.value([])
        screen.say("Of those asked for, nobody is known to be out of reach.")
        return 0
    return show(found, words, screen)


def _is_a_wish(args: argparse.Namespace, word: str) -> bool:
    """Whether a word says what an option does, as it does where people are named for a list or a message."""
    kind, value = kind_of(word), word.partition(":")[2].strip()
    if not value or kind not in ("label", "where") or getattr(args, kind) is not None:
        return False
    setattr(args, kind, value)
    return True


def show(found: search.Found, words: Sequence[str], screen: Screen) -> int:
    """Show what a search found; of several addresses the one that has the words."""
    why_not = found.why_not
    if screen.json:
        values = [json_shapes.contact(one, on) for one, on in found.contacts]
        screen.value(
            [value | {"why_not": why} for value, why in zip(values, why_not, strict=True)] if why_not else values
        )
    for note in found.notes:
        screen.warn(note)
    screen.table(
        ("Name", "Address", "Why not" if why_not else "Organisation", "Lists"),
        [
            (one.title, _address(one, words), why_not[number] if why_not else one.org, ", ".join(on))
            for number, (one, on) in enumerate(found.contacts)
        ],
        below=("Lists",) if why_not else (),
    )
    if found.lists:
        if found.contacts:
            screen.say()
        screen.table(("List", "Members"), [(one.list.title, one.members) for one in found.lists])
    if not found.contacts and not found.lists:
        screen.say(found.nothing)
    elif found.more:
        screen.say(
            f"The first {people_words(len(found.contacts))}; there are more. "
            "Add a word to narrow it, or --most N to see more."
        )
    elif screen.is_terminal:
        lists = f", {count(len(found.lists), 'list')}" if found.lists else ""
        screen.say(f"{people_words(len(found.contacts))}{lists}.")
    return 0


def _address(one: Contact, words: Sequence[str]) -> str:
    """The address that was searched for, else the preferred one."""
    found = (a.address for a in one.addresses if any(w.lower() in a.address.lower() for w in words))
    return next(found, one.preferred or "no address")
