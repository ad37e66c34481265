"""What one is let in with at a mail server or mailbox."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from barnacle.core.errors import MailError
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.net.server import Server
from barnacle.net.tls import Trust


class AccessToken(str):
    """What a sign-in with one's organisation gives in place of a password (RFC 6749 section 1.4)."""


class Credentials(NamedTuple):
    """How one is let in: what gives the password, or an AccessToken (which `by_token` says beforehand); another token
    where the server does not take that one; and whom to believe that it is the server."""

    secret: Callable[[], str | None]
    trust: Trust = Trust()
    by_token: bool = False
    anew: Callable[[], str | None] = lambda: None


def tokens(server: Server, credentials: Credentials, first: str) -> Iterator[str]:
    """The token that one has, and another one where the server does not take that, as it has just ended. Raises
    MailError."""
    yield first
    yield need_password(server, credentials._replace(secret=credentials.anew))


def need_password(server: Server, credentials: Credentials) -> str:
    """The password of the server's user, or a token. Raises MailError with the ways to give one."""
    secret = credentials.secret()
    if secret is None:
        raise MailError(
            f"{server.host} asks for the password of {visible(server.user)}. `barnacle setup` on a terminal asks for "
            "it and keeps it; in a script, set BARNACLE_MAIL_PASSWORD."
        )
    return secret
