"""What to say of a file that is not there."""

from __future__ import annotations

import os
from itertools import islice
from pathlib import Path

from barnacle.core.text import nearest, visible

_LINKS = ("http:/", "https:/", "ftp:/", "file:/")
# So many names of a folder are compared with the one that was typed.
_MOST = 5000


def no_such_file(path: Path) -> str:
    """A sentence that says where there is no such file, and which one may have been meant."""
    shown = visible(str(path))
    if shown.startswith(_LINKS):
        # A path has lost one of the strokes.
        return f"{shown.replace(':/', '://', 1)} is a link. Save what is there to a file, and name that."
    folder = path.parent
    if not folder.is_dir():
        return f"There is no file {shown}: there is no folder {visible(str(folder))}."
    try:
        with os.scandir(folder) as entries:
            names = [entry.name for entry in islice(entries, _MOST) if not entry.name.startswith(".")]
    except OSError:
        names = []
    by_small = {name.casefold(): name for name in names}
    near = by_small.get(nearest(path.name.casefold(), by_small, 0.75))
    meant = f" Did you mean {visible(str(folder / near))}?" if near else ""
    return f"There is no file {shown}{'' if path.is_absolute() else f' in {visible(str(Path.cwd()))}'}.{meant}"


def not_written(path: Path, error: OSError) -> str:
    """The beginning of a sentence that says that a file cannot be written, and why."""
    shown, folder = visible(str(path)), path.parent
    if not folder.exists():
        return f"{shown} cannot be written: there is no folder {visible(str(folder))}"
    return f"{shown} cannot be written: {error.strerror}"


def is_file(text: str) -> bool:
    """Whether words are the name of a file. A sentence too long for one is none, of which `Path.is_file` complains."""
    return os.path.isfile(text)  # noqa: PTH113
