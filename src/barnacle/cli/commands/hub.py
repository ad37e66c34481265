"""`barnacle hub`: the server through which colleagues share lists, and one's own connection to it."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from barnacle.cli.commands import hub_mail, hub_person
from barnacle.cli.console.hub_place import database, where
from barnacle.cli.console.pipes import in_file, out_file
from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, listed, plain_value, visible
from barnacle.jobs.desk.desk import Desk


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
    where(serve)
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
    hub_mail.serve_options(serve)
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
    hub_mail.arguments(add, common)
    hub_person.arguments(add("person", "see who may use the hub, let people in, shut them out"), common)
    every = add("list", "see the hub's lists and who has which role")
    where(every)
    every.set_defaults(run=run_lists)
    kinds = every.add_subparsers(title="what to do", metavar="VERB", prog=every.prog)
    over = kinds.add_parser("hand-over", help="make somebody an owner of a list", parents=[common])
    over.add_argument("list", metavar="LIST", help="its title, or its id")
    over.add_argument("address", metavar="ADDRESS")
    where(over)
    over.set_defaults(run=run_hand_over)
    for name, purpose in (("backup", "copy the whole hub into a file"), ("restore", "put a copy into an empty hub")):
        one = add(name, purpose)
        one.add_argument("file", metavar="FILE", type=in_file if name == "restore" else out_file)
        where(one)
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

    path = f"/{args.path.strip('/')}" if args.path.strip("/") else ""
    proxies, lines = tuple(args.proxy), (args.most_lines, args.most_lines_each)
    place = Place(args.listen, tls, args.plain_http, path, proxies, *lines, args.metrics)
    with database(args, desk, max(1, args.most_connections // max(1, args.processes))) as engine:
        if args.lmtp is None:
            serve(engine, place, limits, lambda url: _say(f"listening on {url}"))
        else:
            hub_mail.serve(args, desk, engine, place, limits, _say)
    return 0


def _say(line: str) -> None:
    print(line, flush=True)


def run_lists(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.lists import Lists

    with database(args, desk) as engine:
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

    with database(args, desk) as engine:
        title, person = Lists(engine).hand_over(args.list, args.address)
    screen.value({"list": title, "owner": person.address})
    screen.lines(f"{person.called} owns {visible(title)} now.")
    return 0


def run_backup(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import back_up

    with database(args, desk) as engine:
        counts = back_up(engine, args.file)
    screen.value({"file": str(args.file), **counts})
    screen.lines(f"{args.file} has the whole hub: {_told(counts)}. It may be read by you alone; keep it so.")
    return 0


def run_restore(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.hub.serve import put_back

    with database(args, desk) as engine:
        done = put_back(args.file, engine, args.over, args.without_tokens)
    codes = [{"address": person.address, "code": code} for person, code in done.codes]
    screen.value(
        {
            "file": str(args.file),
            **done.counts,
            "ended": done.ended,
            "valid": done.valid,
            "codes": codes,
            "doubtful": done.doubtful,
        }
    )
    screen.lines(f"The hub is as it was when {args.file} was made: {_told(done.counts)}.")
    if done.doubtful:
        copies = count(done.doubtful, "copy", "copies")
        screen.lines(
            f"{copies} of mail to house lists waited then, and may have been sent since: `hub queue` has them."
        )
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
    screen.say("`barnacle share waiting` shows what colleagues offer you.")
    screen.say("`barnacle share offer LIST --with ADDRESS` offers them a list of yours.")
    return 0


def _asked_code(piped: bool) -> str:
    """The code, typed unseen or from a pipe: so it stands in no history of commands."""
    if piped or not sys.stdin.isatty():
        return sys.stdin.readline(200).strip()
    import getpass

    return getpass.getpass("Code: ").strip()


def run_tokens(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import connection

    rows = connection.tokens(desk)
    screen.value(
        [{"name": r.name, "since": r.since, "last_used": r.last_used, "last_from": r.last_from, "scope": r.scope}
         for r in rows]
    )  # fmt: skip
    hub_person.show_tokens(screen, [(r.name, r.scope, r.since, r.last_used, r.last_from) for r in rows])
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
