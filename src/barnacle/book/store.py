"""Opening a book, and the one way to change it: inside an action."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

from barnacle.book.schema import APPLICATION_ID, MIGRATIONS
from barnacle.core.errors import BookError
from barnacle.core.text import visible

BUSY_SECONDS = 5.0
# The versions in the header of a database without a write-ahead log (SQLite file format, section 1.3.3).
_NO_LOG = b"\1\1"


def now() -> str:
    """This moment in UTC, ISO 8601, to the second."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


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
    """An open book. Use `open_book` or `make_book`."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path = path
        self.db = db
        self.current: Action | None = None
        self.exchanging = False

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
                from barnacle.book import derived

                derived.refresh(self)
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
                self.db.execute("COMMIT")
        except sqlite3.OperationalError as error:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            raise BookError(_write_trouble(self.path, error)) from error

    @property
    def current_at(self) -> str:
        """When the running action began (ISO 8601, UTC)."""
        assert self.current is not None, "the book is changed inside an action only"
        return self.current.at

    @property
    def action_id(self) -> int:
        """The action that a row written now belongs to."""
        assert self.current is not None, "the book is changed inside an action only"
        return self.current.id


def _write_trouble(path: Path, error: sqlite3.OperationalError) -> str:
    text = str(error)
    if "locked" in text or "busy" in text:
        return "Another Barnacle command is writing to this book. Nothing was changed; try again in a moment."
    if "readonly" in text or "read-only" in text:
        return f"The book {visible(str(path))} may only be read, not written. Nothing was changed."
    if "full" in text:
        return "The disk is full. Nothing was changed; make room and try again."
    return f"The book {visible(str(path))} could not be written ({text}). Nothing was changed."


def trouble(path: Path, error: sqlite3.Error, what: str, more: str = "") -> BookError:
    """What to say of a book that could not be read."""
    if "locked" in str(error):
        return BookError(
            "Another Barnacle command is at work on this book, and nobody can look into it meanwhile. "
            "Try again in a moment."
        )
    return BookError(f"The book {visible(str(path))} {what} ({error}).{more}")


def make_book(path: Path) -> Book:
    """Open the book at `path`, made first where there is none; only its owner may read it (mode 0600)."""
    if not path.exists():
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        except OSError as error:
            raise BookError(
                f"No book can be made at {visible(str(path))}: {error.strerror}. "
                "Choose another place with --book FILE or BARNACLE_HOME."
            ) from error
    return open_book(path)


def open_book(path: Path) -> Book:
    """Open the book at `path`, brought up to this version's schema.

    Raises BookError where there is none, where the file is something else, or a newer version made it.
    """
    if not path.exists():
        raise BookError(
            f"There is no book at {visible(str(path))} yet. "
            'Make it with `barnacle setup --me "Your Name <you@your.address>"`.'
        )
    not_a_book = BookError(f"{visible(str(path))} is not a Barnacle book. Name the right file with --book.")
    if not path.is_file():
        raise not_a_book
    try:
        with path.open("rb") as file:
            header = file.read(20)
    except OSError as error:
        raise BookError(f"The book {visible(str(path))} cannot be read: {error.strerror}.") from error
    beginning = header[:16]
    if beginning not in (b"", b"SQLite format 3\0"):
        raise not_a_book
    db = _connect(path)
    try:
        version, application = (db.execute(f"PRAGMA {p}").fetchone()[0] for p in ("user_version", "application_id"))
        if beginning and application != APPLICATION_ID and (version or application):
            raise not_a_book
        if beginning and not application and db.execute("SELECT 1 FROM sqlite_master LIMIT 1").fetchone():
            raise not_a_book
        if version > len(MIGRATIONS):
            raise BookError(
                f"{visible(str(path))} was written by a newer version of Barnacle. Install that one to open it."
            )
        book = Book(path, db)
        if header[18:] == _NO_LOG:
            use_log(db)  # whoever filled it was killed
        if version < len(MIGRATIONS):
            _migrate(book, version)
        return book
    except sqlite3.DatabaseError as error:
        db.close()
        raise trouble(path, error, "cannot be read as a book") from error
    except BaseException:
        db.close()
        raise


def _connect(path: Path) -> sqlite3.Connection:
    place = path.resolve().as_uri()
    writable = os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)
    try:
        # A book in a read-only folder can have no write-ahead log beside it: it is read as it stands.
        db = sqlite3.connect(f"{place}?mode=rw" if writable else f"{place}?immutable=1", uri=True, timeout=BUSY_SECONDS)
        db.isolation_level = None
        db.execute("PRAGMA foreign_keys = ON")
        # The delivery journal's promise is that a state is on disk before the next step: full, not normal.
        db.execute("PRAGMA synchronous = FULL")
    except sqlite3.Error as error:
        raise trouble(path, error, "cannot be opened as a book") from error
    return db


def use_log(db: sqlite3.Connection, use: bool = True) -> None:
    """Whether changes are written to a log beside the book first, so that it can be read at the same time. Nothing
    happens where somebody uses the book just now."""
    db.execute("PRAGMA busy_timeout = 0")
    with suppress(sqlite3.OperationalError):
        db.execute(f"PRAGMA journal_mode = {'WAL' if use else 'TRUNCATE'}")
    db.execute(f"PRAGMA busy_timeout = {int(1000 * BUSY_SECONDS)}")


def _migrate(book: Book, version: int) -> None:
    """Bring the book from schema `version` to this one's, each step with its record in one transaction."""
    if version:
        copy = book.path.with_name(f"{book.path.name}.before-schema-{version + 1}")
        if not copy.exists():
            os.close(os.open(copy, os.O_CREAT | os.O_RDWR, 0o600))
            with sqlite3.connect(copy) as target:
                book.db.backup(target)
            target.close()
    else:
        use_log(book.db)
    for number, step in enumerate(MIGRATIONS[version:], version + 1):
        with book.transaction():
            if book.db.execute("PRAGMA user_version").fetchone()[0] >= number:
                continue  # another process was faster
            step(book.db)
            book.db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            book.db.execute(f"PRAGMA user_version = {number}")
