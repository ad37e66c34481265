"""Opening a book: made where there is none, and brought up to this version."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from barnacle.book import schema, sums, wal
from barnacle.book.migrations import MIGRATIONS
from barnacle.book.store import Book, trouble
from barnacle.core.errors import BookError
from barnacle.core.text import visible

BUSY_SECONDS = 5.0
# The versions in the header of a database without a write-ahead log (SQLite file format, section 1.3.3).
_NO_LOG = b"\1\1"


def make_book(path: Path) -> Book:
    """Open the book at `path`, made first where there is none; only its owner may read it (mode 0600)."""
    if not path.exists():
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        except OSError as error:
            raise BookError(
                f"A book cannot be made at {visible(str(path))}: {error.strerror}. "
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
            'Make one with `barnacle setup --me "Your Name <you@your.address>"`.'
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
    if wal.is_stale(path):
        log = f"{visible(str(path))}-wal"
        raise BookError(
            f"Beside the book lies a log of an older state of it, as services leave it that copy folders: {log}. "
            "Nothing was changed. Move that file away to use the book as it is, and then run `barnacle book check`."
        )
    db = _connect(path)
    try:
        version, application = (db.execute(f"PRAGMA {p}").fetchone()[0] for p in ("user_version", "application_id"))
        if beginning and application != schema.APPLICATION_ID and (version or application):
            raise not_a_book
        if beginning and not application and db.execute("SELECT 1 FROM sqlite_master LIMIT 1").fetchone():
            raise not_a_book
        if version > len(MIGRATIONS):
            raise BookError(
                f"{visible(str(path))} was written by a newer version of Barnacle. Install that version to open it."
            )
        book = Book(path, db, _refresh)
        if header[18:] == _NO_LOG:
            use_log(db)  # whoever filled it was killed
        if version < len(MIGRATIONS):
            _migrate(book, version)
        return book
    except (sqlite3.DatabaseError, UnicodeDecodeError, sums.DamagedError) as error:
        db.close()
        raise damaged(path, error) from error
    except BaseException:
        db.close()
        raise


@contextmanager
def told_of_damage(book: Book) -> Iterator[None]:
    """Around whatever reads a book: raises BookError where it turns out to be damaged, also where that only shows in
    something that makes no sense."""
    try:
        yield
    except (sqlite3.DatabaseError, sums.DamagedError) as error:
        raise damaged(book.path, error, book.has_changed) from error
    except (ValueError, LookupError, TypeError, AttributeError, AssertionError) as error:
        from barnacle.book import checking

        if (finding := checking.first_finding(book)) is None:
            raise
        raise damaged(book.path, f"{finding.about} {finding.what}", book.has_changed) from error


def damaged(path: Path, why: object, has_changed: bool = False) -> BookError:
    """What to say of a book that is damaged: what can be done, and the last copy of it. `has_changed` says that some
    was done before that was noticed."""
    import shlex

    from barnacle.book import copies

    if "locked" in str(why):
        return trouble(path, sqlite3.OperationalError(str(why)), "")
    last = copies.last(path)
    more = ""
    if last:
        file = shlex.quote(str(last.path))
        more = f" Its last copy is of {last.at[:10]}: `barnacle book restore {file}` puts that in its place."
    done = "" if has_changed else " Nothing was changed."
    return BookError(
        f"The book {visible(str(path))} is damaged or cannot be read ({visible(str(why), 200)}).{done} "
        f"`barnacle book mend FILE` saves all that can be read into a new one.{more}"
    )


def _refresh(book: Book) -> None:
    from barnacle.book import derived  # loaded by commands that change something only

    derived.refresh(book)


def _connect(path: Path) -> sqlite3.Connection:
    writable = os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)
    # A book in a read-only folder can have no write-ahead log beside it: it is read as it stands.
    uri = wal.uri_of(path, "mode=rw" if writable else "immutable=1")
    try:
        try:
            db = _set_up(uri)
        except sqlite3.OperationalError as error:
            if "locked" in str(error) or "busy" in str(error):
                raise
            # A full disk has no room for the index that several readers of the log share; one alone needs none.
            db = _set_up(uri, alone=True)
    except sqlite3.OperationalError as error:
        raise trouble(path, error, "cannot be opened as a book") from error
    except (sqlite3.Error, UnicodeDecodeError) as error:  # what the library says of damage may itself be damaged
        raise damaged(path, error) from error
    return db


def _set_up(uri: str, alone: bool = False) -> sqlite3.Connection:
    db = sqlite3.connect(uri, uri=True, timeout=BUSY_SECONDS)
    try:
        db.isolation_level = None
        sums.teach(db)
        if alone:
            db.execute("PRAGMA locking_mode = EXCLUSIVE")
        db.execute("PRAGMA foreign_keys = ON")
        # The delivery journal's promise is that a state is on disk before the next step: full, not normal.
        db.execute("PRAGMA synchronous = FULL")
        db.execute("PRAGMA schema_version")
    except BaseException:
        db.close()
        raise
    return db


def use_log(db: sqlite3.Connection, use: bool = True) -> None:
    """Whether changes are written to a log beside the book first, so that it can be read at the same time. Nothing
    happens where somebody uses the book just now."""
    db.execute("PRAGMA busy_timeout = 0")
    with suppress(sqlite3.OperationalError):
        db.execute(f"PRAGMA journal_mode = {'WAL' if use else 'TRUNCATE'}")
    db.execute(f"PRAGMA busy_timeout = {int(1000 * BUSY_SECONDS)}")


def _migrate(book: Book, version: int) -> None:
    """Bring the book from schema `version` to this one's, all steps in one transaction."""
    from barnacle.book import derived

    if version:
        copy = book.path.with_name(f"{book.path.name}.before-schema-{version + 1}")
        if not copy.exists():
            os.close(os.open(copy, os.O_CREAT | os.O_RDWR, 0o600))
            with sqlite3.connect(copy) as target:
                book.db.backup(target)
            target.close()
    else:
        use_log(book.db)
    with book.transaction():
        version = book.db.execute("PRAGMA user_version").fetchone()[0]
        if version >= len(MIGRATIONS):
            return  # another process was faster
        schema.take_derived_away(book.db)
        for step in MIGRATIONS[version:]:
            schema.run(book.db, step)
        schema.make_derived(book.db)
        derived.make_anew(book)
        book.db.execute(f"PRAGMA application_id = {schema.APPLICATION_ID}")
        book.db.execute(f"PRAGMA user_version = {len(MIGRATIONS)}")
