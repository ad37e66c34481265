"""The door for mail: LMTP (RFC 2033), from the organisation's own mail server, on this machine or a socket."""

from __future__ import annotations

import asyncio
import json
import logging
import socket
from collections.abc import Callable, Sequence
from pathlib import Path

from aiosmtpd.lmtp import LMTP
from aiosmtpd.smtp import Envelope, Session

from barnacle.core.errors import UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.text import visible
from barnacle.core.typed import Any
from barnacle.hub.base import now
from barnacle.hub.serve import read_place

log = logging.getLogger("barnacle.hub")
_RECIPIENTS = 100
_SECONDS = 300
# So many lines of a message are joined at a time.
_LINES = 2_000

# What becomes of a message for each of its recipients, in their order: the answer on a line each.
Take = Callable[[str, Sequence[str], bytes], list[str]]
# The answer to a recipient, before the message comes.
Knows = Callable[[str], str]


class _Handler:
    """What aiosmtpd asks."""

    def __init__(self, knows: Knows, take: Take, work: Callable[..., Any]) -> None:
        self.knows = knows
        self.take = take
        self.work = work  # runs something in a thread

    async def handle_RCPT(
        self, server: LMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if len(envelope.rcpt_tos) >= _RECIPIENTS:
            return "452 4.5.3 Too many recipients in one message"
        answer = await self._worked(self.knows, address)
        if answer.startswith("250"):
            envelope.rcpt_tos.append(address)
        return str(answer)

    async def handle_DATA(self, server: LMTP, session: Session, envelope: Envelope) -> str:
        content = envelope.content
        assert isinstance(content, bytes)
        envelope.content = envelope.original_content = None
        answers = await self._worked(
            self.take, (envelope.mail_from or "").strip("<> "), list(envelope.rcpt_tos), content
        )
        if isinstance(answers, str):
            answers = [answers] * len(envelope.rcpt_tos)
        return "\r\n".join(answers)  # RFC 2033 section 4.2: one for each recipient

    async def _worked(self, do: Callable[..., Any], *args: Any) -> Any:
        try:
            return await self.work(do, *args)
        except Exception as error:  # whatever it is, the mail server keeps the message and comes again
            log.error(json.dumps({"at": now(), "trouble": "mail", "what": type(error).__name__}))
            return "451 4.3.0 The hub's data cannot be reached or written at the moment"


class _Door(LMTP):
    """LMTP that keeps a message in one piece, takes no other line end than CRLF for one, and is bounded."""

    # Octets of one line: mail has 998 (RFC 5322 section 2.1.1), and programs that never heard of that.
    line_length_limit = 64_000

    async def smtp_DATA(self, arg: str) -> None:
        if await self.check_helo_needed():
            return
        if self.envelope is None or not self.envelope.rcpt_tos or arg:
            await self.push("503 5.5.1 Say RCPT first" if not arg else "501 5.5.4 Syntax: DATA")
            return
        number = len(self.envelope.rcpt_tos)
        await self.push("354 End with <CRLF>.<CRLF>")
        lines: list[bytes] = []
        blocks: list[bytes] = []  # in which lines are joined now and then: each by itself takes twice its size
        size = 0
        trouble = ""
        within = False  # a line of which only the beginning was read
        while True:
            try:
                line = await self._reader.readuntil(b"\r\n")
            except asyncio.LimitOverrunError as error:
                line = await self._reader.readexactly(error.consumed)
                trouble = trouble or "554 5.6.0 A line of the message is too long"
                within = True
                continue
            if not within:
                if line == b".\r\n":
                    break
                if line.startswith(b"."):  # RFC 5321 section 4.5.2
                    line = line[1:]
            within = False
            if not trouble:
                lines.append(line)
                size += len(line)
                if len(lines) == _LINES:
                    blocks.append(b"".join(lines))
                    lines.clear()
                if self.data_size_limit and size > self.data_size_limit:
                    trouble = f"552 5.3.4 The message has more than {self.data_size_limit:,} octets"
            if trouble:
                lines.clear()
                blocks.clear()
        if trouble:
            self._set_post_data_state()  # type: ignore[no-untyped-call]
            await self.push("\r\n".join([trouble] * number))
            return
        self.envelope.content = self.envelope.original_content = b"".join([*blocks, *lines])
        lines.clear()
        blocks.clear()
        status = await self._call_handler_hook("DATA")
        self._set_post_data_state()  # type: ignore[no-untyped-call]
        await self.push(status)


def open_door(listen: str) -> socket.socket:
    """Listen at HOST:PORT on this machine, or at the path of a socket. Raises UnclearError."""
    try:
        if "/" in listen:
            path = Path(listen)
            if path.is_socket():  # left by one that was killed; anything else stays, and is said to be in the way
                path.unlink()
            door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            door.bind(str(path))
            path.chmod(0o666)  # the mail server works as somebody else; who may come in, the folder says
            door.listen(64)
            return door
        host, port = read_place(listen)
        if not is_loopback(host):
            raise UnclearError(
                f"Mail is taken in on this machine alone, and {visible(host)} is beyond it: whoever reaches that "
                "address could claim to be anybody. Use 127.0.0.1:PORT, or the path of a socket."
            )
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        return socket.create_server((host, port), family=family, backlog=64)
    except OSError as error:
        raise UnclearError(f"The hub cannot take mail at {visible(listen)}: {error.strerror or error}.") from error


def url_of(door: socket.socket) -> str:
    """Where that is, as the mail server is told it."""
    name = door.getsockname()
    if isinstance(name, str):
        return f"lmtp:unix:{name}"
    host = f"[{name[0]}]" if ":" in name[0] else name[0]
    return f"lmtp://{host}:{name[1]}"


async def serve_door(
    door: socket.socket, knows: Knows, take: Take, most: int, work: Callable[..., Any]
) -> asyncio.AbstractServer:
    """Take mail in, messages of so many octets at most, until the server that comes back is closed."""
    handler = _Handler(knows, take, work)

    def line() -> _Door:
        return _Door(
            handler, data_size_limit=most, enable_SMTPUTF8=True, decode_data=False, timeout=_SECONDS, hostname="hub",
            ident="Barnacle", loop=asyncio.get_running_loop(),
        )  # fmt: skip

    server: asyncio.AbstractServer
    if door.family == socket.AF_UNIX:
        server = await asyncio.get_running_loop().create_unix_server(line, sock=door)
    else:
        server = await asyncio.get_running_loop().create_server(line, sock=door)
    return server
