"""A PostgreSQL server of one's own for the length of a benchmark, from Debian's package; its data goes with it."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def postgresql() -> Iterator[str]:
    """The URL of an empty database. Raises FileNotFoundError where the server is not installed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    if not found:
        raise FileNotFoundError("PostgreSQL is not installed (Debian's package postgresql)")
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        port = one.getsockname()[1]
    folder = Path(tempfile.mkdtemp(prefix="barnacle-bench-"))
    as_user: list[str] = []
    if os.getuid() == 0:  # who may not be root
        shutil.chown(folder, "postgres")
        as_user = ["setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups"]

    def program(name: str, *arguments: str) -> list[str]:
        return [*as_user, str(found[-1] / name), *arguments]

    data = folder / "data"
    make = program("initdb", "-D", str(data), "-U", "hub", "--auth", "trust", "-E", "UTF8", "--no-sync")
    subprocess.run(make, check=True, capture_output=True, cwd=folder)
    serve = program("postgres", "-D", str(data), "-p", str(port), "-k", str(folder), "-h", "127.0.0.1")
    server = subprocess.Popen(serve, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=folder)
    try:
        create = program("createdb", "-h", "127.0.0.1", "-p", str(port), "-U", "hub", "hub")
        for _ in range(100):
            if subprocess.run(create, capture_output=True, check=False, cwd=folder).returncode == 0:
                break
            time.sleep(0.1)
        yield f"postgresql+psycopg://hub@127.0.0.1:{port}/hub"
    finally:
        server.send_signal(signal.SIGINT)
        server.wait()
        shutil.rmtree(folder, ignore_errors=True)
