"""Running the hub: uvicorn on a host and port, with TLS or on this machine alone."""

from __future__ import annotations

import contextlib
import logging
import signal
import socket
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path

import uvicorn
from sqlalchemy import Engine

from barnacle.core.errors import FileError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.text import visible
from barnacle.hub import schema
from barnacle.hub.app import Hub
from barnacle.hub.shelves import Limits


def read_place(listen: str) -> tuple[str, int]:
    """`HOST:PORT`, port 0 for a free one. Raises UnclearError."""
    host, colon, port = listen.rpartition(":")
    if not colon or not port.isdigit() or int(port) > 65_535 or not host:
        raise UnclearError(f"`{visible(listen, 60)}` is no HOST:PORT, such as 127.0.0.1:8843.")
    return host.strip("[]"), int(port)


class _Server(uvicorn.Server):
    """Says when it is ready, and where."""

    def __init__(self, config: uvicorn.Config, ready: Callable[[int], None]) -> None:
        super().__init__(config)
        self.ready = ready

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started and sockets:
            self.ready(sockets[0].getsockname()[1])


def serve(
    engine: Engine,
    listen: str,
    tls: tuple[Path, Path] | None,
    plain: bool,
    limits: Limits,
    ready: Callable[[str], None],
) -> None:
    """Serve until SIGTERM or Ctrl-C; requests that are being answered are finished first. Raises UnclearError,
    FileError."""
    host, port = read_place(listen)
    if tls is None and not is_loopback(host) and not plain:
        raise UnclearError(
            f"Beyond this machine the hub speaks TLS: name a certificate with --tls-cert and --tls-key. "
            f"If something in front of {visible(host)} does that already, say --plain-http."
        )
    for file in tls or ():
        if not file.is_file():
            raise FileError(f"{visible(str(file))} cannot be read.")
    log = logging.getLogger("barnacle.hub")
    log.setLevel(logging.INFO)
    log.propagate = False
    log.handlers = [logging.StreamHandler(sys.stderr)]
    hub = Hub(engine, limits)
    config = uvicorn.Config(
        hub.application(), host=host, port=port, access_log=False, log_level="warning", lifespan="off",
        timeout_graceful_shutdown=20, server_header=False, ws="none",
        ssl_certfile=str(tls[0]) if tls else None, ssl_keyfile=str(tls[1]) if tls else None,
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
        server = _Server(config, lambda found: ready(f"{scheme}://{shown}:{found}/"))
        # The server stops in order on SIGTERM and then sends it to itself once more, which would be an exit in error.
        signal.signal(signal.SIGTERM, lambda *_: None)
        with contextlib.suppress(KeyboardInterrupt):
            server.run(sockets=[listener])
    finally:
        listener.close()


def back_up(engine: Engine, path: Path) -> dict[str, int]:
    """Copy the whole hub, as it is at one moment, into a file that is a hub's database itself. Raises FileError."""
    if path.exists():
        raise FileError(f"{visible(str(path))} is there already. Name another file.")
    try:
        target = schema.open_file(path)
        counts = schema.copy(engine, target)
        target.dispose()
        with contextlib.closing(sqlite3.connect(path)) as done:
            done.execute("PRAGMA journal_mode = DELETE")  # one file, without a log beside it
    except sqlite3.Error as error:
        raise FileError(f"{visible(str(path))} cannot be written: {error}.") from error
    return counts


def put_back(path: Path, engine: Engine) -> dict[str, int]:
    """Copy a backup into an empty hub. Raises FileError, BookError."""
    if not path.is_file():
        raise FileError(f"{visible(str(path))} is not there.")
    source = schema.open_file(path)
    try:
        return schema.copy(source, engine)
    finally:
        source.dispose()
