"""Damaged books: nothing goes unnoticed, nothing that can be read is lost, and nobody is said to have got a message who
may not have. BARNACLE_BOOKS=200 tries so many."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from conftest import ME, Office

from barnacle.book import checking, contacts, mending, outbox
from barnacle.book.opening import open_book
from barnacle.book.pages import Pages
from barnacle.core.errors import BookError
from barnacle.core.mail.delivery import Answer, State

BOOKS = int(os.environ.get("BARNACLE_BOOKS", "30"))
# Where what matters stands, and by which columns a row of it is known.
MATTERS = {
    "contact": "id, uid, name, opted_out, card", "list": "id, title, about, rule", "member": "id, list, contact, kind, address",
    "message": "id, token, subject, doc", "delivery": "message, address, people, state, code, reply, tried",
}  # fmt: skip


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A book with people on lists, opt-outs, and messages in every state, as one file."""
    office = Office(tmp_path_factory.mktemp("whole"))
    office.run("setup", "--me", ME)
    rows = [f"Ada Holm{n},ada{n}@kelp.example,07700 900{n:03},{'x' * (n % 400)}" for n in range(300)]
    office.file("crew.csv", "\n".join(["Name,E-mail,Phone,Note", *rows]) + "\n")
    office.run("import", "crew.csv", "--into", "Crew", "--label", "hand")
    office.run("list", "new", "Night", "ada3@kelp.example", "ada4@kelp.example")
    office.run("list", "new", "Rule", "--where", 'label is "hand"')
    office.run("contact", "optout", "ada5@kelp.example", "ada6@kelp.example", "--why", "asked")
    for n in range(3):
        office.run("compose", "--for", "Crew", "--subject", f"Slipway {n}", "--text", "It is closed.\n")
    with closing(open_book(office.book)) as book:
        pick = random.Random(20)
        for number in ("m1", "m2"):
            message = outbox.get(book, number)
            people = [one for one in contacts.everybody(book) if one.contact.opt_out is None]
            with book.transaction():
                outbox.begin(
                    book, message, [Somebody(one.contact.preferred or "", one.contact.title, one.id) for one in people]
                )
            answers = [Answer(one.contact.preferred or "", pick.choice(list(State)), 250, "said so") for one in people]
            outbox.record(book, message.id, answers)
        book.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        book.db.execute("PRAGMA journal_mode = DELETE")
    return office.book


class Somebody:
    """A recipient as the journal takes one."""

    def __init__(self, address: str, name: str, who: int) -> None:
        self.address = address
        self.names = [name]
        self.who = [who]


def contents(path: Path) -> dict[str, set[tuple[Any, ...]]]:
    with closing(sqlite3.connect(path)) as db:
        return {table: set(db.execute(f"SELECT {columns} FROM {table}")) for table, columns in MATTERS.items()}


