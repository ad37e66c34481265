"""`barnacle list`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable

from barnacle.cli.console.pipes import in_file
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.addresses import split_pasted
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.phones import LEAST_DIGITS
from barnacle.core.sharing import Sharer
from barnacle.core.text import as_typed, count, listed, people, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.lists import manage
from barnacle.jobs.lists.changes import ListChange
from barnacle.jobs.lists.manage import Member, Shown, Told

PASTE_LIMIT = 2_000_000


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Shows all your lists; with a title, who is on it; with a verb, makes, fills or removes one."
    parser.set_defaults(run=run_overview)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)

    def verb(name: str, purpose: str, run: Callable[..., int], metavar: str = "LIST") -> argparse.ArgumentParser:
        made = verbs.add_parser(name, help=purpose, parents=[common])
        made.add_argument("list", metavar=metavar)
        made.set_defaults(run=run)
        return made

    who = (
        "a name, an address or a uid; another list; label:NAME; find:WORDS; mN, the recipients of a sent message "
        "(mN:refused: those who were); "
        '"NAME <ADDRESS>"; or - to paste lines of addresses'
    )
    for name, purpose, run, many in (
        ("new", "make a list", run_new, "*"),
        ("add", "add people to a list", run_add, "+"),
    ):
        made = verb(name, purpose, run, "TITLE" if name == "new" else "LIST")
        made.add_argument("who", metavar="WHO", nargs=many, help=who)
        made.add_argument(
            "--list-only", action="store_true", help="people added by address exist only on this list, and go with it"
        )
        if name == "new":
            made.add_argument("--about", metavar="TEXT", default="", help="what the list is for")
            made.add_argument(
                "--from-message", metavar="FILE", type=in_file, help="everybody named in a message, except you"
            )
            made.add_argument("--where", metavar="RULE", help="a rule that fills the list (`barnacle help rules`)")
    show = verb("show", "see who is on a list", run_show)
    show.set_defaults(in_words=True)
    show.add_argument(
        "--columns", metavar="FIELDS", default="", help="fields to show beside the name, such as `Voice, phone`"
    )
    verb("pick", "choose who is on a list, on a checklist of everybody", run_pick)
    made = verb("take", "take people off a list; they stay in the book", run_take)
    made.add_argument("who", metavar="WHO", nargs="+", help=who)
    verb("rename", "rename a list", run_rename).add_argument("title", metavar="NEW-TITLE")
    verb("about", "describe what a list is for", run_about).add_argument("about", metavar="TEXT")
    made = verb("sender", "see or say as whom you usually write to a list", run_sender)
    made.add_argument("sender", metavar="SENDER", nargs="?", help="one of your senders")
    made.add_argument("--none", action="store_true", help="as yourself again")
    made = verb("rule", "show, set or end the rule that fills a list by itself", run_rule)
    made.add_argument("rule", metavar="RULE", nargs="?", help='such as "domain is tidewick.example and label is crew"')
    made.add_argument("--none", action="store_true", help="end the rule; its people stay on the list")
    verb("pin", "show a list before the others", run_pin).set_defaults(pinned=True)
    verb("unpin", "stop showing it first", run_pin).set_defaults(pinned=False)
    verb("copy", "a new list with the same people", run_copy).add_argument("title", metavar="NEW-TITLE")
    made = verb("compare", "see who is on both, and who on only one", run_compare)
    made.add_argument("others", metavar="LIST", nargs="+")
    made = verb("remove", "remove a list; its people stay in the book", run_remove)
    made.add_argument("--with-contacts", action="store_true", help="remove its people too, except those on other lists")
    made.add_argument("--even-if-on-others", action="store_true", help="also those on other lists")


def run_overview(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    rows = manage.overview(desk)
    screen.value(
        [
            {
                "title": one.list.title,
                "members": one.members,
                "reachable": one.reachable,
                "kind": one.list.kind,
                "pinned": one.list.pinned,
                "written": written,
                "shared": shared,
            }
            for one, written, shared in rows
        ]
    )
    # A column that would be empty throughout says nothing.
    some = any(one.shared for one in rows)
    screen.table(
        ("List", "Members", "Can be reached", "Kind", *(["Shared: you are"] if some else []), "Last written to"),
        [
            (
                f"{one.list.title} (pinned)" if one.list.pinned else one.list.title,
                one.members,
                one.reachable,
                one.list.kind,
                *([shared or ""] if some else []),
                local_time(written) or "never",
            )
            for one, written, shared in rows
        ],
    )
    if not rows:
        screen.say('You have no lists yet. `barnacle list new "TITLE"` makes one; so does `barnacle import … --into`.')
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    shown = manage.show(desk, args.list, [part.strip() for part in args.columns.split(",") if part.strip()])
    target, members = shown.target, shown.members
    changed = shown.shared.changed if shown.shared else {}

    def used(member: Member) -> str | None:
        return member.contact.used_at(member.address)

    screen.value(
        {
            "title": target.title,
            "about": target.about,
            "sender": target.sender,
            "rule": shown.rule,
            "kept_off": shown.kept_off,
            "notes": shown.notes,
            "shared": shown.shared
            and {
                **{key: value for key, value in shown.shared._asdict().items() if key != "changed"},
                "people": [one._asdict() for one in shown.shared.people],
            },
            "members": [
                {
                    "uid": m.contact.uid,
                    "name": m.contact.title,
                    "address": used(m),
                    "since": m.since,
                    "by": m.by,
                    "why": shown.reasons.get(m.id),
                    "reachable": m.id not in shown.why_not,
                    "why_not": shown.why_not.get(m.id),
                    "changed_by": changed[m.id][0] if m.id in changed else None,
                    "changed": changed[m.id][1] if m.id in changed else None,
                    **({"columns": dict(zip(shown.columns, shown.values[m.id], strict=True))} if shown.columns else {}),
                }
                for m in members
            ],
        }
    )
    screen.say(f"{target.title}: {people(len(members))}, {len(members) - len(shown.why_not):,} can be reached.")
    if target.sender:
        screen.say(f"You write to it as {target.sender}.")
    if target.about:
        screen.say(target.about)
    if shown.rule:
        screen.say(f"Follows the rule: {shown.rule}")
    if shown.kept_off:
        screen.say(f"Kept off by you: {listed(shown.kept_off)}")
    for note in shown.notes:
        screen.say(note)
    if shown.shared:
        _shared(shown.shared, screen)
    screen.say()
    if shown.columns:
        columns = ("Name", "Address", *(f"{name[:1].upper()}{name[1:]}" for name in shown.columns))
        rows = [(m.contact.title, used(m) or "no address", *shown.values[m.id]) for m in members]
    else:
        columns = ("Name", "Address", "Since", "How")
        rows = [(m.contact.title, used(m) or "no address", local_time(m.since), _how(m, shown)) for m in members]
    screen.table(columns, rows)
    return 0


def _shared(shared: Told, screen: Screen) -> None:
    """With whom a list is shared, in which role, when it was last exchanged, and what waits."""

    def called(one: Sharer) -> str:
        state = "" if one.state == "joined" else f", {one.state}"
        return f"{one.called} ({one.role}{state})"

    with_whom = [called(one) for one in shared.people]
    screen.say(f"Shared, you are {shared.role}: {listed(with_whom, 6)}.")
    if shared.giver and shared.role != "owner":
        screen.say(f"{shared.giver} offered it to you.")
    out = count(shared.waiting, "change") + (" waits" if shared.waiting == 1 else " wait") + " to go out"
    waits = f"{out} (`barnacle sync`)" if shared.waiting else "nothing waiting to go out"
    screen.say(f"Last exchanged {local_time(shared.at) or 'never'}; {waits}.")
    if shared.house:
        address, *rules = shared.house
        screen.say(f"Whoever writes to {address} reaches this list. {' '.join(rules)}")
    if shared.conflicts:
        screen.say(f"{count(shared.conflicts, 'conflict')}: `barnacle share conflicts`.")


def _how(member: Member, shown: Shown) -> str:
    part = shown.reasons.get(member.id)
    # The rule as a whole is said above.
    why = member.by if part is None else "the rule" if part == shown.rule else f"rule: {part}"
    why_not = shown.why_not.get(member.id, "") if member.contact.addresses else ""
    last_by, last_at = shown.shared.changed.get(member.id, ("", "")) if shown.shared else ("", "")
    last = f"changed by {last_by.partition(' <')[0]}" if last_by and last_at > member.since else ""
    remarks = [last, why_not, "on this list alone" if member.contact.list_only else ""]
    return " · ".join(r for r in (why, *remarks) if r)


def run_new(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    who = _pasted(args.who)
    if args.from_message:
        from barnacle.jobs.mail import correspondents

        who += correspondents.recipients_of(desk, args.from_message)
    try:
        result = manage.new(desk, args.list, who, args.about, args.list_only, args.where)
    except NotFoundError as error:
        first = who[0] if who else " "
        if " " in args.list or " " in first or f"`{first}`" not in str(error):
            raise
        title = visible(f'"{args.list} {first}"', 80)
        raise NotFoundError(f"{error} A title of several words stands in quotation marks: {title}.") from None
    _value(screen, result, "added")
    if who or args.where:
        screen.say(f"Made the list {result.target.title} with {people(result.members)}.")
    else:
        screen.say(f'Made the list {result.target.title}. `barnacle list add "{result.target.title}" WHO` fills it.')
    _notes(screen, result)
    return 0


def run_add(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.lists import members

    result = members.add(desk, args.list, _pasted(args.who), args.list_only)
    _value(screen, result, "added")
    if result.done:
        screen.say(f"Added {listed(result.done)} to {result.target.title}: {people(result.members)} now.")
    if result.already:
        verb = "was" if len(result.already) == 1 else "were"
        screen.say(f"{listed(result.already)} {verb} already on {result.target.title}.")
    if not result.done and not result.already:
        screen.say("You named nobody, so nothing was changed.")
    _notes(screen, result)
    return 0


def _pasted(who: list[str]) -> list[str]:
    """Who was named, with `-` replaced by the address lines on standard input."""
    if "-" not in who:
        return who
    if sys.stdin.isatty():
        print("Paste the addresses, then press Ctrl-D on a line of its own:", file=sys.stderr)
    pasted = as_typed(sys.stdin.read(PASTE_LIMIT))
    found = split_pasted(pasted)
    if any("@" not in piece for piece in found):
        # A phone number may stand in a line besides.
        found = []
        for line in pasted.splitlines():
            has_number = sum(map(str.isdigit, line)) >= LEAST_DIGITS
            found += [line] if has_number and line.count("@") == 1 else split_pasted(line)
    return [one for text in who for one in (found if text == "-" else [text])]


def run_pick(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.cli.console.picker import pick
    from barnacle.jobs.lists import members

    result = members.pick(desk, args.list, pick)
    if result is None:
        screen.value({"title": args.list, "added": [], "taken": []})
        screen.say("Nothing was changed.")
        return 0
    screen.value(
        {"title": result.target.title, "added": result.added, "taken": result.taken, "members": result.members}
    )
    if result.added:
        screen.say(f"Added {listed(result.added)} to {result.target.title}.")
    if result.taken:
        screen.say(f"Took {listed(result.taken)} off {result.target.title}.")
    screen.say(f"{result.target.title}: {people(result.members)} now.")
    return 0


def run_take(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.lists import members

    result = members.take(desk, args.list, args.who)
    _value(screen, result, "taken")
    stay = "stays" if len(result.done) == 1 else "stay"
    screen.say(
        f"Took {listed(result.done)} off {result.target.title}: {people(result.members)} now. "
        f"{listed(result.done)} {stay} in the book."
    )
    return 0


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    options = (args.list, args.with_contacts or args.even_if_on_others, args.even_if_on_others)
    plan = manage.removal(desk, *options)
    going = [kept.contact.title for kept in plan.going]
    stay = plan.members - len(going)
    what = f"the list {plan.target.title}"
    if going:
        what += f", and {people(len(going))} from the book: {listed(going, 20)}"
    whose = "The other" if going else "Its"
    rest = f" {whose} {people(stay) if stay > 1 else 'person'} {_stay(stay)} in the book." if stay else ""
    if plan.staying:
        rest += f" {listed(plan.staying, 20)} {_stay(len(plan.staying))}, being on other lists too."
    if plan.asked_by:
        rest += f" The rules of {listed(plan.asked_by)} refer to it, and find nobody there any more."
    if plan.messages:
        rest += f" {listed(plan.messages)} in the outbox can no longer be sent."
    if plan.shared:
        rest += " Those who share it keep it; `barnacle sync` tells them that you left."
    # The list alone is brought back by `undo`; people who were not named are asked about first.
    question = f"Remove {what}?{rest}"
    if going and not screen.confirm(question, f"{question} In a script, confirm with --yes. Nothing was changed."):
        screen.say("Nothing was changed.")
        return 2
    manage.remove(desk, *options)
    screen.value({"title": plan.target.title, "members": plan.members, "removed": going, "stayed": plan.staying})
    screen.say(f"Removed {what}.{rest} `barnacle undo` brings it all back.")
    return 0


def _stay(number: int) -> str:
    return "stays" if number == 1 else "stay"


def run_rename(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    old, new = manage.rename(desk, args.list, args.title)
    screen.value({"title": new, "before": old})
    screen.say(f"{old} is now called {new}.")
    return 0


def run_about(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    target = manage.describe(desk, args.list, args.about)
    screen.value({"title": target.title, "about": target.about})
    screen.say(f"{target.title}: {target.about}" if target.about else f"{target.title} has no description now.")
    return 0


def run_sender(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.desk import senders

    if args.none and args.sender is not None:
        raise UnclearError("Give a sender or --none, not both.")
    sender = senders.ME if args.none else args.sender
    target = manage.set_sender(desk, args.list, sender) if sender else manage.find(desk, args.list)
    screen.value({"title": target.title, "sender": target.sender})
    as_whom = f"as {target.sender}" if target.sender else "as yourself"
    screen.say(f"You write to {target.title} {as_whom}, unless you say otherwise (`compose --from`).")
    return 0


def run_rule(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.lists import rules

    if args.none and args.rule is not None:
        raise UnclearError("Give a rule or --none, not both.")
    if args.rule is None and not args.none:
        target, text = rules.show(desk, args.list)
        screen.value({"title": target.title, "rule": text})
        screen.lines(text or f"{target.title} has no rule; you put its members on it yourself.")
        return 0
    target, text, members, notes = rules.change(desk, args.list, args.rule)
    screen.value({"title": target.title, "rule": text, "members": members, "notes": notes})
    if text:
        screen.say(f"{target.title} now follows the rule: {text}")
        screen.say(f"{people(members)} {'is' if members == 1 else 'are'} on it.")
        for note in notes:
            screen.say(note)
    else:
        screen.say(f"{target.title} no longer follows a rule; its {people(members)} stay on it.")
    return 0


def run_pin(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    target = manage.pin(desk, args.list, args.pinned)
    screen.value({"title": target.title, "pinned": target.pinned})
    screen.say(f"{target.title} is now shown {'before the other lists' if target.pinned else 'among the others'}.")
    return 0


def run_copy(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = manage.copy(desk, args.list, args.title)
    _value(screen, result, "added")
    screen.say(f"Made the list {result.target.title} with the same {people(result.members)}.")
    return 0


def run_compare(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = manage.compare(desk, [args.list, *args.others])
    screen.value(
        {"lists": result.titles, "on_all": result.on_all, "only_on": result.only_on, "on_some": result.on_some}
    )
    both = "On both" if len(result.titles) == 2 else f"On all {len(result.titles)}"
    parts = [(both, result.on_all), *((f"Only on {title}", names) for title, names in result.only_on.items())]
    if len(result.titles) > 2:
        parts.append(("On some", [f"{name} ({listed(on)})" for name, on in result.on_some.items()]))
    screen.table(("Where", "People"), [(where, len(names)) for where, names in parts])
    for where, names in parts:
        if names:
            screen.say(f"\n{where}:")
            screen.lines("\n".join(f"  {name}" for name in names))
    return 0


def _value(screen: Screen, result: ListChange, verb: str) -> None:
    screen.value(
        {
            "title": result.target.title,
            "members": result.members,
            verb: result.done,
            "already": result.already,
            "notes": result.notes,
        }
    )


def _notes(screen: Screen, result: ListChange) -> None:
    for note in result.notes:
        screen.say(note)
