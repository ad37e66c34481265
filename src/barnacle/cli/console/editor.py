"""Cards and messages in the user's own text editor."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.contact import Contact
from barnacle.core.contact_form import read_card, write_card
from barnacle.core.errors import BarnacleError, FileError, StoppedError, UnclearError


def edit_card(contact: Contact, screen: Screen) -> Contact | None:
    """The contact as the user left its card; None where nothing was changed.

    A card that cannot be read is shown again with the error above it. Raises StoppedError, with the place where the
    text is kept, when it comes back unmended or the editor fails.
    """
    path = _scratch("card")
    text = write_card(contact)
    shown = text
    while True:
        edited = _edited(path, shown, "changed", "change the contact by options such as --name and --org")
        if edited == shown and shown != text:
            raise StoppedError(f"The card still cannot be read. Nothing was changed; your text is in {path}.")
        try:
            card = read_card(edited)
        except UnclearError as error:
            screen.error(str(error))
            lines = [line for line in edited.splitlines() if not line.startswith("#! ")]
            shown = "\n".join([f"#! {line}" for line in str(error).splitlines()] + lines) + "\n"
            continue
        path.unlink()
        return card if edited != text else None


class _NotStartedError(FileError):
    """There is no editor, or it cannot be started."""


def _scratch(what: str) -> Path:
    handle, name = tempfile.mkstemp(prefix=f"barnacle-{what}-", suffix=".txt")  # mode 0600
    os.close(handle)
    return Path(name)


def _edited(path: Path, shown: str, done: str, otherwise: str) -> str:
    """What comes back when `shown` was edited in that file. Raises StoppedError: nothing was `done`, where it is
    kept."""
    path.write_text(shown, encoding="utf-8")
    try:
        _edit(path, otherwise)
        return path.read_text(encoding="utf-8")
    except _NotStartedError as error:  # so that nobody has written anything
        path.unlink()
        raise StoppedError(f"{error} Nothing was {done}.") from None
    except (BarnacleError, UnicodeDecodeError) as error:
        raise StoppedError(f"{error} Nothing was {done}; your text is in {path}.") from None


def _edit(path: Path, otherwise: str) -> None:
    command = os.environ.get("VISUAL") or os.environ.get("EDITOR")
    if not command and sys.stdin.isatty():
        command = shutil.which("nano")  # which says on the screen how one leaves it
    if not command:
        raise _NotStartedError(f"No editor is set. Set EDITOR, or {otherwise}.")
    try:
        done = subprocess.run([*shlex.split(command), str(path)], check=False)
    except (OSError, ValueError) as error:
        raise _NotStartedError(f"The editor `{command}` cannot be started ({error}).") from None
    if done.returncode:
        raise FileError(f"The editor `{command}` ended with an error ({done.returncode}).")


def write_text(template: str) -> str:
    """A text as the user wrote it in the editor, without the lines of help. Raises StoppedError, with the place where
    it is kept, when the editor fails or what comes back is no text."""
    path = _scratch("message")
    text = _edited(path, template, "composed", "give the text with --text or --body")
    path.unlink()
    kept = "\n".join(line for line in text.splitlines() if not line.startswith("#:")).strip("\n")
    return f"{kept}\n" if kept.strip() else ""
