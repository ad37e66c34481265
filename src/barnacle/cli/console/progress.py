"""The progress bar, in a module of its own because only long work needs it."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from tqdm import tqdm

# Seconds before a bar is worth showing.
_PATIENCE = 1.0
_shown: list[tqdm] = []


@contextmanager
def bar(what: str) -> Iterator[Callable[[int, int | None], None]]:
    """A bar that appears after a second and goes when the block ends."""
    display = tqdm(
        desc=what, delay=_PATIENCE, leave=False, dynamic_ncols=True, file=sys.stdout,
        bar_format="{desc}  {bar}  {n_fmt} of {total_fmt}  {remaining} left",
    )  # fmt: skip

    def tick(done: int, total: int | None) -> None:
        display.total = total
        display.bar_format = None if total is None else display.bar_format
        display.update(done - display.n)

    _shown.append(display)
    try:
        yield tick
    finally:
        _shown.remove(display)
        display.close()


def out_of_the_way() -> None:
    """Take the bar off the line that something else is to be printed on; it comes back with the next step."""
    for display in _shown:
        display.clear()
