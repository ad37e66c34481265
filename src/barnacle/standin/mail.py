"""A small mail server that keeps what each recipient would have received, and can be told to misbehave."""

from __future__ import annotations

import asyncio
import base64
import fnmatch
import json
import logging
import re
import signal
import ssl
import tempfile
import time
import urllib.parse
import urllib.request
import warnings
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session

from barnacle.core.typed import Any

HOST = "127.0.0.1"


@dataclass(slots=True)
class Behaviour:
    """How the server treats what it gets.

    `refuse` and `defer` are patterns of recipients (`*@pontoon.example`) that get 550 and 451; a deferred one is
    taken from the `defer_times + 1`th try on. `drop` breaks the line `before` a
    message is let in or `after` the dot that ends it, the first `drop_times` times. `slow` is a pause in seconds before
    each answer to a message.
    """

    refuse: list[str] = field(default_factory=list)
    defer: list[str] = field(default_factory=list)
    defer_times: int = 1_000_000
    drop: str = ""
    drop_times: int = 1
    slow: float = 0.0
    most_recipients: int = 0
    most_bytes: int = 0
    login: tuple[str, str] | None = None
    certificate: tuple[Path, Path] | None = None
    smtputf8: bool = True
    tokens: str = ""


class _Keeper:
    """aiosmtpd's handler: one Maildir for each recipient."""

    def __init__(self, folder: Path, behaviour: Behaviour) -> None:
        self.folder = folder
        self.behaviour = behaviour
        self.tries: Counter[str] = Counter()
        self.kept = 0
        self.drops_left = behaviour.drop_times if behaviour.drop else 0

    async def handle_EHLO(
        self, server: SMTP, session: Session, envelope: Envelope, hostname: str, responses: list[str]
    ) -> list[str]:
        session.host_name = hostname
        most = self.behaviour.most_recipients
        limits = [f"250-LIMITS RCPTMAX={most}"] if most else []  # RFC 9422
        return [*responses[:-1], "250-PIPELINING", *limits, responses[-1]]

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        how = self.behaviour
        if how.most_recipients and len(envelope.rcpt_tos) >= how.most_recipients:
            return "452 4.5.3 too many recipients in one message"
        if any(fnmatch.fnmatch(address.lower(), pattern.lower()) for pattern in how.refuse):
            return "550 5.1.1 no mailbox of that name here"
        if any(fnmatch.fnmatch(address.lower(), pattern.lower()) for pattern in how.defer):
            self.tries[address] += 1
            if self.tries[address] <= how.defer_times:
                return "451 4.7.1 not now, try again later"
        envelope.rcpt_tos.append(address)
        envelope.rcpt_options.extend(options)
        return "250 2.1.5 recipient ok"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.behaviour.slow:
            await asyncio.sleep(self.behaviour.slow)
        raw = envelope.original_content or b""
        for address in envelope.rcpt_tos:
            self.kept += 1
            _keep(self.folder / _folder_name(address), f"{time.time_ns()}.{self.kept}.stand-in", raw)
        if self.behaviour.drop == "after" and self.drops_left > 0:
            self.drops_left -= 1
            _break(server)
        return "250 2.0.0 kept"


class _Listener(SMTP):
    """aiosmtpd's server, with a line that can break before the message is whole."""

    async def smtp_DATA(self, arg: str) -> None:
        keeper = self.event_handler
        begun = self.envelope is not None and bool(self.envelope.rcpt_tos)
        if keeper.behaviour.drop == "before" and keeper.drops_left > 0 and begun:
            keeper.drops_left -= 1
            _break(self)
            return
        await super().smtp_DATA(arg)


def _break(server: SMTP) -> None:
    """End the connection without a word, as a machine that dies would."""
    if isinstance(server.transport, asyncio.Transport):
        server.transport.abort()


