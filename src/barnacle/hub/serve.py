"""Running the hub: uvicorn on a host and port, with TLS or on this machine alone."""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import resource
import signal
import socket
import sqlite3
import ssl
import sys
from collections.abc import Awaitable, Callable, Sequence
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from pathlib import Path

import uvicorn
from anyio import to_thread
from sqlalchemy import Engine
from starlette.routing import Route

from barnacle.core.addresses import address_key
from barnacle.core.errors import FileError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.hub import copying, schema
from barnacle.hub.app import Hub
from barnacle.hub.base import Person, now
from barnacle.hub.house.queue import Queue
from barnacle.hub.lines import OpenLines, protocol_of, quiet
from barnacle.hub.metrics import Metrics
from barnacle.hub.people import People
from barnacle.hub.shelves import Limits

log = logging.getLogger("barnacle.hub")
# How many of the server's ticks, ten a second, go by until files of a certificate are looked at again.
_TICKS = 300
# So many requests are worked on at a time, by one process.
_AT_WORK = 12


def read_place(listen: str) -> tuple[str, int]:
    """`HOST:PORT`, port 0 for a free one. Raises UnclearError."""
    host, colon, port = listen.rpartition(":")
    if not colon or not port.isdigit() or int(port) > 65_535 or not host:
        raise UnclearError(f"`{visible(listen, 60)}` is not HOST:PORT, such as 127.0.0.1:8843.")
    return host.strip("[]"), int(port)


class Place(NamedTuple):
    """Where and how a hub is reached: `HOST:PORT`, certificate and key for TLS, whether it may do without; the path of
    a proxy below which it stands, and the addresses of proxies whose word for the caller is trusted; how many lines at
    once, and from one address; where metrics are given."""

    listen: str
    tls: tuple[Path, Path] | None = None
    plain: bool = False
    path: str = ""
    proxies: tuple[str, ...] = ()
    lines: int = 1_000
    lines_each: int = 100
    metrics: str | None = None


class More(NamedTuple):
    """What else a hub serves: pages for people without a token, and something that begins with the server and says how
    it ends."""

    pages: Callable[[Hub], Sequence[Route]]
    begin: Callable[[Hub], Awaitable[Callable[[], Awaitable[None]]]]


class _Server(uvicorn.Server):
    """Says when it is ready, and where; takes a new certificate without stopping."""

    def __init__(
        self,
        config: uvicorn.Config,
        ready: Callable[[int], None],
        tls: tuple[Path, Path] | None,
        context: ssl.SSLContext | None,
    ) -> None:
        super().__init__(config)
        self.ready = ready
        self.tls = tls
        self.context = context
        self.read = _written(tls)
        self.begin: Callable[[], Awaitable[Callable[[], Awaitable[None]]]] | None = None
        self.end: Callable[[], Awaitable[None]] | None = None

    async def on_tick(self, counter: int) -> bool:
        if self.tls is not None and counter % _TICKS == 0 and (now_written := _written(self.tls)) != self.read:
            self.read = now_written
            self.take_certificate()
        return await super().on_tick(counter)

    def take_certificate(self) -> None:
        """From the next line on the certificate is the one in the files now; a broken one is not taken."""
        if self.tls is None or self.context is None:
            return
        try:
            _context(self.tls)  # looked at before the old one is let go
            self.context.load_cert_chain(*self.tls)
            log.info(json.dumps({"at": now(), "certificate": "read again"}))
        except (OSError, ssl.SSLError) as error:
            log.error(json.dumps({"at": now(), "trouble": "the certificate cannot be read", "what": str(error)[:200]}))

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        asyncio.get_running_loop().set_exception_handler(quiet)
        # More threads than connections to the database would only wait for each other.
        to_thread.current_default_thread_limiter().total_tokens = _AT_WORK
        await super().startup(sockets)
        if self.started and sockets:
            self.ready(sockets[0].getsockname()[1])
            if self.begin is not None:
                self.end = await self.begin()

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        if self.end is not None:
            await self.end()
        await super().shutdown(sockets)


def _context(tls: tuple[Path, Path]) -> ssl.SSLContext:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(*tls)
    return context


def _written(tls: tuple[Path, Path] | None) -> list[float]:
    with contextlib.suppress(OSError):
        return [file.stat().st_mtime for file in tls or ()]
    return []


