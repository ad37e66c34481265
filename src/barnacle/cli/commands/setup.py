"""`barnacle setup`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.addresses import Mailbox
from barnacle.core.errors import BarnacleError, FileError, UnclearError
from barnacle.core.text import as_typed, listed, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk import setup
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.settings import read_value

if TYPE_CHECKING:
    from barnacle.jobs.mail.accounts import Server
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
    parser.add_argument(
        "--sender", metavar='"NAME <ADDRESS>"',
        help="an address that you also write for; --mail and --signature are its own then",
    )  # fmt: skip
    parser.add_argument("--signature", metavar="TEXT", help="what is added below each text; \\n starts a new line")
    parser.add_argument("--remove-sender", metavar="SENDER", help="forget one of these")
    parser.add_argument("--directory", metavar="URL", help="your organisation's directory: ldaps://HOST/BASE")
    parser.add_argument(
        "--directory-user", metavar="DN", help="the name that it lets you in by; `external`: by your certificate"
    )
    parser.add_argument("--find", action="store_true", help="look both up by your address, in the DNS of its domain")
    parser.add_argument("--region", metavar="GB", help="the country of phone numbers that do not give one")
    parser.add_argument("--password-from", metavar="FILE", help="read your mail password from a file; - is stdin")
    parser.add_argument(
        "--keep", choices=("keyring", "file"), help="where to keep that password (default: the keyring)"
    )
    parser.add_argument("--password-command", metavar="COMMAND", help="a command that prints the password")
    signing = parser.add_argument_group("where your mail takes a sign-in (OAuth 2) and no password")
    signing.add_argument(
        "--sign-in", metavar="URL", nargs="?", const="", help="sign in there now; without URL, where you did before"
    )
    signing.add_argument("--client", metavar="ID", help="the client ID, as whoever runs your mail says")
    signing.add_argument("--client-secret", metavar="TEXT", help="what goes with it, where something does")
    signing.add_argument("--scope", metavar="TEXT", help="what to ask for, as whoever runs your mail says")
    signing.add_argument("--device", action="store_true", help="by a code that you type on another device")
    signing.add_argument("--token-command", metavar="COMMAND", help="a command that prints a token instead")
    trust = parser.add_argument_group("whom to believe who a server is")
    trust.add_argument("--ca-file", metavar="FILE", help="your office's own certificate authority")
    trust.add_argument(
        "--pin",
        metavar="FINGERPRINT",
        nargs="?",
        const="",
        help="show the server's certificate, and trust that one alone",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    given = [
        args.me, args.mail, args.mailbox, args.region, args.password_from, args.password_command, args.signature,
        args.sign_in, args.client, args.client_secret, args.scope, args.token_command, args.ca_file, args.pin,
    ]  # fmt: skip
    if args.directory is not None or args.directory_user is not None:
        return _directory(args, desk, screen)
    if args.sender is not None or args.remove_sender is not None:
        return _sender(args, desk, screen)
    if all(one is None for one in given) and not args.find and screen.can_ask and not screen.yes:
        return _ask(desk, screen)
    from barnacle.jobs.desk import passwords
    from barnacle.jobs.mail import accounts

    secret = _read_secret(args)
    mail, mailbox = args.mail, args.mailbox
    remarks: list[str] = []
    if args.find:
        mail, mailbox, remarks = _found(desk, args.me, mail, mailbox)
    more = _signing(args)
    keeps: list[tuple[Server, str]] = []
    if secret is not None:
        urls = (mail or desk.setting("mail.server"), mailbox or desk.setting("mail.mailbox"))
        keeps = [(server, secret) for server in accounts.asking(*urls)]
        # A command would come before what is kept elsewhere.
        more |= {passwords.command_setting(server): None for server, _ in keeps}
    if args.password_command:
        more["mail.password_command"] = args.password_command
    is_new = setup.set_up(desk, args.me, mail, mailbox, args.region, more)
    troubles: dict[str, str] = {}
    if args.pin is not None:
        remarks += _pinned(args, desk, screen)
    if args.sign_in is not None:
        remarks += _signed_in(desk, screen, args.device, troubles)
    remarks += _kept(desk, keeps, args.keep or accounts.KEYRING, troubles)
    some_password = any(one is not None for one in (secret, args.password_command, args.sign_in, args.token_command,
                                                    args.ca_file, args.pin))  # fmt: skip
    some_password = some_password and not troubles
    offered = _tried(desk, secret) if mail or some_password else None
    tried = bool(mailbox or some_password) and bool(desk.setting("mail.mailbox"))
    folder, trouble = _tried_mailbox(desk, secret) if tried else ("", "")
    if offered and not offered.trouble:
        remarks += _not_kept(desk)
    _tell(desk, screen, is_new, offered, folder, trouble, remarks, troubles, tried)
    return 1 if troubles or trouble or (offered and offered.why_not) else 0


def _signing(args: argparse.Namespace) -> dict[str, str | None]:
    """What the options say of a sign-in and of trust, by its setting."""
    said: dict[str, str | None] = {
        "mail.sign_in": args.sign_in or None, "mail.sign_in_client": args.client, "mail.sign_in_scope": args.scope,
        "mail.sign_in_secret": args.client_secret, "mail.token_command": args.token_command,
        "mail.signature": args.signature,
    }  # fmt: skip
    if args.sign_in:
        said["mail.sign_in"] = read_value("mail.sign_in", args.sign_in)
    if args.ca_file is not None:
        said["mail.ca_file"] = args.ca_file and read_value("mail.ca_file", args.ca_file)
    return {key: value for key, value in said.items() if value is not None}


def _sender(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """Keep another address that one writes for, or forget it."""
    from barnacle.jobs.desk import senders

    if args.remove_sender is not None:
        gone = senders.remove(desk, args.remove_sender)
        screen.value({"removed": gone.name})
        screen.lines(f"{gone.mailbox} is no sender of yours any more.")
        return 0
    secret = _read_secret(args)
    if secret is not None and not args.mail:
        raise UnclearError("A password for which server? Name it with --mail smtps://USER@HOST.")
    one, is_new = senders.add(desk, args.sender, args.mail, args.signature)
    screen.value({"sender": one.name, "mailbox": str(one.mailbox), "mail": one.server or None, "new": is_new})
    screen.lines(f"You can write as {one.mailbox}: `barnacle compose --from {one.name}`.")
    if not one.server:
        screen.say("It goes out through your own mail server, which must let you write from that address.")
        return 0
    from barnacle.jobs.mail import accounts, servers
    from barnacle.jobs.mail.sign_in import credentials

    server = servers.mail_server(desk, one.mailbox.address)
    troubles: dict[str, str] = {}
    if secret is not None:
        for remark in _kept(desk, [(server, secret)], args.keep or accounts.KEYRING, troubles):
            screen.say(remark)
        for why in troubles.values():
            screen.say(why)
    offered = servers.try_server(server, credentials(desk, server), one.mailbox.address)
    says = offered.trouble or accounts.in_words(offered)
    screen.say(f"Through {server}. {'Saved, but it did not work when it was tried: ' if offered.trouble else ''}{says}")
    return 1 if offered.why_not or troubles else 0


def _directory(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    """Keep where the organisation's directory is, with the password that was typed, and try it."""
    from barnacle.jobs.desk import directory_setup

    done = directory_setup.set_up(desk, args.directory, args.directory_user)
    screen.value({"directory": done.url or None, "trouble": done.trouble or None, "kept": done.kept or None})
    if not done.url:
        screen.lines("No directory is named any more.")
        return 0
    screen.lines(f"The directory is {done.url}.")
    if done.kept:
        screen.say(f"Its password is in {done.kept}.")
    if done.trouble:
        screen.say(f"Saved, but it did not work when it was tried: {done.trouble}")
        return 1
    screen.say("It works. `barnacle directory find WORDS` searches it.")
    return 0


