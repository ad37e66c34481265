"""`barnacle hub`: the server through which colleagues share lists, and one's own connection to it."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, plain_value
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from sqlalchemy import Engine


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "The server through which colleagues share lists, and your connection to it."
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog, required=True)

    def add(name: str, purpose: str) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = verbs.add_parser(name, help=purpose, parents=[common], allow_abbrev=False)
        return made

    connect = add("connect", "connect your book to a hub, with the code that you were given")
    connect.add_argument("url", metavar="URL")
    connect.add_argument("--as", metavar="ADDRESS", dest="address", help="your address there (yours in the settings)")
    connect.add_argument("--code", required=True)
    connect.add_argument("--moved", action="store_true", help="it is the hub of before, at a new place")
    connect.set_defaults(run=run_connect)
    token = add("token", "your tokens: for a phone, or a desktop program")
    token.set_defaults(run=run_tokens)
    kinds = token.add_subparsers(title="what to do", metavar="VERB", prog=token.prog)
    new = kinds.add_parser("new", help="make one", parents=[common], allow_abbrev=False)
    new.add_argument("--for", metavar="NAME", dest="name", required=True, help="what it is for, such as phone")
    new.set_defaults(run=run_new_token)
    revoke = kinds.add_parser("revoke", help="end one", parents=[common], allow_abbrev=False)
    revoke.add_argument("name", metavar="NAME")
    revoke.set_defaults(run=run_revoke)

    serve = add("serve", "run a hub")
    serve.add_argument("--listen", metavar="HOST:PORT", default="127.0.0.1:8843", help="(127.0.0.1:8843)")
    _where(serve)
    serve.add_argument("--tls-cert", metavar="FILE", type=Path)
    serve.add_argument("--tls-key", metavar="FILE", type=Path)
    serve.add_argument("--plain-http", action="store_true", help="without TLS also beyond this machine")
    limits = serve.add_argument_group("limits")
    limits.add_argument("--most-octets", metavar="N", type=int, default=256_000, help="of one card (256000)")
    limits.add_argument("--most-cards", metavar="N", type=int, default=100_000, help="of one list (100000)")
    limits.add_argument(
        "--most-requests", metavar="N", type=int, default=1_000, help="of one person in a second (1000)"
    )
    serve.set_defaults(run=run_serve)
    person = add("person", "who may use the hub; without a verb, all of them")
    _where(person)
    person.set_defaults(run=run_people)
    people = person.add_subparsers(title="what to do", metavar="VERB", prog=person.prog)
    for name, purpose in (("add", "let somebody in: prints a code, good for a week"), ("remove", "take somebody off")):
        one = people.add_parser(name, help=purpose, parents=[common], allow_abbrev=False)
        one.add_argument("address", metavar="ADDRESS")
        _where(one)
        if name == "add":
            one.add_argument("--name")
        one.set_defaults(run=run_add_person if name == "add" else run_remove_person)
    for name, purpose in (("backup", "copy the whole hub into a file"), ("restore", "put a copy into an empty hub")):
        one = add(name, purpose)
        one.add_argument("file", metavar="FILE", type=Path)
        _where(one)
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
def _database(args: argparse.Namespace, desk: Desk) -> Iterator[Engine]:
    """The hub's database, open for the length of the block."""
    from barnacle.hub.schema import open_engine

    engine = open_engine(getattr(args, "data", None) or desk.path.with_name("hub"), getattr(args, "database", None))
    try:
        yield engine
    finally:
        engine.dispose()


def run_serve(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import serve
    from barnacle.hub.shelves import Limits

    limits = Limits(args.most_octets, args.most_cards, requests=args.most_requests)
    if (args.tls_cert is None) != (args.tls_key is None):
        raise UnclearError(
            "For TLS the hub needs both --tls-cert and --tls-key; one file that holds both may be named twice."
        )
    tls = (args.tls_cert, args.tls_key) if args.tls_cert else None

    def ready(url: str) -> None:
        print(f"listening on {url}", flush=True)

    with _database(args, desk) as engine:
        serve(engine, args.listen, tls, args.plain_http, limits, ready)
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
        screen.say("Nobody may use this hub yet: `barnacle hub person add ADDRESS`.")
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

    with _database(args, desk) as engine:
        person = People(engine).remove_person(args.address)
    screen.value({"address": person.address, "removed": True})
    screen.lines(f"{person.called} is off the hub: every token and role of theirs has ended.")
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
        counts = put_back(args.file, engine)
    screen.value({"file": str(args.file), **counts})
    screen.lines(f"The hub is as it was when {args.file} was made: {_told(counts)}.")
    return 0


def _told(counts: dict[str, int]) -> str:
    people, lists = count(counts["person"], "person", "people"), count(counts["shared_list"], "list")
    return f"{people}, {lists}, {count(counts['card'], 'card')}"


def run_connect(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    hub = connection.connect(desk, args.url, args.address, args.code, args.moved)
    screen.value({"hub": hub.url, "address": hub.address})
    screen.lines(f"Your book is connected to {hub.url} as {hub.address}.")
    screen.say("`barnacle share waiting` shows what colleagues offer you.")
    screen.say("`barnacle share offer LIST --with ADDRESS` offers them a list of yours.")
    return 0


def run_tokens(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    rows = connection.tokens(desk)
    screen.value([{"name": r.name, "since": r.since, "last_used": r.last_used} for r in rows])
    screen.table(
        ("Token", "Since", "Last used"),
        [(r.name, local_time(r.since), local_time(r.last_used) if r.last_used else "never") for r in rows],
    )
    return 0


def run_new_token(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    secret, hub = connection.new_token(desk, plain_value(args.name, "The name"))
    screen.value({"token": secret})
    screen.lines(secret)
    screen.say(
        f"It is shown this once. In the other program: server {hub.url}, user {hub.address}, password the token."
    )
    return 0


def run_revoke(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    connection.revoke(desk, args.name)
    screen.value({"name": args.name, "revoked": True})
    screen.lines(f"The token {args.name} has ended.")
    return 0
