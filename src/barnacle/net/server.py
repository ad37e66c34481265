"""Where mail is handed in and where it is kept, as a URL says it."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import quote, unquote, urlsplit

from barnacle.core.errors import UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.patterns import pattern
from barnacle.core.text import visible

# RFC 6409, RFC 9051; RFC 8314 for those that are encrypted from the start.
_PORTS = {"smtp": 587, "smtps": 465, "imap": 143, "imaps": 993}
# A host by its name, with or without a port.
_HOST = pattern(r"(?:[\w-]+\.)+[a-zA-Z]{2,}(?::\d{1,5})?|localhost(?::\d{1,5})?")


@dataclass(frozen=True, slots=True)
class Server:
    """Where to hand mail in, `smtp://[USER@]HOST[:PORT]` or `smtps://…`, or where a mailbox is, `imap://USER@HOST` or
    `imaps://…`."""

    host: str
    port: int
    implicit_tls: bool
    user: str = ""
    kind: str = "smtp"

    @property
    def scheme(self) -> str:
        """`smtp` or `imap`, with an `s` where the connection is encrypted from the start."""
        return f"{self.kind}s" if self.implicit_tls else self.kind

    @property
    def url(self) -> str:
        """As the settings have it, the usual port left out."""
        scheme, _, place = self.place.partition("://")
        return f"{scheme}://{quote(self.user, safe='')}@{place}" if self.user else self.place

    @property
    def place(self) -> str:
        """The same without the user."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}{'' if self.port == _PORTS[self.scheme] else f':{self.port}'}"

    def __str__(self) -> str:
        """For people to read."""
        return f"{self.place}, as {visible(self.user)}" if self.user else self.place

    @property
    def at(self) -> str:
        """HOST:PORT."""
        return f"{self.host}:{self.port}"

    @property
    def is_here(self) -> bool:
        """Whether the server is on this machine."""
        return is_loopback(self.host)


def read_server(url: str) -> Server:
    """The mail server of a URL. Raises UnclearError. The default ports are 587 (RFC 6409) and 465 (RFC 8314)."""
    # Somebody who names only the host.
    meant = f"Did you mean `smtp://{url}`? " if _HOST.fullmatch(url) else ""
    how = "Write smtp://HOST, smtp://USER@HOST:PORT or smtps://HOST."
    sentence = f"`{visible(url, 80)}` is not a mail server. {meant}{how}"
    return _read(url, "smtp", sentence)


def read_mailbox(url: str) -> Server:
    """The mailbox of a URL. Raises UnclearError. The default ports are 143 and 993 (RFC 9051, RFC 8314)."""
    sentence = f"`{visible(url, 80)}` is not a mailbox. Write imaps://USER@HOST, or imap://USER@HOST:PORT."
    server = _read(url, "imap", sentence)
    if not server.user:
        raise UnclearError(sentence)
    return server


def servers_called(text: str, kind: str, user: str) -> list[Server]:
    """What somebody means who types a URL or only a host: the servers to try, in that order, with this user where the
    text names none. `kind` is smtp or imap. Raises UnclearError."""
    read = read_mailbox if kind == "imap" else read_server
    if "://" in text:
        scheme, _, rest = text.partition("://")
        return [read(text if "@" in rest or not user else f"{scheme}://{quote(user, safe='')}@{rest}")]
    found = [read(f"{scheme}://{quote(user, safe='')}@{text}") for scheme in (f"{kind}s", kind)]
    return [one for one in found if one.port == _PORTS[one.scheme]] or found


def _read(url: str, kind: str, sentence: str) -> Server:
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        raise UnclearError(sentence) from None
    if parts.scheme not in (kind, f"{kind}s") or not parts.hostname or parts.path not in ("", "/"):
        raise UnclearError(sentence)
    if parts.password:
        raise UnclearError(
            "Leave the password out of the server's address: it would be in the settings for all to read. "
            "`barnacle setup` asks for it and keeps it safe."
        )
    user = unquote(parts.username or "")
    return Server(parts.hostname, port or _PORTS[parts.scheme], parts.scheme.endswith("s"), user, kind)
