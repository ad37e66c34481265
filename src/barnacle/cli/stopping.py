"""What happens when the user, or the end of a session, stops a command (SIGINT, SIGTERM, SIGHUP)."""

from __future__ import annotations

import os
import signal
from types import FrameType

_SOON = 0.01  # seconds
_STOPPING = {getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGALRM") if hasattr(signal, name)}
NOTHING_DONE = 2


class Command:
    """Whether a command is at work, and so may have done something."""

    at_work = False


def listen() -> None:
    """From now on such a signal ends the program as it should."""
    for number in _STOPPING:
        if signal.getsignal(number) in (signal.SIG_DFL, signal.default_int_handler):
            signal.signal(number, _stop)


def deafen() -> None:
    """All is done and said; while Python ends it would be said again, and otherwise."""
    if hasattr(signal, "pthread_sigmask"):
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.pthread_sigmask(signal.SIG_BLOCK, _STOPPING)


def _stop(number: int, frame: FrameType | None) -> None:
    """End at once while nothing is done yet. Then raise KeyboardInterrupt, but not while a module is loaded: some, in
    C, do not survive that."""
    if not Command.at_work:
        os.write(2, b"Stopped. Nothing was changed.\n")
        os._exit(NOTHING_DONE)
    while frame is not None:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            signal.setitimer(signal.ITIMER_REAL, _SOON)
            return
        frame = frame.f_back
    raise KeyboardInterrupt
