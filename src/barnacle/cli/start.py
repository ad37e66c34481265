"""The entry point of the installed command: ready to be stopped before anything else is loaded."""

from __future__ import annotations

import sys

from barnacle.cli import stopping
from barnacle.core.typed import NoReturn


def run() -> NoReturn:
    """Run the command. What ends a session or asks to end (SIGHUP, SIGTERM) stops it as Ctrl-C does: what was begun
    and is not finished is undone, and what was done is said."""
    stopping.listen()
    code = stopping.NOTHING_DONE
    try:
        from barnacle.cli import main

        code = main.run()
    finally:
        stopping.deafen()
    sys.exit(code)
