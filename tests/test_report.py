"""Reports: their numbers are those that `list`, `check` and `outbox` tell, and every book can be drawn."""

from __future__ import annotations

import csv
import io
import sqlite3
import struct
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree

import pytest
from conftest import Mail, Office
from hypothesis import given
from hypothesis import strategies as st
from pypdf import PdfReader

from barnacle.book import sums
from barnacle.cli.console import bars
from barnacle.jobs.reports import wording

ODD = ("Ærø & Øst $x_1$ <b>", "港の委員会", "القوارب", "x" * 300, "=1+1")


@pytest.fixture
def busy(crew: Office, serve: Callable[..., Mail]) -> Office:
    """A crew that was written to: somebody fails, opted out, has no address; lists of all kinds."""
    serve("--refuse", "gone@*", "--defer", "slow@*", "--no-smtputf8")
    crew.within("settings", "mail.pauses", "[]")
    for who in (
        "Gone <gone@kelp.example>",
        "Slow <slow@kelp.example>",
        "Nobody",
        "Out <out@kelp.example>",
        "Jörg <jörg@gull.example>",
    ):
        crew.within("contact", "add", who, "--into", "Crew")
    crew.within("contact", "optout", "out@kelp.example")
    crew.within("list", "new", "Rule", "--where", "domain is kelp.example")
    crew.within("list", "new", "None")
    crew.within("list", "new", "One", "bo@tidewick.example")
    for number in range(2):
        crew.within("compose", "--for", "Crew", "--subject", f"No {number}", "--text", "Hello.")
        crew.within("send", f"m{number + 1}", "--yes", code=None)
    crew.within("returns", "--fails", "gone@kelp.example")
    crew.within("list", "take", "Crew", "slow@kelp.example")
    return crew


def test_the_numbers_are_those_of_the_other_commands(busy: Office) -> None:
    found = busy.json("report")
    listed = {one["title"]: one for one in busy.told("list")}
    assert {one["title"]: (one["members"], one["reached"]) for one in found["reach"]} == {
        title: (one["members"], one["reachable"]) for title, one in listed.items()
    }
    for one in found["reach"]:
        parts = one["failing"] + one["opted_out"] + one["no_address"] + one["other"]
        assert one["reached"] + parts == one["members"]
        kinds = [check["kind"] for check in busy.told("check", one["title"])]
        assert (kinds.count("failing"), kinds.count("opted out")) == (one["failing"], one["opted_out"])
    crew = next(one for one in found["reach"] if one["title"] == "Crew")
    assert (crew["failing"], crew["opted_out"], crew["no_address"]) == (1, 1, 2)
    for one in found["growth"]:
        assert (one["days"][-1][1] if one["days"] else 0) == listed[one["title"]]["members"]
        assert one["partly"] == (listed[one["title"]]["kind"] == "by rule")
    sent = busy.told("outbox")
    assert {"refused", "refused_as_a_message"} <= {
        state for span in found["spans"] for state, number in span.items() if number
    }
    for state in wording.OUTCOMES:
        assert sum(span[state] for span in found["spans"]) == sum(one[state] for one in sent), state
    assert found["refusals"] == [{"domain": "kelp.example", "refused": sum(one["refused"] for one in sent)}]
    # Whoever is on several lists is counted once, where all of them meet.
    on = {title: set(busy.members(title)) for title in listed}
    everybody = set().union(*on.values())
    for title in listed:
        assert sum(one["people"] for one in found["together"] if title in one["titles"]) == len(on[title])
    assert sum(one["people"] for one in found["together"]) == len(everybody)
    heard = {one["name"]: one["messages"] for one in found["heard"]["busiest"]}
    for name, number in heard.items():
        got = [one for one in busy.told("contact", "show", name)["sent"] if one["state"].startswith("accepted")]
        assert len(got) == number


