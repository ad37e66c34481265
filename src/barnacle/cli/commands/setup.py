"""`barnacle setup`."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from barnacle.cli.console.screen import Screen
from barnacle.core.addresses import Mailbox
from barnacle.core.errors import MailError
from barnacle.core.text import count, listed
from barnacle.jobs.desk import setup
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.mail.servers import ServerOffer


_KEPT = "That is kept, but trying it now did not work:"


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Makes your book and keeps who you are. Run it again to change something."
    parser.add_argument("--me", metavar='"NAME <ADDRESS>"', help="your name and address, as recipients will see it")
    parser.add_argument(
        "--mail", metavar="URL", help="your mail server: smtp://USER@HOST[:PORT], or smtps://… for TLS from the start"
    )
    parser.add_argument(
        "--mailbox", metavar="URL", help="your mailbox, for drafts: imaps://USER@HOST, or imap://… with STARTTLS"
    )
    parser.add_argument("--region", metavar="GB", help="the country that phone numbers without one belong to")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    is_new = setup.set_up(desk, args.me, args.mail, args.mailbox, args.region)
    desk = Desk(book_path=args.book)
    server = desk.setting("mail.server")
    address = desk.setting("me.address")
    me = str(Mailbox(desk.setting("me.name"), address)) if address else None
    offered = _tried(desk) if args.mail else None
    mailbox = desk.setting("mail.mailbox")
    folder, trouble = _tried_mailbox(desk) if args.mailbox else ("", "")
    screen.value(
        {
            "book": str(desk.path), "new": is_new, "me": me, "mail": server or None, "region": desk.region,
            "server": offered and {"most_octets": offered.most_octets, "most_recipients": offered.most_recipients,
                                   **offered.offers, "trouble": offered.trouble},
            "mailbox": (mailbox and {"url": mailbox, "folder": folder, "trouble": trouble}) or None,
        }
    )  # fmt: skip
    screen.say(f"{'Made your book' if is_new else 'Your book is'} {desk.path}.")
    if me:
        screen.say(f"You are {me}.")
    if server:
        screen.say(f"Mail is handed in at {server}.{_answer(offered) if offered else ''}")
    if mailbox:
        says = f" Drafts go to {folder} there." if folder else f" {_KEPT} {trouble}" if trouble else ""
        screen.say(f"Your mailbox is {mailbox}.{says}")
    if not server:
        screen.say("Before you send, name your mail server: `barnacle setup --mail smtp://USER@HOST`.")
    if is_new:
        screen.say('Next: `barnacle import FILE.csv --into "My list"`, or `barnacle contact add "NAME <ADDRESS>"`.')
    return 0


def _tried(desk: Desk) -> ServerOffer:
    from barnacle.jobs.mail import servers

    return servers.try_server(desk)


def _tried_mailbox(desk: Desk) -> tuple[str, str]:
    """The folder for drafts, or why it cannot be had."""
    from barnacle.jobs.mail import drafts

    try:
        return drafts.try_mailbox(desk), ""
    except MailError as error:
        return "", str(error)


def _answer(offered: ServerOffer) -> str:
    """What the server said when it was tried, in words."""
    if offered.trouble:
        return f" {_KEPT} {offered.trouble}"
    can = [name.upper() for name in ("8bitmime", "smtputf8") if offered.offers[name]]
    says = [
        "the line is encrypted" if offered.offers["encrypted"] else "the line is not encrypted",
        f"messages may have up to {offered.most_octets / 1e6:.0f} MB" if offered.most_octets else "",
        f"at most {count(offered.most_recipients, 'recipient')} at a time" if offered.most_recipients else "",
        f"it offers {listed(can)}" if can else "",
        "" if offered.offers["smtputf8"] else "addresses with letters outside a to z cannot be written to",
    ]
    return f" It answers: {'; '.join(one for one in says if one)}."
