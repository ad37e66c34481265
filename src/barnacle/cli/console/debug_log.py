"""A log for a bug report: what was called, how long it took, what servers answered. Nobody's address is in it."""

from __future__ import annotations

import logging
import os
import platform
import re
import sys
import traceback
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from time import monotonic

from barnacle import __version__
from barnacle.core.errors import BarnacleError, FileError
from barnacle.core.text import visible

NAME = "barnacle-debug.log"
_LOG = logging.getLogger("barnacle")
_ADDRESS = re.compile(r"(?<![^\s<>\"'`(),:;@])[^\s<>\"'`(),:;@]++@[^\s<>\"'`(),:;]+")
_QUOTED = re.compile(r"`[^`]*`|\"[^\"]*\"|'[^']*'")


class _Masked(logging.Formatter):
    """Lines with addresses, and whatever is in quotes, left out."""

    def format(self, record: logging.LogRecord) -> str:
        return masked(super().format(record))


def masked(text: str) -> str:
    """A text without addresses, what is in quotes, and the name of one's own folder."""
    text = _QUOTED.sub("(…)", _ADDRESS.sub("(address)", text)).replace(str(Path.home()), "~")
    return "\n".join(visible(line) for line in text.splitlines())


@contextmanager
def logged(path: Path, argv: Sequence[str]) -> Iterator[None]:
    """Around a command: a log of it at the end of a file that its owner alone can read. Raises FileError."""
    try:
        os.close(os.open(path, os.O_CREAT | os.O_APPEND | os.O_WRONLY, 0o600))
        handler = logging.FileHandler(path, encoding="utf-8")
    except OSError as error:
        raise FileError(f"The log {visible(str(path))} cannot be written: {error.strerror}.") from error
    handler.setFormatter(_Masked("%(asctime)s %(name)s %(message)s"))
    _LOG.addHandler(handler)
    _LOG.setLevel(logging.DEBUG)
    begun = monotonic()
    _LOG.info("Barnacle %s, Python %s, %s", __version__, platform.python_version(),
              platform.platform())  # fmt: skip
    _LOG.info("command: %s", " ".join(_without_values(argv)))
    _LOG.info("terminal: in %s, out %s, TERM %s, LANG %s", _is_terminal(sys.stdin), _is_terminal(sys.stdout),
              os.environ.get("TERM", "unset"), os.environ.get("LC_ALL") or os.environ.get("LANG", "unset"))  # fmt: skip
    try:
        yield
    finally:
        _LOG.info("ended after %.3f s", monotonic() - begun)
        _LOG.removeHandler(handler)
        handler.close()


def went_wrong(error: BaseException) -> None:
    """Keep where an error came from: files, lines and functions. Of one that is a sentence for the user, which may name
    people, no more than its code."""
    frames = traceback.extract_tb(error.__traceback__)
    places = [f"  {Path(one.filename).name}:{one.lineno} {one.name}" for one in frames]
    said = error.code if isinstance(error, BarnacleError) else str(error)
    _LOG.info("%s: %s\n%s", type(error).__name__, said, "\n".join(places))


def _without_values(argv: Sequence[str]) -> list[str]:
    """Commands and the names of options; of everything else only how long it is."""
    return [word.partition("=")[0] if word.startswith("--") else word if word.isalpha() and word.islower() and n < 2
            else f"({len(word)} characters)" for n, word in enumerate(argv)]  # fmt: skip


def _is_terminal(stream: object) -> bool:
    return bool(getattr(stream, "isatty", lambda: False)())


def path() -> Path:
    """The log that is asked for, by BARNACLE_LOG or --debug."""
    return Path(os.environ.get("BARNACLE_LOG") or NAME)