def test_as_bars_as_a_sheet_and_in_every_format(busy: Office) -> None:
    out = busy.run("report").out
    for words in ("1 address fails", "1 opted out", "nobody is on it", "Refused, by domain", "Who hears most"):
        assert words in out, words
    sent = busy.json("report", "deliveries")["spans"]
    since = busy.run("report", "deliveries", "--since", "last month").out
    assert f"Altogether: {sum(one['accepted'] for one in sent):,} accepted, " in since and "recipient since 1 " in since
    assert busy.run("report", "deliveries", "--since", "2099").out.endswith("Nothing was sent since 1 Jan 2099.\n")
    for part in ("reach", "deliveries", "overlap", "all"):
        path = busy.folder / f"{part}.png"
        busy.run("report", part, "--out", str(path))
        head = path.read_bytes()[:24]
        assert head[:8] == b"\x89PNG\r\n\x1a\n" and struct.unpack(">I", head[16:20])[0] == 1210
        assert path.stat().st_mode & 0o777 == 0o600
    busy.run("report", "reach", "--out", "reach.svg")
    words = " ".join(ElementTree.parse(busy.folder / "reach.svg").getroot().itertext())
    assert "Whom a message to each list reaches" in words and "2 have no address" in words
    busy.run("report", "list", "Crew", "--columns", "phone, org", "--out", "crew.pdf")
    text = PdfReader(busy.folder / "crew.pdf").pages[0].extract_text()
    assert all(name in text for name in busy.members("Crew")) and "can be reached" in text
    rows = list(csv.reader(io.StringIO(busy.run("report", "reach", "--csv").out)))
    assert rows[0][:3] == ["List", "Members", "Reached"] and ["None", "0", "0", "0", "0", "0", "0"] in rows
    assert "no picture" in busy.run("report", "--out", "x.doc", code=2).err
    assert "choose one" in busy.run("report", "--out", "x.png", "--csv", code=2).err
    assert "There is no list" in busy.run("report", "reach", "Nowhere", code=2).err


def test_without_the_library_it_says_how_to_have_it(busy: Office) -> None:
    (busy.folder / "matplotlib.py").write_text("raise ImportError")
    busy.environment["PYTHONPATH"] = str(busy.folder)
    err = busy.run("report", "--out", "x.png", code=2).err
    assert "pip install 'barnacle[report]'" in err and not (busy.folder / "x.png").exists()
    assert "Whom a message" in busy.run("report").out


def test_titles_of_any_script_and_length_and_books_of_any_kind(office: Office, tmp_path: Path) -> None:
    empty = office.run("report").out
    assert all(
        words in empty for words in ("There are no lists yet", "No message has been sent", "Nobody is on a list")
    )
    office.run("report", "all", "--out", "empty.pdf")
    people = "".join(f"Holder Nr{n},h{n}@kelp.example\n" for n in range(120))
    office.run("import", str(office.file("a.csv", "Name,E-mail\n" + people)), "--into", "All of them", "--yes")
    for title in ODD[:3]:
        office.within("list", "new", title, "h1@kelp.example")
    office.within("list", "new", ODD[3][:120], "h2@kelp.example")
    office.run("report", "all", "--out", "odd.svg")
    drawn = " ".join(ElementTree.parse(office.folder / "odd.svg").getroot().itertext())
    assert "$x_1$" in drawn and "港の委員会" in drawn and "x" * 120 not in drawn
    done = office.json("report", "list", "All of them", "--columns", "address", "--out", "all.pdf")
    assert done["pages"] == 3 == len(PdfReader(office.folder / "all.pdf").pages)
    assert "first of 3 pages" in office.run("report", "list", "All of them", "--out", "all.png").out


def test_a_year_without_messages_and_a_clock_that_was_set_back(busy: Office) -> None:
    with closing(sqlite3.connect(busy.book)) as db, db:
        sums.teach(db)
        db.execute(
            "UPDATE delivery SET tried = ?1, sum = row_sum(message, address, people, state, code, reply, ?1)"
            " WHERE message = 1",
            ("2024-11-05T10:00:00Z",),
        )
        days = ["2026-11-01", "2026-11-20", "2019-01-01", "2026-11-21"]
        for place, (number,) in enumerate(db.execute("SELECT id FROM action ORDER BY id").fetchall()):
            db.execute("UPDATE action SET at = ? WHERE id = ?", (f"{days[place % 4]}T10:00:00Z", number))
    found = busy.json("report")
    assert found["by"] == "month" and len(found["spans"]) > 20, "months without a message are there, too"
    assert sum(span[state] for state in wording.OUTCOMES for span in found["spans"]) > 0
    for one in found["growth"]:
        days_ = [day for day, _ in one["days"]]
        assert days_ == sorted(days_) and all(number >= 0 for _, number in one["days"])
    busy.run("report", "all", "--out", "long.png")


@given(st.lists(st.integers(0, 10**6), min_size=5, max_size=5), st.integers(0, 10**6))
def test_a_bar_is_no_wider_than_it_may_be_and_each_part_is_seen(numbers: list[int], more: int) -> None:
    drawn = bars.bar(numbers, sum(numbers) + more, 26)
    assert len(drawn) <= 26 + sum(number > 0 for number in numbers)
    for number, sign in zip(numbers, bars.signs(), strict=True):
        assert (sign in drawn) == (number > 0)
