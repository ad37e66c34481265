"""The entry point of the installed command: ready to be stopped before anything else is loaded."""

from __future__ import annotations

import gc
import sys

# Nearly nothing here is in circles, and Python would look for them ten times before a list is on the screen.
gc.set_threshold(20_000, 20, 20)

from barnacle.cli import stopping  # noqa: E402
from barnacle.core.typed import NoReturn  # noqa: E402


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
    _end(code)


def _end(code: int) -> NoReturn:
    """End at once. Python would first take apart, piece by piece, all that it loaded, which takes as long as to show
    the lists of a book. Where there are threads to wait for, or somebody measures, it may."""
    if "threading" in sys.modules or sys.gettrace() or sys.getprofile():
        sys.exit(code)
    import atexit
    import os
    from contextlib import suppress

    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):  # said already (`main.run`)
            stream.flush()
    os._exit(code)
