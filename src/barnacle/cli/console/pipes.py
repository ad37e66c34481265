"""`-` in place of a file: standard input or output."""

from __future__ import annotations

import os
import sys
from functools import cache
from pathlib import Path

from barnacle.core.errors import FileError

_LIMIT = 1 << 30
PIPED_OUT = "piped-out"


def in_file(text: str) -> Path:
    """A file to read; for `-` one with what is piped in. Raises FileError."""
    if text != "-":
        return Path(text)
    piped = _folder() / "piped-in"
    if not piped.exists():
        with os.fdopen(os.open(piped, os.O_CREAT | os.O_WRONLY, 0o600), "wb") as file:
            while block := sys.stdin.buffer.read(1 << 20):
                if file.tell() > _LIMIT:
                    raise FileError("More than 1 GB was piped in. Save it to a file, and name that.")
                file.write(block)
    if not piped.stat().st_size:
        raise FileError("Nothing was piped in.")
    return piped


def out_file(text: str) -> Path:
    """A file to write; for `-` one that `hand_on` puts on standard output."""
    return Path(text) if text != "-" else _folder() / PIPED_OUT


def hand_on() -> None:
    """Put on standard output what was written for it."""
    path = _folder() / PIPED_OUT if _folder.cache_info().currsize else None
    if path and path.exists():
        import shutil

        with path.open("rb") as file:
            shutil.copyfileobj(file, sys.stdout.buffer)
        sys.stdout.flush()


@cache
def _folder() -> Path:
    import atexit  # all of this only where it is needed: it costs start-up time
    import shutil
    import tempfile

    folder = Path(tempfile.mkdtemp(prefix="barnacle-"))
    atexit.register(shutil.rmtree, folder, True)
    return folder
