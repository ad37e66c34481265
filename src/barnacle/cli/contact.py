"""`barnacle contact`."""

from __future__ import annotations

import argparse

from barnacle.cli import shapes
from barnacle.cli.screen import Screen, local_time
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact, check_label, read_address, read_phone
from barnacle.core.text import count, listed, plain_value
from barnacle.jobs import people
from barnacle.jobs.desk import Desk


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog, required=True)
    add = verbs.add_parser("add", help="add somebody", parents=[common], allow_abbrev=False)
    add.add_argument("who", metavar='"NAME <ADDRESS>"')
    add.add_argument(
        "--address", metavar="KIND:ADDRESS", action="append", default=[], help="one more; KIND is work, home or other"
    )
    add.add_argument("--phone", metavar="KIND:NUMBER", action="append", default=[], help="work, home, mobile or other")
    add.add_argument("--org", metavar="TEXT", default="", help="the organisation")
    add.add_argument("--job", metavar="TEXT", default="")
    add.add_argument("--web", metavar="TEXT", default="")
    add.add_argument("--note", metavar="TEXT", default="")
    add.add_argument("--label", metavar="LABEL", action="append", default=[])
    add.add_argument("--into", metavar="LIST", action="append", default=[], help="put on this list, made if need be")
    add.set_defaults(run=run_add)
    show = verbs.add_parser("show", help="all there is about somebody", parents=[common], allow_abbrev=False)
    show.add_argument("who", metavar="WHO", help="a name or part of it, an address or a uid")
    show.set_defaults(run=run_show)


def run_add(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    person = people.read_person(args.who)
    have = set(person.address_keys())
    for text in args.address:
        address = read_address(text)
        if address_key(address.address) not in have:
            have.add(address_key(address.address))
            person.addresses.append(address)
    person.phones = [read_phone(text) for text in args.phone]
    for name in ("org", "job", "web", "note"):
        setattr(person, name, plain_value(getattr(args, name), f"The {name}"))
    person.labels = list(dict.fromkeys(check_label(text) for text in args.label))
    result = people.add_contact(desk, person, args.into)
    one = result.contact
    screen.value(
        {"uid": one.uid, "name": one.name, "added": result.added, "changed": result.changed, "notes": result.notes}
    )
    if result.added:
        at = f" at {one.addresses[0].address}" if one.addresses and one.name else ""
        screen.say(f"Added {one.title}{at}.")
    for note in result.notes:
        screen.say(note)
    if result.lists:
        screen.say(f"{one.title} is on {listed(result.lists)} now.")
    if result.added and not one.addresses:
        screen.say("There is no address yet, so no message can go there.")
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    card = people.show_contact(desk, args.who)
    one = card.contact
    screen.value(
        {
            **shapes.contact(one, [m.list.title for m in card.lists]),
            "memberships": [
                {"list": m.list.title, "address": m.address, "since": m.since, "by": m.by} for m in card.lists
            ],
            "sent": [
                {"message": number, "subject": subject, "state": state, "at": at}
                for number, subject, state, at in card.written
            ],
            "source": one.source,
            "added": one.added,
        }
    )
    screen.lines(one.title)
    screen.lines(_facts(one))
    if card.lists:
        screen.say(f"\nOn {count(len(card.lists), 'list')}:")
        screen.table(
            ("List", "Address used", "Since", "How"),
            [(m.list.title, m.address or "none", local_time(m.since), m.by) for m in card.lists],
        )
    else:
        screen.say("\nOn no list.")
    if card.written:
        screen.say("\nSent:")
        screen.table(
            ("Message", "Subject", "State", "When"),
            [(number, subject, state, local_time(at)) for number, subject, state, at in card.written],
        )
    return 0


def _facts(one: Contact) -> str:
    facts: list[tuple[str, str]] = []
    for number, address in enumerate(one.addresses):
        remarks = [address.kind, "preferred" if number == 0 and len(one.addresses) > 1 else ""]
        facts.append(("Address", _remarked(address.address, remarks)))
    facts += [("Phone", _remarked(p.number, [p.kind])) for p in one.phones]
    facts += [("Organisation", one.org), ("Job", one.job), ("Web", one.web), ("Note", one.note)]
    facts.append(("Labels", ", ".join(one.labels)))
    if one.opt_out:
        facts.append(("Opted out", " · ".join(p for p in (local_time(one.opt_out.since), one.opt_out.why) if p)))
    facts.append(("In the book", " · ".join(p for p in (local_time(one.added), one.source) if p)))
    facts.append(("uid", one.uid))
    return "\n".join(f"  {name:<14}{value}" for name, value in facts if value)


def _remarked(value: str, remarks: list[str]) -> str:
    kept = ", ".join(r for r in remarks if r)
    return f"{value} ({kept})" if kept else value