def serve(
    engine: Engine,
    place: Place,
    limits: Limits,
    ready: Callable[[str], None],
    more: More | None = None,
) -> None:
    """Serve until SIGTERM or Ctrl-C; requests that are being answered are finished first. A certificate that was
    renewed is taken within a minute, or on SIGHUP. Raises UnclearError, FileError."""
    listen, tls, plain = place.listen, place.tls, place.plain
    host, port = read_place(listen)
    proxies = _networks(place.proxies)
    if tls is None and not is_loopback(host) and not plain:
        raise UnclearError(
            f"Beyond this computer the hub uses TLS: name a certificate with --tls-cert and --tls-key. "
            f"If a proxy before {visible(host)} does that already, add --plain-http."
        )
    for file in tls or ():
        if not file.is_file():
            raise FileError(f"{visible(str(file))} cannot be read.")
    try:
        context = _context(tls) if tls else None
    except (OSError, ssl.SSLError) as error:
        files = " and ".join(visible(str(file)) for file in tls or ())
        raise FileError(f"{files} are not a certificate and its key: {error}.") from error
    _room_for_lines()
    log.setLevel(logging.INFO)
    log.propagate = False
    log.handlers = [logging.StreamHandler(sys.stderr)]
    hub = Hub(engine, limits)
    lines = OpenLines(place.lines, place.lines_each, limits.seconds, lambda caller: _is_in(caller, proxies))
    if place.metrics is not None:
        hub.metrics = Metrics()
        try:
            hub.metrics.serve(*read_place(place.metrics), engine, hub.guard, lines)
        except OSError as error:
            sentence = f"Metrics cannot be served at {visible(place.metrics)}: {error.strerror or error}."
            raise UnclearError(sentence) from error
    config = uvicorn.Config(
        hub.application(place.path, more.pages(hub) if more else ()),
        host=host, port=port, access_log=False, log_level="warning", lifespan="off",
        timeout_graceful_shutdown=20, server_header=False, ws="none", http=protocol_of(lines, context),
        loop="asyncio", proxy_headers=bool(proxies), forwarded_allow_ips=",".join(place.proxies),
    )  # fmt: skip
    scheme = "https" if tls else "http"
    shown = f"[{host}]" if ":" in host else host
    try:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        listener = socket.create_server((host, port), family=family, backlog=256)
        # Else the second part of an answer waits for an acknowledgement that the other side puts off (RFC 1122 section
        # 4.2.3.2), forty milliseconds each time; those who connect inherit this.
        listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    except OSError as error:
        raise UnclearError(f"The hub cannot listen on {visible(listen)}: {error.strerror or error}.") from error
    try:
        server = _Server(config, lambda found: ready(f"{scheme}://{shown}:{found}{place.path}/"), tls, context)
        if more is not None:
            begin = more.begin
            server.begin = lambda: begin(hub)
        signal.signal(signal.SIGHUP, lambda *_: server.take_certificate())
        # The server stops in order on SIGTERM and then sends it to itself once more, which would be an exit in error.
        signal.signal(signal.SIGTERM, lambda *_: None)
        with contextlib.suppress(KeyboardInterrupt):
            server.run(sockets=[listener])
    finally:
        listener.close()


def back_up(engine: Engine, path: Path) -> dict[str, int]:
    """Copy the whole hub, as it is at one moment, into a file that is a hub's database itself. Raises FileError."""
    if path.exists():
        raise FileError(f"{visible(str(path))} exists already. Name another file.")
    try:
        target = schema.open_file(path)
        counts = copying.copy(engine, target)
        schema.close_file(target, path)
        with contextlib.closing(sqlite3.connect(path)) as done:
            done.execute("PRAGMA journal_mode = DELETE")  # one file, without a log beside it
    except sqlite3.Error as error:
        raise FileError(f"{visible(str(path))} cannot be written: {error}.") from error
    return counts


def _networks(proxies: Sequence[str]) -> list[IPv4Network | IPv6Network]:
    try:
        return [ip_network(one, strict=False) for one in proxies]
    except ValueError as error:
        raise UnclearError(f"Proxies are named by their addresses, such as 10.0.0.5 or 10.0.0.0/24: {error}.") from None


def _is_in(caller: str, networks: Sequence[IPv4Network | IPv6Network]) -> bool:
    with contextlib.suppress(ValueError):
        address = ip_address(caller)
        return any(address in network for network in networks)
    return False


def _room_for_lines() -> None:
    """As many open files as the system allows: each line is one."""
    with contextlib.suppress(OSError, ValueError):
        _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


class PutBack(NamedTuple):
    """What a restore did: how many rows of each table, what had been ended since the backup and stays so, which tokens
    are good again, and fresh codes where all tokens were ended; how many copies of house lists' mail waited then."""

    counts: dict[str, int]
    ended: list[str]
    valid: list[str]
    codes: list[tuple[Person, str]]
    doubtful: int = 0


def put_back(path: Path, engine: Engine, over: bool = False, without_tokens: bool = False) -> PutBack:
    """Copy a backup into an empty hub, or `over` the one that is there: who was removed there and which tokens and
    roles were ended since the backup does not come back. Raises FileError, BookError."""
    if not path.is_file():
        raise FileError(f"{visible(str(path))} is not there.")
    source = schema.open_file(path)
    try:
        known = copying.known(engine) if over else None
        counts = copying.copy(source, engine, over)
    finally:
        schema.close_file(source, path)
    doubtful = Queue(engine).doubt_all()
    ended = _end_again(engine, known) if known is not None else []
    people = People(engine)
    codes = people.fresh_codes() if without_tokens else []
    valid = [] if over else [
        f"{token['name']} of {one['address']}" for one in people.people() for token in people.tokens_of(one["address"])
    ]  # fmt: skip
    return PutBack(counts, ended, valid, codes, doubtful)


def _end_again(engine: Engine, known: copying.Known) -> list[str]:
    """End what the hub in whose place a backup came knew nothing of any more."""
    people = People(engine)
    ended = []
    for one in people.people():
        if address_key(one["address"]) not in known.people:
            people.remove_person(one["address"])
            ended.append(one["address"])
    with engine.begin() as connection:
        ended += copying.end_unknown(connection, known)
    return ended
