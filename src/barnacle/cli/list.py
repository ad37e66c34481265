"""`barnacle list`."""

from __future__ import annotations

import argparse

from barnacle.cli.screen import Screen, local_time
from barnacle.core.text import listed, people, plain_value
from barnacle.jobs import groups
from barnacle.jobs.desk import Desk
from barnacle.jobs.groups import Changed, Member


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Without a verb: all your lists."
    parser.set_defaults(run=run_overview)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    new = verbs.add_parser("new", help="make a list", parents=[common], allow_abbrev=False)
    new.add_argument("title", metavar="TITLE")
    new.add_argument("who", metavar="WHO", nargs="*", help="who is on it from the start")
    new.add_argument("--about", metavar="TEXT", default="", help="what the list is for")
    new.set_defaults(run=run_new)
    show = verbs.add_parser("show", help="who is on a list", parents=[common], allow_abbrev=False)
    show.add_argument("list", metavar="LIST")
    show.set_defaults(run=run_show)
    for name, purpose, run in (
        ("add", "put people on a list", run_add),
        ("take", "take people off a list; they stay in the book", run_take),
    ):
        verb = verbs.add_parser(name, help=purpose, parents=[common], allow_abbrev=False)
        verb.add_argument("list", metavar="LIST")
        verb.add_argument("who", metavar="WHO", nargs="+", help='a name, an address or a uid; or "NAME <ADDRESS>"')
        verb.set_defaults(run=run)
    remove = verbs.add_parser(
        "remove", help="remove a list; its people stay in the book", parents=[common], allow_abbrev=False
    )
    remove.add_argument("list", metavar="LIST")
    remove.set_defaults(run=run_remove)


def run_overview(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    rows = groups.overview(desk)
    screen.value(
        [
            {
                "title": one.list.title,
                "members": one.members,
                "reachable": one.reachable,
                "kind": "by hand",
                "pinned": one.list.pinned,
                "written": written,
            }
            for one, written in rows
        ]
    )
    screen.table(
        ("List", "Members", "Can be reached", "Kind", "Last written to"),
        [
            (one.list.title, one.members, one.reachable, "by hand", local_time(written) or "never")
            for one, written in rows
        ],
    )
    if not rows:
        screen.say('There is no list yet. `barnacle list new "TITLE"` makes one; so does `barnacle import … --into`.')
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    target, members = groups.show(desk, args.list)

    def used(member: Member) -> str | None:
        addresses = member.contact.addresses
        return member.address or (addresses[0].address if addresses else None)

    screen.value(
        {
            "title": target.title,
            "about": target.about,
            "members": [
                {
                    "uid": m.contact.uid,
                    "name": m.contact.title,
                    "address": used(m),
                    "since": m.since,
                    "by": m.by,
                    "reachable": bool(m.contact.addresses) and m.contact.opt_out is None,
                }
                for m in members
            ],
        }
    )
    reachable = sum(bool(m.contact.addresses) and m.contact.opt_out is None for m in members)
    screen.say(f"{target.title}: {people(len(members))}, {reachable} can be reached.")
    if target.about:
        screen.say(target.about)
    screen.say()
    screen.table(
        ("Name", "Address", "Since", "How"),
        [(m.contact.title, used(m) or "no address", local_time(m.since), _how(m)) for m in members],
    )
    return 0


def _how(member: Member) -> str:
    return f"{member.by} · opted out" if member.contact.opt_out else member.by


def run_new(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = groups.new(desk, args.title, args.who, plain_value(args.about, "The description"))
    _value(screen, result, "added")
    if args.who:
        screen.say(f"Made the list {result.target.title} with {people(result.members)}.")
    else:
        screen.say(f'Made the list {result.target.title}. `barnacle list add "{result.target.title}" WHO` fills it.')
    _notes(screen, result)
    return 0


def run_add(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = groups.add(desk, args.list, args.who)
    _value(screen, result, "added")
    if result.done:
        screen.say(f"Put {listed(result.done)} on {result.target.title}: {people(result.members)} now.")
    if result.already:
        verb = "was" if len(result.already) == 1 else "were"
        screen.say(f"{listed(result.already)} {verb} on {result.target.title} already.")
    _notes(screen, result)
    return 0


def run_take(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = groups.take(desk, args.list, args.who)
    _value(screen, result, "taken")
    stay = "stays" if len(result.done) == 1 else "stay"
    screen.say(
        f"Took {listed(result.done)} off {result.target.title}: {people(result.members)} now. "
        f"{listed(result.done)} {stay} in the book."
    )
    return 0


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    plan = groups.removal(desk, args.list)
    what = f"{plan.target.title} goes; its {people(plan.members)} stay in the book."
    if plan.messages:
        what += f" {listed(plan.messages)} in the outbox could then not be sent."
    if not screen.confirm(f"{what} Remove it?", f"{what} To remove it, say so with --yes."):
        screen.say("Nothing was changed.")
        return 2
    removed = groups.remove(desk, args.list)
    screen.value({"title": removed.title, "members": plan.members})
    screen.say(
        f"Removed the list {removed.title}; its {people(plan.members)} stay in the book. `barnacle undo` undoes it."
    )
    return 0


def _value(screen: Screen, result: Changed, verb: str) -> None:
    screen.value(
        {
            "title": result.target.title,
            "members": result.members,
            verb: result.done,
            "already": result.already,
            "notes": result.notes,
        }
    )


def _notes(screen: Screen, result: Changed) -> None:
    for note in result.notes:
        screen.say(note)
