"""Looking after the book: checking it, copying it, putting a copy back, mending it."""

from __future__ import annotations

from pathlib import Path

from barnacle.book import checking, copies, mending
from barnacle.book.checking import Checked as Checked
from barnacle.book.copies import need_copy as need_copy
from barnacle.book.mending import Mended as Mended
from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.files.atomic import replacing
from barnacle.jobs.desk.desk import COMMAND, Desk


class Restored(NamedTuple):
    """What was put back: where what was there is now (None where nothing was), the files beside it that were written,
    those that were left as they are, and the commands that the settings now have run."""

    aside: Path | None
    written: list[Path]
    left: list[Path]
    commands: list[str]


def check(desk: Desk) -> Checked:
    """Look at everything in the book. Raises BookError where it cannot even be opened."""
    with desk.open() as book:
        return checking.check(book)


def copy(desk: Desk, target: Path, secrets: bool, replace: bool) -> list[str]:
    """Copy the book with its settings, as it is now, while it may be in use. Returns the names of the files that came
    along. Raises BookError, FileError."""
    if target.exists() and not replace:
        raise FileError(f"{visible(str(target))} exists already. Name another file, or add --yes to replace it.")
    if target.exists() and desk.path.exists() and target.samefile(desk.path):
        raise FileError(f"{visible(str(target))} is the book itself. Name another file.")
    files = desk.read_beside()
    if not secrets:
        files = {name: text for name, text in files.items() if desk.files_beside[name] == desk.settings_path}
    with desk.open() as book:
        copies.make(book, target, files)
    return sorted(files)


def restore(desk: Desk, copy: Path, settings: bool) -> Restored:
    """Put a copy in the book's place; what was there stays beside it. With `settings` the settings that came along take
    the place of those that are there. Raises BookError, FileError."""
    files, aside = copies.restore(copy, desk.path)
    written, left = _put_beside(desk, files, settings)
    desk.read_again()
    with desk.open():  # one of an earlier version is brought up to this one
        pass
    commands = [str(value) for key, value in desk.settings.items() if key.endswith(COMMAND)] if written else []
    return Restored(aside, written, left, commands)


def _put_beside(desk: Desk, files: dict[str, str], replace: bool) -> tuple[list[Path], list[Path]]:
    """The files that came with a copy: those that were written, and those that are there already and stay."""
    written, left = [], []
    for name, path in desk.files_beside.items():
        text = files.get(name)
        if text is None or (path.exists() and path.read_text("utf-8", errors="replace") == text):
            continue
        if path.exists() and not replace:
            left.append(path)
            continue
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with replacing(path) as file:
            file.write(text)
        written.append(path)
    return written, left


def mend(desk: Desk, target: Path) -> Mended:
    """Save what can be read of the book into a new one. Raises BookError, FileError."""
    if not desk.path.is_file():
        raise FileError(f"There is no book at {visible(str(desk.path))}.")
    if target.exists():
        raise FileError(f"{visible(str(target))} is there already. Name a file that is not.")
    return mending.mend(desk.path, target)
