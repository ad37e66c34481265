"""The stand-in mail server beside a benchmark."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PROGRAM = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"


@contextmanager
def stand_in(into: Path) -> Iterator[str]:
    """Its URL, from when it listens; it fills a Maildir for each recipient."""
    command = [PROGRAM, "stand-in", "mail", "--port", "0", "--into", str(into), "--quiet"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        try:
            yield server.stdout.readline().strip().removeprefix("listening on ")
        finally:
            server.terminate()
