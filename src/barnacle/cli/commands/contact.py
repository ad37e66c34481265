"""`barnacle contact`."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from barnacle.cli.console import json_shapes
from barnacle.cli.console.contact_facts import facts, history, in_lines
from barnacle.cli.console.pipes import in_file
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact, check_label, read_address, read_phone
from barnacle.core.contact_fields import PLAIN
from barnacle.core.errors import UnclearError
from barnacle.core.own_fields import check_own_title, set_own
from barnacle.core.text import count, listed, people, plain_value, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import is_file, read_and_typed
from barnacle.jobs.desk.separate_names import OFF, ONTO
from barnacle.jobs.people import contacts, labels, removal
from barnacle.jobs.people import edit as editing

_SENT_SHOWN = 10


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog, required=True)

    def verb(name: str, purpose: str, run: Callable[..., int], many: bool = False) -> argparse.ArgumentParser:
        made = verbs.add_parser(name, help=purpose, parents=[common])
        made.add_argument("who", metavar="WHO", nargs="+" if many else None, help="a name, an address or a uid")
        made.set_defaults(run=run)
        return made

    add = verbs.add_parser("add", help="add somebody", parents=[common])
    add.add_argument("who", metavar='"NAME <ADDRESS>"', nargs="+")
    add.set_defaults(run=run_add)
    edit = verb("edit", "change somebody, by options or as a card in your editor", run_edit)
    for parser_of, default in ((add, ""), (edit, None)):
        parser_of.add_argument(
            "--address", metavar="KIND:ADDRESS", action="append", default=[], help="one more; work, home or other"
        )
        parser_of.add_argument(
            "--phone", metavar="KIND:NUMBER", action="append", default=[], help="one more; work, home, mobile or other"
        )
        for field in PLAIN:
            parser_of.add_argument(f"--{field.name}", metavar="TEXT", default=default)
        parser_of.add_argument("--label", metavar="LABEL", action="append", default=[], help="one more")
        parser_of.add_argument(
            "--set",
            metavar="FIELD=VALUE",
            action="append",
            default=[],
            help="a field of your own; with no value, it is emptied",
        )
    add.add_argument(
        "--into", metavar="LIST", action="append", default=[], help="put them on this list (made if there is none)"
    )
    edit.add_argument("--name", metavar="TEXT")
    edit.add_argument("--drop-address", metavar="ADDRESS", action="append", default=[])
    edit.add_argument("--drop-phone", metavar="NUMBER", action="append", default=[])
    verb("show", "see everything about somebody", run_show).set_defaults(in_words=True)
    verb("remove", "remove people from the book and from every list", run_remove, many=True)
    label = verb("label", "add labels to people, or take them off", run_label, many=True)
    label.add_argument("--add", metavar="LABEL", action="append", default=[])
    label.add_argument("--drop", metavar="LABEL", action="append", default=[])
    prefer = verb("prefer", "choose which address to write to, always or for one list", run_prefer)
    prefer.add_argument("address", metavar="ADDRESS")
    prefer.add_argument("--in", metavar="LIST", dest="in_list")
    out = verbs.add_parser("optout", help="never write to people", parents=[common])
    out.add_argument("who", metavar="WHO", nargs="*", help="people, a list, label:NAME, find:WORDS, where:RULE")
    out.add_argument(
        "--from", metavar="FILE", dest="file", type=in_file, help="everybody in this file who is in the book"
    )
    out.add_argument("--why", metavar="TEXT", default="")
    out.set_defaults(run=run_optout)
    verb("optin", "let people be written to again", run_optin, many=True)
    verb("merge", "merge several contacts; the first one named stays", run_merge, many=True)


def run_add(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    who, target = _parted(args.who, ONTO)
    if target:
        raise UnclearError(f"To put somebody on a list, write `barnacle contact add {who} --into {target}`.")
    if error := is_file(args.who[0]):
        raise error
    person = contacts.read_person(" ".join(args.who))
    have = set(person.address_keys())
    for text in args.address:
        address = read_address(text)
        if address_key(address.address) not in have:
            have.add(address_key(address.address))
            person.addresses.append(address)
    person.phones += [read_phone(text) for text in args.phone]
    for name in (field.name for field in PLAIN):
        setattr(person, name, plain_value(getattr(args, name), f"The {name}"))
    person.labels = list(dict.fromkeys(check_label(text) for text in args.label))
    own = _own(args.set)
    for title, value in own:
        set_own(person, title, value)
    slips = labels.likely_slips(desk, person.labels, [title for title, _ in own])
    result = contacts.add_contact(desk, person, args.into)
    one = result.contact
    screen.value(
        {"uid": one.uid, "name": one.name, "added": result.added, "changed": result.changed, "notes": result.notes}
    )
    if result.added:
        at = f" at {one.preferred}" if one.preferred and one.name else ""
        phones = "".join(f", phone {phone.number}" for phone in one.phones)
        screen.say(f"Added {one.title}{at}{phones}.")
    for note in (*result.notes, *slips):
        screen.say(note)
    if result.lists:
        screen.say(f"{one.title} is now on {listed(result.lists)}.")
    if result.added and not one.addresses:
        screen.say("There is no address yet, so they cannot be written to.")
    return 0


def run_edit(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.name is not None and not args.name.strip():
        raise UnclearError("A name cannot be empty. To have none, give an address or an organisation instead.")
    if not all(text.strip() for text in (*args.phone, *args.address)):
        raise UnclearError(
            "--phone and --address add one more; `--drop-phone NUMBER` and `--drop-address ADDRESS` take one away."
        )
    given = {name: getattr(args, name) for name in ("name", *(field.name for field in PLAIN))}
    fields = {name: plain_value(value, f"The {name}") for name, value in given.items() if value is not None}
    wish = editing.Edit(
        fields,
        [read_address(text) for text in args.address],
        [read_phone(text) for text in args.phone],
        [check_label(text) for text in args.label],
        _own(args.set),
        args.drop_address,
        args.drop_phone,
    )
    slips = labels.likely_slips(desk, wish.labels, [title for title, value in wish.own if value])
    if wish == editing.Edit({}, [], [], [], wish.own, [], []) and wish.own:  # of many at once, too
        changed = editing.set_own_of(desk, [args.who], wish.own)
        names = [one.title for one in changed]
        uid = changed[0].uid if changed else None
        screen.value(
            {"uid": uid, "name": names[0] if names else None, "changed": bool(names), "names": names, "notes": slips}
        )
        screen.say(f"Changed {listed(names)}." if names else "Nothing was changed.")
        for slip in slips:
            screen.say(slip)
        return 0
    if any(wish):
        result = editing.edit(desk, args.who, wish)
        result = result._replace(notes=[*result.notes, *slips])
    else:
        from barnacle.cli.console.editor import edit_card

        one = contacts.show_contact(desk, args.who).contact
        card = edit_card(one, screen)
        result = editing.replace(desk, one.uid, card) if card else editing.Edited(one, False, [])
    _edited(result, f"Changed {result.contact.title}.", screen)
    return 0


def _edited(result: editing.Edited, sentence: str, screen: Screen) -> None:
    one = result.contact
    screen.value({"uid": one.uid, "name": one.name, "changed": result.changed, "notes": result.notes})
    screen.say(sentence if result.changed else "Nothing was changed.")
    for note in result.notes:
        screen.say(note)


def _parted(words: list[str], joints: tuple[str, ...]) -> tuple[str, str]:
    """What stands in front of a small word, and what behind it, as somebody would type them; nothing where there is no
    such word."""
    place = next((n for n, word in enumerate(words) if n and word in joints), len(words))
    if place >= len(words) - 1:
        return "", ""
    import shlex  # only for a mistake: it costs start-up time

    before, behind = (shlex.quote(visible(" ".join(some), 100)) for some in (words[:place], words[place + 1 :]))
    return before, behind


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    who, target = _parted(args.who, OFF)
    if target:
        raise UnclearError(f"To take somebody off a list, write `barnacle list take {target} {who}`.")

    def agree(names: list[str]) -> bool:
        what = f"Remove {people(len(names))} from the book: {listed(names, 20)}?"
        return screen.confirm(what, f"{what} In a script, confirm with --yes. Nothing was changed.")

    removed = removal.remove(desk, args.who, agree)
    if not removed:
        screen.say("Nothing was changed.")
        return 2
    screen.value([{"name": one.name, "lists": one.lists} for one in removed])
    for one in removed:
        left = f", and with that from {listed(one.lists)}" if one.lists else ""
        screen.say(f"Removed {one.name} from the book{left}.")
    screen.say("`barnacle undo` brings it all back.")
    return 0


def run_label(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    add = [check_label(text) for text in args.add]
    if not add and not args.drop:
        which = visible(args.who[-1], 40) if len(args.who) > 1 else "LABEL"
        raise UnclearError(f"Which label? Give --add {which} or --drop {which}.")
    slips = labels.likely_slips(desk, add, ())
    changed = labels.label(desk, args.who, add, args.drop)
    screen.value({"changed": changed})
    so = "Their labels are like that already." if add and args.drop else "They did not have that label."
    same = so if args.drop else "They had that label already."
    screen.say(f"Changed labels of {listed(changed)}." if changed else same)
    for slip in slips if changed else ():
        screen.say(slip)
    return 0


def run_prefer(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    one, address, title = editing.prefer(desk, args.who, args.address, args.in_list)
    screen.value({"uid": one.uid, "address": address, "list": title})
    where = f"{title} writes to {one.title}" if title else f"{one.title} is written to"
    screen.say(f"{where} at {address} from now on.")
    return 0


def run_optout(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.file is not None:
        if args.who:
            raise UnclearError("Give people or a file (--from), not both.")
        some, unknown = editing.opt_out_of_file(desk, args.file, plain_value(args.why, "The reason"))
        _opted(some, True, screen)
        if unknown:
            told = listed([visible(one, 60) for one in unknown])
            screen.say(
                f"Nobody in the book has {told}. `barnacle import FILE --optout` adds them, marked as opted out."
            )
        return 0
    if not args.who:
        raise UnclearError("Who? Give a name, a list, label:NAME, find:WORDS, where:RULE, or --from FILE.")
    return _opted(editing.opt(desk, args.who, True, plain_value(args.why, "The reason")), True, screen)


def run_optin(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    return _opted(editing.opt(desk, args.who, False), False, screen)


def _opted(some: list[Contact], out: bool, screen: Screen) -> int:
    names = [one.title for one in some]
    screen.value({"uid": some[0].uid if some else None, "opted_out": out, "names": names})
    who = listed(names, 5)
    if not names:
        have = "have all opted out already" if out else "had not opted out"
        screen.say(f"Nothing was changed: they {have}.")
    elif out:
        stay = "stays on the lists and is" if len(names) == 1 else "stay on the lists and are"
        screen.say(f"{who} {stay} never written to. `barnacle contact optin` reverses that.")
    else:
        screen.say(f"{who} may be written to again.")
    return 0


def _own(texts: list[str]) -> list[tuple[str, str]]:
    """`FIELD=VALUE`, each checked. Raises UnclearError."""
    found = []
    for text in texts:
        title, sign, value = text.partition("=")
        if not sign:
            raise UnclearError(
                f"`{visible(text, 60)}` does not set a field. Write --set FIELD=VALUE, such as --set Voice=alto."
            )
        found.append((check_own_title(title), value))
    return found


def run_merge(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = editing.merge_contacts(desk, args.who)
    _edited(result, f"{result.contact.title} is one contact now. `barnacle undo` separates them again.", screen)
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    card = contacts.show_contact(desk, args.who)
    one = card.contact
    screen.value(
        {
            **json_shapes.contact(one, [m.list.title for m in card.lists]),
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
    screen.lines(in_lines(facts(one) + history(one)))
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
            [(number, subject, state, local_time(at)) for number, subject, state, at in card.written[:_SENT_SHOWN]],
        )
        if len(card.written) > _SENT_SHOWN:
            who = read_and_typed(one.addresses[0].address if one.addresses else one.title)[1]
            screen.say(
                f"\nThe last {_SENT_SHOWN} of {count(len(card.written), 'message')}; `barnacle outbox {who} --all` "
                "shows them all."
            )
    return 0
