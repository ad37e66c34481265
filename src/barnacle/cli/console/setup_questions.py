"""What `setup` asks on a terminal: who you are, and how your mail is sent. Nothing is kept before the last answer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial

from barnacle.cli.console.questions import ask, ask_secret, choose, in_turn, say
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk import passwords, setup
from barnacle.jobs.desk.countries import read_country
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import accounts, drafts, servers
from barnacle.jobs.mail.sign_in import Credentials, check_place, trust

if TYPE_CHECKING:
    from barnacle.jobs.mail.accounts import Server, Suggestion

# What is typed in place of a server by somebody who has none.
NONE = "none"
_SERVER, _MAILBOX = "the mail server", "the mailbox"
_TRIES = 3


@dataclass(slots=True)
class Answers:
    """What was said. `trouble` has what did not work, and why, in a sentence."""

    name: str = ""
    address: str = ""
    region: str = ""
    server: Server | None = None
    mailbox: Server | None = None
    secret: str = ""
    mailbox_secret: str = ""
    more: dict[str, str | None] = field(default_factory=dict)
    keep: str = ""
    trouble: dict[str, str] = field(default_factory=dict)

    def kept_for(self) -> list[tuple[Server, str]]:
        """Each server with the password to keep for it."""
        pairs = ((self.server, self.secret), (self.mailbox, self.mailbox_secret))
        return [(server, secret) for server, secret in pairs if server and secret]


class SetupQuestions:
    """The questions; what is known already is what Enter takes."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.answers = Answers()
        self._found: dict[str, Suggestion | None] = {}
        self._others: list[Server] = []
        self._server_works = False

    def ask_all(self) -> Answers:
        """Raises KeyboardInterrupt or EOFError where somebody stops; nothing is kept then."""
        say(
            "A few questions, and you are ready to write. Enter accepts what is in [brackets], < goes back, and Ctrl-C "
            "stops without keeping anything."
        )
        steps = (
            self._name, self._address, self._region, self._server, self._password, self._mailbox,
            self._mailbox_password, self._keep,
        )  # fmt: skip
        in_turn(steps)
        return self.answers

    def _name(self) -> bool:
        say("\nRecipients see your name and your address.")
        known = self.desk.setting("me.name")
        self.answers.name = ask("Your name", self.answers.name or known, setup.read_name)
        return True

    def _address(self) -> bool:
        known = self.desk.setting("me.address")
        self.answers.address = ask("Your e-mail address", self.answers.address or known, setup.read_my_address)
        return True

    def _region(self) -> bool:
        say("\nPhone numbers without a country code: which country are they in? Its name, or two letters.")
        known = self.desk.settings.get("me.region") or setup.guess_region()
        self.answers.region = ask("Country", self.answers.region or known, read_country)
        return True

    def _server(self) -> bool:
        say("\nYour mail server sends what you write. It is in the account settings of your mail program.")
        kept = self.desk.setting("mail.server")
        self.answers.server = self._ask_server("Mail server", "smtp", kept, accounts.find_server)
        return True

    def _password(self) -> bool:
        answers = self.answers
        self._server_works, answers.secret = False, ""
        answers.trouble.pop(_SERVER, None)
        if answers.server is None:
            return False
        if not answers.server.user:
            self._server_works = bool(self._try_server(""))
            return False
        answers.more = {}
        say(f"\nAsking {answers.server.host} how one signs in …")
        if any(servers.wants_sign_in(self.desk, one) for one in self._ways(answers.server)):
            return self._sign_in(answers.server)
        say(f"\nYour password at {answers.server.host}. It does not show as you type; Enter leaves it for later.")
        for _ in range(_TRIES):
            answers.secret = ask_secret(f"Password of {visible(answers.server.user)}: ")
            if not answers.secret or (works := self._try_server(answers.secret)):
                self._server_works = bool(answers.secret)
                return True
            if works is None:
                ask("Enter goes on all the same, < changes the server")
                return True
            say("Type it again, or Enter to go on without; < changes the server.")
        answers.secret = ""
        return True

    def _sign_in(self, server: Server) -> bool:
        """Where a server takes no password: where one signs in, which is done at the end."""
        say(
            f"\n{server.host} takes no password: one signs in with one's organisation, in the browser. Whoever runs "
            "your mail knows the address of that and a client ID for this program."
        )
        place = ask("Address of the sign-in", self.desk.setting("mail.sign_in"), check_place)
        client: str = ask("Client ID", self.desk.setting("mail.sign_in_client"))
        scope: str = ask("Scope (often none)", self.desk.setting("mail.sign_in_scope"))
        self.answers.more = {"mail.sign_in": place, "mail.sign_in_client": client, "mail.sign_in_scope": scope}
        return True

    def _try_server(self, secret: str) -> bool | None:
        """Whether the server lets us in; None where it cannot be reached."""
        server = self.answers.server
        assert server is not None
        for one in self._ways(server):
            say(f"Trying {one.host}:{one.port} …")
            offered = servers.try_server(one, self._let_in(secret), self.answers.address)
            if not offered.trouble:
                self.answers.server = one
                self.answers.trouble.pop(_SERVER, None)
                say(accounts.in_words(offered))
                return True
            say(visible(offered.trouble))
        self.answers.trouble[_SERVER] = offered.trouble
        return None if offered.is_away else False

    def _let_in(self, secret: str) -> Credentials:
        return Credentials(lambda: secret or None, trust(self.desk))

    def _mailbox(self) -> bool:
        say("\nYour mailbox is where drafts and copies of what you send go, and where answers come in.")
        kept = self.desk.setting("mail.mailbox")
        self.answers.mailbox = self._ask_server("Mailbox", "imap", kept, accounts.find_mailbox)
        return True

    def _mailbox_password(self) -> bool:
        answers = self.answers
        answers.mailbox_secret = ""
        answers.trouble.pop(_MAILBOX, None)
        if answers.mailbox is None or answers.more.get("mail.sign_in"):
            return False
        if answers.secret and self._server_works and self._try_mailbox(answers.secret):
            return False
        say("Your password for the mailbox; Enter leaves it for later.")
        for _ in range(_TRIES):
            secret = ask_secret(f"Password of {visible(answers.mailbox.user)}: ")
            if not secret or self._try_mailbox(secret):
                break
        return True

    def _try_mailbox(self, secret: str) -> bool:
        mailbox = self.answers.mailbox
        assert mailbox is not None
        for one in self._ways(mailbox):
            say(f"Trying {one.host}:{one.port} …")
            folder, trouble = drafts.try_mailbox(one, self._let_in(secret))
            if trouble:
                self.answers.trouble[_MAILBOX] = trouble
            else:
                self.answers.trouble.pop(_MAILBOX, None)
                self.answers.mailbox, self.answers.mailbox_secret = one, secret
                say(
                    f"It works: drafts will go to {visible(folder)}."
                    if folder
                    else "It works; there is no folder for drafts."
                )
                return True
            say(visible(trouble))
        return False

    def _keep(self) -> bool:
        answers = self.answers
        answers.keep = ""
        if not answers.kept_for():
            return False
        ways: list[tuple[str, str]] = [
            ("command", "a command prints it each time (from a password manager, say)"),
            (accounts.FILE, f"in a file that only you can read ({self.desk.passwords_path.name}, not encrypted)"),
            ("", "nowhere: ask me each time"),
        ]
        if passwords.has_keyring():
            ways.insert(0, (accounts.KEYRING, "in this computer's keyring"))
            say("\nWhere should the password be kept?")
        else:
            say("\nThis computer has no keyring to keep the password in. What instead?")
            ways = [ways[2], ways[0], ways[1]]
        way = ways[choose("Number", [words for _, words in ways])][0]
        answers.keep = way if way in (accounts.KEYRING, accounts.FILE) else ""
        done = ""
        for server, secret in answers.kept_for():
            key = passwords.command_setting(server)
            answers.more[key] = None  # it would come before what is kept elsewhere
            if way == "command" and secret != done:
                say(f"The command that prints the password of {visible(server.user)} at {server.host}:")
                answers.more[key] = ask("Command", self.desk.setting(key), partial(_command, secret))
                done = secret
        return True

    def _ask_server(self, what: str, kind: str, kept: str, find: Callable[[str], Suggestion | None]) -> Server | None:
        """The server that is typed or suggested, None for none."""
        address = self.answers.address
        if kept:
            known = accounts.servers_called(kept, kind, "")[0]
            default, user = known.place, known.user
        else:
            user = address
            key = f"{kind} {address}"
            if key not in self._found:
                say("Looking for it …")
                self._found[key] = find(address)
            suggestion = self._found[key]
            if suggestion:
                default = suggestion.server.place
                say(f"Found {suggestion.server.host}, port {suggestion.server.port} ({suggestion.how}).")
            else:
                say(f"Nothing was found for {address.rpartition('@')[2]}. Type its name, or `{NONE}`.")
                default = NONE

        def read(typed: str) -> list[Server]:
            return [] if typed.lower() in ("", NONE) else accounts.servers_called(typed, kind, user)

        servers = ask(what, default, read)
        if not servers:
            return None
        self._others = servers
        user = ask("User name there", servers[0].user)
        self._others = [replace(one, user=user) for one in servers]
        return self._others[0]

    def _ways(self, server: Server) -> list[Server]:
        """The server, and what else a name typed without a scheme may mean."""
        same = [one for one in self._others if (one.host, one.kind) == (server.host, server.kind)]
        return same if server in same else [server]


def _command(secret: str, typed: str) -> str:
    """A command that prints the password. Raises UnclearError, MailError."""
    if not typed:
        raise UnclearError("Type a command as in your terminal, or < to go back.")
    if passwords.from_command(typed, "that command") != secret:
        raise UnclearError("That command prints another password than the one that you typed.")
    return typed
