"""The one way to change a book: inside an action."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from barnacle.core.errors import BookError, UnwrittenError
from barnacle.core.moments import in_utc
from barnacle.core.text import visible
from barnacle.files.atomic import Staged


def now() -> str:
    """This moment in UTC, ISO 8601, to the second."""
    return in_utc(datetime.now(UTC))


class Action:
    """A change in the making: one command, whole or not at all. `title` is its sentence in the history; `final`
    says that it cannot be taken back, `facts` that what is not tracked stays also where nothing else has changed."""

    def __init__(self, number: int, command: str, at: str, title: str) -> None:
        self.id = number
        self.command = command
        self.at = at
        self.title = title
        self.final = False
        self.facts = False


class Book:
    """An open book. Use `open_book` or `make_book`. `may_have_changed` says whether any book was, or may have been,
    written to since the program began: what is to be said when it is stopped."""

    may_have_changed = False

    def __init__(self, path: Path, db: sqlite3.Connection, at_end: Callable[[Book], None]) -> None:
        self.path = path
        self.db = db
        self._at_end = at_end  # what is worked out at the end of each action
        self.current: Action | None = None
        self.exchanging = False
        self.has_changed = False
        self.staged: dict[Path, Staged] = {}  # files that change together with the book
        self.directory_changed = False  # whom filters of rules found is another one now
        self.sound: set[int] = set()  # messages whose delivery states were looked at

    @property
    def is_acting(self) -> bool:
        """Whether an action is running."""
        return self.current is not None

    def close(self) -> None:
        self.db.close()

    @contextmanager
    def taking_over(self) -> Iterator[None]:
        """What comes from the hub, or follows from one's own contacts, needs no right to change a shared list."""
        before, self.exchanging = self.exchanging, True
        try:
            yield
        finally:
            self.exchanging = before

    @contextmanager
    def action(self, command: str, title: str = "", *, undoes: int | None = None) -> Iterator[Action]:
        """One change of the book. On an error everything in it is as if it had not been; an action that changed
        nothing leaves no trace in the history either.

        Raises BookError when the book cannot be written to.
        """
        with self.transaction():
            at = now()
            row = self.db.execute(
                "INSERT INTO action(at, command, title, undoes) VALUES(?, ?, ?, ?)",
                (at, command, title, undoes),
            ).lastrowid
            assert row is not None
            action = self.current = Action(row, command, at, title)
            try:
                yield action
                self._at_end(self)
            finally:
                self.current = None
            changed = self.db.execute("SELECT 1 FROM journal WHERE action = ? LIMIT 1", (row,)).fetchone()
            if changed or action.final:
                self.db.execute(
                    "UPDATE action SET title = ?, final = ? WHERE id = ?", (action.title, action.final, row)
                )
            elif action.facts:
                self.db.execute("DELETE FROM action WHERE id = ?", (row,))
            else:
                self.db.execute("ROLLBACK")

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """A transaction that is on disk when the block ends, or undone when it raises.

        Besides `action` only the delivery journal uses it, whose facts are not undone.
        """
        try:
            self.db.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                if self.db.in_transaction:
                    self.db.execute("ROLLBACK")
                raise
            if self.db.in_transaction:
                Book.may_have_changed = True
                self.db.execute("COMMIT")
                self.has_changed = True
                for one in self.staged.values():
                    one.take()
                self.staged = {}
        except sqlite3.OperationalError as error:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            raise _unwritten(self.path, error) from error
        finally:
            for one in self.staged.values():
                one.drop()
            self.staged = {}

    @property
    def running(self) -> Action:
        """The running action, to which a row written now belongs."""
        assert self.current is not None, "the book is changed inside an action only"
        return self.current

    def need_action(self) -> None:
        """Nothing but a running action may change what is tracked."""
        _ = self.running


def _unwritten(path: Path, error: sqlite3.OperationalError) -> UnwrittenError:
    text = str(error)
    if "locked" in text or "busy" in text:
        return UnwrittenError("Another Barnacle command is writing to this book", "try again in a moment")
    if "readonly" in text or "read-only" in text:
        return UnwrittenError(f"The book {visible(str(path))} is read-only")
    if "full" in text:
        return UnwrittenError("The disk is full", "make room and try again")
    return UnwrittenError(f"The book {visible(str(path))} could not be written ({text})")


def trouble(path: Path, error: sqlite3.Error, what: str, more: str = "") -> BookError:
    """What to say of a book that could not be read."""
    if "locked" in str(error):
        return BookError("Another Barnacle command is filling this book. Try again in a moment.")
    return BookError(f"The book {visible(str(path))} {what} ({error}).{more}")
