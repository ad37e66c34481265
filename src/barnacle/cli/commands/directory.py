"""`barnacle directory`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.own_fields import own_value
from barnacle.core.text import count, listed, people
from barnacle.jobs.desk import directory
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.directory import Hit, Hits
from barnacle.jobs.people import from_directory
from barnacle.jobs.people.directory_refresh import Refreshed


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Your organisation's directory (LDAP). Nothing is ever written there. Everywhere a person is named, "
        "directory:WORDS takes somebody from it; `barnacle setup --directory` says where it is."
    )
    parser.set_defaults(run=run_status)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    find = verbs.add_parser("find", help="search it", parents=[common])
    find.add_argument("words", metavar="WORDS", nargs="+", help="any part of name, address, department or title")
    find.set_defaults(run=run_find)
    show = verbs.add_parser("show", help="all that it says of somebody", parents=[common])
    show.add_argument("words", metavar="WORDS", nargs="+", help="some of the name, or the address")
    show.set_defaults(run=run_show)
    take = verbs.add_parser("take", help="take people into the book", parents=[common])
    take.add_argument("who", metavar="WORDS", nargs="+", help="one person each: a name in quotes, or an address")
    take.add_argument("--into", metavar="LIST", help="put them on this list (made if there is none)")
    take.set_defaults(run=run_take)
    refresh = verbs.add_parser("refresh", help="see what has changed there, and take it over", parents=[common])
    refresh.add_argument(
        "who", metavar="WHO", nargs="*", help="only these; else all who were taken, and lists by filter"
    )
    refresh.add_argument("--over-mine", action="store_true", help="also over what you changed yourself")
    refresh.set_defaults(run=run_refresh)


def run_status(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    place = directory.place_of(desk)
    linked, gone, at = from_directory.standing(desk)
    screen.value({"directory": place.url, "linked": linked, "gone": gone, "refreshed": at or None})
    screen.lines(f"The directory is {place.host}, {place.base}.")
    screen.say(f"{people(linked)} in your book came from it.")
    if at:
        screen.say(f"Last looked at {local_time(at)}; `barnacle directory refresh` looks again.")
    return 0


def run_find(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.working("Searching the directory"):
        found = directory.find(desk, " ".join(args.words))
    screen.value(
        {"people": [_value(hit) for hit in found.some], "more": found.more or None, "elsewhere": found.elsewhere}
    )
    screen.table(
        ("Name", "Department", "Job", "Address", "Known"),
        [
            (hit.person.title, own_value(hit.person, directory.DEPARTMENT), hit.person.job, hit.person.preferred or "",
             "yes" if hit.known else "")
            for hit in found.some
        ],
    )  # fmt: skip
    if not found.some:
        screen.say("Nobody in the directory matches all of that.")
    _rest(found, screen)
    return 0


def _rest(found: Hits, screen: Screen) -> None:
    if found.more:
        screen.say(f"These are not all: {found.more}. Give more of the name.")
    if found.elsewhere:
        screen.say(f"It names other servers for {count(found.elsewhere, 'part')} of it; those were not asked.")


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    hit = from_directory.need(desk, " ".join(args.words))
    screen.value({**_value(hit), "dn": hit.entry.dn, "attributes": {k: list(v) for k, v in hit.entry.values.items()}})
    screen.lines(hit.person.title)
    rows = [(name, listed(list(values), 5)) for name, values in sorted(hit.entry.values.items())]
    screen.table(("Attribute", "Value"), rows)
    screen.say("In the book as " + hit.known.contact.title + "." if hit.known else "Not in the book.")
    return 0


def run_take(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    taken = from_directory.take(desk, args.who, args.into)
    screen.value(
        {
            "taken": [{"uid": one.contact.uid, "name": one.contact.title, "added": one.added} for one in taken.people],
            "list": taken.title,
        }
    )
    for one in taken.people:
        screen.lines(f"{one.contact.title} {'is in the book now' if one.added else 'was in the book; joined to it'}.")
    if taken.title:
        screen.say(f"{people(taken.members)} added to {taken.title}.")
    return 0


def run_refresh(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    def agree(found: Refreshed) -> tuple[bool, bool, bool]:
        return _agreed(found, args.over_mine, screen)

    found, changed, came = from_directory.refresh(desk, args.who, agree)
    screen.value(
        {
            "looked_at": found.looked_at,
            "differences": [one._asdict() for one in found.differences],
            "gone": found.gone,
            "new": [_value(hit) for hit in found.new],
            "remarks": found.remarks,
            "changed": changed,
            "came": came,
        }
    )
    screen.lines(f"{people(found.looked_at)} looked at: {changed:,} changed, {came:,} came in.")
    return 1 if found.remarks else 0


def _agreed(found: Refreshed, over_mine: bool, screen: Screen) -> tuple[bool, bool, bool]:
    """Show what is different, and ask."""
    for remark in found.remarks:
        screen.say(remark)
    if found.gone:
        screen.say(
            f"Not in the directory any more: {listed(found.gone, 8)}. They stay in your book; `check` shows them."
        )
    theirs = [one for one in found.differences if over_mine or not one.mine]
    mine = [one for one in found.differences if one.mine and not over_mine]
    if theirs:
        screen.table(
            ("Name", "What", "In your book", "The directory"), [(d.name, d.field, d.book, d.now) for d in theirs]
        )
    if mine:
        screen.say(f"{count(len(mine), 'difference')} where you changed the book yourself; yours stays (--over-mine):")
        screen.table(
            ("Name", "What", "In your book", "The directory"), [(d.name, d.field, d.book, d.now) for d in mine]
        )
    if found.new:
        shown = listed([hit.person.title for hit in found.new], 8)
        screen.say(f"Your lists by filter bring in {people(len(found.new))}: {shown}.")
    how = "Nothing was taken over. In a script, confirm with --yes."
    if not (screen.can_ask or screen.yes):
        if theirs or found.new:
            screen.warn(how)
        return False, over_mine, False
    over = bool(theirs) and screen.confirm(f"Take over {count(len(theirs), 'change')}?", how)
    take_new = bool(found.new) and screen.confirm("Take them into the book?", how)
    return over, over_mine, take_new


def _value(hit: Hit) -> dict[str, object]:
    person = hit.person
    return {
        "name": person.title,
        "addresses": [one.address for one in person.addresses],
        "phones": [one.number for one in person.phones],
        "department": own_value(person, directory.DEPARTMENT),
        "job": person.job,
        "org": person.org,
        "in_book": hit.known.contact.uid if hit.known else None,
    }
