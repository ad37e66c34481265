"""`barnacle hub`: the server through which colleagues share lists, and one's own connection to it."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from barnacle.cli.console.pipes import in_file, out_file
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, listed, plain_value, visible
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from sqlalchemy import Engine


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Your connection to the hub through which colleagues share lists; or run a hub yourself."
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog, required=True)

    def add(name: str, purpose: str) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = verbs.add_parser(name, help=purpose, parents=[common])
        return made

    connect = add("connect", "connect your book to a hub with the code you were given")
    connect.add_argument("url", metavar="URL")
    connect.add_argument("--as", metavar="ADDRESS", dest="address", help="your address there (yours in the settings)")
    connect.add_argument("--code", help="the code; if not given, you are asked for it unseen (-: from a pipe)")
    connect.add_argument("--moved", action="store_true", help="it is the same hub as before, at a new address")
    connect.set_defaults(run=run_connect)
    token = add("token", "see your tokens, or make one for a phone or desktop program")
    token.set_defaults(run=run_tokens)
    kinds = token.add_subparsers(title="what to do", metavar="VERB", prog=token.prog)
    new = kinds.add_parser("new", help="make one", parents=[common])
    new.add_argument("--for", metavar="NAME", dest="name", required=True, help="what it is for, such as phone")
    new.add_argument(
        "--everything", action="store_true", help="let it manage lists, offers, roles and tokens too, not only cards"
    )
    new.set_defaults(run=run_new_token)
    revoke = kinds.add_parser("revoke", help="end one", parents=[common])
    revoke.add_argument("name", metavar="NAME")
    revoke.set_defaults(run=run_revoke)

    serve = add("serve", "run a hub")
    serve.add_argument("--listen", metavar="HOST:PORT", default="127.0.0.1:8843", help="(127.0.0.1:8843)")
    _where(serve)
    serve.add_argument("--tls-cert", metavar="FILE", type=Path)
    serve.add_argument("--tls-key", metavar="FILE", type=Path)
    serve.add_argument("--plain-http", action="store_true", help="without TLS, even beyond this computer")
    serve.add_argument("--path", metavar="PATH", default="", help="the path under which a proxy serves the hub")
    serve.add_argument(
        "--proxy",
        metavar="ADDRESS",
        nargs="+",
        action="extend",
        default=[],
        help="proxies whose word for the caller is trusted",
    )
    serve.add_argument("--metrics", metavar="HOST:PORT", help="where Prometheus may ask for metrics")
    limits = serve.add_argument_group("limits")
    limits.add_argument("--most-octets", metavar="N", type=int, default=256_000, help="octets of one card (256000)")
    limits.add_argument("--most-cards", metavar="N", type=int, default=100_000, help="cards of one list (100000)")
    limits.add_argument(
        "--most-requests", metavar="N", type=int, default=1_000, help="requests of one person in a second (1000)"
    )
    limits.add_argument(
        "--most-seconds", metavar="N", type=int, default=20, help="seconds for a request to arrive (20)"
    )
    limits.add_argument("--most-tokens", metavar="N", type=int, default=50, help="tokens of one person (50)")
    limits.add_argument("--most-lists", metavar="N", type=int, default=1_000, help="lists one person is on (1000)")
    limits.add_argument("--most-lines", metavar="N", type=int, default=1_000, help="connections open at a time (1000)")
    limits.add_argument(
        "--most-lines-each", metavar="N", type=int, default=100, help="connections from one address (100)"
    )
    limits.add_argument(
        "--most-connections", metavar="N", type=int, default=40, help="to PostgreSQL, of the whole hub (40)"
    )
    limits.add_argument("--processes", metavar="N", type=int, default=1, help="that share these connections (1)")
    serve.set_defaults(run=run_serve)
    person = add("person", "see who may use the hub, let people in, shut them out")
    _where(person)
    person.set_defaults(run=run_people)
    people = person.add_subparsers(title="what to do", metavar="VERB", prog=person.prog)
    for name, purpose, run in (
        ("add", "let somebody in: prints a code, valid for a week", run_add_person),
        ("remove", "shut somebody out at once; their lists get another owner", run_remove_person),
        ("unlock", "forget failed sign-ins for somebody's address", run_unlock),
        ("tokens", "somebody's tokens, when and from where they were used", run_tokens_of),
        ("revoke", "end one of somebody's tokens", run_revoke_of),
    ):
        one = people.add_parser(name, help=purpose, parents=[common])
        one.add_argument("address", metavar="ADDRESS")
        _where(one)
        if name == "add":
            one.add_argument("--name")
        elif name == "revoke":
            one.add_argument("token", metavar="NAME")
        one.set_defaults(run=run)
    many = people.add_parser("import", help="let many in, from a file", parents=[common])
    many.add_argument("file", metavar="FILE", type=in_file, help="CSV, workbook, LDIF or vCards: names and addresses")
    many.add_argument("--codes", metavar="FILE", type=out_file, required=True, help="where their codes go, as CSV")
    _where(many)
    many.set_defaults(run=run_import_people)
    staff = people.add_parser("take", help="let everybody in whom a directory has", parents=[common])
    staff.add_argument(
        "--directory", metavar="URL", help="ldaps://HOST/BASE??SCOPE?FILTER (default: that of your settings)"
    )
    staff.add_argument("--codes", metavar="FILE", type=out_file, required=True, help="where their codes go, as CSV")
    _where(staff)
    staff.set_defaults(run=run_take_people)
    every = add("list", "see the hub's lists and who has which role")
    _where(every)
    every.set_defaults(run=run_lists)
    kinds = every.add_subparsers(title="what to do", metavar="VERB", prog=every.prog)
    over = kinds.add_parser("hand-over", help="make somebody an owner of a list", parents=[common])
    over.add_argument("list", metavar="LIST", help="its title, or its id")
    over.add_argument("address", metavar="ADDRESS")
    _where(over)
    over.set_defaults(run=run_hand_over)
    for name, purpose in (("backup", "copy the whole hub into a file"), ("restore", "put a copy into an empty hub")):
        one = add(name, purpose)
        one.add_argument("file", metavar="FILE", type=in_file if name == "restore" else out_file)
        _where(one)
        if name == "restore":
            one.add_argument(
                "--without-tokens", action="store_true", help="end all tokens, and give everybody a fresh code"
            )
            one.add_argument(
                "--over",
                action="store_true",
                help="replace the hub that is there; what was ended since stays ended",
            )
        one.set_defaults(run=run_backup if name == "backup" else run_restore)


def _where(parser: argparse.ArgumentParser) -> None:
    group = parser.add_mutually_exclusive_group()
    # Without defaults, so that what is said before a verb is not overwritten after it.
    absent = argparse.SUPPRESS
    group.add_argument("--data", metavar="DIR", type=Path, default=absent, help="the folder of its data")
    group.add_argument(
        "--database", metavar="URL", default=absent, help="a PostgreSQL database: postgresql+psycopg://USER@HOST/NAME"
    )


@contextmanager
def _database(args: argparse.Namespace, desk: Desk, connections: int = 4) -> Iterator[Engine]:
    """The hub's database, open for the length of the block."""
    from barnacle.hub.schema import open_engine

    data = getattr(args, "data", None) or desk.path.with_name("hub")
    engine = open_engine(data, getattr(args, "database", None), connections)
    try:
        yield engine
    finally:
        engine.dispose()