def _signed_in(desk: Desk, screen: Screen, by_device: bool, troubles: dict[str, str]) -> list[str]:
    """Have the user sign in, and say where that is kept."""
    from barnacle.jobs.mail import sign_in

    def tell(page: str, code: str) -> None:
        screen.say(f"Open {page} on any device, and type this code there: {code}")

    def open_page(url: str) -> None:
        import webbrowser

        screen.say(f"Your browser opens a page to sign in. If it does not, open it yourself:\n{url}")
        webbrowser.open(url)

    try:
        return [f"You are signed in. What renews that is in {sign_in.begin(desk, by_device, tell, open_page)}."]
    except BarnacleError as error:
        troubles["signing in"] = str(error)
        return []


def _pinned(args: argparse.Namespace, desk: Desk, screen: Screen) -> list[str]:
    """Trust the certificates of the mail server and of the mailbox, where they prove nothing, after a look at them."""
    from barnacle.jobs.mail import drafts, servers, sign_in

    places = [find(desk) for key, find in (("mail.server", servers.mail_server), ("mail.mailbox", drafts.mailbox))
              if desk.setting(key)]  # fmt: skip
    if not places:
        raise UnclearError("The certificate of which server? Name it with --mail.")
    found = sign_in.unproven(desk, places)
    if args.pin:
        trusted, others = sign_in.shown_as(found, args.pin)
    else:
        trusted, others = found, []
        for server, shown in found:
            screen.say(f"{server.at} did not prove that it is {server.host}: {visible(shown.trouble)}.")
            screen.say(f"The fingerprint of its certificate (SHA-256) is\n{sign_in.in_groups(shown.fingerprint)}")
        hosts = listed(list(dict.fromkeys(server.host for server, _ in found)))
        asked = f"Does whoever runs {hosts} read you the same? Trust it from now on?"
        in_a_script = "Nothing was changed. In a script, say which one: --pin FINGERPRINT."
        if not screen.can_ask or screen.yes or not screen.confirm(asked, in_a_script):
            raise UnclearError(in_a_script)
    remarks = []
    for server, shown in trusted:
        sign_in.pin(desk, server, shown)
        fingerprint = sign_in.in_groups(shown.fingerprint)
        remarks.append(f"{server.at} is trusted by its certificate {fingerprint[:23]}… alone.")
    return remarks + others


