"""`barnacle setup` and `barnacle settings`."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from barnacle.cli.screen import Screen
from barnacle.core.addresses import Mailbox
from barnacle.core.errors import MailError
from barnacle.core.text import count, listed
from barnacle.jobs import preferences, setting_up
from barnacle.jobs.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.sending import Offered


_KEPT = "That is kept, but trying it now did not work:"


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    if command == "settings":
        parser.description = (
            "All settings, one of them, or one changed. They stand in barnacle.toml, a file you may edit."
        )
        parser.add_argument("key", metavar="KEY", nargs="?")
        parser.add_argument("value", metavar="VALUE", nargs="?")
        parser.set_defaults(run=run_settings)
        return
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
    is_new = setting_up.set_up(desk, args.me, args.mail, args.mailbox, args.region)
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


def _tried(desk: Desk) -> Offered:
    from barnacle.jobs import sending

    return sending.try_server(desk)


def _tried_mailbox(desk: Desk) -> tuple[str, str]:
    """The folder for drafts, or why it cannot be had."""
    from barnacle.jobs import handing

    try:
        return handing.try_mailbox(desk), ""
    except MailError as error:
        return "", str(error)


def _answer(offered: Offered) -> str:
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


def run_settings(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.value is not None:
        value = setting_up.set_preference(desk, args.key, args.value)
        screen.value({args.key: value})
        screen.say(f"{args.key} is {value} now.")
        return 0
    keys = [preferences.known(args.key)] if args.key else list(preferences.KNOWN)
    screen.value({key: desk.setting(key) for key in keys})
    screen.table(("Setting", "Value", "What it is"), [(k, desk.setting(k), preferences.KNOWN[k][1]) for k in keys])
    if not args.key:
        screen.say(f"They stand in {desk.settings_path}.")
    return 0
