"""`barnacle gather`."""

from __future__ import annotations

import argparse
import sys

from barnacle.cli.console import mailboxes
from barnacle.cli.console.pipes import in_file
from barnacle.cli.console.screen import Screen
from barnacle.core.checklist import Line, chosen_numbers
from barnacle.core.contact import check_label
from barnacle.core.text import count, listed, people
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import correspondents
from barnacle.jobs.mail.correspondents import Correspondence, Correspondent

SHOWN = 30


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Shows everybody you wrote to or heard from in past mail, and adds those you choose. Your own addresses, "
        "mailing lists and no-reply senders are left out. Without a file it reads your own mailbox, changes nothing "
        "there, and the next time only what is new."
    )
    parser.add_argument(
        "mailboxes", metavar="MAILBOX", type=in_file, nargs="*", help="an mbox file, a Maildir, or a message"
    )
    mailboxes.options(parser)
    parser.add_argument("--since", metavar="DATE", default="", help="only mail since then (2026-01-31)")
    parser.add_argument("--at-least", metavar="N", type=int, help="add those in at least N messages")
    parser.add_argument("--take", metavar="NUMBERS", help="add these from the table (1,3-5)")
    parser.add_argument("--pick", action="store_true", help="choose them on a checklist")
    parser.add_argument("--into", metavar="LIST", help="put them on this list (made if there is none)")
    parser.add_argument("--label", metavar="LABEL", action="append", default=[], help="give them this label")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    labels = [check_label(text) for text in args.label]
    what = listed([p.name for p in args.mailboxes], 2) if args.mailboxes else "your mailbox"
    with screen.progress(f"Reading {what}") as tick:
        place = mailboxes.place_of(args, "gather", args.since, tick)
        found = correspondents.gather(desk, place)
    for remark in place.remarks:
        screen.say(remark)
    screen.not_read(found.unread)
    chosen = _chosen(args, found, screen)
    if chosen is None:
        screen.value(_values(found))
        return 0
    taken = correspondents.take(desk, chosen, args.into, labels)
    screen.value(
        {
            **_values(found),
            "taken": [one.address for one in chosen],
            "added": taken.added,
            "updated": taken.updated,
            "members": taken.members,
            "list": taken.title,
        }
    )
    known = len(chosen) - taken.added
    also = f", {known} known already" if known else ""
    screen.lines(f"{people(len(chosen))} taken: {taken.added} new{also}.")
    if taken.title:
        screen.say(f"{people(taken.members)} added to {taken.title}.")
    return 0


def _values(found: Correspondence) -> dict[str, object]:
    people_ = [_value(n, one) for n, one in enumerate(found.people, 1)]
    return {"messages": found.messages, "new": found.new, "people": people_, "unread": found.unread}


def _value(number: int, one: Correspondent) -> dict[str, object]:
    return {
        "number": number,
        "name": one.name,
        "names": dict(one.names),
        "address": one.address,
        "messages": one.count,
        "sent": one.sent,
        "heard": one.heard,
        "last": one.last,
        "known": one.known,
    }


def _chosen(args: argparse.Namespace, found: Correspondence, screen: Screen) -> list[Correspondent] | None:
    """Those whom the options or the user choose; None where nobody was asked for."""
    if args.take:
        return [found.people[n - 1] for n in chosen_numbers(args.take, len(found.people))]
    if args.at_least is not None:
        return [one for one in found.people if one.count >= args.at_least]
    if args.pick:
        from barnacle.cli.console.picker import pick

        choices = [Line(one.address, _line(one)) for one in found.people]
        ticked = pick("Who to add", choices, ())
        return [one for one in found.people if one.address in ticked] if ticked is not None else None
    _table(found, screen)
    if not found.people or screen.json or not (screen.is_terminal and sys.stdin.isatty()):
        if found.people:
            ways = "--take 1,3-5 adds those, --at-least 3 those in three messages or more, --pick lets you choose."
            screen.say(f"\n{ways}")
        return None
    answer = input("\nNumbers to add (1,3-5), or Enter for none: ").strip()
    return [found.people[n - 1] for n in chosen_numbers(answer, len(found.people))] if answer else None


def _line(one: Correspondent) -> str:
    known = f" · known as {one.known}" if one.known else ""
    return f"{one.name or one.address} <{one.address}> · {count(one.count, 'message')}, last {one.last[:10]}{known}"


def _known(one: Correspondent) -> str:
    """Whether somebody is in the book, and under which name, where that is another."""
    if not one.known:
        return ""
    return "yes" if one.known in (one.name, _named(one)) else f"as {one.known}"


def _table(found: Correspondence, screen: Screen) -> None:
    most = SHOWN if screen.is_terminal else len(found.people)
    new = f" ({found.new:,} of them new)" if found.new is not None else ""
    said = f"{people(len(found.people))} in {count(found.messages, 'message')}{new}"
    screen.say(f"{said}:\n" if found.people else f"{said}.")
    screen.table(
        ("No", "Name", "Address", "Sent", "Heard", "Last", "Known"),
        [
            (n, _named(one), one.address, one.sent, one.heard, one.last[:10], _known(one))
            for n, one in enumerate(found.people[:most], 1)
        ],
    )
    if len(found.people) > most:
        screen.say(f"… and {len(found.people) - most} more; --pick shows all.")
    if found.automatic:
        what = ("mailing list or no-reply address", "mailing lists and no-reply addresses")
        screen.say(f"{count(found.automatic, *what)} left out.")


def _named(one: Correspondent) -> str:
    others = len(one.names) - 1
    return f"{one.name} (and {count(others, 'other spelling')})" if others > 0 else one.name
