"""Shell completion of commands, list titles, labels, contact names and messages.

The shell starts the program once for each Tab, so only the module of the command being typed is loaded, and names come
from an index of the book.
"""

from __future__ import annotations

import argparse
import os
import shlex
from collections.abc import Callable, Iterable
from itertools import pairwise
from pathlib import Path

import argcomplete

from barnacle.core.errors import BarnacleError
from barnacle.core.text import fold
from barnacle.jobs import completion
from barnacle.jobs.desk.desk import Desk

Suggest = Callable[[Desk, str], Iterable[str]]

_BY_METAVAR: dict[str, Suggest] = {
    "LIST": completion.lists_beginning,
    "WHO": completion.people_beginning,
    "WORDS": completion.directory_beginning,
    "WHAT": completion.anything_beginning,
    "LABEL": completion.labels_beginning,
    "mN": completion.messages_beginning,
}


def complete(make_parser: Callable[[list[str]], argparse.ArgumentParser]) -> None:
    """Answer the shell, if it asks. Never returns then."""
    typed = _words(os.environ.get("COMP_LINE", ""))
    parser = make_parser(typed)
    book = next((Path(b) for a, b in pairwise(typed) if a == "--book"), None)
    _attach(parser, Desk(book_path=book))
    argcomplete.autocomplete(parser, always_complete_options=False, validator=_continues)


def _continues(found: str, begun: str) -> bool:
    """Whether a word, or one of the words of a name, begins as typed."""
    return fold(found).startswith(fold(begun)) or f" {fold(begun)}" in fold(found)


def _words(line: str) -> list[str]:
    try:
        return shlex.split(line)
    except ValueError:  # a quote that is still open
        return line.split()


def _attach(parser: argparse.ArgumentParser, desk: Desk) -> None:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in dict.fromkeys(action.choices.values()):
                _attach(inner, desk)
        elif isinstance(action.metavar, str) and action.metavar in _BY_METAVAR:
            action.completer = _completer(_BY_METAVAR[action.metavar], desk)  # type: ignore[attr-defined]


def _completer(suggest: Suggest, desk: Desk) -> Callable[..., list[str]]:
    def completer(prefix: str, **_: object) -> list[str]:
        try:
            return list(suggest(desk, prefix))
        except BarnacleError:  # no book, say: then there is nothing to suggest
            return []

    return completer
