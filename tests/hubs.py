"""A hub for tests: the installed program on a free port, and people who speak to it as any HTTP program would."""

from __future__ import annotations

import shutil
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from typing import Any, NamedTuple

import httpx
from conftest import HANGS, Office
from servers import free_port, need, open_folder, running, servant

CARD = "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:{uid}\r\nFN:{name}\r\nN:{name};;;;\r\nEMAIL:{uid}@kelp.example\r\n{more}END:VCARD\r\n"


def card(uid: str, name: str = "Una Berg", more: str = "") -> str:
    return CARD.format(uid=uid, name=name, more=more)


class RunningHub:
    """A hub that can be stopped, killed and started again on the same data and port."""

    def __init__(self, office: Office, where: list[str], *options: str) -> None:
        self.office = office
        self.where = where
        self.options = options
        self.port = 0
        self.start()

    def start(self) -> None:
        self.log = (self.office.folder / "hub.log").open("ab")
        listen = ["--listen", f"127.0.0.1:{self.port}", *self.options]
        self.process = self.office.start("hub", "serve", *listen, *self.where, stderr=self.log)
        assert self.process.stdout is not None
        line = self.process.stdout.readline().decode()
        assert line.startswith("listening on http"), (self.office.folder / "hub.log").read_text()
        self.url = line.strip().removeprefix("listening on ")
        self.port = int(self.url.split("/")[2].rpartition(":")[2])
        if "--lmtp" in self.options:
            taking = self.process.stdout.readline().decode().strip()
            assert taking.startswith("taking mail on lmtp"), (self.office.folder / "hub.log").read_text()
            self.lmtp = int(taking.rpartition(":")[2])

    def stop(self, how: int = signal.SIGTERM) -> None:
        self.process.send_signal(how)
        self.process.communicate(timeout=HANGS)
        self.log.close()
        assert how == signal.SIGKILL or self.process.returncode == 0, (self.office.folder / "hub.log").read_text()

    def code(self, address: str, name: str = "") -> str:
        return str(self.office.told("hub", "person", "add", address, "--name", name, *self.where)["code"])

    def person(self, address: str, name: str = "") -> Person:
        answer = httpx.post(f"{self.url}api/connect", json={"address": address, "code": self.code(address, name)})
        assert answer.status_code == 200, answer.text
        return Person(self.url, address, answer.json()["token"])


class Person:
    """Somebody with a token, and no code of Barnacle."""

    def __init__(self, url: str, address: str, token: str) -> None:
        self.address = address
        self.token = token
        self.url = url

    def ask(self, method: str, path: str, status: int | None = None, **more: Any) -> httpx.Response:
        if path.startswith("api/") and method in ("POST", "PUT", "PATCH") and not {"json", "content"} & more.keys():
            more["json"] = {}
        answer = httpx.request(
            method, self.url + path, auth=(self.address, self.token), timeout=HANGS, verify=False, **more
        )
        assert status is None or answer.status_code == status, (method, path, answer.status_code, answer.text)
        return answer

    def new_list(self, title: str, *others: tuple[Person, str]) -> str:
        """A list of one's own, with others who have accepted a role."""
        made = str(self.ask("POST", "api/lists", 201, json={"title": title}).json()["id"])
        for other, role in others:
            self.ask("PUT", f"api/lists/{made}/people/{other.address}", 200, json={"role": role})
            other.ask("POST", f"api/lists/{made}/accept", 204)
        return made

    def put(
        self, made: str, uid: str, status: int | None = 201, data: str | None = None, **headers: str
    ) -> httpx.Response:
        head = {"Content-Type": "text/vcard", **{key.replace("_", "-"): value for key, value in headers.items()}}
        return self.ask(
            "PUT", f"dav/lists/{made}/{uid}.vcf", status, content=(data or card(uid)).encode(), headers=head
        )


@contextmanager
def hub_in(office: Office, *options: str) -> Iterator[RunningHub]:
    """A hub on SQLite in a folder beside an office's book."""
    hub = RunningHub(office, ["--data", str(office.folder / "hub")], *options)
    try:
        yield hub
    finally:
        if hub.process.poll() is None:
            hub.stop()


class Database(NamedTuple):
    """A PostgreSQL server of one's own: the URL of an empty database, and stopping and starting it again."""

    url: str
    restart: Callable[[], None]


@contextmanager
def postgresql() -> Iterator[Database]:
    """A PostgreSQL server. Its user may not be root."""
    programs = {name: need(name, "postgresql") for name in ("initdb", "postgres", "createdb")}
    with open_folder() as folder, ExitStack() as server:
        user, port, data = servant("postgres"), free_port(), folder / "data"
        log = folder.parent / f"{folder.name}.log"
        data.mkdir()
        prefix: list[str] = []
        if user == "postgres":
            shutil.chown(data, user)
            shutil.chown(folder, user)
            prefix = ["setpriv", "--reuid", user, "--regid", user, "--init-groups"]
        make = [*prefix, programs["initdb"], "-D", str(data), "-U", "hub", "--auth", "trust", "-E", "UTF8", "--no-sync"]
        subprocess.run(make, check=True, capture_output=True, cwd=folder)
        serve = [*prefix, programs["postgres"], "-D", str(data), "-p", str(port), "-k", str(folder), "-h", "127.0.0.1"]

        def start() -> None:
            server.enter_context(running(serve, port, log, signal.SIGINT))

        def restart() -> None:
            server.close()
            start()

        start()
        create = [programs["createdb"], "-h", "127.0.0.1", "-p", str(port), "-U", "hub", "hub"]
        for _ in range(50):
            if subprocess.run(create, capture_output=True, check=False).returncode == 0:
                break
        yield Database(f"postgresql+psycopg://hub@127.0.0.1:{port}/hub", restart)
    log.unlink()
