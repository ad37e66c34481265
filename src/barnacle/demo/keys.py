"""Pressing keys in a command that takes the whole screen, on a terminal of its own. Of Unix alone."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import struct
import subprocess
import termios
import tty
from pathlib import Path


def with_keys(argv: list[str], folder: Path, environment: dict[str, str], keys: str) -> tuple[int, str]:
    """Run a command on a terminal of its own and press keys in it. Returns its exit code and what it printed after it
    had left the whole screen."""
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 30, 100, 0, 0))
    process = subprocess.Popen(
        argv, cwd=folder, env={**environment, "TERM": "xterm"}, stdin=theirs, stdout=theirs, stderr=theirs,
        start_new_session=True,
    )  # fmt: skip
    os.close(theirs)
    seen = b""
    while True:
        try:
            block = os.read(ours, 65536)
        except OSError:  # the other side has closed: the command has ended
            break
        if not block:
            break
        seen += block
        if keys and b"Escape" in seen:
            os.write(ours, keys.encode())
            keys = ""
    os.close(ours)
    text = seen.rpartition(b"\x1b[?1049l")[2].decode("utf-8", "replace")
    return process.wait(), re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", text).replace("\r", "").strip()
