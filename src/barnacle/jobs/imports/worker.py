"""Work ahead: what one process reads and prepares, another takes up, so that two cores share a long import."""

from __future__ import annotations

import multiprocessing
import pickle
import threading
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection
from queue import SimpleQueue
from typing import Any, TypeVar

T = TypeVar("T")

# A pipe holds less than one item: with this many waiting besides, neither process stands still for the other's pace.
_WAITING = 2


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
    sending = _Sending(there)
    try:
        for item in make(*args):
            if not sending.put(pickle.dumps(("item", item), protocol=5)):
                return  # whoever asked wants no more
        sending.put(pickle.dumps(("end", None)))
    except KeyboardInterrupt:
        return
    except Exception as error:
        sending.put(pickle.dumps(("error", error)))
    sending.put(None)
    sending.thread.join()


class _Sending:
    """A thread that sends what is ready while the next item is made."""

    def __init__(self, there: Connection) -> None:
        self.there = there
        self.queue: SimpleQueue[bytes | None] = SimpleQueue()
        self.room = threading.Semaphore(_WAITING)
        self.broken = False
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def put(self, octets: bytes | None) -> bool:
        """Wait for room, and send. Says whether anybody still takes what is sent."""
        self.room.acquire()
        self.queue.put(octets)
        return not self.broken

    def _run(self) -> None:
        while (octets := self.queue.get()) is not None:
            try:
                if not self.broken:
                    self.there.send_bytes(octets)
            except OSError:
                self.broken = True
            self.room.release()
