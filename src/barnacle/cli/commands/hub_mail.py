"""`barnacle hub serve --lmtp`, `hub house` and `hub queue`: house lists, for whoever runs the hub."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from datetime import UTC, datetime

from barnacle.cli.console.hub_place import database, place_of, where
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.errors import UnclearError
from barnacle.core.moments import in_utc
from barnacle.core.text import count, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from sqlalchemy import Engine

    from barnacle.hub.serve import Place
    from barnacle.hub.shelves import Limits


def serve_options(serve: argparse.ArgumentParser) -> None:
    """Those that make a hub take mail."""
    mail = serve.add_argument_group("mail for house lists")
    mail.add_argument(
        "--lmtp", metavar="HOST:PORT", help="take mail there from the mail server; or the path of a socket"
    )
    mail.add_argument("--mail", metavar="URL", help="the mail server that passes it on, such as smtp://127.0.0.1:25")
    mail.add_argument("--list-domain", metavar="DOMAIN", default="", help="the domain of official lists")
    mail.add_argument("--own-domain", metavar="DOMAIN", default="", help="the domain of people's own lists")
    mail.add_argument(
        "--house-domain", metavar="DOMAIN", nargs="+", action="extend", default=[], help="the domains of the staff"
    )
    mail.add_argument(
        "--trust-results", metavar="ID", default="", help="the mail server's name in Authentication-Results (RFC 8601)"
    )
    mail.add_argument("--public-url", metavar="URL", default="", help="where people reach the hub's pages")
    mail.add_argument(
        "--list-in-from", choices=("auto", "always", "never"), default="auto",
        help="when the list stands in From in place of the writer (auto: where mail would not arrive otherwise)",
    )  # fmt: skip
    mail.add_argument(
        "--most-put-on", metavar="N", type=int, default=50, help="people one keeper puts on in a day (50)"
    )
    mail.add_argument("--most-mail", metavar="OCTETS", type=int, default=25_000_000, help="of a message (25000000)")
    mail.add_argument("--senders", metavar="N", type=int, default=1, help="processes that pass mail on (1)")


def arguments(add: Callable[[str, str], argparse.ArgumentParser], common: argparse.ArgumentParser) -> None:
    """`hub house` and `hub queue`."""
    houses = add("house", "see all house lists, and say which are official")
    where(houses)
    houses.set_defaults(run=run_houses)
    kinds = houses.add_subparsers(title="what to do", metavar="VERB", prog=houses.prog)
    official = kinds.add_parser(
        "official", help="vouch for a list: it gets an address of the list domain", parents=[common]
    )
    official.add_argument("list", metavar="LIST", help="its address, title or id")
    official.add_argument("--not", dest="no", action="store_true", help="vouch for it no more")
    where(official)
    official.set_defaults(run=run_official)
    queue = add("queue", "see what waits to be passed on, why, and since when")
    where(queue)
    queue.set_defaults(run=run_queue)
    kinds = queue.add_subparsers(title="what to do", metavar="VERB", prog=queue.prog)
    for name, purpose in (("retry", "try again now what was deferred"), ("drop", "give up what was not sent yet")):
        one = kinds.add_parser(name, help=purpose, parents=[common])
        one.add_argument("number", metavar="NUMBER", type=int, help="a number that `hub queue` shows")
        where(one)
        one.set_defaults(run=run_queue_change, verb=name)


def serve(
    args: argparse.Namespace, desk: Desk, engine: Engine, place: Place, limits: Limits, say: Callable[[str], None]
) -> None:
    """Serve with mail. Raises UnclearError, FileError."""
    from barnacle.hub.house.rows import Settings
    from barnacle.post.running import read_mail, serve_with_mail

    if args.mail is None:
        raise UnclearError("Name the mail server that passes mail on: --mail smtp://127.0.0.1:25.")
    data, url = place_of(args, desk)
    settings = Settings(
        args.list_domain.lower(), args.own_domain.lower(), tuple(one.lower() for one in args.house_domain),
        args.trust_results, args.public_url, args.list_in_from, max(0, args.most_put_on), args.most_mail,
    )  # fmt: skip
    mail = read_mail(args.lmtp, args.mail, max(1, args.senders), data, url, settings)
    serve_with_mail(engine, place, limits, mail, say)


def run_houses(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.house.houses import Houses

    with database(args, desk) as engine:
        rows = Houses(engine).every()
    screen.value(rows)
    screen.table(
        ("List", "Address", "Official", "May write", "Members", "In 30 days", "Held", "Keepers"),
        [
            (r["title"], r["address"], "yes" if r["official"] else f"no: {r['of']}", r["writers"], f"{r['members']:,}",
             f"{r['postings']:,}", f"{r['held']:,}", ", ".join(r["keepers"]) or "nobody")
            for r in rows
        ],
    )  # fmt: skip
    if not rows:
        screen.say("No list of this hub has an address.")
    return 0


def run_official(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.house.houses import Houses

    with database(args, desk) as engine:
        house = Houses(engine).make_official(args.list, not args.no)
    screen.value({"list": house.title, "address": house.address, "official": house.official})
    of = "an official list of the house" if house.official else "its keepers' own list"
    screen.lines(f"{visible(house.title)} is {of} now, at {house.address}. Any other address that it had still works.")
    return 0


def run_queue(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.house.queue import Queue

    with database(args, desk) as engine:
        rows = Queue(engine).shown()
    for row in rows:
        row["since"], row["again"] = _time(row["since"]), _time(row["again"])
    keys = ("number", "list", "from", "since", "waiting", "accepted", "refused", "deferred", "doubtful", "why")
    screen.value([{key: row[key] for key in keys} for row in rows])
    screen.table(
        ("Number", "List", "From", "Since", "Waiting", "Accepted", "Refused", "Deferred", "Doubtful", "Why"),
        [
            (r["number"], r["list"], r["from"], local_time(r["since"]),
             *(f"{r[key]:,}" if r[key] else "" for key in ("waiting", "accepted", "refused", "deferred", "doubtful")),
             f"{r['why']}{' · again ' + local_time(r['again']) if r['again'] else ''}")
            for r in rows
        ],
    )  # fmt: skip
    waiting = sum(row["waiting"] + row["deferred"] for row in rows)
    screen.say(f"{count(waiting, 'copy waits', 'copies wait')} to be passed on." if waiting else "Nothing waits.")
    return 0


def _time(moment: float | None) -> str:
    return in_utc(datetime.fromtimestamp(moment, UTC)) if moment else ""


def run_queue_change(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.house.queue import Queue

    with database(args, desk) as engine:
        queue = Queue(engine)
        number = queue.retry(args.number) if args.verb == "retry" else queue.drop(args.number)
    screen.value({"number": args.number, "copies": number})
    done = "tried again now" if args.verb == "retry" else "given up"
    screen.lines(f"{count(number, 'copy is', 'copies are')} {done}.")
    return 0