def run_serve(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import Place, serve
    from barnacle.hub.shelves import Limits

    most = {
        "requests": args.most_requests,
        "tokens": args.most_tokens,
        "lists": args.most_lists,
        "seconds": args.most_seconds,
    }
    limits = Limits(args.most_octets, args.most_cards, **most)
    if (args.tls_cert is None) != (args.tls_key is None):
        raise UnclearError(
            "For TLS the hub needs both --tls-cert and --tls-key; if one file holds both, name it twice."
        )
    tls = (args.tls_cert, args.tls_key) if args.tls_cert else None

    def ready(url: str) -> None:
        print(f"listening on {url}", flush=True)

    path = f"/{args.path.strip('/')}" if args.path.strip("/") else ""
    proxies, lines = tuple(args.proxy), (args.most_lines, args.most_lines_each)
    place = Place(args.listen, tls, args.plain_http, path, proxies, *lines, args.metrics)
    with _database(args, desk, max(1, args.most_connections // max(1, args.processes))) as engine:
        serve(engine, place, limits, ready)
    return 0


def run_people(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with _database(args, desk) as engine:
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
    with _database(args, desk) as engine:
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
    with _database(args, desk) as engine:
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

    with _database(args, desk) as engine:
        person = People(engine).unlock(args.address)
    screen.value({"address": person.address, "unlocked": True})
    screen.lines(f"Failed sign-ins for {person.address} are forgotten, so the next code need not wait.")
    return 0


def run_tokens_of(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with _database(args, desk) as engine:
        rows = People(engine).tokens_of(args.address)
    screen.value(rows)
    _show_tokens(screen, [(r["name"], r["scope"], r["since"], r["last_used"], r["last_from"]) for r in rows])
    return 0


def run_revoke_of(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.people import People

    with _database(args, desk) as engine:
        People(engine).revoke_of(args.address, args.token)
    screen.value({"address": args.address, "name": args.token, "revoked": True})
    screen.lines(f"The token {visible(args.token)} of {args.address} has ended.")
    return 0


def run_take_people(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """New people of the directory get a code; those who have left it are shown, and shut out on a yes."""
    from barnacle.core.addresses import address_key
    from barnacle.hub.people import People
    from barnacle.hub.people_file import write_codes
    from barnacle.jobs.desk import directory

    staff, more = directory.people_at(desk, args.directory or directory.place_of(desk).url)
    with _database(args, desk) as engine:
        keeper = People(engine)
        known = {address_key(one["address"]): one["address"] for one in keeper.people() if one["address"]}
        there = {address_key(address) for address, _ in staff}
        new = [(address, name) for address, name in staff if address_key(address) not in known]
        left = [] if more else sorted(address for key, address in known.items() if key not in there)
        if new:
            with write_codes(args.codes) as write:
                for address, name in new:
                    person, code = keeper.add_person(address, name or None)
                    write(person.address, person.name, code)
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
    from barnacle.hub.people_file import read_people, write_codes

    people, refused = read_people(args.file)
    with _database(args, desk) as engine:
        keeper = People(engine)
        with write_codes(args.codes) as write:  # before anybody has a code, it is sure that it can be kept
            for address, name in people:
                person, code = keeper.add_person(address, name or None)
                write(person.address, person.name, code)
    screen.value({"people": len(people), "codes": str(args.codes), "refused": refused})
    screen.lines(
        f"{count(len(people), 'person', 'people')} may connect, each with a code that is valid once, for 7 days."
    )
    screen.lines(f"The codes are in {args.codes}, which you alone may read.")
    for line in refused:
        screen.error(line)
    return 1 if refused else 0


def run_lists(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.lists import Lists

    with _database(args, desk) as engine:
        rows = Lists(engine).every()
    screen.value(rows)
    screen.table(
        ("List", "Id", "Members", "Who"),
        [
            (r["title"], r["id"], r["cards"],
             listed([f"{p['address']} {p['role']}{'' if p['state'] == 'joined' else ' (' + p['state'] + ')'}"
                     for p in r["people"]], 6) or "nobody")
            for r in rows
        ],
    )  # fmt: skip
    if not rows:
        screen.say("No list is shared through this hub.")
    return 0


def run_hand_over(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.lists import Lists

    with _database(args, desk) as engine:
        title, person = Lists(engine).hand_over(args.list, args.address)
    screen.value({"list": title, "owner": person.address})
    screen.lines(f"{person.called} owns {visible(title)} now.")
    return 0


def run_backup(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import back_up

    with _database(args, desk) as engine:
        counts = back_up(engine, args.file)
    screen.value({"file": str(args.file), **counts})
    screen.lines(f"{args.file} has the whole hub: {_told(counts)}. It may be read by you alone; keep it so.")
    return 0


def run_restore(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import put_back

    with _database(args, desk) as engine:
        done = put_back(args.file, engine, args.over, args.without_tokens)
    codes = [{"address": person.address, "code": code} for person, code in done.codes]
    screen.value({"file": str(args.file), **done.counts, "ended": done.ended, "valid": done.valid, "codes": codes})
    screen.lines(f"The hub is as it was when {args.file} was made: {_told(done.counts)}.")
    for line in done.ended:
        screen.lines(f"Ended since the backup, and still ended: {line}.")
    if args.without_tokens:
        screen.lines("All tokens have ended. Everybody connects again with a code (valid once, for 7 days):")
        for person, code in done.codes:
            screen.lines(f"  {person.called}  {code}")
    elif done.valid:
        screen.lines("These tokens are valid again; the hub cannot know whether any was revoked after the backup:")
        for line in done.valid:
            screen.lines(f"  {line}")
        screen.say("`hub person revoke ADDRESS NAME` ends one; `hub restore --without-tokens` starts with fresh codes.")
    return 0


def _told(counts: dict[str, int]) -> str:
    people, lists = count(counts["person"], "person", "people"), count(counts["shared_list"], "list")
    return f"{people}, {lists}, {count(counts['card'], 'card')}"


def run_connect(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    code = args.code if args.code and args.code != "-" else _asked_code(args.code == "-")
    hub = connection.connect(desk, args.url, args.address, code, args.moved)
    screen.value({"hub": hub.url, "address": hub.address})
    screen.lines(f"Your book is connected to {hub.url} as {hub.address}.")
    screen.say("`barnacle share waiting` shows see what colleagues offer you.")
    screen.say("`barnacle share offer LIST --with ADDRESS` offers them a list of yours.")
    return 0


def _asked_code(piped: bool) -> str:
    """The code, typed unseen or from a pipe: so it stands in no history of commands."""
    if piped or not sys.stdin.isatty():
        return sys.stdin.readline(200).strip()
    import getpass

    return getpass.getpass("Code: ").strip()


def _show_tokens(screen: Screen, rows: list[tuple[str, str, str, str | None, str | None]]) -> None:
    screen.table(
        ("Token", "Good for", "Since", "Last used", "From"),
        [
            (name, "everything" if scope == "all" else scope, local_time(since), local_time(used) if used else "never",
             place or "")
            for name, scope, since, used, place in rows
        ],
    )  # fmt: skip


def run_tokens(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    rows = connection.tokens(desk)
    screen.value(
        [{"name": r.name, "since": r.since, "last_used": r.last_used, "last_from": r.last_from, "scope": r.scope}
         for r in rows]
    )  # fmt: skip
    _show_tokens(screen, [(r.name, r.scope, r.since, r.last_used, r.last_from) for r in rows])
    return 0


def run_new_token(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    secret, hub = connection.new_token(desk, plain_value(args.name, "The name"), args.everything)
    screen.value({"token": secret})
    screen.lines(secret)
    screen.say(
        f"It is shown only once. In the other program: server {hub.url}, user {hub.address}, password the token."
    )
    if not args.everything:
        screen.say("It can read and write the members of your lists, and nothing else.")
    return 0


def run_revoke(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    connection.revoke(desk, args.name)
    screen.value({"name": args.name, "revoked": True})
    screen.lines(f"The token {args.name} has ended.")
    return 0
