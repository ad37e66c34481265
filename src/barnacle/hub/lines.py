"""Lines to the hub, bounded: how many there are, and how long a request may take to come."""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import ssl
import time
from collections.abc import Callable

from uvicorn.protocols.http.h11_impl import H11Protocol
from uvicorn.protocols.utils import get_remote_addr

from barnacle.core.typed import Any
from barnacle.hub.base import now

log = logging.getLogger("barnacle.hub")
_SAID_EVERY = 60.0


class OpenLines:
    """All lines that are open: `most`, and `most_each` from one address, unless that is a proxy's. The head of a
    request may take so many `seconds` to come, from when the line was opened or the last answer went out.

    Where there is no room, a line on which nobody waits for an answer makes some, the oldest first: so that lines that
    somebody opened and never used keep nobody out.
    """

    def __init__(self, most: int, most_each: int, seconds: float, is_proxy: Callable[[str], bool]) -> None:
        self.most = most
        self.most_each = most_each
        self.seconds = seconds
        self.is_proxy = is_proxy
        self.lines: dict[Line, str] = {}
        self.by_host: dict[str, dict[Line, None]] = {}
        self.cut = 0  # since the start
        self._said = 0.0

    def come(self, line: Line, host: str) -> None:
        """A line was opened."""
        alike = self.by_host.setdefault(host, {})
        self.lines[line] = host
        alike[line] = None
        if len(self.lines) > self.most:
            self._make_room(line, list(self.lines))
        elif len(alike) > self.most_each and not self.is_proxy(host):
            self._make_room(line, list(alike))

    def gone(self, line: Line) -> None:
        """A line was closed."""
        host = self.lines.pop(line, None)
        if host is not None:
            alike = self.by_host[host]
            alike.pop(line, None)
            if not alike:
                del self.by_host[host]

    def _make_room(self, new: Line, some: list[Line]) -> None:
        idle = next((line for line in some if line is not new and not line.is_busy), new)
        self.end(idle, "more lines than there is room for")

    def end(self, line: Line, why: str) -> None:
        """Cut a line. What is said of that is one line of the log in a minute."""
        self.cut += 1
        self.gone(line)
        line.transport.abort()
        if time.monotonic() - self._said > _SAID_EVERY or not self._said:
            self._said = time.monotonic()
            log.warning(json.dumps({"at": now(), "trouble": why, "cut": self.cut, "open": len(self.lines)}))


class Handshake(asyncio.Protocol):
    """A line on which TLS is not agreed yet. It counts as a line from its first moment, and has its time."""

    house: OpenLines
    tls: ssl.SSLContext
    then: type[BoundedProtocol]
    is_busy = False

    def __init__(self, **made: Any) -> None:
        self.made = made
        self.early: list[bytes] = []

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        self.transport = transport
        transport.pause_reading()  # what comes now is for TLS
        self.house.come(self, (get_remote_addr(transport) or "?")[0])
        self.task = asyncio.get_running_loop().create_task(self._agree())

    def data_received(self, data: bytes) -> None:
        """What came right behind the handshake."""
        self.early.append(data)

    def connection_lost(self, exc: Exception | None) -> None:
        self.house.gone(self)

    async def _agree(self) -> None:
        start = asyncio.get_running_loop().start_tls
        agreed = None
        with contextlib.suppress(OSError):  # of which errors of TLS are a kind
            agreed = await start(
                self.transport, self, self.tls, server_side=True, ssl_handshake_timeout=self.house.seconds
            )
        self.house.gone(self)
        if agreed is None or self.transport.is_closing():
            self.transport.abort()
            return
        line = self.then(**self.made)
        agreed.set_protocol(line)
        line.connection_made(agreed)
        for data in self.early:
            line.data_received(data)


class BoundedProtocol(H11Protocol):
    """HTTP on one line. A request whose head does not come in time ends it."""

    house: OpenLines

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._timer: asyncio.TimerHandle | None = None
        self._wait()
        self.house.come(self, self.client[0] if self.client else "?")

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_waiting()
        self.house.gone(self)
        super().connection_lost(exc)

    @property
    def is_busy(self) -> bool:
        """Whether somebody waits for an answer."""
        return self.cycle is not None and not self.cycle.response_complete

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self.is_busy:
            self._stop_waiting()
        elif self._timer is None:
            self._wait()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self.transport.is_closing() and not self.is_busy and self._timer is None:
            self._wait()

    def _wait(self) -> None:
        self._timer = self.loop.call_later(self.house.seconds, self._too_slow)

    def _stop_waiting(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _too_slow(self) -> None:
        self._timer = None
        if not self.is_busy:
            self.house.end(self, "a request that does not arrive")


Line = Handshake | BoundedProtocol


def protocol_of(house: OpenLines, tls: ssl.SSLContext | None) -> type[asyncio.Protocol]:
    """The protocol of the lines of one hub, with TLS first where there is a context for it."""
    plain = type("PlainLine", (BoundedProtocol,), {"house": house})
    return type("SecureLine", (Handshake,), {"house": house, "tls": tls, "then": plain}) if tls else plain


def quiet(loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
    """What goes wrong on a line that nobody waits for, in one line of the log."""
    trouble = type(context.get("exception")).__name__ if context.get("exception") else "trouble"
    log.warning(json.dumps({"at": now(), "trouble": trouble, "what": str(context.get("message", ""))[:120]}))
