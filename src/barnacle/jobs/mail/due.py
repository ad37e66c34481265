"""Messages that are to be sent later, and what sends them when they are due."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from datetime import datetime, timedelta
from pathlib import Path

from barnacle.book import outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book, now
from barnacle.core.errors import FileError, StoppedError, UnclearError
from barnacle.core.mail.delivery import DUE
from barnacle.core.moments import in_utc, in_words, read_moment
from barnacle.core.moments_meant import moment_meant
from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple
from barnacle.files.atomic import replacing
from barnacle.jobs.desk.desk import Desk

NEVER = "never"
# A message that is later than this says something else than was meant ("tonight at six").
_LATEST = timedelta(hours=24)
_UNIT = "barnacle-send"
_SYSTEMCTL = ("systemctl", "--user")
# In place of the program, where it does not matter which.
_ANY = "@program@"


def read_when(text: str) -> str:
    """When, as people say it, as it is kept (UTC). Raises UnclearError."""
    local = datetime.now()
    at = read_moment(text, local)
    if at is None:
        raise UnclearError(moment_meant(text, local))
    if datetime.fromtimestamp(at.timestamp()) != at:
        raise UnclearError(f"There is no {at:%H:%M} on {in_words(at)}: the clocks go forward. Name another time.")
    moment = in_utc(at.astimezone())
    if moment <= now():
        raise UnclearError(f"{in_words(at)}, {at:%H:%M}, is over. Name a time to come.")
    return moment


def keep_due(book: Book, message: StoredMessage, at: str | None) -> StoredMessage:
    """Keep when a message is to be sent, or that it is not; inside an action. Raises StoppedError."""
    if message.begun is not None:
        raise StoppedError(f"{message.number} was sent already, at least in part.")
    message = message._replace(content=message.content._replace(due=at))
    outbox.save(book, message)
    return message


def forget(desk: Desk, number: str) -> StoredMessage:
    """A message is not to be sent by itself any more."""
    with desk.open() as book, book.action("send") as action:
        message = keep_due(book, outbox.get(book, number), None)
        action.title = f"{message.number}, {message.subject}, is not to be sent by itself any more"
        return message


class Dues(NamedTuple):
    """What is due: messages to send now, and those that are too late to be sent without a look."""

    ready: list[str]
    too_late: list[StoredMessage]


def dues(desk: Desk) -> Dues:
    """What is due by now."""
    ready, late = [], []
    at = now()
    before = in_utc(datetime.fromisoformat(at) - _LATEST)
    with desk.open() as book:
        for one in outbox.unfinished(book):
            due = one.content.due
            if due is None or due > at or one.content.held or one.content.handed:
                continue
            if one.begun is not None:  # limits or the server may have left some over
                if outbox.addresses_in(book, one.id, DUE):
                    ready.append(one.number)
            elif due < before:
                late.append(one)
            else:
                ready.append(one.number)
    return Dues(ready, late)


class Timer(NamedTuple):
    """What would send by itself: the files to write, or the line for crontab, and the commands that set it going."""

    files: dict[Path, str]
    line: str
    commands: list[list[str]]

    @property
    def text(self) -> str:
        """All of it, to be looked at."""
        parts = [f"{path}:\n{text}" for path, text in self.files.items()]
        return "\n".join([*parts, self.line]).strip()


def plan_timer(desk: Desk, program: str = "") -> Timer:
    """What this system needs to run `barnacle send --due` every five minutes: user units of systemd where there are
    such, else a line for crontab. Raises FileError where there is neither."""
    program = program or shutil.which("barnacle") or str(Path(sys.argv[0]).resolve())
    book = ["--book", str(desk.book_path.resolve())] if desk.book_path else []
    command = [program, *book, "send", "--due", "--quiet"]
    home = os.environ.get("BARNACLE_HOME")
    if _has_systemd():
        folder = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "systemd" / "user"
        given = f"Environment={_quoted(f'BARNACLE_HOME={Path(home).resolve()}', dollar='$')}\n" if home else ""
        words = " ".join(_quoted(word) for word in command)
        service = (
            "[Unit]\nDescription=Send the messages of Barnacle that are due\n\n"
            f"[Service]\nType=oneshot\n{given}ExecStart={words}\n"
        )
        timer = (
            "[Unit]\nDescription=See every five minutes what is due\n\n[Timer]\nOnCalendar=*:0/5\nPersistent=true\n\n"
            "[Install]\nWantedBy=timers.target\n"
        )
        files = {folder / f"{_UNIT}.service": service, folder / f"{_UNIT}.timer": timer}
        return Timer(files, "", [[*_SYSTEMCTL, "daemon-reload"], [*_SYSTEMCTL, "enable", "--now", f"{_UNIT}.timer"]])
    if not shutil.which("crontab"):
        raise FileError(
            "This system has neither systemd for users nor crontab. Have `barnacle send --due` run every few "
            "minutes by whatever runs things here."
        )
    given = f"BARNACLE_HOME={shlex.quote(str(Path(home).resolve()))} " if home else ""
    line = f"*/5 * * * * {given}{shlex.join(command)}".replace("%", "\\%")  # crontab(5) has another use for it
    return Timer({}, line, [])


def has_timer(desk: Desk) -> bool:
    """Whether what `plan_timer` plans for this book is at work, from wherever the program was started then."""
    try:
        timer = plan_timer(desk, _ANY)
        if timer.line:
            return any(_is_like(line, timer.line) for line in _crontab().decode("utf-8", "replace").splitlines())
        there = all(_is_like(path.read_text(encoding="utf-8"), text) for path, text in timer.files.items())
        enabled = [*_SYSTEMCTL, "is-enabled", f"{_UNIT}.timer"]
        return there and subprocess.run(enabled, capture_output=True, check=False).returncode == 0
    except (FileError, OSError, ValueError):
        return False


def _is_like(text: str, planned: str) -> bool:
    before, _, after = planned.partition(_ANY)
    return text.startswith(before) and text.endswith(after)


def _quoted(word: str, dollar: str = "$$") -> str:
    """A word of a unit's command line (systemd.service(5)), or with a plain `dollar` of its environment
    (systemd.exec(5))."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", dollar)
    return f'"{escaped}"' if escaped != word or " " in word else word