def damage(data: bytearray, pick: random.Random) -> set[int]:
    """Change a file in one of the ways that disks and services do. Gives the pages that were hit."""
    size = 4096
    kind = pick.choice(("bit", "bytes", "many", "block", "swap", "zeros"))
    before = bytes(data)
    if kind == "bit":
        data[pick.randrange(len(data))] ^= 1 << pick.randrange(8)
    elif kind in ("bytes", "many"):
        for _ in range(10 if kind == "bytes" else 300):
            data[pick.randrange(len(data))] = pick.randrange(256)
    else:
        a, b = (pick.randrange(1, len(data) // size) * size for _ in range(2))
        if kind == "swap":
            data[a : a + size], data[b : b + size] = data[b : b + size], data[a : a + size]
        else:
            data[a : a + size] = bytes(size) if kind == "zeros" else pick.randbytes(size)
    return {n // size + 1 for n in range(0, len(data), size) if data[n : n + size] != before[n : n + size]}


def untouched(whole: Path, hit: set[int]) -> dict[str, set[Any]]:
    """The keys of all rows no part of which stands on a page that was hit."""
    pages = Pages(whole.read_bytes())
    found = mending._Found(pages)
    found.read()
    kept: dict[str, set[Any]] = {}
    for table in MATTERS:
        for record in found.rows.get(table, []):
            if hit.isdisjoint(record.pages):
                key = tuple(record.values[:2]) if table == "delivery" else record.rowid
                kept.setdefault(table, set()).add(key)
    return kept


def test_a_sound_book_is_mended_whole(whole: Path, tmp_path: Path) -> None:
    done = mending.mend(whole, tmp_path / "new.book")
    assert done.lost == [] and contents(tmp_path / "new.book") == contents(whole)
    with closing(open_book(tmp_path / "new.book")) as book:
        assert checking.check(book).findings == []
    with closing(open_book(whole)) as book:
        assert checking.check(book).findings == []


@pytest.mark.parametrize("seed", range(BOOKS))
def test_damage_is_noticed_and_what_can_be_read_is_saved(whole: Path, tmp_path: Path, seed: int) -> None:
    data = bytearray(whole.read_bytes())
    hit = damage(data, random.Random(seed))
    broken = tmp_path / "broken.book"
    broken.write_bytes(data)
    true = contents(whole)

    # Noticed: either everything is as it was, or a check says that it is not.
    try:
        with closing(open_book(broken)) as book:
            sound = not checking.check(book).findings
    except BookError as error:
        sound = False
        assert (
            "barnacle book mend" in str(error) or "not a Barnacle book" in str(error) or "newer version" in str(error)
        )
    if sound:
        assert contents(broken) == true, "damage went unnoticed"
    broken.write_bytes(data)

    # Mended: sound, with all that stood on sound pages, and no more than was true.
    done = mending.mend(broken, tmp_path / "new.book")
    with closing(open_book(tmp_path / "new.book")) as book:
        assert checking.check(book).findings == []
    new = contents(tmp_path / "new.book")
    whole_pages = untouched(whole, hit)
    lost = 0
    for table in MATTERS:
        keys = {row[:2] if table == "delivery" else row[0] for row in new[table]}
        missing = whole_pages.get(table, set()) - keys
        if table == "member":  # goes with its list or contact
            there = {row[0] for row in new["contact"]}, {row[0] for row in new["list"]}
            missing = {row[0] for row in true[table] if row[0] in missing and row[2] in there[0] and row[1] in there[1]}
        elif table == "delivery":  # goes with its message
            missing = {key for key in missing if key[0] in {row[0] for row in new["message"]}}
        assert not missing, f"{table}: {sorted(missing)[:5]} could be read and were lost"
        lost += len(true[table]) > len(new[table])
    assert not lost or done.lost, "what is missing is not said"
    accepted = {row[:2] for row in true["delivery"] if row[3] == "accepted"}
    assert {row[:2] for row in new["delivery"] if row[3] == "accepted"} <= accepted
    out = {row[0] for row in true["contact"] if row[3]}
    assert out & {row[0] for row in new["contact"]} == {row[0] for row in new["contact"] if row[3]}
    assert {row[1:] for row in new["contact"]} <= {row[1:] for row in true["contact"]}


@pytest.mark.parametrize("seed", range(BOOKS // 3))
def test_no_command_breaks_on_a_damaged_book(whole: Path, office: Office, seed: int) -> None:
    data = bytearray(whole.read_bytes())
    damage(data, random.Random(1000 + seed))
    office.book.write_bytes(data)
    for command in (
        ("list",),
        ("list", "show", "Crew"),
        ("find", "holm"),
        ("outbox", "show", "m1"),
        ("history",),
        ("check",),
    ):
        ran = office.run(*command, code=None)
        assert ran.code in (0, 1, 2), ran.err


def test_a_delivery_that_was_changed_behind_the_program_is_not_believed(whole: Path, office: Office) -> None:
    shutil.copy(whole, office.book)
    with closing(sqlite3.connect(office.book)) as db:
        db.execute("UPDATE delivery SET state = 'accepted' WHERE message = 1 AND state = 'waiting'")
        db.commit()
    ran = office.run("outbox", "show", "m1", code=2)
    assert "not as it was written" in ran.err and "barnacle book mend" in ran.err
