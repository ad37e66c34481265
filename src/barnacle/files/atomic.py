"""Files with people in them: their owner alone may read them, and they are there whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import TextIO
from barnacle.files.missing import not_written


@contextmanager
def replacing(path: Path) -> Iterator[TextIO]:
    """A file to write text into; it takes `path`'s place when the block ends well. Raises FileError."""
    with replacing_whole(path) as part, part.open("w", encoding="utf-8", newline="") as file:
        yield file


class Staged:
    """A new content for a file, on disk beside it until `take` puts it in its place, or `drop` throws it away."""

    def __init__(self, path: Path, text: str) -> None:
        """Raises FileError."""
        self.path = path
        self.text = text
        self._part = path.with_name(f".{path.name}.part")
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            _make_new(self._part)
            self._part.write_text(text, encoding="utf-8", newline="")
            _keep(self._part)
        except OSError as error:
            self.drop()
            raise FileError(f"{not_written(path, error)}. Nothing was changed.") from error

    def take(self) -> None:
        """Raises OSError."""
        self._part.replace(self.path)

    def drop(self) -> None:
        self._part.unlink(missing_ok=True)


def _make_new(path: Path) -> None:
    """An empty file that its owner alone may read."""
    path.unlink(missing_ok=True)
    os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))


def _keep(path: Path) -> None:
    """Have a file on disk before it takes another's place."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _through(path: Path) -> Iterator[Path]:
    """A file to fill whose content goes into what is no file: a pipe that has a name, a device."""
    if path.is_dir():
        raise FileError(f"{visible(str(path))} is a folder. Name a file in it.")
    import shutil  # seldom needed, and every command would wait for them
    import tempfile

    with tempfile.TemporaryDirectory(prefix="barnacle-") as folder:
        part = Path(folder, "part")
        _make_new(part)
        yield part
        try:
            with part.open("rb") as source, path.open("wb") as target:
                shutil.copyfileobj(source, target)
        except OSError as error:
            raise FileError(f"{not_written(path, error)}.") from error


@contextmanager
def replacing_whole(path: Path) -> Iterator[Path]:
    """An empty file for somebody else to fill, by its path; it takes `path`'s place when the block ends well. Raises
    FileError."""
    if path.exists() and not path.is_file():
        yield from _through(path)
        return
    part = path.with_name(f".{path.name}.part")
    try:
        _make_new(part)
        yield part
        _keep(part)
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise FileError(f"{not_written(path, error)}. Nothing was written.") from error
    except BaseException:
        part.unlink(missing_ok=True)
        raise
