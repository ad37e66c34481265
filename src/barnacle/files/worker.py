"""Work in a process of its own: ahead of the one that takes it up, so that two cores share it; or within limits, where
somebody else's parser works on a stranger's file."""

from __future__ import annotations

import multiprocessing
import os
import pickle
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from multiprocessing.connection import Connection
from queue import SimpleQueue

from barnacle.core.in_parts import Part, alone
from barnacle.core.typed import Any, NamedTuple, TypeVar

T = TypeVar("T")

# A pipe holds less than one item: with this many waiting besides, neither process stands still for the other's pace.
_WAITING = 2
_PIPE = 1 << 20


class Limits(NamedTuple):
    """How long that process may take, in seconds, and how much memory it may ask for beyond what it has, in octets."""

    seconds: float
    octets: int


class StoppedWorkerError(RuntimeError):
    """The process has ended before its time, or was stopped at its limits."""


def ahead(make: Callable[..., Iterator[T]], *args: Any, limits: Limits | None = None) -> Iterator[T]:
    """The items of `make(*args)`, worked out in a process of its own and handed over one by one, in order.

    What `make` raises is raised here; StoppedWorkerError where the process ends, or reaches its limits. Ending early
    ends that process.
    """
    context = multiprocessing.get_context()
    here, there = context.Pipe(duplex=False)
    _widen(there)
    process = context.Process(target=_work, args=(here, there, make, args, limits), daemon=True)
    process.start()
    there.close()
    end = time.monotonic() + limits.seconds if limits else None
    try:
        while True:
            if end is not None and not here.poll(max(end - time.monotonic(), 0.0)):
                raise StoppedWorkerError("reading the file takes too long")
            try:
                kind, value = pickle.loads(here.recv_bytes())
            except EOFError:
                raise StoppedWorkerError("the process that reads the file ended unexpectedly") from None
            if kind == "end":
                return
            if kind == "error":
                raise value
            yield value
    finally:
        here.close()
        process.kill() if limits else process.terminate()
        process.join()


def in_two(part: Part) -> list[Any]:
    """The work of `core.in_parts`, half of it in a process of its own where the system has fork, which hands over what
    is in memory without writing it down. Where that process cannot begin, or ends, all is done here."""
    if sys.platform != "linux" or len(os.sched_getaffinity(0)) < 2:
        return alone(part)
    context = multiprocessing.get_context("fork")
    here, there = context.Pipe(duplex=False)
    process = context.Process(target=_half, args=(here, there, part), daemon=True)
    with here:
        try:
            process.start()
        except OSError:
            return alone(part)
        finally:
            there.close()
        try:
            mine = part(0, 2)
            try:
                theirs = pickle.loads(here.recv_bytes())
            except (EOFError, OSError):
                theirs = part(1, 2)
            return [*mine, *theirs]
        finally:
            process.terminate()
            process.join()


def _half(here: Connection, there: Connection, part: Part) -> None:
    _leave_signals()
    here.close()
    with suppress(Exception):  # it happens there as well, and is told there
        there.send_bytes(pickle.dumps(part(1, 2), protocol=5))


def _leave_signals() -> None:
    """What is to be said when the program is stopped, it says itself."""
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_DFL)


def _widen(pipe: Connection) -> None:
    """Where the system can, let more wait in a pipe: each time that it is full the processes take turns."""
    with suppress(ImportError, AttributeError, OSError):
        import fcntl

        fcntl.fcntl(pipe.fileno(), fcntl.F_SETPIPE_SZ, _PIPE)


def _work(
    here: Connection,
    there: Connection,
    make: Callable[..., Iterator[Any]],
    args: tuple[Any, ...],
    limits: Limits | None,
) -> None:
    _leave_signals()
    here.close()  # else this process would keep its own pipe open when the other one is killed, and wait for ever
    sending = _Sending(there)
    try:
        if limits:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # a library that gives up says so there
            _keep_within(limits)
        for item in make(*args):
            if not sending.put(pickle.dumps(("item", item), protocol=5)):
                return  # whoever asked wants no more
        sending.put(pickle.dumps(("end", None)))
    except Exception as error:
        sending.put(_told(error))
    sending.put(None)
    sending.thread.join()


def _told(error: Exception) -> bytes:
    """An error as it is handed over; one of a library that cannot be taken apart goes as its words."""
    try:
        octets = pickle.dumps(("error", error))
        pickle.loads(octets)
    except Exception:
        return pickle.dumps(("error", RuntimeError(f"{type(error).__name__}: {str(error)[:200]}")))
    return octets


def _keep_within(limits: Limits) -> None:
    """Where the system has such limits (POSIX.1 setrlimit), more memory or time ends in an error here."""
    try:
        import resource
    except ImportError:
        return
    now = 0
    with suppress(OSError), open("/proc/self/statm", encoding="ascii") as file:  # noqa: PTH123
        now = int(file.read().split()[0]) * resource.getpagesize()
    for kind, most in ((resource.RLIMIT_AS, now + limits.octets), (resource.RLIMIT_CPU, int(limits.seconds) + 1)):
        with suppress(ValueError, OSError):
            resource.setrlimit(kind, (most, resource.getrlimit(kind)[1]))


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
