"""Writers of one list who come at the same time: one of them writes for all, so that the disk is waited for once."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Generic, TypeVar

from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError

from barnacle.hub.refusals import RefusalError

T = TypeVar("T")


class _Job(Generic[T]):
    """What one writer wants, and what came of it."""

    def __init__(self, work: Callable[[Connection], T]) -> None:
        self.work = work
        self.is_done = False
        self.result: T
        self.error: Exception | None = None


class Turns:
    """Whose turn it is to write to a list, in this process; other processes wait for the list's row."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._mutex = threading.Lock()
        self._locks: dict[str, threading.Lock] = {}
        self._waiting: dict[str, list[_Job[object]]] = {}

    def write(self, made: str, work: Callable[[Connection], T]) -> T:
        """Do something with a list in a transaction, together with whoever else waits. `work` changes nothing before it
        raises a RefusalError, and may be called again where the transaction of all failed."""
        job = _Job(work)
        with self._mutex:
            lock = self._locks.setdefault(made, threading.Lock())
            self._waiting.setdefault(made, []).append(job)  # type: ignore[arg-type]
        with lock:
            if not job.is_done:
                with self._mutex:
                    jobs = self._waiting.pop(made)
                self._do(jobs)
        if job.error is not None:
            raise job.error
        return job.result

    def _do(self, jobs: list[_Job[object]]) -> None:
        try:
            with self.engine.begin() as connection:
                for job in jobs:
                    try:
                        job.result = job.work(connection)
                    except RefusalError as refusal:
                        job.error = refusal
        except SQLAlchemyError as error:
            if len(jobs) > 1:  # what one of them sent may be to blame
                for job in jobs:
                    job.error = None
                    self._do([job])
            else:
                jobs[0].error = error
        except Exception as error:
            for job in jobs:
                job.error = error
        for job in jobs:
            job.is_done = True
