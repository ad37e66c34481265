"""Copies of a book: made while it is in use, with the files beside it; kept; and put back."""

from __future__ import annotations

import glob
import os
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from barnacle.book import schema, wal
from barnacle.book.store import Book, now
from barnacle.core.errors import BookError, FileError
from barnacle.core.moments import in_utc
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.files.atomic import replacing_whole

# A copy holds the files that stood beside the book: their names and texts.
_BESIDE = "CREATE TABLE IF NOT EXISTS beside(name TEXT PRIMARY KEY, text TEXT NOT NULL) WITHOUT ROWID"
_KEPT = 5
_DAYS = 7
_STAMP = "%Y-%m-%dT%H%M%SZ"


class Copy(NamedTuple):
    """A copy that was made by itself: its file, and when it was made (ISO 8601, UTC)."""

    path: Path
    at: str


def make(book: Book, target: Path, files: dict[str, str]) -> None:
    """Copy an open book to a file, as it is at one moment, with files that belong to it. Raises FileError."""
    try:
        with replacing_whole(target) as part, closing(sqlite3.connect(part)) as db:
            book.db.backup(db)
            db.execute("PRAGMA journal_mode = DELETE")
            db.execute(_BESIDE)
            db.execute("DELETE FROM beside")
            db.executemany("INSERT INTO beside(name, text) VALUES(?, ?)", files.items())
            db.commit()
    except sqlite3.Error as error:
        raise FileError(f"{visible(str(target))} cannot be written: {error}. Nothing was written.") from error


def beside(copy: Path) -> dict[str, str]:
    """The files that came along with a copy, by name; none of a book that is no copy."""
    try:
        with closing(_looked_at(copy)) as db:
            return dict(db.execute("SELECT name, text FROM beside"))
    except sqlite3.Error:
        return {}


def _looked_at(copy: Path) -> sqlite3.Connection:
    return sqlite3.connect(wal.uri_of(copy, "mode=ro"), uri=True)


def folder(book: Path) -> Path:
    """Where the copies are that are made by themselves."""
    return book.with_name(f"{book.name}.copies")


def every(book: Path) -> list[Copy]:
    """The copies beside a book, oldest first: those made by themselves, and those from before a change of its form."""
    found = [*folder(book).glob("*.book"), *book.parent.glob(f"{glob.escape(book.name)}.before-schema-*")]
    return sorted((Copy(path, in_utc(_made(path))) for path in found), key=lambda copy: copy.at)


def _made(path: Path) -> datetime:
    return datetime.fromtimestamp(path.stat().st_mtime, UTC)


def last(book: Path) -> Copy | None:
    """The latest of them."""
    try:
        return next(reversed(every(book)), None)
    except OSError:
        return None


def make_weekly(book: Book, files: dict[str, str]) -> None:
    """Make a copy where none is younger than a week, and keep the last five."""
    place = folder(book.path)
    place.mkdir(mode=0o700, exist_ok=True)
    made = sorted(place.glob("*.book"))
    moment = datetime.now(UTC)
    for path in made:
        age = moment - _made(path)
        if 0 <= age.total_seconds() < _DAYS * 86400:  # one of the future says only that the clock was wrong
            return
    make(book, place / f"{moment.strftime(_STAMP)}.book", files)
    for path in made[: max(len(made) + 1 - _KEPT, 0)]:
        path.unlink(missing_ok=True)


def restore(copy: Path, book: Path) -> tuple[dict[str, str], Path | None]:
    """Put a copy in a book's place. What was there is kept beside it. Returns the files that came with the copy, and
    where what was there is now. Raises BookError, FileError."""
    _need_book(copy)
    book.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    aside = None
    try:
        with replacing_whole(book) as part:
            with closing(_looked_at(copy)) as source, closing(sqlite3.connect(part)) as db:
                source.backup(db)
                db.execute("PRAGMA journal_mode = DELETE")
                db.execute("DROP TABLE IF EXISTS beside")
                db.commit()
            aside = _keep_aside(book) if book.exists() else None
    except sqlite3.Error as error:
        raise BookError(f"{visible(str(copy))} cannot be read as a copy ({error}). Nothing was changed.") from error
    return beside(copy), aside


def need_copy(copy: Path) -> None:
    """Raises FileError where there is no such file."""
    if not copy.is_file():
        from barnacle.files.missing import no_such_file  # only for a mistake

        raise FileError(no_such_file(copy))


def _need_book(copy: Path) -> None:
    need_copy(copy)
    shown = visible(str(copy))
    try:
        with closing(_looked_at(copy)) as db:
            application = db.execute("PRAGMA application_id").fetchone()[0]
            fine = db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
    except sqlite3.Error as error:
        raise FileError(f"{shown} is not a copy of a book, or is damaged ({error}).") from error
    if application != schema.APPLICATION_ID:
        raise FileError(f"{shown} is not a copy of a book.")
    if not fine:
        raise FileError(f"{shown} is damaged. First save what can be read: `barnacle book mend FILE --book {shown}`.")


def _keep_aside(book: Path) -> Path:
    """Keep a book that another is about to replace, under another name. Nobody may be using it. Raises BookError,
    OSError."""
    log = book.with_name(f"{book.name}-wal")
    if not wal.is_stale(book):
        _take_over_log(book)
    aside = book.with_name(f"{book.name}.before-restore-{now().replace(':', '')}")
    try:
        os.link(book, aside)
    except OSError:  # not every disk can have a file under two names
        shutil.copy2(book, aside)
    if log.exists():  # what could not be taken over must not meet the new book
        log.replace(f"{aside}-wal")
    book.with_name(f"{book.name}-shm").unlink(missing_ok=True)
    return aside


def _take_over_log(book: Path) -> None:
    try:
        with closing(sqlite3.connect(book, timeout=0, isolation_level=None)) as db:
            db.execute("PRAGMA journal_mode = TRUNCATE")
            db.execute("BEGIN EXCLUSIVE")
            db.execute("ROLLBACK")
    except sqlite3.OperationalError as error:
        if "locked" in str(error):
            raise BookError("Another Barnacle command uses this book. Nothing was changed; try again.") from error
    except (sqlite3.DatabaseError, UnicodeDecodeError):
        pass  # damaged, which is why it goes
