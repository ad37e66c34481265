"""Ctrl-C, SIGTERM and SIGHUP while something is sent: they stop it in order, never amid what is written down."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from barnacle.core.typed import Any

_SIGNALS = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]


class Interrupts:
    """While the block lasts, each of these signals raises KeyboardInterrupt, at once or at the end of `undisturbed`;
    after `finish` none does any more."""

    def __init__(self) -> None:
        self._before: dict[int, Any] = {}
        self._busy = 0
        self.came = False  # whether one of them did, while it was heeded
        self._finishing = False

    def __enter__(self) -> Interrupts:
        if threading.current_thread() is threading.main_thread():
            for number in _SIGNALS:
                self._before[number] = signal.signal(number, self._signal)
        return self

    def __exit__(self, *_: object) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def _signal(self, number: int, frame: FrameType | None) -> None:
        if self._finishing:
            return
        self.came = True
        if not self._busy:
            self._finishing = True
            raise KeyboardInterrupt

    @contextmanager
    def undisturbed(self) -> Iterator[None]:
        """Nothing stops what is done in here."""
        self._busy += 1
        try:
            yield
        finally:
            self._busy -= 1
        if self.came and not self._busy and not self._finishing:
            self._finishing = True
            raise KeyboardInterrupt

    def finish(self) -> None:
        """From now on what is left to do is done."""
        self._finishing = True
