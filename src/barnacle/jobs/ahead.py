"""Work ahead: what one process reads and prepares, another takes up, so that two cores share a long import."""

from __future__ import annotations

import multiprocessing
import pickle
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection
from typing import Any, TypeVar

T = TypeVar("T")


def ahead(make: Callable[..., Iterator[T]], *args: Any) -> Iterator[T]:
    """The items of `make(*args)`, worked out in a process of its own and handed over one by one, in order.

    What `make` raises is raised here. Ending early ends that process.
    """
    context = multiprocessing.get_context()
    here, there = context.Pipe(duplex=False)
    process = context.Process(target=_work, args=(here, there, make, args), daemon=True)
    process.start()
    there.close()
    try:
        while True:
            try:
                kind, value = pickle.loads(here.recv_bytes())
            except EOFError:
                raise RuntimeError("the process that reads the file has ended before its time") from None
            if kind == "end":
                return
            if kind == "error":
                raise value
            yield value
    finally:
        here.close()
        process.terminate()
        process.join()


def _work(here: Connection, there: Connection, make: Callable[..., Iterator[Any]], args: tuple[Any, ...]) -> None:
    here.close()  # else this process would keep its own pipe open when the other one is killed, and wait for ever
    try:
        for item in make(*args):
            there.send_bytes(pickle.dumps(("item", item), protocol=5))
        there.send_bytes(pickle.dumps(("end", None)))
    except (BrokenPipeError, KeyboardInterrupt):
        pass  # whoever asked wants no more
    except Exception as error:
        there.send_bytes(pickle.dumps(("error", error)))
