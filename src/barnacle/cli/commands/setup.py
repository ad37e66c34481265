"""`barnacle setup`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from barnacle.cli.console.screen import Screen
from barnacle.core.addresses import Mailbox
from barnacle.core.errors import BarnacleError, FileError, MailError, UnclearError
from barnacle.core.text import visible
from barnacle.jobs.desk import setup
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.cli.console.setup_questions import Answers
    from barnacle.jobs.mail.servers import ServerOffer


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Makes your book, and keeps who you are and how your mail is sent. On a terminal, and without options, it asks "
        "for everything. Run it again to change something."
    )
    parser.add_argument("--me", metavar='"NAME <ADDRESS>"', help="your name and address, as recipients will see it")
    parser.add_argument("--mail", metavar="URL", help="your mail server: smtps://USER@HOST, or smtp:// with STARTTLS")
    parser.add_argument(
        "--mailbox", metavar="URL", help="your mailbox, for drafts: imaps://USER@HOST, or imap:// with STARTTLS"
    )
    parser.add_argument("--find", action="store_true", help="look both up by your address, in the DNS of its domain")
    parser.add_argument("--region", metavar="GB", help="the country of phone numbers that do not give one")
    parser.add_argument("--password-from", metavar="FILE", help="read your mail password from a file; - is stdin")
    parser.add_argument(
        "--keep", choices=("keyring", "file"), help="where to keep that password (default: the keyring)"
    )
    parser.add_argument("--password-command", metavar="COMMAND", help="a command that prints the password")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    given = (args.me, args.mail, args.mailbox, args.region, args.password_from, args.password_command)
    if all(one is None for one in given) and not args.find and screen.can_ask and not screen.yes:
        return _ask(args, desk, screen)
    secret = _read_secret(args)
    me, mail, mailbox = args.me, args.mail, args.mailbox
    remarks: list[str] = []
    if args.find:
        mail, mailbox, remarks = _found(desk, me, mail, mailbox)
    is_new = setup.set_up(desk, me, mail, mailbox, args.region, args.password_command)
    desk = Desk(book_path=args.book)
    if secret is not None:
        remarks.append(_keep(desk, secret, args.keep or "keyring"))
    offered = _tried(desk, secret) if mail or secret is not None else None
    tries_mailbox = desk.setting("mail.mailbox") and (mailbox or secret is not None)
    folder, trouble = _tried_mailbox(desk, secret) if tries_mailbox else ("", "")
    troubles = [one for one in (offered.trouble if offered else "", trouble) if one]
    _tell(desk, screen, is_new, offered, folder, trouble, remarks)
    return 1 if troubles else 0


def _ask(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """Ask for everything, then keep it all."""
    from barnacle.cli.console.setup_questions import SetupQuestions

    answers = SetupQuestions(desk).ask_all()
    is_new = setup.set_up(
        desk,
        str(Mailbox(answers.name, answers.address)),
        answers.server.url if answers.server else "",
        answers.mailbox.url if answers.mailbox else "",
        answers.region,
        answers.password_command,
    )
    screen.say()
    _tell(Desk(book_path=args.book), screen, is_new, None, "", "", _kept(desk, answers))
    for what, trouble in answers.trouble.items():
        screen.say(f"Saved, but {what} did not work when it was tried: {trouble}")
    return 1 if answers.trouble else 0


def _kept(desk: Desk, answers: Answers) -> list[str]:
    """Keep the passwords where that was asked for."""
    from barnacle.jobs.mail import accounts

    if not answers.keep:
        return []
    try:
        places = {accounts.keep_password(desk, [one], secret, answers.keep) for one, secret in answers.kept_for()}
    except BarnacleError as error:
        answers.trouble["keeping the password"] = str(error)
        return []
    return [f"Your password is in {' and '.join(sorted(places))}."]


def _read_secret(args: argparse.Namespace) -> str | None:
    if args.password_from is None:
        if args.keep:
            raise UnclearError("--keep says where to keep the password of --password-from. Give both.")
        return None
    try:
        source = args.password_from
        text = sys.stdin.read() if source == "-" else Path(source).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"The password in {visible(args.password_from)} cannot be read: {error}.") from error
    secret = text.split("\n")[0].rstrip("\r")
    if not secret:
        raise UnclearError("There is no password on the first line.")
    return secret


def _found(
    desk: Desk, me: str | None, mail: str | None, mailbox: str | None
) -> tuple[str | None, str | None, list[str]]:
    """What the DNS says of the address, for what is not given."""
    from barnacle.core.addresses import parse_mailbox
    from barnacle.jobs.mail import accounts

    address = parse_mailbox(me).address if me else desk.me.address
    remarks = []
    for what, is_given, find in (
        ("mail server", mail, accounts.find_server),
        ("mailbox", mailbox, accounts.find_mailbox),
    ):
        if is_given:
            continue
        found = find(address)
        domain = address.rpartition("@")[2]
        remarks.append(
            f"The {what} is {found.server.host}, port {found.server.port} ({found.how})."
            if found
            else f"No {what} was found for {domain}."
        )
        if found and what == "mailbox":
            mailbox = found.server.url
        elif found:
            mail = found.server.url
    return mail, mailbox, remarks


def _keep(desk: Desk, secret: str, where: str) -> str:
    from barnacle.jobs.mail import accounts

    place = accounts.keep_password(desk, accounts.of_settings(desk), secret, where)
    return f"Your password is in {place}."


def _tell(
    desk: Desk, screen: Screen, is_new: bool, offered: ServerOffer | None, folder: str, trouble: str, remarks: list[str]
) -> None:
    from barnacle.jobs.mail import accounts

    server, address = desk.setting("mail.server"), desk.setting("me.address")
    mailbox = desk.setting("mail.mailbox")
    me = str(Mailbox(desk.setting("me.name"), address)) if address else None
    screen.value(
        {
            "book": str(desk.path), "new": is_new, "me": me, "mail": server or None, "region": desk.region,
            "server": offered and {"most_octets": offered.most_octets, "most_recipients": offered.most_recipients,
                                   **offered.offers, "trouble": offered.trouble},
            "mailbox": (mailbox and {"url": mailbox, "folder": folder, "trouble": trouble}) or None,
        }
    )  # fmt: skip
    screen.say(f"Your {'new ' if is_new else ''}book is {desk.path}.")
    if me:
        screen.say(f"You are {me}. Phone numbers are read as from {desk.region}.")
    for remark in remarks:
        screen.say(remark)
    if server:
        says = ""
        if offered:
            kept = f"Saved, but it did not work when it was tried: {offered.trouble}"
            says = f" {kept if offered.trouble else accounts.in_words(offered)}"
        screen.say(f"Mail goes out through {accounts.servers_called(server, 'smtp', '')[0]}.{says}")
    if mailbox:
        says = f" Drafts go to {folder} there." if folder else ""
        says = f" Saved, but it did not work when it was tried: {trouble}" if trouble else says
        screen.say(f"Your mailbox is {accounts.servers_called(mailbox, 'imap', '')[0]}.{says}")
    if not server:
        screen.say("Before you can send, name your mail server: `barnacle setup`.")
    if is_new:
        screen.say('Next: `barnacle import FILE.csv --into "My list"`, or `barnacle contact add "NAME <ADDRESS>"`.')


def _tried(desk: Desk, secret: str | None) -> ServerOffer | None:
    from barnacle.jobs.mail import accounts, servers

    if not desk.setting("mail.server"):
        return None
    return servers.try_server(desk) if secret is None else accounts.try_server(servers.mail_server(desk), secret)


def _tried_mailbox(desk: Desk, secret: str | None) -> tuple[str, str]:
    """The folder for drafts, or why it cannot be had."""
    from barnacle.jobs.mail import accounts, drafts

    if secret is not None:
        return accounts.try_mailbox(drafts.mailbox(desk), secret)
    try:
        return drafts.try_mailbox(desk), ""
    except MailError as error:
        return "", str(error)
