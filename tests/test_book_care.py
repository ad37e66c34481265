"""Looking after a book: copies, putting them back, logs that do not belong to it."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from contextlib import closing
from pathlib import Path

from conftest import ME, Office, sheet_of

from barnacle.book import lists
from barnacle.book.opening import open_book


def test_a_copy_holds_the_settings_and_goes_back_on_another_computer(crew: Office, tmp_path: Path) -> None:
    crew.run("settings", "me.region", "DE")
    passwords = crew.home / "mail-passwords.toml"
    passwords.write_text('"maren@mail.example" = "secret"\n')
    passwords.chmod(0o600)
    told = crew.told("book", "copy", "safe.book")
    assert told["with"] == ["barnacle.toml", "mail-passwords.toml"]
    assert (crew.folder / "safe.book").stat().st_mode & 0o777 == 0o600
    assert "exists already" in crew.run("book", "copy", "safe.book", code=2).err
    crew.run("book", "copy", "safe.book", "--yes")
    assert "is the book itself" in crew.run("book", "copy", str(crew.book), "--yes", code=2).err
    assert crew.told("book", "copy", "open.book", "--no-secrets")["with"] == ["barnacle.toml"]
    assert b"secret" not in (crew.folder / "open.book").read_bytes()
    before = crew.told("find")

    # Used where it is, on a computer that has no settings.
    other = Office(tmp_path / "other")
    other.folder.mkdir()
    copy = str(crew.folder / "safe.book")
    assert other.told("find", "--book", copy) == before
    assert other.told("settings", "me.region", "--book", copy) == {"me.region": "DE"}
    assert other.told("settings", "me.name", "--book", str(crew.folder)) == {"me.name": ""}  # a folder is no copy
    # Put back there.
    done = other.told("book", "restore", copy)
    assert done["before"] is None and len(done["written"]) == 2
    assert other.told("find") == before and other.told("settings", "me.region") == {"me.region": "DE"}
    assert (other.home / "mail-passwords.toml").read_text() == passwords.read_text()
    assert other.told("book", "check")["findings"] == []

    # Put back here: what was there stays, and so do its settings, until one says so.
    crew.run("contact", "add", "New <new@kelp.example>")
    crew.run("settings", "me.region", "FR")
    assert "Add --yes" in crew.run("book", "restore", "safe.book", code=2).err
    done = crew.told("book", "restore", "safe.book", "--yes")
    assert crew.told("find") == before and crew.told("settings", "me.region") == {"me.region": "FR"}
    assert len(crew.told("find", "--book", done["before"])) == len(before) + 1
    crew.run("book", "restore", "safe.book", "--yes", "--settings")
    assert crew.told("settings", "me.region") == {"me.region": "DE"}
    crew.file("no.book", "not a book")
    assert "not a copy of a book" in crew.run("book", "restore", "no.book", "--yes", code=2).err
    assert crew.told("find") == before


def test_a_copy_of_somebody_else_runs_no_command(crew: Office, tmp_path: Path) -> None:
    crew.run("settings", "mail.password_command", "touch /tmp/not-here")
    crew.run("book", "copy", "theirs.book")
    other = Office(tmp_path / "other")
    other.folder.mkdir()
    copy = str(crew.folder / "theirs.book")
    assert other.told("settings", "mail.password_command", "--book", copy) == {"mail.password_command": ""}
    assert "run `touch /tmp/not-here` for your password" in other.run("book", "restore", copy).out


def test_a_copy_is_whole_while_the_book_is_written_to(crew: Office) -> None:
    crew.file("many.csv", sheet_of(20_000))
    before = len(crew.told("find"))
    process = crew.start("import", "many.csv", "--into", "Many")
    for n in range(5):
        crew.run("book", "copy", f"{n}.book", code=None)
        time.sleep(0.2)
    process.communicate()
    for n in range(5):
        if (crew.folder / f"{n}.book").exists():
            assert crew.told("book", "check", "--book", f"{n}.book")["findings"] == []
            assert len(crew.told("find", "--book", f"{n}.book")) - before in (0, 20_000)


def test_a_copy_each_week_and_the_last_five_are_kept(crew: Office) -> None:
    folder = crew.home / "barnacle.book.copies"
    crew.run("contact", "label", "bo", "--add", "harbour")
    assert not folder.exists()
    crew.run("settings", "copies.weekly", "yes")
    crew.run("contact", "label", "bo", "--add", "quay")
    (first,) = folder.iterdir()
    crew.run("contact", "label", "bo", "--add", "pier")
    assert list(folder.iterdir()) == [first]
    long_ago = time.time() - 8 * 86400
    for n in range(6):
        shutil.copy(first, folder / f"2020-01-0{n + 1}T000000Z.book")
    first.rename(folder / "2020-01-07T000000Z.book")  # a new one of this very second would have its name
    for path in folder.iterdir():
        os.utime(path, (long_ago, long_ago))
    crew.run("contact", "label", "bo", "--add", "mole")
    assert len(list(folder.iterdir())) == 5 and (folder / "2020-01-01T000000Z.book").exists() is False
    # A damaged book names it.
    crew.book.write_bytes(crew.book.read_bytes()[:5000] + b"\xff" * 200_000)
    said = crew.run("find", code=2).err
    newest = max(folder.iterdir(), key=lambda path: path.stat().st_mtime)
    assert "barnacle book mend FILE" in said and f"barnacle book restore {newest}" in said
    aside = crew.told("book", "restore", str(newest), "--yes")["before"]
    assert [one["name"] for one in crew.told("find", "--where", 'label is "quay"')] == ["Bo Lund"]
    # The damaged one that was put aside is no copy to go back to.
    crew.book.write_bytes(crew.book.read_bytes()[:5000] + b"\xff" * 200_000)
    assert aside not in crew.run("find", code=2).err


def test_mending_a_sound_book_raises_no_alarm(crew: Office) -> None:
    crew.run("compose", "--for", "Crew", "--subject", "Slipway", "--text", "Closed.\n")
    told = crew.told("book", "mend", "new.book")
    assert told["lost"] == [] and crew.told("outbox", "--book", "new.book") == crew.told("outbox")
    crew.run("undo", "--book", "new.book")  # the history came along whole


def test_a_log_of_an_older_state_is_told_from_one_that_belongs_to_the_book(office: Office) -> None:
    office.run("setup", "--me", ME)
    office.run("contact", "add", "Ada <ada@kelp.example>")
    log, keep = Path(f"{office.book}-wal"), office.folder / "kept"
    # Killed while it writes: the log belongs to the book, and its change counts.
    with closing(open_book(office.book)) as book, closing(sqlite3.connect(office.book)) as reader:
        reader.execute("SELECT count(*) FROM contact").fetchone()  # who reads keeps the log from going
        with book.action("test", "Made a list") as _:
            lists.new(book, "Crew")
        shutil.copy(office.book, keep)
        shutil.copy(log, f"{keep}-wal")
    shutil.copy(keep, office.book)
    shutil.copy(f"{keep}-wal", log)
    assert [one["title"] for one in office.told("list")] == ["Crew"]
    # The book has gone on elsewhere, and the old log comes back beside it.
    office.run("contact", "add", "Bo <bo@kelp.example>")
    office.run("list", "new", "Pilots", "bo@kelp.example")
    newer = office.book.read_bytes()
    shutil.copy(f"{keep}-wal", log)
    said = office.run("list", code=2).err
    assert "a log of an older state" in said and "-wal" in said
    assert office.book.read_bytes() == newer
    log.unlink()
    assert [one["title"] for one in office.told("list")] == ["Crew", "Pilots"]
    assert office.told("book", "check")["findings"] == []
