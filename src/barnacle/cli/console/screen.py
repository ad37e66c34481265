"""What the user sees: sentences, tables, questions, progress, or one JSON value."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

from barnacle.core.errors import StoppedError
from barnacle.core.text import people, visible, visible_lines

if TYPE_CHECKING:
    from barnacle.core.mail.audience import LeftOut


LEFT_OUT_SHOWN = 20

# Colour is only an extra (rich leaves it out for NO_COLOR): the words say the same.
_COLOURS = {
    "refused": "red",
    "fails": "red",
    "put off": "yellow",
    "deferred": "yellow",
    "doubtful": "yellow",
    "held": "yellow",
    "sent in part": "yellow",
    "accepted": "green",
    "sent": "green",
    "opted out": "yellow",
}


class Screen:
    """Where a command's output goes. With `json` only `value` prints, once; with `quiet` sentences are left out."""

    def __init__(self, json: bool = False, quiet: bool = False, yes: bool = False) -> None:
        self.json = json
        self.quiet = quiet
        self.yes = yes
        self.is_terminal = sys.stdout.isatty()
        self.has_value = False

    def say(self, text: str = "") -> None:
        """A sentence, cleaned of anything a terminal would obey; long ones wrapped on a terminal."""
        if self.json or self.quiet:
            return
        self._print(visible_lines(text))

    def lines(self, text: str) -> None:
        """Text that is the result itself, printed also with --quiet."""
        if not self.json:
            self._print(visible_lines(text))

    def _print(self, text: str) -> None:
        print(_wrapped(text) if self.is_terminal else text)

    def table(self, columns: Sequence[str], rows: Sequence[Sequence[object]]) -> None:
        """Rows under their titles: fitted to the terminal's width, or tab-separated in a pipe."""
        if self.json or not rows:
            return
        shown = [[visible("" if cell is None else str(cell)) for cell in row] for row in rows]
        if not self.is_terminal:
            for line in [list(columns), *shown]:
                print("\t".join(line))
            return
        from rich.console import Console
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
        for number, title in enumerate(columns):
            numbers = all(str(row[number]).replace(",", "").isdigit() for row in rows)
            table.add_column(title, justify="right" if numbers else "left", overflow="fold")
        for line in shown:
            table.add_row(*(Text(cell, style=_COLOURS.get(cell, "")) for cell in line))
        console = Console(highlight=False)
        with console.capture() as captured:
            console.print(table)
        print("\n".join(line.rstrip() for line in captured.get().splitlines()))

    def value(self, value: Any) -> None:
        """The one JSON value of a command run with --json."""
        if self.json:
            self.has_value = True
            print(json.dumps(value, ensure_ascii=False, indent=2 if self.is_terminal else None))

    def error(self, sentence: str) -> None:
        """What went wrong: on stderr, and as JSON on stdout where that was asked for and nothing stands there yet: one
        command prints one value."""
        if self.json and not self.has_value:
            print(json.dumps({"error": sentence}, ensure_ascii=False))
        text = visible_lines(sentence)
        print(_wrapped(text) if sys.stderr.isatty() else text, file=sys.stderr)

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
            raise StoppedError(f"{otherwise}")
        return input(f"{visible(question)} [y/N] ").strip().lower() in ("y", "yes")

    def choose(self, question: str, candidates: Sequence[str]) -> int | None:
        """Let the user pick one by its number; None where nobody can be asked or nothing is picked."""
        if self.yes or not self.can_ask:
            return None
        print(visible(question))
        for number, line in enumerate(candidates, 1):
            print(f"  {number}  {line}")
        answer = input(f"Number 1 to {len(candidates)}, or Enter for none: ").strip()
        return int(answer) - 1 if answer.isdecimal() and 0 < int(answer) <= len(candidates) else None

    def secret(self, question: str) -> str:
        """Let the user type something unseen; nothing where nobody can be asked."""
        if not self.can_ask:
            return ""
        import getpass

        return getpass.getpass(visible(question))

    @contextmanager
    def progress(self, what: str) -> Iterator[Callable[[int, int | None], None]]:
        """A bar on a terminal for what takes over a second; the block calls it with what is done and the total."""
        if self.json or self.quiet or not self.is_terminal:
            yield lambda done, total: None
            return
        from barnacle.cli.console.progress import bar

        with bar(what) as tick:
            yield tick


def in_a_sentence(error: Exception) -> str:
    """What went wrong; of what the system refused also the file."""
    if not isinstance(error, OSError):
        return str(error)
    place = f" ({error.filename})" if error.filename else ""
    return f"{error.strerror or error}{place}."


def _wrapped(text: str) -> str:
    """Lines that are too long for the terminal broken at words, indented as they begin."""
    import shutil
    import textwrap

    width = shutil.get_terminal_size().columns - 1
    return "\n".join(
        textwrap.fill(line, width, subsequent_indent=" " * (len(line) - len(line.lstrip())), break_on_hyphens=False)
        if len(line) > width
        else line
        for line in text.split("\n")
    )


def local_time(at: str | None) -> str:
    """A time of the book (ISO 8601, UTC) as the user's clock would show it, to the minute."""
    if not at:
        return ""
    return datetime.fromisoformat(at.replace("Z", "+00:00")).astimezone().strftime("%Y-%m-%d %H:%M")


def left_out(rows: list[LeftOut], screen: Screen) -> None:
    """Who gets nothing, with the reason."""
    if not rows or screen.quiet:
        return
    screen.say(f"\n{people(len(rows))} left out:")
    screen.table(("Name", "Address", "Reason"), [(o.name, o.address or "", o.reason) for o in rows[:LEFT_OUT_SHOWN]])
    if len(rows) > LEFT_OUT_SHOWN:
        screen.say(f"… and {len(rows) - LEFT_OUT_SHOWN} more; --json has all.")
    screen.say()