def _ask(desk: Desk, screen: Screen) -> int:
    """Ask for everything, then keep it all."""
    from barnacle.cli.console.setup_questions import SetupQuestions

    answers = SetupQuestions(desk).ask_all()
    is_new = setup.set_up(
        desk,
        str(Mailbox(answers.name, answers.address)),
        answers.server.url if answers.server else "",
        answers.mailbox.url if answers.mailbox else "",
        answers.region,
        answers.more,
    )
    remarks = _kept(desk, answers.kept_for(), answers.keep, answers.trouble)
    if answers.more.get("mail.sign_in"):
        remarks += _signed_in(desk, screen, False, answers.trouble)
    screen.say()
    _tell(desk, screen, is_new, None, "", "", remarks, answers.trouble)
    return 1 if answers.trouble else 0


def _kept(desk: Desk, keeps: list[tuple[Server, str]], where: str, troubles: dict[str, str]) -> list[str]:
    """Keep passwords where that was asked for, and nowhere else."""
    from barnacle.jobs.mail import accounts

    places = set()
    try:
        for server, secret in keeps:
            if where:
                places.add(accounts.keep_password(desk, server, secret, where))
            else:
                accounts.forget_password(desk, server)
    except BarnacleError as error:
        troubles["keeping the password"] = str(error)
    return [f"Your password is in {' and '.join(sorted(places))}."] if places else []


def _not_kept(desk: Desk) -> list[str]:
    """What to say where somebody was asked for a password that is kept nowhere."""
    from barnacle.jobs.desk import passwords
    from barnacle.jobs.mail import servers, sign_in

    server = servers.mail_server(desk)
    if not server.user or sign_in.signs_in(desk) or passwords.kept_password(desk, server) is not None:
        return []
    return ["You will be asked for the password each time; `barnacle setup` without options keeps it."]


def _read_secret(args: argparse.Namespace) -> str | None:
    if args.password_from is None:
        if args.keep:
            raise UnclearError("--keep says where to keep the password of --password-from. Give both.")
        return None
    try:
        source = args.password_from
        text = as_typed(sys.stdin.read()) if source == "-" else Path(source).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or error
        raise FileError(f"The password in {visible(args.password_from)} cannot be read: {why}.") from error
    secret = text.split("\n")[0].rstrip("\r")
    if not secret:
        raise UnclearError("There is no password on the first line.")
    return secret


def _found(
    desk: Desk, me: str | None, mail: str | None, mailbox: str | None
) -> tuple[str | None, str | None, list[str]]:
    """What the DNS says of the address, for what is not given."""
    from barnacle.core.addresses import typed_mailbox
    from barnacle.jobs.mail import accounts

    address = typed_mailbox(me).address if me else desk.me.address
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


def _tell(
    desk: Desk,
    screen: Screen,
    is_new: bool,
    offered: ServerOffer | None,
    folder: str,
    trouble: str,
    remarks: list[str],
    troubles: dict[str, str],
    tried: bool = False,
) -> None:
    from barnacle.jobs.mail import accounts

    server, address = desk.setting("mail.server"), desk.setting("me.address")
    mailbox = desk.setting("mail.mailbox")
    me = str(Mailbox(desk.setting("me.name"), address)) if address else None
    screen.value(
        {
            "book": str(desk.path), "new": is_new, "me": me, "mail": server or None, "region": desk.region,
            "server": offered and {"most_octets": offered.most_octets, "most_recipients": offered.most_recipients,
                                   **offered.offers, "trouble": offered.why_not},
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
        if tried and not folder:
            says = (
                " It works, but has no folder for drafts; make one called Drafts in your mail program if you want them."
            )
        says = f" Saved, but it did not work when it was tried: {trouble}" if trouble else says
        screen.say(f"Your mailbox is {accounts.servers_called(mailbox, 'imap', '')[0]}.{says}")
    if not server:
        ways = "`barnacle setup --find` looks it up, `--mail smtps://USER@HOST` names it"
        screen.say(f"Before you can send, name your mail server: {ways}.")
    if is_new:
        screen.say('Next: `barnacle import FILE.csv --into "My list"`, or `barnacle contact add "NAME <ADDRESS>"`.')
    for what, why in troubles.items():
        screen.say(
            f"Saved, but {what} did not work{'' if what.endswith(('password', 'in')) else ' when it was tried'}: {why}"
        )


def _tried(desk: Desk, secret: str | None) -> ServerOffer | None:
    from barnacle.jobs.mail import servers
    from barnacle.jobs.mail.sign_in import credentials

    if not desk.setting("mail.server"):
        return None
    server = servers.mail_server(desk)
    return servers.try_server(server, credentials(desk, server, secret), desk.setting("me.address"))


def _tried_mailbox(desk: Desk, secret: str | None) -> tuple[str, str]:
    """The folder for drafts, or why it cannot be had."""
    from barnacle.jobs.mail import drafts
    from barnacle.jobs.mail.sign_in import credentials

    if not desk.setting("mail.mailbox"):
        return "", ""
    server = drafts.mailbox(desk)
    return drafts.try_mailbox(server, credentials(desk, server, secret))
