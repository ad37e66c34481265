"""Files with people in them: their owner alone may read them, and they are there whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from barnacle.core.errors import FileError
from barnacle.core.text import visible


@contextmanager
def replacing(path: Path) -> Iterator[TextIO]:
    """A file to write text into; it takes `path`'s place when the block ends well. Raises FileError."""
    with replacing_whole(path) as part, part.open("w", encoding="utf-8", newline="") as file:
        yield file


@contextmanager
def replacing_whole(path: Path) -> Iterator[Path]:
    """An empty file for somebody else to fill, by its path; it takes `path`'s place when the block ends well. Raises
    FileError."""
    part = path.with_name(f".{path.name}.part")
    try:
        part.unlink(missing_ok=True)
        os.close(os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        yield part
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise FileError(f"{visible(str(path))} cannot be written: {error.strerror}. Nothing was written.") from error
    except BaseException:
        part.unlink(missing_ok=True)
        raise
