"""What the user sees: sentences, tables, questions, progress, or one JSON value."""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime

from barnacle.core.errors import StoppedError
from barnacle.core.text import people, visible, visible_lines, with_escapes
from barnacle.core.typed import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from barnacle.cli.console.progress import Bar
    from barnacle.core.mail.audience import LeftOut


LEFT_OUT_SHOWN = 20
_UNREAD_SHOWN = 10

# Colour is only an extra: the words say the same.
_COLOURS = {
    **dict.fromkeys(("refused", "fails"), "red"),
    **dict.fromkeys(("deferred", "doubtful", "held", "not sent yet", "sent in part", "opted out"), "magenta"),
}


def in_json(value: Any, indent: int | None = None) -> str:
    """A value as JSON text, with what a terminal would obey or not show as escapes: it means the same."""
    return with_escapes(json.dumps(value, ensure_ascii=False, indent=indent))


class Screen:
    """Where a command's output goes. With `json` only `value` prints, once; with `quiet` sentences are left out."""

    def __init__(self, json: bool = False, quiet: bool = False, yes: bool = False) -> None:
        self.json = json
        self.quiet = quiet
        self.yes = yes
        self.is_terminal = sys.stdout.isatty()
        self.has_value = False
        self.aside = False  # what is said goes to stderr, since stdout is a file
        self._bar: Bar | None = None

    def say(self, text: str = "") -> None:
        """A sentence, cleaned of anything a terminal would obey; long ones wrapped on a terminal."""
        if self.json or self.quiet:
            return
        self._print(visible_lines(text))
        (sys.stderr if self.aside else sys.stdout).flush()  # in a pipe, too, somebody may have to act on it

    def lines(self, text: str) -> None:
        """Text that is the result itself, printed also with --quiet."""
        if not self.json:
            self._print(visible_lines(text))

    def laid_out(self, line: str) -> None:
        """A line of something drawn, which is not to be wrapped."""
        if not self.json and not self.quiet:
            self._print(visible_lines(line), is_laid_out=True)

    def _print(self, text: str, is_laid_out: bool = False) -> None:
        if self._bar:
            self._bar.out_of_the_way()
        shown = wrapped(text) if self.is_terminal and not is_laid_out else text
        print(shown, file=sys.stderr if self.aside else sys.stdout)

    def table(self, columns: Sequence[str], rows: Sequence[Sequence[object]], below: Sequence[str] = ()) -> None:
        """Rows under their titles: fitted to the terminal's width, or tab-separated in a pipe. On a terminal those of
        the columns `below` stand below their row."""
        if self.json or not rows:
            return
        shown = [[visible("" if cell is None else str(cell)) for cell in row] for row in rows]
        if not self.is_terminal:
            self._print("\n".join("\t".join(line) for line in [list(columns), *shown]))
            return
        from barnacle.cli.console.table import fitted

        self._print("\n".join(fitted(columns, shown, _width(), below, _COLOURS)), is_laid_out=True)

    def value(self, value: Any) -> None:
        """The one JSON value of a command run with --json."""
        if self.json:
            self.has_value = True
            print(in_json(value, indent=2 if self.is_terminal else None))

    def error(self, sentence: str, code: str = "error", candidates: Sequence[str] = ()) -> None:
        """What went wrong: on stderr, and as JSON on stdout where that was asked for and nothing stands there yet: one
        command prints one value. `candidates` are what an ambiguous name may mean."""
        if self.json and not self.has_value:
            value = {"error": sentence, "code": code, **({"candidates": [*candidates]} if candidates else {})}
            print(in_json(value))
        self.trouble(sentence)

    def trouble(self, sentence: str) -> None:
        """What went wrong of several things that a command does, on stderr; its value has that, too."""
        text = visible_lines(sentence)
        print(wrapped(text) if sys.stderr.isatty() else text, file=sys.stderr)

    def warn(self, sentence: str) -> None:
        """A remark beside what the command is about, on stderr."""
        if not self.quiet:
            print(visible_lines(sentence), file=sys.stderr)

    def not_read(self, sentences: Sequence[str]) -> None:
        """What could not be read of messages, and why; in front of the rest."""
        if sentences:
            self.warn("Not everything could be read:")
        for one in sentences[:_UNREAD_SHOWN]:
            self.warn(f"  {one}.")
        if len(sentences) > _UNREAD_SHOWN:
            self.warn(f"  … and {len(sentences) - _UNREAD_SHOWN:,} more (--json has them all).")

    @property
    def can_ask(self) -> bool:
        """Whether somebody sits there who can answer."""
        return not self.json and self.is_terminal and sys.stdin.isatty()

    def confirm(self, question: str, otherwise: str) -> bool:
        """Ask yes or no; --yes answers it. Where nobody can be asked raises StoppedError, with `otherwise` as the way
        on."""
        if self.yes:
            return True
        if not self.can_ask:
            raise StoppedError(otherwise)
        return input(wrapped(f"{visible(question)} [y/N]") + " ").strip().lower() in ("y", "yes")

    def choose(self, question: str, candidates: Sequence[str]) -> int | None:
        """Let the user pick one by its number; None where nobody can be asked or nothing is picked."""
        if self.yes or not self.can_ask:
            return None
        print(visible(question))
        for number, line in enumerate(candidates, 1):
            print(wrapped(f"  {number}  {line}"))
        answer = input(f"Number 1 to {len(candidates)}, or Enter for none: ").strip()
        return int(answer) - 1 if answer.isdecimal() and 0 < int(answer) <= len(candidates) else None

    def secret(self, question: str) -> str:
        """Let the user type something unseen; nothing where nobody can be asked."""
        if not self.can_ask:
            return ""
        import getpass

        return getpass.getpass(visible(question))

    @contextmanager
    def working(self, what: str) -> Iterator[None]:
        """A line on a terminal after a second, for work that cannot say how far it is; it goes when the block ends."""
        if self.json or self.quiet or self.aside or not self.is_terminal:
            yield
            return
        from barnacle.cli.console.progress import line

        with line(visible(what)):
            yield

    @contextmanager
    def progress(self, what: str) -> Iterator[Callable[[int, int | None], None]]:
        """A bar on a terminal for what takes over a second; the block calls it with what is done and the total."""
        if self.json or self.quiet or not self.is_terminal:
            yield lambda done, total: None
            return
        from barnacle.cli.console.progress import Bar

        self._bar = Bar(what)
        try:
            yield self._bar.tick
        finally:
            self._bar.close()
            self._bar = None

    def goes_on(self, what: str) -> None:
        """What the bar says from now on."""
        if self._bar:
            self._bar.say(what)


