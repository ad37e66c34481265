"""How one is let in at one's mail server and mailbox: by a password, or by a sign-in with one's organisation."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from barnacle.book import settings
from barnacle.core.errors import MailError, StoppedError, UnclearError
from barnacle.core.text import listed
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk import passwords
from barnacle.jobs.desk.desk import Desk
from barnacle.net.credentials import AccessToken
from barnacle.net.credentials import Credentials as Credentials
from barnacle.net.server import Server
from barnacle.net.tls import Shown, Trust, look_at, read_fingerprint
from barnacle.net.tls import in_groups as in_groups

if TYPE_CHECKING:
    from barnacle.net.oauth import SignedIn, SignIn

# A token is renewed so many seconds before it ends.
_BEFORE = 60.0


def trust(desk: Desk) -> Trust:
    """Whom to believe that it is one's mail server, as the settings say."""
    pins = dict(one.rsplit(" ", 1) for one in desk.setting("mail.pinned"))
    return Trust(desk.setting("mail.ca_file"), "mail.ca_file", pins)


def signs_in(desk: Desk) -> bool:
    """Whether a sign-in takes the place of the password."""
    return bool(desk.setting("mail.token_command") or desk.setting("mail.sign_in"))


def credentials(desk: Desk, server: Server, secret: str | None = None) -> Credentials:
    """How to be let in at a server: with this password, else by the sign-in of the settings (if it is their server),
    else with a password that is kept or asked for, once."""
    if secret is not None:
        return Credentials(lambda: secret, trust(desk))
    is_own = passwords.is_own(desk, server, by_any_name=True)
    if is_own and (command := desk.setting("mail.token_command")):

        def from_command() -> str:
            return AccessToken(passwords.from_command(command, "the command in mail.token_command"))

        return Credentials(from_command, trust(desk), True, from_command)
    if is_own and desk.setting("mail.sign_in"):
        kept = _Kept(desk)
        return Credentials(kept.token, trust(desk), True, kept.renewed)
    remembered: list[str | None] = []

    def password() -> str | None:
        if not remembered:
            remembered.append(passwords.mail_password(desk, server))
        return remembered[0]

    return Credentials(password, trust(desk))


class _Kept:
    """A token for as long as it holds, renewed by what is kept from the sign-in."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.now: SignedIn | None = None

    def token(self) -> str:
        """Raises MailError where one must sign in again."""
        if self.now is None or time.time() > self.now.until - _BEFORE:
            return self.renewed()
        return AccessToken(self.now.access)

    def renewed(self) -> str:
        """Another token."""
        name = account(self.desk)
        kept = passwords.kept_under(self.desk, name)
        if kept is None:
            raise MailError("You have not signed in yet, or the sign-in was forgotten: `barnacle setup --sign-in`.")
        from barnacle.net.oauth import EndedError

        try:
            with _opened(self.desk) as sign_in:
                self.now = sign_in.renewed(kept)
        except EndedError as error:
            raise MailError(f"{error} Sign in again: `barnacle setup --sign-in`.") from None
        if self.now.refresh != kept:
            passwords.keep(self.desk, name, self.now.refresh)
        return AccessToken(self.now.access)


def check_place(url: str) -> str:
    """Where one signs in. Raises UnclearError."""
    from barnacle.net.oauth import check_url

    return check_url(url)


def account(desk: Desk) -> str:
    """What the sign-in is kept under."""
    return f"sign-in {desk.setting('mail.sign_in_client')} at {desk.setting('mail.sign_in')}"


def _opened(desk: Desk) -> SignIn:
    from barnacle.net.oauth import Endpoints, Program, SignIn

    program = Program(*(desk.setting(f"mail.sign_in_{name}") for name in ("client", "secret", "scope")))
    if not program.client:
        raise UnclearError("The sign-in needs a client ID, which whoever runs your mail knows: --client ID.")
    given = desk.setting("mail.sign_in_endpoints")
    return SignIn(desk.setting("mail.sign_in"), program, trust(desk), Endpoints(*given[:3]) if given else None)


def begin(desk: Desk, by_device: bool, tell: Callable[[str, str], None], open_page: Callable[[str], None]) -> str:
    """Sign in by the settings, and keep what renews it. `tell` is told a page and the code to type there; `open_page`
    is given a page for the browser. Returns where it is kept, in words. Raises MailError, UnclearError."""
    if not desk.setting("mail.sign_in"):
        raise UnclearError("Sign in where? Name the address that whoever runs your mail gave you: --sign-in URL.")
    with _opened(desk) as sign_in:
        come = sign_in.by_device(tell) if by_device else sign_in.by_browser(open_page)
    if not come.refresh:
        raise MailError(
            "The sign-in worked, but gave nothing to renew it with, so you would have to sign in each hour. Ask "
            "whoever runs your mail for the scope to ask for (often `offline_access`): --scope."
        )
    return passwords.keep(desk, account(desk), come.refresh)


def unproven(desk: Desk, servers: Sequence[Server]) -> list[tuple[Server, Shown]]:
    """Those of the servers that cannot prove who they are and are not trusted by the certificate that they show yet,
    with that certificate. Raises MailError; StoppedError where there are none."""
    kept = trust(desk)
    shown = [(one, look_at(one.host, one.port, one.scheme, kept._replace(pins={}))) for one in servers]
    doubted = [(server, certificate) for server, certificate in shown if certificate.trouble]
    if not doubted:
        proven = listed(list(dict.fromkeys(f"{one.host} proves that it is {one.host}" for one in servers)))
        raise StoppedError(
            f"{proven}, by a certificate that this computer trusts. To trust one certificate alone would only make "
            "that weaker; nothing was changed."
        )
    fresh = [
        (server, certificate) for server, certificate in doubted if kept.pins.get(server.at) != certificate.fingerprint
    ]
    if not fresh:
        places = listed([server.at for server, _ in doubted])
        raise StoppedError(f"Trusted already, by the certificate that is shown there: {places}. Nothing was changed.")
    return fresh


def shown_as(found: Sequence[tuple[Server, Shown]], fingerprint: str) -> tuple[list[tuple[Server, Shown]], list[str]]:
    """Those that show the certificate with a fingerprint, and what is to be said of the others. Raises StoppedError
    where none does."""
    expected = read_fingerprint(fingerprint)
    those = [(server, shown) for server, shown in found if shown.fingerprint == expected]
    others = [
        f"{server.at} shows another certificate, {in_groups(shown.fingerprint)}"
        for server, shown in found
        if shown.fingerprint != expected
    ]
    if not those:
        raise StoppedError(f"{'; '.join(others)}. Nothing was changed. Ask whoever runs the server which one is right.")
    return those, [f"{one}. It is not trusted: name that one with --pin, too." for one in others]


def pin(desk: Desk, server: Server, shown: Shown) -> None:
    """Trust a server's certificate from now on, and no other one of that server."""
    others = [one for one in desk.setting("mail.pinned") if one.rsplit(" ", 1)[0] != server.at]
    with desk.open() as book, book.action("setup", f"Trusted the certificate of {server.host}"):
        settings.change(book, desk.settings_path, {"mail.pinned": [*others, f"{server.at} {shown.fingerprint}"]})
    desk.read_again()
