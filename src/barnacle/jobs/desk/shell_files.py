"""Where shells look for the completions of programs."""

from __future__ import annotations

import os
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.atomic import replacing

_LINE = 'command -v barnacle > /dev/null && eval "$(barnacle completion zsh)"'


def install(shell: str, code: str) -> Path:
    """Put a completion where bash and fish look for it; zsh asks the program each time it starts, by a line in .zshrc.
    Returns the file. Raises FileError."""
    home = Path.home()
    if shell == "zsh":
        path = Path(os.environ.get("ZDOTDIR") or home) / ".zshrc"
        try:
            there = path.read_text(encoding="utf-8") if path.exists() else ""
        except (OSError, UnicodeDecodeError) as error:
            raise FileError(f"{visible(str(path))} cannot be read ({error}). Add this line to it: {_LINE}") from error
        if _LINE not in there:
            # A link stays a link: people keep such files elsewhere.
            _write(path.resolve(), there + "\n" * (there != "" and not there.endswith("\n")) + _LINE + "\n")
        return path
    if shell == "bash":
        data = Path(os.environ.get("XDG_DATA_HOME") or home / ".local" / "share")
        path = data / "bash-completion" / "completions" / "barnacle"
    else:
        path = Path(os.environ.get("XDG_CONFIG_HOME") or home / ".config") / "fish" / "completions" / "barnacle.fish"
    _write(path, code + "\n")
    return path


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    mode = path.stat().st_mode & 0o777 if path.exists() else 0o644
    with replacing(path) as file:
        file.write(text)
    path.chmod(mode)
