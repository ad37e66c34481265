"""`barnacle hub person`: who may use a hub."""

from __future__ import annotations

import argparse

from barnacle.cli.console.hub_place import database, where
from barnacle.cli.console.pipes import in_file, out_file
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.text import count, listed, plain_value, visible
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    where(parser)
    parser.set_defaults(run=run_people)
    people = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    for name, purpose, run in (
        ("add", "let somebody in: prints a code, valid for a week", run_add_person),
        ("remove", "shut somebody out at once; their lists get another owner", run_remove_person),
        ("unlock", "forget failed sign-ins for somebody's address", run_unlock),
        ("tokens", "somebody's tokens, when and from where they were used", run_tokens_of),
        ("revoke", "end one of somebody's tokens", run_revoke_of),
    ):
        one = people.add_parser(name, help=purpose, parents=[common])
        one.add_argument("address", metavar="ADDRESS")
        where(one)
        if name == "add":
            one.add_argument("--name")
        elif name == "revoke":
            one.add_argument("token", metavar="NAME")
        one.set_defaults(run=run)
    many = people.add_parser("import", help="let many in, from a file", parents=[common])
    many.add_argument("file", metavar="FILE", type=in_file, help="CSV, workbook, LDIF or vCards: names and addresses")
    many.add_argument("--codes", metavar="FILE", type=out_file, required=True, help="where their codes go, as CSV")
    where(many)
    many.set_defaults(run=run_import_people)
    staff = people.add_parser("take", help="let everybody in whom a directory has", parents=[common])
    staff.add_argument(
        "--directory", metavar="URL", help="ldaps://HOST/BASE??SCOPE?FILTER (default: that of your settings)"
    )
    staff.add_argument("--codes", metavar="FILE", type=out_file, required=True, help="where their codes go, as CSV")
    where(staff)
    staff.set_defaults(run=run_take_people)


def run_people(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with database(args, desk) as engine:
        rows = People(engine).people()
    screen.value(rows)
    screen.table(
        ("Address", "Name", "Since", "Tokens", "Lists", "Code"),
        [(r["address"], r["name"], local_time(r["since"]), r["tokens"], r["lists"], "waits" if r["code"] else "")
         for r in rows],
    )  # fmt: skip
    if not rows:
        screen.say("Nobody can use this hub yet: `barnacle hub person add ADDRESS`.")
    return 0


def run_add_person(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    name = plain_value(args.name, "The name") if args.name is not None else None
    with database(args, desk) as engine:
        person, code = People(engine).add_person(args.address, name)
    screen.value({"address": person.address, "code": code})
    screen.lines(f"{person.called} may connect with the code {code}, once, within 7 days:")
    screen.lines(f"  barnacle hub connect URL --as {person.address} --code {code}")
    return 0


def run_remove_person(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    question = f"Shut out {visible(args.address, 80)} for good? Their tokens and roles end at once."
    if screen.can_ask and not screen.confirm(question, ""):
        screen.error("Nothing was changed.")
        return 2
    with database(args, desk) as engine:
        done = People(engine).remove_person(args.address)
    passed = [{"list": p.title, "id": p.id, "owner": p.owner.address if p.owner else None} for p in done.passed]
    screen.value({"address": done.person.address, "removed": True, "passed_on": passed})
    screen.lines(f"{done.person.called} has been removed from the hub: all their tokens and roles have ended.")
    for one in done.passed:
        if one.owner:
            screen.lines(f"{visible(one.title)} now belongs to {one.owner.called}.")
        else:
            screen.lines(
                f"{visible(one.title)} has no owner: nobody else has joined it. "
                f"`barnacle hub list hand-over {one.id} ADDRESS` gives it one."
            )
    return 0


def run_unlock(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with database(args, desk) as engine:
        person = People(engine).unlock(args.address)
    screen.value({"address": person.address, "unlocked": True})
    screen.lines(f"Failed sign-ins for {person.address} are forgotten, so the next code need not wait.")
    return 0


def run_tokens_of(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with database(args, desk) as engine:
        rows = People(engine).tokens_of(args.address)
    screen.value(rows)
    show_tokens(screen, [(r["name"], r["scope"], r["since"], r["last_used"], r["last_from"]) for r in rows])
    return 0


def run_revoke_of(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with database(args, desk) as engine:
        People(engine).revoke_of(args.address, args.token)
    screen.value({"address": args.address, "name": args.token, "revoked": True})
    screen.lines(f"The token {visible(args.token)} of {args.address} has ended.")
    return 0


def run_take_people(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """New people of the directory get a code; those who have left it are shown, and shut out on a yes."""
    from barnacle.hub.people import People
    from barnacle.hub.people_file import give_codes, newcomers_and_leavers
    from barnacle.jobs.desk import directory

    staff, more = directory.people_at(desk, args.directory or directory.place_of(desk).url)
    with database(args, desk) as engine:
        keeper = People(engine)
        new, left = newcomers_and_leavers(keeper, staff)
        if more:  # who is not there may be among those who were not given
            left = []
        if new:
            give_codes(keeper, new, args.codes)
        gone = []
        if left:
            screen.say(f"At the hub, but not in the directory: {listed([visible(one, 80) for one in left], 12)}.")
            how = "They were left in. In a script, confirm with --yes."
            if not (screen.can_ask or screen.yes):
                screen.warn(how)
            elif screen.confirm("Shut them out for good? Their tokens and roles end at once.", how):
                gone = [keeper.remove_person(address).person.address for address in left]
    screen.value(
        {
            "people": len(new),
            "codes": str(args.codes) if new else None,
            "left": left,
            "removed": gone,
            "more": more or None,
        }
    )
    screen.lines(f"{count(len(new), 'new person', 'new people')} may connect, each with a code for 7 days.")
    if new:
        screen.lines(f"The codes are in {args.codes}, which you alone may read.")
    if gone:
        screen.lines(f"{count(len(gone), 'person', 'people')} shut out.")
    if more:
        screen.lines(f"These are not all ({more}), so nobody was taken for gone.")
    return 1 if more else 0


def run_import_people(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People
    from barnacle.hub.people_file import give_codes, read_people

    people, refused = read_people(args.file)
    with database(args, desk) as engine:
        give_codes(People(engine), people, args.codes)
    screen.value({"people": len(people), "codes": str(args.codes), "refused": refused})
    screen.lines(
        f"{count(len(people), 'person', 'people')} may connect, each with a code that is valid once, for 7 days."
    )
    screen.lines(f"The codes are in {args.codes}, which you alone may read.")
    for line in refused:
        screen.error(line)
    return 1 if refused else 0


def show_tokens(screen: Screen, rows: list[tuple[str, str, str, str | None, str | None]]) -> None:
    screen.table(
        ("Token", "Good for", "Since", "Last used", "From"),
        [
            (name, "everything" if scope == "all" else scope, local_time(since), local_time(used) if used else "never",
             place or "")
            for name, scope, since, used, place in rows
        ],
    )  # fmt: skip
