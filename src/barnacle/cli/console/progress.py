"""What is shown of long work: a bar, or a line. In a module of its own because most commands are done before."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

# Seconds before anything is worth showing.
_PATIENCE = 1.0


class Bar:
    """A bar that appears after a second, for work that knows how far it is."""

    def __init__(self, what: str) -> None:
        from tqdm import tqdm

        self._begun = time.monotonic()
        self._display = tqdm(
            desc=what, delay=_PATIENCE, leave=False, dynamic_ncols=True, miniters=1, file=sys.stdout,
            bar_format="{desc}  {bar}  {n_fmt} of {total_fmt}  {remaining} left",
        )  # fmt: skip

    def tick(self, done: int, total: int | None) -> None:
        """So much is done, of so much if that is known."""
        display = self._display
        display.total = total
        if total is None:
            display.bar_format = None
        if done >= display.n:
            display.update(done - display.n)
        elif time.monotonic() < self._begun + _PATIENCE:
            display.n = done
        else:  # something else is counted now: how long that takes is not known from before
            display.reset(total)

    def say(self, what: str) -> None:
        """What is being done from now on; it is shown with the next step."""
        self._display.set_description_str(what, refresh=False)

    def out_of_the_way(self) -> None:
        """Leave the line to something else that is to be printed; it comes back with the next step."""
        self._display.clear()

    def close(self) -> None:
        """Take it away."""
        self._display.close()


@contextmanager
def line(what: str) -> Iterator[None]:
    """A line that appears after a second and goes when the block ends, for work that cannot say how far it is."""
    shown = f"{what} …"
    told = threading.Event()

    def tell() -> None:
        told.set()
        print(shown, end="", flush=True)

    timer = threading.Timer(_PATIENCE, tell)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
        timer.join()
        if told.is_set():
            print("\r" + " " * len(shown) + "\r", end="", flush=True)
