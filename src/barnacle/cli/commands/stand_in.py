"""`barnacle stand-in`: a mail server, a sign-in, and what a mail server and a mail program do with a house list."""

from __future__ import annotations

import argparse
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Runs a pretend server, on this computer only, to try things with."
    kinds = parser.add_subparsers(title="which", metavar="SERVER", prog=parser.prog, required=True)
    mail = kinds.add_parser("mail", help="a mail server that keeps each recipient's mail", parents=[common])
    mail.description = "Keeps what each recipient would have received, in a Maildir each. Ctrl-C ends it."
    mail.add_argument("--port", type=int, default=2525, metavar="N", help="0 takes a free one (2525)")
    mail.add_argument("--into", type=Path, metavar="DIR", help="where the mail is kept; without it, a new folder")
    faults = mail.add_argument_group("making it misbehave")
    faults.add_argument("--refuse", metavar="PATTERN", action="append", default=[], help="recipients that get 550")
    faults.add_argument("--defer", metavar="PATTERN", action="append", default=[], help="recipients that get 451")
    faults.add_argument(
        "--defer-times", metavar="N", type=int, default=1_000_000, help="how many times, before they are accepted"
    )
    faults.add_argument(
        "--drop", choices=("before", "after"), default="", help="break the line before a message or after its final dot"
    )
    faults.add_argument("--drop-times", metavar="N", type=int, default=1, help="how often to do so")
    faults.add_argument("--slow", metavar="SECONDS", type=float, default=0.0, help="a pause before each answer")
    faults.add_argument("--most-recipients", metavar="N", type=int, default=0, help="of one message; then 452")
    faults.add_argument("--most-bytes", metavar="N", type=int, default=0, help="of one message")
    faults.add_argument("--login", metavar="USER:PASSWORD", help="ask for this name and password")
    faults.add_argument("--tls", metavar=("CERT", "KEY"), nargs=2, type=Path, help="offer STARTTLS with these")
    faults.add_argument("--no-smtputf8", action="store_true", help="accept only addresses in ASCII")
    faults.add_argument("--tokens", metavar="URL", help="take only tokens, which the stand-in sign-in knows there")
    mail.set_defaults(run=run)
    sign_in = kinds.add_parser("sign-in", help="where one signs in (OAuth 2)", parents=[common])
    sign_in.description = "Signs one made-up person in, in the browser or by a code, without asking. Ctrl-C ends it."
    sign_in.add_argument("--port", type=int, default=8480, metavar="N", help="0 takes a free one (8480)")
    sign_in.add_argument("--user", metavar="ADDRESS", default="maren@tidewick.example", help="who is signed in")
    sign_in.add_argument("--tls", metavar=("CERT", "KEY"), nargs=2, type=Path, required=True, help="its certificate")
    sign_in.add_argument("--seconds", metavar="N", type=int, default=3600, help="how long a token holds")
    sign_in.add_argument("--code-seconds", metavar="N", type=int, default=600, help="how long a code to type waits")
    sign_in.add_argument("--deny", action="store_true", help="allow nothing")
    sign_in.add_argument("--no-renewal", action="store_true", help="renew nothing")
    sign_in.set_defaults(run=run_sign_in)
    post = kinds.add_parser("post", help="hand a posting to a hub, as a mail server does", parents=[common])
    post.add_argument("--to", metavar="ADDRESS", required=True, help="the house list's address")
    post.add_argument("--at", metavar="lmtp://HOST:PORT", required=True, help="where the hub takes mail")
    post.add_argument("--from", metavar="WHO", dest="sender", required=True, help="who writes: Name <address>")
    post.add_argument("--vouch", metavar="ID", default="", help="the name under which the mail server vouches for them")
    post.add_argument("--subject", metavar="TEXT", default="Hello", help="the subject (Hello)")
    post.add_argument("--text", metavar="TEXT", default="Hello.", help="the text (Hello.)")
    post.set_defaults(run=run_post)
    leave = kinds.add_parser("leave", help="press the way out of the newest message in a mailbox", parents=[common])
    leave.add_argument("mailbox", metavar="DIR", type=Path, help="a Maildir, as `stand-in mail` keeps them")
    leave.set_defaults(run=run_leave)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.standin import mail

    login = None
    if args.login is not None:
        user, colon, password = args.login.partition(":")
        if not colon:
            raise UnclearError("Write the login as USER:PASSWORD.")
        login = (user, password)

    def ready(url: str, folder: Path) -> None:
        print(f"listening on {url}", flush=True)
        screen.say(f"Each recipient's mail is kept in {folder}. Ctrl-C ends it.")

    mail.serve(
        args.port,
        args.into,
        mail.Behaviour(
            args.refuse, args.defer, args.defer_times, args.drop, args.drop_times, args.slow, args.most_recipients,
            args.most_bytes, login, tuple(args.tls) if args.tls else None, not args.no_smtputf8, args.tokens or "",
        ),
        ready,
    )  # fmt: skip
    return 0


def run_sign_in(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from contextlib import suppress

    from barnacle.standin import sign_in

    def ready(url: str, introspection: str) -> None:
        print(f"signing in at {url}", flush=True)
        print(f"tokens are known at {introspection}", flush=True)

    manners = sign_in.Manners(args.user, args.seconds, args.deny, not args.no_renewal, args.code_seconds)
    with suppress(KeyboardInterrupt):
        sign_in.serve(args.port, tuple(args.tls), manners, ready)
    return 0


def run_post(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.standin import house

    try:
        code, said = house.hand_over(args.at, args.sender, args.to, args.subject, args.text, args.vouch)
    except (OSError, ValueError) as error:
        raise UnclearError(f"Nothing takes mail at {visible(args.at, 80)}: {error}.") from error
    screen.value({"code": code, "said": said})
    screen.lines(f"The hub answers: {code} {visible(said, 300)}")
    return 0 if code == 250 else 2


def run_leave(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.standin import house

    try:
        link, heading = house.press_way_out(args.mailbox)
    except (OSError, ValueError) as error:
        raise UnclearError(f"The way out could not be taken: {visible(str(error), 200)}.") from error
    screen.value({"link": link, "heading": heading})
    screen.lines(f"{visible(link, 200)} was pressed. The page says: {visible(heading, 200)}.")
    return 0
