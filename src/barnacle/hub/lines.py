"""Lines to the hub, bounded: how many there are, and how long a request may take to come."""

from __future__ import annotations

import asyncio
import json
import logging
import time
from collections.abc import Callable
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

from barnacle.hub.base import now

log = logging.getLogger("barnacle.hub")
_SAID_EVERY = 60.0


class House:
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
        self.lines: dict[BoundedProtocol, str] = {}
        self.by_host: dict[str, dict[BoundedProtocol, None]] = {}
        self.cut = 0  # since the start
        self._said = 0.0

    def come(self, line: BoundedProtocol, host: str) -> None:
        """A line was opened."""
        alike = self.by_host.setdefault(host, {})
        self.lines[line] = host
        alike[line] = None
        if len(self.lines) > self.most:
            self._make_room(line, list(self.lines))
        elif len(alike) > self.most_each and not self.is_proxy(host):
            self._make_room(line, list(alike))

    def gone(self, line: BoundedProtocol) -> None:
        """A line was closed."""
        host = self.lines.pop(line, None)
        if host is not None:
            alike = self.by_host[host]
            alike.pop(line, None)
            if not alike:
                del self.by_host[host]

    def _make_room(self, new: BoundedProtocol, some: list[BoundedProtocol]) -> None:
        idle = next((line for line in some if line is not new and not line.is_busy), new)
        self.end(idle, "more lines than there is room for")

    def end(self, line: BoundedProtocol, why: str) -> None:
        """Cut a line. What is said of that is one line of the log in a minute."""
        self.cut += 1
        self.gone(line)
        line.transport.abort()
        if time.monotonic() - self._said > _SAID_EVERY or not self._said:
            self._said = time.monotonic()
            log.warning(json.dumps({"at": now(), "trouble": why, "cut": self.cut, "open": len(self.lines)}))


class BoundedProtocol(H11Protocol):
    """HTTP on one line. A request whose head does not come in time ends it."""

    house: House

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
            self.house.end(self, "a request that does not come")


def protocol_of(house: House) -> type[BoundedProtocol]:
    """The protocol of the lines of one hub."""
    return type("Line", (BoundedProtocol,), {"house": house})


def quiet(loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
    """What goes wrong on a line that nobody waits for, in one line of the log."""
    trouble = type(context.get("exception")).__name__ if context.get("exception") else "trouble"
    log.warning(json.dumps({"at": now(), "trouble": trouble, "what": str(context.get("message", ""))[:120]}))