def _has_systemd() -> bool:
    if not shutil.which("systemctl"):
        return False
    return subprocess.run([*_SYSTEMCTL, "show-environment"], capture_output=True, check=False).returncode == 0


def set_timer(timer: Timer) -> None:
    """Write the files, or add the line to the user's crontab, and set it going. Raises FileError."""
    try:
        for path, text in timer.files.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            with replacing(path) as file:
                file.write(text)
        if timer.line:
            before = _crontab().decode("utf-8", "surrogateescape")
            if timer.line in before.splitlines():
                return
            after = f"{before}{'' if not before or before.endswith(chr(10)) else chr(10)}{timer.line}\n"
            _run(["crontab", "-"], after.encode("utf-8", "surrogateescape"))
        for command in timer.commands:
            _run(command)
    except OSError as error:
        raise FileError(f"The timer cannot be set: {error.strerror or error}.") from error


def _crontab() -> bytes:
    """The user's crontab. Raises FileError where it cannot be read: what it holds must not be written over then."""
    kept = subprocess.run(["crontab", "-l"], capture_output=True, check=False, env={**os.environ, "LC_ALL": "C"})
    if kept.returncode and not re.search(rb"(?i)no crontab|no such file", kept.stderr):
        raise FileError(f"`crontab -l` failed: {_said(kept)}. Nothing was changed.")
    return kept.stdout if kept.returncode == 0 else b""


def _run(command: list[str], given: bytes | None = None) -> None:
    done = subprocess.run(command, input=given, capture_output=True, check=False)
    if done.returncode:
        raise FileError(f"`{shlex.join(command)}` failed: {_said(done)}.")


def _said(done: subprocess.CompletedProcess[bytes]) -> str:
    return tidy(done.stderr.decode(errors="replace"), 200).rstrip(".") or f"exit {done.returncode}"
