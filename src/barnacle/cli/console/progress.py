"""The progress bar, in a module of its own because only long work needs it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_PATIENCE = 1.0


@contextmanager
def bar(what: str) -> Iterator[Callable[[int, int | None], None]]:
    """A bar that appears after a second and goes when the block ends."""
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    display = Progress(
        TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(), transient=True
    )
    task = display.add_task(what, total=None)
    begun = time.monotonic()
    shown = False

    def tick(done: int, total: int | None) -> None:
        nonlocal shown
        if not shown and time.monotonic() - begun > _PATIENCE:
            display.start()
            shown = True
        if shown:
            display.update(task, completed=done, total=total)

    try:
        yield tick
    finally:
        if shown:
            display.stop()
