"""Where mail is handed in and where it is kept, as a URL says it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from barnacle.core.errors import MailError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.text import visible


@dataclass(frozen=True, slots=True)
class Server:
    """Where to hand mail in, `smtp://[USER@]HOST[:PORT]` or `smtps://…`, or where a mailbox is, `imap://USER@HOST` or
    `imaps://…`."""

    host: str
    port: int
    implicit_tls: bool
    user: str = ""

    @property
    def is_here(self) -> bool:
        """Whether the server is on this machine."""
        return is_loopback(self.host)


def need_password(server: Server, password: Callable[[], str | None]) -> str:
    """The password of the server's user. Raises MailError with the ways to give one."""
    secret = password()
    if secret is None:
        raise MailError(
            f"{server.host} asks for the password of {visible(server.user)}. Set BARNACLE_MAIL_PASSWORD, or keep "
            "it in the system's keyring under `barnacle-mail`."
        )
    return secret


def read_server(url: str) -> Server:
    """The mail server of a URL. Raises UnclearError. The default ports are 587 (RFC 6409) and 465 (RFC 8314)."""
    sentence = f"`{visible(url, 80)}` is not a mail server. Write smtp://HOST, smtp://USER@HOST:PORT or smtps://HOST."
    return _read(url, {"smtp": 587, "smtps": 465}, sentence)


def read_mailbox(url: str) -> Server:
    """The mailbox of a URL. Raises UnclearError. The default ports are 143 and 993 (RFC 9051, RFC 8314)."""
    sentence = f"`{visible(url, 80)}` is not a mailbox. Write imaps://USER@HOST, or imap://USER@HOST:PORT."
    server = _read(url, {"imap": 143, "imaps": 993}, sentence)
    if not server.user:
        raise UnclearError(sentence)
    return server


def _read(url: str, ports: dict[str, int], sentence: str) -> Server:
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        raise UnclearError(sentence) from None
    if parts.scheme not in ports or not parts.hostname or parts.path not in ("", "/"):
        raise UnclearError(sentence)
    if parts.password:
        raise UnclearError(
            "Leave the password out of the server's address: it would stand in the settings for all to read. "
            "Set BARNACLE_MAIL_PASSWORD, or keep it in the system's keyring."
        )
    user = unquote(parts.username or "")
    return Server(parts.hostname, port or ports[parts.scheme], parts.scheme.endswith("s"), user)