def _keep(box: Path, name: str, raw: bytes) -> None:
    """Put a message into a Maildir: written in tmp, then moved to new, so that a reader never sees half of one.

    Unlike the library's it does not wait for the disk; nothing here has to outlive a power cut.
    """
    for part in ("tmp", "new", "cur"):
        (box / part).mkdir(parents=True, exist_ok=True)
    (box / "tmp" / name).write_bytes(raw)
    (box / "tmp" / name).rename(box / "new" / name)


def _folder_name(address: str) -> str:
    """The address as a folder's name, without anything that could lead out of the folder."""
    return re.sub(r"[^\w@.+=-]", "_", address.lower()).lstrip(".") or "_"


class _ByToken(_Listener):
    """The same, which takes tokens in place of passwords (RFC 7628, and XOAUTH2 before it)."""

    async def auth_OAUTHBEARER(self, _: SMTP, args: list[str]) -> AuthResult:
        return await self._by_token(args)

    async def auth_XOAUTH2(self, _: SMTP, args: list[str]) -> AuthResult:
        return await self._by_token(args)

    async def _by_token(self, args: list[str]) -> AuthResult:
        says = base64.b64decode(args[1]) if len(args) > 1 else await self.challenge_auth("")
        found = re.search(rb"auth=Bearer ([!-~]+)\x01", says) if isinstance(says, bytes) else None
        holds = await asyncio.to_thread(_holds, self.event_handler.behaviour.tokens, found[1].decode() if found else "")
        if holds:
            return AuthResult(success=True, auth_data=b"token")
        await self.challenge_auth(json.dumps({"status": "invalid_token"}))
        return AuthResult(success=False, handled=False)


def _holds(where: str, token: str) -> bool:
    """Whether a token holds, by who gave it (RFC 7662)."""
    asked = urllib.parse.urlencode({"token": token}).encode()
    with urllib.request.urlopen(where, asked, timeout=10) as answer:
        return bool(json.load(answer).get("active"))


def _authenticator(login: tuple[str, str]) -> Callable[..., AuthResult]:
    def check(server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any) -> AuthResult:
        right = isinstance(data, LoginPassword) and (data.login.decode(), data.password.decode()) == login
        return AuthResult(success=right, handled=False)

    return check


def serve(port: int, folder: Path | None, behaviour: Behaviour, ready: Callable[[str, Path], None]) -> None:
    """Serve on loopback until interrupted (SIGINT, SIGTERM). `ready` is called with the URL and the folder that
    holds a Maildir for each recipient. Raises OSError when the port is taken."""
    # A client that breaks off (over a certificate, say) is no fault of this server's, and nothing to trace.
    logging.getLogger("mail").setLevel(logging.CRITICAL)
    warnings.filterwarnings("ignore", "Requiring AUTH while not requiring TLS")  # here all is on this machine
    into = folder or Path(tempfile.mkdtemp(prefix="barnacle-mail-"))
    into.mkdir(parents=True, exist_ok=True)
    asyncio.run(_serve(port, into, behaviour, ready))


async def _serve(port: int, into: Path, behaviour: Behaviour, ready: Callable[[str, Path], None]) -> None:
    loop = asyncio.get_running_loop()
    keeper = _Keeper(into, behaviour)
    context = None
    if behaviour.certificate:
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(*behaviour.certificate)

    def connection() -> SMTP:
        return (_ByToken if behaviour.tokens else _Listener)(
            keeper,
            hostname="stand-in.example",
            ident="Barnacle stand-in",
            data_size_limit=behaviour.most_bytes or None,
            enable_SMTPUTF8=behaviour.smtputf8,
            tls_context=context,
            authenticator=_authenticator(behaviour.login) if behaviour.login else None,
            auth_required=behaviour.login is not None or bool(behaviour.tokens),
            auth_exclude_mechanism=["LOGIN", "PLAIN"] if behaviour.tokens else [],
            auth_require_tls=context is not None,
            loop=loop,
        )

    loop.set_exception_handler(lambda _, context: None)
    server = await loop.create_server(connection, HOST, port)
    stop = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stop.set)
    ready(f"smtp://{HOST}:{server.sockets[0].getsockname()[1]}", into)
    async with server:
        await stop.wait()
