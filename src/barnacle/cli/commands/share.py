"""`barnacle share`."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from barnacle.cli.console.exchanged import met
from barnacle.cli.console.meant import value_meant
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core import sharing as fields
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, listed, visible
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.separate_names import WITH

# What some call a field that is shared, which is named in the plural.
_SEVERAL = {"phone": "phones", "note": "notes", "label": "labels", "field": "fields", "email": "address"}


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Shares a list with colleagues through a hub, while everybody works in a book of their own."
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog, required=True)

    def verb(name: str, purpose: str, run: Callable[..., int], *names: str) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = verbs.add_parser(name, help=purpose, parents=[common])
        for one in names:
            made.add_argument(one.lower(), metavar=one)
        made.set_defaults(run=run, verb=name)
        return made

    made = verb("offer", "offer lists to colleagues", run_offer)
    made.add_argument("lists", metavar="LIST", nargs="+")
    made.add_argument("--with", metavar="ADDRESS", dest="to", nargs="+", action="extend", default=[])
    made.add_argument("--role", choices=fields.ROLES, default=fields.READER, help="what they may do (reader)")
    made.add_argument("--tell", action="store_true", help="also put a message in the outbox that tells them")
    _fields(made)
    verb("waiting", "see what colleagues offer you", run_waiting)
    for name, purpose in (("accept", "accept a list you are offered"), ("decline", "decline a list you are offered")):
        made = verb(name, purpose, run_answer)
        made.set_defaults(in_words=True)  # the list is not in the book yet
        made.add_argument("list", metavar="LIST", nargs="?", default="", help="which, if you are offered several")
        made.add_argument("--from", metavar="ADDRESS", dest="giver")
    made = verb("history", "see who added, changed or took off whom", run_history, "LIST")
    made.add_argument("--most", metavar="N", type=int, default=30, help="how many to show (30)")
    verb("who", "see who has which role in a list", run_who, "LIST")
    verb("role", "give somebody another role", run_role, "LIST", "ADDRESS").add_argument("role", choices=fields.ROLES)
    verb("end", "end somebody's role, or withdraw an offer", run_role, "LIST", "ADDRESS")
    verb("leave", "leave a list; you keep a private copy", run_over, "LIST")
    verb("stop", "stop sharing a list of yours, for everybody", run_over, "LIST")
    _fields(verb("fields", "see or choose which fields of its members are shared", run_fields, "LIST"))
    made = verb("follow", "make people you had before follow a list", run_follow, "LIST")
    made.add_argument(
        "who", metavar="WHO", nargs="*", help="only these people (default: everybody on the list whom you had before)"
    )
    made = verb("conflicts", "see what both sides changed; keep yours or theirs", run_conflicts)
    made.add_argument(
        "--keep", metavar=("mine|theirs", "NUMBER"), nargs="+", help="settle these, or `all`: --keep theirs 3 5"
    )


def _fields(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--include", metavar="FIELDS", default="", help=f"share these too, with commas between: {listed(fields.MORE)}"
    )
    parser.add_argument("--exclude", metavar="FIELDS", default="", help="stop sharing these, such as phones")


def _chosen(args: argparse.Namespace) -> tuple[list[str], list[str]]:
    """What is to be shared besides, and what was said not to be."""
    every = (*fields.USUAL, *fields.MORE)
    texts = (args.include, args.exclude)
    more, less = ([one.strip().lower() for one in text.split(",") if one.strip()] for text in texts)
    more, less = ([one if one in every else _SEVERAL.get(one, one) for one in some] for some in (more, less))
    for one in [one for one in more + less if one not in every]:
        raise UnclearError(f"There is no field `{visible(one, 40)}` to share. You can share {listed(every, 20)}.")
    if kept := [one for one in less if one in fields.ALWAYS]:
        raise UnclearError(f"A list cannot be shared without its members' {kept[0]}.")
    return more, less


def run_offer(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import offers

    if len(args.lists) > 2 and args.lists[-2].lower() == "as" and (role := value_meant(args.lists[-1], fields.ROLES)):
        args.lists, args.role = args.lists[:-2], role
    # Many name whom they mean behind the lists, as with `list add`, or behind a `with`.
    place = next((n for n, one in enumerate(args.lists) if n and one.lower() in WITH), len(args.lists))
    lists = [one for one in args.lists[:place] if "@" not in one or " " in one]
    to = [*(one for one in args.lists[:place] if one not in lists), *args.lists[place + 1 :], *args.to]
    if len(lists) > 1 and not to:
        lists, to = offers.parted(desk, lists)
    if not lists:
        raise UnclearError("Which list? `barnacle share offer LIST --with ADDRESS` offers it.")
    if not to:
        raise UnclearError("To whom? `barnacle share offer LIST --with ADDRESS` offers it to somebody.")
    with screen.progress("Handing over") as tick:
        done = offers.offer(desk, lists, to, args.role, fields.shared_fields(*_chosen(args)), args.tell, tick)
    screen.value(
        {"lists": done.titles, "with": done.to, "role": args.role, "message": done.message,
         "refused": [{"address": address, "reason": reason} for address, reason in done.refused]}
    )  # fmt: skip
    if done.to:
        screen.lines(f"{listed(done.titles, 20)}: offered to {listed(done.to, 20)} as {args.role}.")
        screen.say(
            "They will see the offer with `barnacle share waiting`; until they accept, they see nobody on the list."
        )
    for address, reason in done.refused:
        screen.error(f"{address}: {reason}")
    for one in done.exchanged:
        if one.sent:
            screen.say(f"{one.title}: {count(one.sent, 'member')} sent to the hub.")
    if done.message:
        screen.say(f"{done.message} tells them. Send it with `barnacle send {done.message}`.")
    return (1 if done.to else 2) if done.refused else 0


def run_waiting(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import offers

    rows = offers.waiting(desk)
    screen.value([{"list": r.title, "from": r.giver, "role": r.role, "since": r.since} for r in rows])
    screen.table(
        ("List", "From", "You may", "Since"),
        [(r.title, r.giver, fields.MAY[r.role], local_time(r.since)) for r in rows],
    )
    screen.say("\n`barnacle share accept LIST` fetches it." if rows else "You have no offers.")
    return 0


def run_answer(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import offers

    with screen.progress("Fetching") as tick:
        done = offers.answer(desk, args.list, args.giver, args.verb == "accept", tick)
    screen.value({"list": done.title, "received": done.received, "conflicts": done.conflicts})
    if args.verb == "decline":
        screen.lines(f"{done.title} is declined. It can be offered to you again.")
        return 0
    screen.lines(f"{done.title} is now in your book, with {count(done.received, 'member')}.")
    if done.conflicts:
        screen.say(f"{_differ(done.conflicts)}: `barnacle share conflicts`.")
    if done.met:
        screen.say(met(done))
    for line in done.unreadable:
        screen.error(f"Not read: {line}")
    if done.refused:
        screen.error(done.refused)
    return 1 if done.refused or done.unreadable else 0


def _differ(number: int) -> str:
    return f"{count(number, 'value')} {'differs' if number == 1 else 'differ'} from what you have"


def run_who(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import roles

    _, people = roles.who(desk, args.list)
    screen.value([{"address": p.address, "name": p.name, "role": p.role, "state": p.state} for p in people])
    screen.table(
        ("Address", "Name", "Role", "State", "Since"),
        [(p.address, p.name, p.role, p.state, local_time(p.since)) for p in people],
    )
    return 0


def run_history(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import roles

    title, rows = roles.history(desk, args.list)
    shown = rows[: max(args.most, 1)]
    screen.value([{"at": r.at, "by": r.by, "what": r.what, "whom": r.whom} for r in shown])
    screen.table(("When", "Who", "Did", "Whom"), [(local_time(r.at), r.by, r.what, r.whom) for r in shown])
    if not rows:
        screen.say(f"The hub remembers no changes to {title}.")
    elif len(shown) < len(rows):
        screen.say(f"\nThe latest {len(shown)} of {len(rows)} that the hub remembers; --most shows more.")
    return 0


def run_role(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import roles

    if args.verb == "role":
        title, address = roles.set_role(desk, args.list, args.address, args.role)
        screen.value({"list": title, "address": address, "role": args.role})
        screen.lines(f"{address} is now {args.role} of {title}.")
        return 0
    title, address = roles.end(desk, args.list, args.address)
    screen.value({"list": title, "address": address, "ended": True})
    screen.lines(f"{address} no longer has a role in {title}. They keep what they have already fetched.")
    return 0


def run_over(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import roles

    # In a script nobody is asked: no member and no copy is lost by it.
    title = roles.meant(desk, args.list)
    question = f"Stop sharing {visible(title)}? Everybody keeps a private copy."
    if args.verb == "stop" and screen.can_ask and not screen.confirm(question, ""):
        screen.error("Nothing was changed.")
        return 2
    title = (roles.stop if args.verb == "stop" else roles.leave)(desk, title)
    screen.value({"list": title, "shared": False})
    screen.lines(f"{title} is no longer shared{'' if args.verb == 'stop' else ' with you'}; you keep a private copy.")
    return 0


def run_fields(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import shared_fields

    more, less = _chosen(args)
    with screen.progress("Exchanging") as tick:
        title, shared = shared_fields.set_fields(desk, args.list, more, less, tick)
    screen.value({"list": title, "fields": shared})
    screen.lines(f"{'From now on ' if more or less else ''}{title} shares its members' {listed(shared, 20)}.")
    if not more and not less:
        screen.say("--include shares more, --exclude stops sharing some.")
    if less:
        screen.lines(f"Their {listed(less, 20)} were removed from the hub; whoever has fetched them keeps them.")
    return 0


def run_follow(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import follow

    done = follow.follow(desk, args.list, args.who)
    screen.value({"list": done.title, "follow": done.names, "of_another": done.elsewhere})
    if done.names:
        screen.lines(f"{listed(done.names, 8)}: from now on they follow {done.title}, and your changes go there.")
    else:
        screen.lines(f"Nobody on {done.title} is left to follow it.")
    if done.elsewhere:
        screen.say(
            f"{listed(done.elsewhere, 8)}: another list comes first; you will be asked about what {done.title} changes."
        )
    return 0


def run_conflicts(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import conflicts

    if args.keep:
        keep, *numbers = args.keep
        if not numbers or not (numbers == ["all"] or all(one.isdigit() for one in numbers)):
            raise UnclearError(
                "Name the conflicts by their numbers, or say all: `barnacle share conflicts --keep mine 3 5`."
            )
        done = conflicts.settle(desk, keep, None if numbers == ["all"] else [int(one) for one in numbers])
        kept = [{"number": number, "kept": keep} for number, _ in done]
        screen.value(kept[0] if len(kept) == 1 and numbers != ["all"] else kept)
        names = listed(list(dict.fromkeys(visible(name) for _, name in done)), 8)
        screen.lines(f"Kept {keep} for {names}. `barnacle sync` tells the others." if done else "No conflicts.")
        return 0
    rows = conflicts.conflicts(desk)
    screen.value(rows)
    screen.table(
        ("No.", "List", "Who", "What", "Mine", "Theirs"),
        [(r["number"], r["list"], r["name"], _WHAT.get(r["field"], r["field"]), _side(r, "mine"), _side(r, "theirs"))
         for r in rows],
    )  # fmt: skip
    if rows:
        screen.say(
            f"\n`barnacle share conflicts --keep mine {rows[0]['number']}` keeps yours; `--keep theirs` keeps theirs."
        )
    else:
        screen.say("No conflicts.")
    return 0


_WHAT = {fields.ON: "on the list", "opt_out": "opted out", "org": "organisation"}


def _side(row: dict[str, Any], side: str) -> str:
    value = row[side]
    if row["field"] == fields.ON:
        return "taken off" if value is None else "stays"
    return "nothing" if value is None else str(value)
