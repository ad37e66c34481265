"""A hub that takes mail in and passes it on: the web server, the door for mail, and the senders beside it."""

from __future__ import annotations

import asyncio
import json
import logging
import multiprocessing
import os
import threading
import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from multiprocessing.process import BaseProcess
from pathlib import Path

from sqlalchemy import Engine
from starlette.concurrency import run_in_threadpool

from barnacle.core.errors import UnclearError
from barnacle.core.typed import NamedTuple
from barnacle.hub.app import Hub
from barnacle.hub.base import now
from barnacle.hub.house.rows import Settings, keep_settings
from barnacle.hub.serve import More, Place, serve
from barnacle.hub.shelves import Limits
from barnacle.net.server import Server, read_server
from barnacle.post import passing_on
from barnacle.post.lmtp import open_door, serve_door, url_of
from barnacle.post.pages import routes
from barnacle.post.taking_in import TakingIn

log = logging.getLogger("barnacle.hub")
_AGAIN = 1.0


class Mail(NamedTuple):
    """How a hub takes mail in and passes it on: where the door is, the mail server, how many senders, the data's place
    for these, and what the house's lists are like."""

    door: str
    server: Server
    senders: int
    data: Path | None
    database: str | None
    settings: Settings


def read_mail(
    door: str, server: str, senders: int, data: Path | None, database: str | None, settings: Settings
) -> Mail:
    """From what somebody says. Raises UnclearError."""
    check_settings(settings)
    return Mail(door, read_server(server), senders, data, database, settings)


def check_settings(settings: Settings) -> None:
    """Raises UnclearError for what cannot work."""
    if not settings.list_domain and not settings.own_domain:
        raise UnclearError("Say which domain the lists' addresses have: --list-domain lists.example.org.")
    if settings.list_domain and settings.list_domain == settings.own_domain:
        raise UnclearError("Official lists and people's own need different domains: that is how one tells them apart.")
    if not settings.public_url.startswith(("https://", "http://")):
        raise UnclearError("Say where people reach the hub's pages: --public-url https://lists.example.org/.")


def serve_with_mail(engine: Engine, place: Place, limits: Limits, mail: Mail, ready: Callable[[str], None]) -> None:
    """Serve until SIGTERM or Ctrl-C, mail included; `ready` is told of each address. Raises UnclearError, FileError."""
    with engine.begin() as connection:
        keep_settings(connection, mail.settings)
    door = open_door(mail.door)
    senders = _Senders(mail)

    async def begin(hub: Hub) -> Callable[[], Awaitable[None]]:
        taking = TakingIn(hub)
        server = await serve_door(door, taking.knows, taking.take, mail.settings.size, run_in_threadpool)
        ready(f"taking mail on {url_of(door)}")

        async def end() -> None:
            server.close()
            with suppress(TimeoutError):
                await asyncio.wait_for(server.wait_closed(), 5)

        return end

    senders.start()
    try:
        serve(engine, place, limits, lambda url: ready(f"listening on {url}"), More(routes, begin))
    finally:
        senders.stop()
        door.close()
        if "/" in mail.door:
            with suppress(OSError):
                Path(mail.door).unlink()


class _Senders:
    """The processes that pass mail on; one that ends is begun again."""

    def __init__(self, mail: Mail) -> None:
        self.mail = mail
        self.processes: list[BaseProcess] = []
        self.ended = threading.Event()
        self.watch = threading.Thread(target=self._watch, daemon=True)

    def start(self) -> None:
        """Begin them."""
        self.processes = [self._new() for _ in range(self.mail.senders)]
        self.watch.start()

    def _new(self) -> BaseProcess:
        mail = self.mail
        data = str(mail.data) if mail.data is not None else None
        process = multiprocessing.get_context("spawn").Process(
            target=passing_on.run, args=(data, mail.database, mail.server, os.getpid()), daemon=True
        )
        process.start()
        return process

    def _watch(self) -> None:
        while not self.ended.wait(_AGAIN):
            for place, process in enumerate(self.processes):
                if not process.is_alive() and not self.ended.is_set():
                    log.warning(json.dumps({"at": now(), "trouble": "a sender ended", "code": process.exitcode}))
                    self.processes[place] = self._new()

    def stop(self) -> None:
        """End them, each after the copy that it is at."""
        self.ended.set()
        for process in self.processes:
            process.terminate()
        until = time.monotonic() + 20
        for process in self.processes:
            process.join(max(until - time.monotonic(), 0.1))
            if process.is_alive():
                process.kill()
        self.watch.join(5)