def in_a_sentence(error: Exception) -> str:
    """What went wrong; of what the system refused also the file."""
    if not isinstance(error, OSError):
        return str(error)
    place = f" ({error.filename})" if error.filename else ""
    return f"{error.strerror or error}{place}."


def _width() -> int:
    """As `shutil.get_terminal_size` has it, which loads everything that unpacks archives."""
    if (told := os.environ.get("COLUMNS", "")).isdecimal() and int(told):
        return int(told) - 1
    try:
        return (os.get_terminal_size(sys.__stdout__.fileno()).columns or 80) - 1  # type: ignore[union-attr]
    except (AttributeError, ValueError, OSError):  # no terminal
        return 80 - 1


def wrapped(text: str) -> str:
    """Lines that are too long for the terminal broken at words, indented as they begin; no command is broken."""
    lines, width = text.split("\n"), _width()
    if all(len(line) <= width for line in lines):
        return text
    from barnacle.cli.console.table import wrap

    result: list[str] = []
    for line in lines:
        # What follows a title, or a number, goes on below itself.
        begin = re.match(r"\s+\S+(?: \S+)*\s{2,}|\s*", line)
        indent = begin.end() if begin else 0
        parts = wrap(line[indent:], max(width - indent, 20)) or [""]
        if line[:indent].strip() and max(map(len, parts)) > width - indent:
            # An address, say, that has more room below.
            result += [line[:indent].rstrip(), *("    " + part for part in wrap(line[indent:], width - 4))]
        else:
            result += [line[:indent] + parts[0], *(" " * indent + part for part in parts[1:])]
    return "\n".join(result).replace("\u00a0", " ")


def local_time(at: str | None) -> str:
    """A time of the book (ISO 8601, UTC) by the user's clock: on a terminal as people say it, in a pipe as it sorts."""
    if not at:
        return ""
    time = datetime.fromisoformat(at.replace("Z", "+00:00")).astimezone()
    if not sys.stdout.isatty():
        return time.strftime("%Y-%m-%d %H:%M")
    now = datetime.now().astimezone()
    days = (now.date() - time.date()).days
    if days in (0, 1):
        return f"{'yesterday' if days else 'today'}\u00a0{time:%H:%M}"
    if -7 < days < 0:
        return f"{'tomorrow' if days == -1 else f'{time:%A}'}\u00a0{time:%H:%M}"
    if days < 0:
        return f"{time:%a} {time.day} {time:%b}\u00a0{time:%H:%M}"
    return f"{time:%a} {time.day} {time:%b}" if 0 < days < 300 else f"{time.day} {time:%b %Y}"


def left_out(rows: list[LeftOut], screen: Screen) -> None:
    """Who gets nothing, with the reason."""
    if not rows or screen.quiet:
        return
    screen.say(f"\n{people(len(rows))} left out:")
    screen.table(("Name", "Address", "Reason"), [(o.name, o.address or "", o.reason) for o in rows[:LEFT_OUT_SHOWN]])
    if len(rows) > LEFT_OUT_SHOWN:
        screen.say(f"… and {len(rows) - LEFT_OUT_SHOWN} more; --json has all.")
    screen.say()
