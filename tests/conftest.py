"""The installed program in a temporary folder, and the stand-in mail server beside it."""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import chdir, contextmanager, redirect_stderr, redirect_stdout, suppress
from pathlib import Path
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import settings

from barnacle.cli.main import main

settings.register_profile("no deadlines", deadline=None)  # a busy machine is no mistake
settings.load_profile("no deadlines")

PROGRAM = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or shutil.which("barnacle")
HANGS = 180  # seconds after which a command is taken to have stopped; no measure of speed
ME = "Maren Holt <maren@tidewick.example>"


def sheet_of(number: int, of: str = "a") -> str:
    """A sheet of so many people, with plain names and addresses of their own; those of others are others."""
    pick = random.Random(of)
    letters = "abdefgiklmnoprstu"
    names = ((pick.choices(letters, k=5), pick.choices(letters, k=6)) for _ in range(number))
    return "Name,E-mail\n" + "".join(
        f"{''.join(one).title()} {''.join(other).title()},{of}{n}@kelp.example\n"
        for n, (one, other) in enumerate(names)
    )


class Ran:
    """A command that has ended, with the exit code `expected` (None: any). Nothing unforeseen is ever right."""

    def __init__(self, args: Sequence[str], code: int, out: bytes, err: bytes, expected: int | None) -> None:
        self.code = code
        self.raw = out
        self.out = out.decode()
        self.err = err.decode()
        assert "Traceback" not in self.err and "Barnacle made a mistake" not in self.err, self.err
        assert expected is None or code == expected, (args, code, self.out, self.err)

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    @property
    def rows(self) -> list[list[str]]:
        return [line.split("\t") for line in self.out.splitlines() if "\t" in line][1:]


class Office:
    """A folder with a book of its own, in which commands are run as a user would run them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.home = folder / "home"
        self.environment = {
            **{k: v for k, v in os.environ.items() if not k.startswith(("BARNACLE", "XDG"))},
            "BARNACLE_HOME": str(self.home),
            "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring",
            "TZ": "UTC",
        }

    @property
    def book(self) -> Path:
        return self.home / "barnacle.book"

    def start(self, *args: str, **options: Any) -> subprocess.Popen[bytes]:
        assert PROGRAM, "the command `barnacle` is not installed"
        pipe = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "stdin": subprocess.DEVNULL}
        return subprocess.Popen([PROGRAM, *args], cwd=self.folder, env=self.environment, **{**pipe, **options})

    def run(self, *args: str, code: int | None = 0, stdin: str = "") -> Ran:
        """Run a command as a user does, with something piped into it if any, and hold its exit code to `code` (None:
        any)."""
        process = self.start(*args, **({"stdin": subprocess.PIPE} if stdin else {}))
        out, err = process.communicate(stdin.encode() or None, timeout=HANGS)
        return Ran(args, process.returncode, out, err, code)

    def within(self, *args: str, code: int | None = 0) -> Ran:
        """Run a command inside this process: what only sets the scene, and what only looks on. Most of a command's
        time is the start of Python; what a test is about starts it, by `run`."""
        out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2))
        environment = patch.dict(os.environ, self.environment, clear=True)
        with environment, chdir(self.folder), redirect_stdout(out), redirect_stderr(err):
            ended = main(args)
        said, complained = (stream.detach().getvalue() for stream in (out, err))
        return Ran(args, ended, said, complained, code)

    def json(self, *args: str, code: int | None = 0) -> Any:
        return self.run(*args, "--json", code=code).json

    def told(self, *args: str) -> Any:
        """What a command that only looks on tells."""
        return self.within(*args, "--json").json

    def file(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def members(self, title: str) -> list[str]:
        return [m["name"] for m in self.told("list", "show", title)["members"]]

    def being_written(self) -> bool:
        """Whether a command has begun to change the book."""
        return any(Path(f"{self.book}-{log}").exists() for log in ("wal", "journal"))

    def everything(self) -> Any:
        """All that the book holds, and the settings, as the program's own commands tell it."""
        lists = self.told("list")
        shown = [self.told("list", "show", one["title"]) for one in lists]
        return self.told("find"), lists, shown, self.told("settings")


