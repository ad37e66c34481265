"""Questions one after the other on a terminal: a default by Enter, and a way back."""

from __future__ import annotations

import getpass
from collections.abc import Callable, Sequence

from barnacle.cli.console.screen import wrapped
from barnacle.core.errors import BarnacleError, StoppedError
from barnacle.core.text import as_typed, tidy, visible, visible_lines
from barnacle.core.typed import TypeVar

T = TypeVar("T")
BACK = "<"


class GoBackError(Exception):
    """Somebody wants the question before this one once more."""


def say(text: str = "") -> None:
    """A sentence, cut at words where the terminal is narrower."""
    print(wrapped(visible_lines(text)), flush=True)


def ask(question: str, default: str = "", read: Callable[[str], T] = str) -> T:  # type: ignore[assignment]
    """What is typed, or the default for Enter, as `read` makes it; what that refuses with a BarnacleError is said, and
    asked again. Raises GoBackError."""
    shown = f" [{visible(default)}]" if default else ""
    while True:
        typed = tidy(as_typed(input(f"{question}{shown}: ")), 1000)
        if typed == BACK:
            raise GoBackError
        try:
            return read(typed or default)
        except BarnacleError as error:
            say(str(error))


def ask_secret(question: str) -> str:
    """What is typed unseen; nothing for Enter. Raises GoBackError."""
    typed = getpass.getpass(question)
    if typed == BACK:
        raise GoBackError
    return typed


def choose(question: str, ways: Sequence[str]) -> int:
    """The place of one of some ways, typed as its number; Enter takes the first. Raises GoBackError."""
    for number, way in enumerate(ways, 1):
        say(f"  {number}  {way}")

    def read(typed: str) -> int:
        if typed.isdecimal() and 0 < int(typed) <= len(ways):
            return int(typed) - 1
        raise StoppedError(f"Type a number from 1 to {len(ways)}.")

    return ask(question, "1", read)


def in_turn(steps: Sequence[Callable[[], bool]]) -> None:
    """Ask one step after the other. A step says whether there was anything to ask: going back passes over those that
    had nothing."""
    asked: list[int] = []
    at = 0
    while at < len(steps):
        try:
            if steps[at]():
                asked.append(at)
            at += 1
        except GoBackError:
            at = asked.pop() if asked else 0