@contextmanager
def told_by(office: Office, *args: str) -> Iterator[Callable[[str, str | None], int | None]]:
    """A command that goes on and on. The block reads what it says next on one of its streams until a text comes, or
    with None until it ends, and is given its exit code then."""
    process = office.start(*args)
    hung = threading.Timer(HANGS, process.kill)
    hung.start()

    def hears(stream: str, text: str | None) -> int | None:
        pipe = process.stdout if stream == "out" else process.stderr
        assert pipe is not None
        said = []
        for line in pipe:
            said.append(line.decode())
            if text is not None and text in said[-1]:
                return None
        assert text is None, (text, said)
        return process.wait()

    try:
        yield hears
    finally:
        process.kill()
        process.communicate()
        hung.cancel()


class Mail:
    """A running stand-in server and the Maildirs it fills."""

    def __init__(self, office: Office, *options: str) -> None:
        self.folder = office.folder / "mail"
        self.process = office.start("stand-in", "mail", "--port", "0", "--into", str(self.folder), "--quiet", *options)
        assert self.process.stdout is not None
        self.url = self.process.stdout.readline().decode().strip().removeprefix("listening on ")
        assert self.url.startswith("smtp://127.0.0.1:"), self.process.communicate(timeout=HANGS)

    def copies(self, address: str) -> list[bytes]:
        return [p.read_bytes() for p in sorted((self.folder / address).glob("new/*"))]

    @property
    def addresses(self) -> set[str]:
        return {p.name for p in self.folder.iterdir()} if self.folder.exists() else set()

    def stop(self) -> None:
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
        _, err = self.process.communicate(timeout=HANGS)
        assert self.process.returncode == 0 and not err, err.decode()


@pytest.fixture(scope="session")
def models(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Homes as they are at the start of most tests, each made once by the program and copied for each test."""
    empty = Office(tmp_path_factory.mktemp("empty"))
    empty.run("setup", "--me", ME)
    crewed = Office(tmp_path_factory.mktemp("crew"))
    shutil.copytree(empty.home, crewed.home)
    for who, more in CREW:
        crewed.run("contact", "add", who, *more, "--into", "Crew")
    return {"empty": empty.home, "crew": crewed.home}


@pytest.fixture
def office(tmp_path: Path, models: dict[str, Path]) -> Office:
    """A book of one's own, set up and empty."""
    shutil.copytree(models["empty"], tmp_path / "home")
    return Office(tmp_path)


@pytest.fixture
def serve(office: Office) -> Iterator[Callable[..., Mail]]:
    """Starts stand-in mail servers and names the last one in the settings; no pauses between tries."""
    running: list[Mail] = []

    def start(*options: str) -> Mail:
        mail = Mail(office, *options)
        running.append(mail)
        office.within("settings", "mail.server", mail.url)
        office.within("settings", "mail.pauses", "[]")
        office.within("settings", "mail.patience", "0")
        return mail

    yield start
    for mail in running:
        mail.stop()


CREW: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Una Berg <berg@kelp.example>", ()),
    ("Per Berg <berg@kelp.example>", ()),
    ("Bo Lund <bo@tidewick.example>", ("--address", "home:bo@kelp.example", "--label", "pilot")),
    ("Ida Rask", ()),
)


@pytest.fixture
def crew(office: Office, models: dict[str, Path]) -> Office:
    """The office with a list of four: Una and Per share an address, Bo has two addresses, Ida has none."""
    shutil.rmtree(office.home)
    shutil.copytree(models["crew"], office.home)
    return office


@pytest.fixture
def talker() -> Iterator[Callable[[Callable[[socket.socket], None]], int]]:
    """Starts a server that only talks; its port."""
    sockets: list[socket.socket] = []

    def start(talk: Callable[[socket.socket], None]) -> int:
        server = socket.create_server(("127.0.0.1", 0))
        sockets.append(server)

        def serve() -> None:
            with suppress(OSError):
                line, _ = server.accept()
                sockets.append(line)
                talk(line)

        threading.Thread(target=serve, daemon=True).start()
        return int(server.getsockname()[1])

    yield start
    for one in sockets:
        one.close()


@contextmanager
def disk(place: Path, octets: int) -> Iterator[Path]:
    """A disk of that size."""
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", f"size={octets}", "tmpfs", str(place)]
    if subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("only root can mount a small disk")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of a few megabytes."""
    with disk(tmp_path / "disk", 4 << 20) as place:
        yield place
