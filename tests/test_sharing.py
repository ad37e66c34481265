"""Colleagues who share lists: each with a book of their own, and a hub between them."""

from __future__ import annotations

import re
import shutil
import sqlite3
import stat
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
import trustme
from conftest import Office, told_by
from filelock import FileLock
from hubs import Person, RunningHub, card, hub_in
from servers import wait

from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import coming_in, first_fetch, offers, sync
from barnacle.net import hub as net
from barnacle.net.answers import Card

WHO = {"maren": "Maren Holt", "tor": "Tor Vik", "ida": "Ida Rask"}


class Colleagues:
    """A hub and three who are connected to it."""

    def __init__(self, folder: Path, hub: RunningHub) -> None:
        self.hub = hub
        for key, name in WHO.items():
            one = Office(folder / key)
            one.folder.mkdir()
            address = f"{key}@tidewick.example"
            one.within("setup", "--me", f"{name} <{address}>")
            one.run("hub", "connect", hub.url, "--code", hub.code(address, name))
            setattr(self, key, one)

    maren: Office
    tor: Office
    ida: Office


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Colleagues]:
    folder = tmp_path_factory.mktemp("colleagues")
    office = Office(folder)
    with hub_in(office, "--most-requests", "100000") as hub:
        yield Colleagues(folder, hub)


@pytest.fixture
def team(made: Colleagues, tmp_path: Path) -> Colleagues:
    """The same people, each with a new book on the same hub, and a list `Crew` of Maren's that Tor may edit."""
    with closing(sqlite3.connect(made.hub.office.folder / "hub" / "hub.sqlite")) as db, db:
        for table in ("happened", "card", "change", "role", "shared_list"):  # of the test before
            db.execute(f"DELETE FROM {table}")
    team = Colleagues.__new__(Colleagues)
    team.hub = made.hub
    for key in WHO:
        one = Office(tmp_path / key)
        shutil.copytree(getattr(made, key).home, one.home)
        setattr(team, key, one)
    return team


def crew(team: Colleagues, role: str = "editor", *more: str) -> None:
    for who, phone in (
        ("Una Berg <una@kelp.example>", "+44 1632 960001"),
        ("Bo Lund <bo@kelp.example>", "+44 1632 960002"),
    ):
        team.maren.within("contact", "add", who, "--phone", phone, "--into", "Crew")
    team.maren.within("contact", "edit", "Una Berg", "--note", "owes for two winters")
    team.maren.within("contact", "label", "Una Berg", "--add", "arrears")
    team.maren.within("contact", "edit", "Una Berg", "--address", "home:una@quayside.example")
    team.maren.within("share", "offer", "Crew", "--with", "tor@tidewick.example", "--role", role, *more)
    team.tor.within("share", "accept", "Crew", "--from", "maren@tidewick.example")


def end(team: Colleagues) -> None:
    team.maren.within("share", "stop", "Crew")


def line_of(office: Office, who: str) -> dict[str, Any]:
    return dict(office.told("contact", "show", who))


def test_a_list_is_offered_accepted_edited_by_both_and_stays_one(team: Colleagues) -> None:
    maren, tor = team.maren, team.tor
    crew(team)
    seen = line_of(tor, "Una Berg")
    assert (
        [a["address"] for a in seen["addresses"]] == ["una@kelp.example"]
        and not seen.get("labels")
        and not seen.get("notes")
    )
    shown = tor.told("list", "show", "Crew")
    assert {m["by"] for m in shown["members"]} == {"Maren Holt <maren@tidewick.example>"} and shown["shared"][
        "role"
    ] == "editor"
    # Both edit offline: different fields of one person, and who is on the list.
    maren.within("contact", "edit", "Una Berg", "--org", "Harbour office")
    tor.within("contact", "edit", "Una Berg", "--job", "Master")
    tor.within("contact", "add", "Cy Dahl <cy@kelp.example>", "--into", "Crew")
    maren.within("list", "take", "Crew", "Bo Lund")
    assert tor.told("list", "show", "Crew")["shared"]["waiting"] == 2
    assert tor.json("sync")["lists"] == [
        {"title": "Crew", "received": 0, "sent": 2, "conflicts": 0, "came": 0, "changed": 0, "off": 0, "role": "",
         "taken_back": [], "unreadable": [], "ended": False, "refused": ""}
    ]  # fmt: skip
    (done,) = maren.json("sync")["lists"]
    assert [done[key] for key in ("received", "came", "changed", "off", "sent")] == [2, 1, 1, 0, 2]
    assert maren.run("sync").out == "Crew: nothing new.\n"
    tor.run("sync")
    for one in (maren, tor):
        assert sorted(one.members("Crew")) == ["Cy Dahl", "Una Berg"]
        una = line_of(one, "Una Berg")
        assert (una["org"], una["job"]) == ("Harbour office", "Master")
    assert line_of(tor, "Bo Lund")["name"] == "Bo Lund", "taken off a list, not out of the book"
    assert maren.told("list", "show", "Crew")["members"][0]["by"] == "Tor Vik <tor@tidewick.example>"
    # The same field on both sides.
    maren.within("contact", "edit", "Una Berg", "--org", "Pier")
    tor.within("contact", "edit", "Una Berg", "--org", "Quay")
    tor.run("sync")
    assert maren.json("sync", code=1)["lists"][0]["conflicts"] == 1
    (clash,) = maren.told("share", "conflicts")
    assert {k: clash[k] for k in ("list", "name", "field", "mine", "theirs")} == {
        "list": "Crew", "name": "Una Berg", "field": "org", "mine": "Pier", "theirs": "Quay"}  # fmt: skip
    assert line_of(maren, "Una Berg")["org"] == "Quay", "the hub's is kept"
    maren.run("share", "conflicts", "--keep", "mine", str(clash["number"]))
    maren.run("sync")
    tor.run("sync")
    assert line_of(tor, "Una Berg")["org"] == "Pier" and maren.told("share", "conflicts") == []
    maren.within("contact", "edit", "Una Berg", "--web", "https://kelp.example")
    tor.within("contact", "edit", "Una Berg", "--web", "https://pier.example")
    maren.run("sync")
    assert tor.json("sync", code=1)["lists"][0]["conflicts"] == 1
    tor.run("share", "conflicts", "--keep", "theirs", str(tor.told("share", "conflicts")[0]["number"]))
    assert tor.told("share", "conflicts") == [] and line_of(tor, "Una Berg")["web"] == "https://kelp.example"
    # Undo travels as what it means.
    maren.within("list", "take", "Crew", "Cy Dahl")
    maren.run("sync")
    tor.within("sync")
    tor.within("contact", "edit", "Una Berg", "--job", "Mate")
    tor.within("sync")
    assert maren.json("sync")["lists"][0]["changed"] == 1
    undone = maren.run("undo").out
    assert "Undone: Took Cy Dahl off Crew." in undone, "not what Tor changed since"
    assert "Crew is shared: `barnacle sync` does the same for all who share it." in undone
    assert re.search(r"What others changed since stays; `barnacle undo \d+` takes it back, for them too.", undone)
    maren.run("sync")
    tor.run("sync")
    assert line_of(tor, "Una Berg")["job"] == "Mate"
    assert sorted(tor.members("Crew")) == ["Cy Dahl", "Una Berg"]
    maren.within("list", "rename", "Crew", "Ferry crew")
    maren.run("sync")
    tor.run("sync")
    assert tor.members("Ferry crew") == tor.members("Ferry crew") != []
    maren.run("share", "stop", "Ferry crew")
    assert tor.json("sync", code=1)["lists"][0]["ended"] and tor.told("list", "show", "Ferry crew")["shared"] is None


def test_an_opt_out_of_one_counts_for_all_and_a_new_member_is_in_everybodys_next_message(team: Colleagues) -> None:
    crew(team, "reader")
    team.tor.within("contact", "optout", "Una Berg", "--why", "asked, on the quay")
    team.maren.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
    team.tor.run("sync")
    team.maren.run("sync")
    team.tor.run("sync")
    for one, number in ((team.maren, 2), (team.tor, 2)):
        message = one.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")
        assert message["recipients"] == number, "Bo and Dot"
        assert [(o["name"], o["reason"]) for o in message["left_out"]] == [
            ("Una Berg", "opted out (asked, on the quay)")
        ]
    end(team)


def test_who_writes_to_a_list_that_was_not_exchanged_lately_is_told(team: Colleagues) -> None:
    crew(team)
    tor = team.tor
    tor.run("list", "new", "Own", "Cy Dahl <cy@kelp.example>")
    write = ("compose", "--subject", "Tides", "--text", "Low at ten.", "--for")
    old = "Crew was last exchanged with colleagues on Friday 4 September 2026; `barnacle sync` brings what they have"
    assert "exchanged" not in tor.run().out + tor.run(*write, "Crew").out, "a moment ago"
    with closing(sqlite3.connect(tor.book)) as db, db:
        db.execute("UPDATE share SET at = '2026-09-04T12:00:00Z'")
    assert old in tor.run().out and old in tor.run(*write, "Own", "--also", "Crew").out
    tor.run("list", "new", "Masters", "--where", "in Crew or in Own")
    assert old in tor.run(*write, "Masters").out, "its rule refers to it"
    assert old in tor.run("preview", "m1").out and "exchanged" not in tor.run(*write, "Own").out
    tor.run("sync")
    assert "exchanged" not in tor.run().out + tor.run("preview", "m1").out
    end(team)


def test_what_was_done_at_the_hub_stands_in_the_history_and_no_undo_makes_a_list_ownerless(team: Colleagues) -> None:
    maren, tor = team.maren, team.tor
    crew(team)
    maren.within("list", "new", "Trip", "Una Berg")
    made = maren.told("history")[0]["number"]
    maren.within("share", "offer", "Trip", "--with", "tor@tidewick.example")
    assert "Offered Trip to tor@tidewick.example as reader) cannot be undone" in maren.run("undo", code=2).err
    assert "Trip is shared, and you own it. Stop sharing it first" in maren.run("undo", str(made), code=2).err
    assert maren.members("Trip") == ["Una Berg"]
    maren.within("share", "role", "Crew", "tor", "reader")
    maren.within("share", "end", "Trip", "tor")
    maren.within("share", "stop", "Trip")
    done = [(one["command"], one["state"]) for one in maren.told("history") if one["command"].startswith("share ")]
    assert done == [(f"share {what}", "cannot be undone") for what in ("stop", "end", "role", "offer", "offer")]
    maren.run("undo", str(made))
    assert "no list `Trip`" in maren.run("list", "show", "Trip", code=2).err
    # What builds on one's own change may be others'.
    maren.within("share", "role", "Crew", "tor", "editor")
    maren.within("contact", "edit", "Bo Lund", "--org", "Ebb")
    maren.within("sync")
    tor.within("sync")
    tor.within("contact", "edit", "Bo Lund", "--org", "Kelp")
    tor.within("sync")
    maren.within("sync")
    own = next(one["number"] for one in maren.told("history") if one["command"] == "contact edit")
    assert "That came from others: change by hand what is wrong" in maren.run("undo", str(own), code=2).err
    # Whoever does not own a list may remove it, and is told what that is.
    gone = tor.run("list", "remove", "Crew")
    assert "Those who share it keep it; `barnacle sync` tells them that you left." in gone.out
    tor.run("sync")
    assert [one["address"] for one in maren.told("share", "who", "Crew")] == ["maren@tidewick.example"]
    end(team)


def test_roles_in_the_program(team: Colleagues) -> None:
    maren, tor, ida = team.maren, team.tor, team.ida
    crew(team, "reader", "--tell")
    assert "share waiting" in maren.json("preview", "m1")["text"]
    for command in (("list", "add", "Crew", "x@y.example"), ("list", "take", "Crew", "una"), ("list", "rename", "Crew", "X"),
                    ("contact", "add", "Zed <z@y.example>", "--into", "Crew")):  # fmt: skip
        assert "shared with you to read" in tor.run(*command, code=2).err
    assert "needs the role owner" in tor.run("share", "offer", "Crew", "--with", "ida@tidewick.example", code=2).err
    maren.within("list", "new", "Board", "Una Berg")
    assert "share offer LIST --with ADDRESS" in maren.run("share", "offer", "Board", code=2).err
    maren.run("share", "offer", "Board", "nobody@tidewick.example", code=2)
    assert maren.told("list", "show", "Board")["shared"] is None, "shared with nobody is not shared"
    assert [one["title"] for one in maren.json("sync")["lists"]] == ["Crew"]
    offered = maren.run("share", "offer", "Crew", "--with", "ida@tidewick.example", "nobody@tidewick.example", code=1)
    assert "does not use this hub" in offered.err
    assert ida.json("share", "waiting") == [{"list": "Crew", "from": "maren@tidewick.example", "role": "reader",
                                             "since": ida.json("share", "waiting")[0]["since"]}]  # fmt: skip
    maren.run("share", "offer", "Board", "--with", "ida@tidewick.example")
    which = "Which? You are offered Board from maren@tidewick.example and Crew from maren@tidewick.example."
    assert which in ida.run("share", "accept", code=2).err
    ida.run("share", "decline", "Crew")
    assert "Board is now in your book" in ida.run("share", "accept").out
    assert "You have no offers." in ida.run("share", "accept", code=2).err
    people = {p["address"].partition("@")[0]: (p["role"], p["state"]) for p in maren.told("share", "who", "Crew")}
    assert people == {"maren": ("owner", "joined"), "tor": ("reader", "joined"), "ida": ("reader", "declined")}
    maren.run("share", "role", "Crew", "tor@tidewick.example", "editor")
    again = maren.run("share", "Crew", "with", "tor@tidewick.example", "ida@tidewick.example", "as", "owner", code=1)
    assert (
        "tor@tidewick.example: is editor of Crew already. `barnacle share role Crew tor@tidewick.example ROLE`"
        in again.err
    )
    assert "Crew: offered to ida@tidewick.example as owner." in again.out
    maren.run("share", "end", "ida", "from", "Crew")
    people = {p["address"].partition("@")[0]: (p["role"], p["state"]) for p in maren.told("share", "who", "Crew")}
    assert people == {"maren": ("owner", "joined"), "tor": ("editor", "joined")}, "to offer it again takes nothing away"
    tor.run("sync")
    tor.within("list", "take", "Crew", "Bo Lund")
    tor.run("sync")
    maren.run("sync")
    assert maren.members("Crew") == ["Una Berg"]
    assert "last owner" in maren.run("share", "leave", "Crew", code=2).err
    # Who becomes a reader while own changes wait is told what becomes of these.
    tor.within("list", "take", "Crew", "Una Berg")
    tor.within("contact", "add", "Zed <z@y.example>", "--into", "Crew")
    maren.run("share", "role", "Crew", "tor", "reader")
    became = tor.run("sync")
    assert "Crew: you are now reader, and may see it." in became.out
    assert "and had not sent is taken back: Zed is off it again and Una Berg is on it again." in became.err
    assert tor.members("Crew") == ["Una Berg"]
    maren.run("share", "end", "Crew", "tor@tidewick.example")
    assert tor.json("sync", code=1)["lists"][0]["ended"] and tor.members("Crew") == ["Una Berg"]
    assert "is not shared" in tor.run("share", "who", "Crew", code=2).err
    end(team)


def test_a_known_person_is_linked_and_what_differs_is_asked_not_overwritten(team: Colleagues) -> None:
    tor = team.tor
    tor.run(
        "contact",
        "add",
        "Una Berg <una@kelp.example>",
        "--org",
        "Kelp & Co",
        "--phone",
        "+44 1632 960009",
        "--note",
        "sings",
    )
    crew(team)
    assert len([p for p in tor.told("find", "una") if p]) == 1, "not doubled"
    assert [p["number"] for p in line_of(tor, "Una Berg")["phones"]] == ["+44 1632 960009"], "stays as it was"
    (more,) = tor.told("share", "conflicts")
    assert (more["field"], more["theirs"]) == ("phones", "+44 1632 960009, +44 1632 960001")
    assert tor.json("share", "follow", "Crew")["follow"] == ["Una Berg"]
    team.maren.within("contact", "edit", "Una Berg", "--org", "Harbour office")
    team.maren.run("sync")
    tor.run("sync", code=None)
    una = line_of(tor, "Una Berg")
    assert una["notes"] == "sings" and {p["number"] for p in una["phones"]} == {"+44 1632 960009", "+44 1632 960001"}
    team.maren.run("sync")
    theirs = line_of(team.maren, "Una Berg")
    assert [p["number"] for p in theirs["phones"]] == ["+44 1632 960001"], "what was one's own stays one's own"
    (clash,) = tor.told("share", "conflicts")
    assert (clash["field"], clash["mine"], clash["theirs"]) == ("org", "Kelp & Co", "Harbour office")
    tor.within("contact", "edit", "Una Berg", "--org", "Kelp and Company")
    tor.run("sync")
    team.maren.run("sync")
    assert line_of(team.maren, "Una Berg")["org"] == "Kelp and Company" and tor.told("share", "conflicts") == []
    end(team)


def cards_at(folder: Path) -> int:
    with closing(sqlite3.connect(folder / "hub.sqlite")) as hub:
        return int(hub.execute("SELECT count(*) FROM card").fetchone()[0])


def test_a_hub_that_is_away_or_a_sync_that_is_killed_loses_nothing(
    made: Colleagues, office: Office, tmp_path: Path
) -> None:
    with hub_in(office) as hub:
        tor = Office(tmp_path / "tor")
        tor.folder.mkdir()
        tor.within("setup", "--me", "Tor Vik <tor@tidewick.example>")
        tor.run("hub", "connect", hub.url, "--code", hub.code("tor@tidewick.example"))
        office.run("hub", "connect", hub.url, "--code", hub.code("maren@tidewick.example"))
        assert all(stat.S_IMODE(p.stat().st_mode) == 0o600 for p in office.home.glob("*.hub-token"))
        rows = "".join(f"Holder Nr{n},h{n:03}@kelp.example\n" for n in range(300))
        office.run("import", str(office.file("many.csv", "Name,E-mail\n" + rows)), "--into", "Crew")
        process = office.start("share", "offer", "Crew", "--with", "tor@tidewick.example", "--role", "editor")
        wait(lambda: cards_at(office.folder / "hub") > 0, lambda: "no card arrives")
        process.kill()
        process.communicate()
        hub.stop(9)
        away = office.run("sync", code=2)
        assert "nothing answers there" in away.err and "Nothing is lost" in away.err
        hub.start()
        office.run("share", "offer", "Crew", "--with", "tor@tidewick.example", "--role", "editor")
        process = tor.start("share", "accept", "Crew")
        wait(tor.being_written, lambda: "nothing is taken in")
        process.kill()
        process.communicate()
        tor.run("share", "accept", "Crew", code=None)
        tor.run("sync")
        assert sorted(tor.members("Crew")) == sorted(office.members("Crew")) and len(tor.members("Crew")) == 300
        assert len(tor.told("find", "holder")) == 300, "nobody twice"


def test_which_fields_are_shared_is_for_its_owner_to_say(team: Colleagues) -> None:
    crew(team)
    maren, tor = team.maren, team.tor
    tor.within("contact", "label", "Una Berg", "--add", "choir")
    tor.within("contact", "edit", "Una Berg", "--job", "Mate")
    tor.run("sync")
    assert "needs the role owner" in tor.run("share", "fields", "Crew", "--include", "labels", code=2).err
    maren.run("share", "fields", "Crew", "--include", "labels", "--exclude", "phones")
    for one in (maren, tor, maren):
        one.run("sync")
    una = line_of(maren, "Una Berg")
    assert una["labels"] == ["arrears"], "what Tor has of his own is not handed on"
    assert set(line_of(tor, "Una Berg")["labels"]) == {"arrears", "choir"}
    for one in (maren, tor):
        assert [p["number"] for p in line_of(one, "Una Berg")["phones"]] == ["+44 1632 960001"], (
            "nobody loses what they have"
        )
    # What is shared no more is gone from the hub, too; and comes there again with the field.
    phone = Person(team.hub.url, "maren@tidewick.example", maren.json("hub", "token", "new", "--for", "phone")["token"])
    made = next(one["id"] for one in phone.ask("GET", "api/lists").json())
    assert "TEL" not in phone.ask("GET", f"dav/lists/{made}/").text
    assert maren.told("share", "fields", "Crew")["fields"] == ["name", "address", "org", "job", "web", "labels"]
    assert "TEL" not in phone.ask("GET", f"dav/lists/{made}/").text, "to look changes nothing"
    maren.run("share", "fields", "Crew", "--include", "phones")
    maren.run("sync")
    assert phone.ask("GET", f"dav/lists/{made}/").text.count("TEL") == 2
    assert "no field" in maren.run("share", "fields", "Crew", "--include", "secrets", code=2).err
    assert "without its members' name" in maren.run("share", "fields", "Crew", "--exclude", "name", code=2).err
    end(team)


def test_what_is_shared_no_more_is_not_taken_for_emptied(team: Colleagues, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its owner excludes a field just after a colleague's program asked what is shared."""
    crew(team)
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", team.tor.environment["PYTHON_KEYRING_BACKEND"])
    team.maren.within("contact", "edit", "Una Berg", "--web", "https://kelp.example")
    team.maren.run("sync")
    changes = net.Client.changes

    def late(client: net.Client, remote: str, token: str) -> tuple[list[Card], str]:
        monkeypatch.setattr(net.Client, "changes", changes)
        team.maren.run("share", "fields", "Crew", "--exclude", "phones")
        team.maren.within("contact", "edit", "Una Berg", "--job", "Mate")
        team.maren.run("sync")
        return changes(client, remote, token)

    monkeypatch.setattr(net.Client, "changes", late)
    (done,) = sync.sync(Desk(home=team.tor.home)).lists
    assert (done.received, done.refused, done.conflicts) == (1, "", 0)
    una = line_of(team.tor, "Una Berg")
    assert una["job"] == "Mate" and [p["number"] for p in una["phones"]] == ["+44 1632 960001"]
    end(team)


def test_somebody_whom_a_phone_puts_there_meanwhile_under_another_name_is_one(
    team: Colleagues, monkeypatch: pytest.MonkeyPatch
) -> None:
    crew(team)
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", team.maren.environment["PYTHON_KEYRING_BACKEND"])
    token = team.maren.json("hub", "token", "new", "--for", "tablet")["token"]
    tablet = Person(team.hub.url, "maren@tidewick.example", token)
    lists_there: list[str] = []
    team.maren.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
    uid = line_of(team.maren, "Dot Fly")["uid"]
    put = net.Client.put

    def late(client: net.Client, some: Any) -> Any:
        monkeypatch.setattr(net.Client, "put", put)
        [remote] = some
        lists_there.append(remote)
        tablet.put(remote, "elsewhere", 201, card(uid, "Dot Fly").replace("UID:", "UID:urn:uuid:"))
        return put(client, some)

    monkeypatch.setattr(net.Client, "put", late)
    (done,) = sync.sync(Desk(home=team.maren.home)).lists
    assert (done.refused, done.received) == ("", 1)
    assert tablet.ask("GET", f"dav/lists/{lists_there[0]}/").text.count(uid + "\r\n") == 1
    end(team)


def test_many_taken_in_at_once_are_as_if_taken_in_one_by_one(team: Colleagues, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", team.maren.environment["PYTHON_KEYRING_BACKEND"])
    odd = (
        "Una Berg,una@kelp.example,+44 1632 960001,Kelp\n"  # known to both already, with another organisation
        "Ada Brine,office@kelp.example,,\nBo Brine,office@kelp.example,01632 960003,\n"  # a couple
        "Zoë Fjällgren,zoe@kelp.example,,Åse & Co\nMr Brine,mr@kelp.example,,Ebb\nNobody Reachable,,01632 960004,\n"
    )
    plain = [
        f"Holder Nr{chr(97 + n % 26)},h{n}@kelp.example,{'+44 1632 960009' if n % 2 else ''},Yard {n % 3}\n"
        for n in range(230)
    ]
    rows = "Name,E-mail,Phone,Organisation\n" + "".join(plain[:90]) + odd + "".join(plain[90:])
    rows += "Cy Brine,office@kelp.example,,\n"  # shares an address with somebody of another round
    monkeypatch.setattr(coming_in, "TOGETHER", 100)
    team.maren.run("import", str(team.maren.file("many.csv", rows)), "--into", "Many")
    team.maren.run("share", "offer", "Many", "--with", "tor@tidewick.example", "ida@tidewick.example")
    found = []
    for who, many in ((team.tor, first_fetch.MANY), (team.ida, 1000)):
        who.within("contact", "add", "Una Berg <una@kelp.example>", "--org", "Quay")
        for module in (first_fetch, coming_in):
            monkeypatch.setattr(module, "MANY", many)
        offers.answer(Desk(home=who.home), "Many", None, True, lambda done, of: None)
        db = sqlite3.connect(who.book)
        db.execute("CREATE VIRTUAL TABLE temp.terms USING fts5vocab(main, contact_text, row)")
        tables = ("(SELECT id, uid, name, opted_out, card FROM contact) ORDER BY id", "share_conflict ORDER BY number", "contact_facts ORDER BY contact", "temp.terms",
                  "contact_address ORDER BY hash, contact", "on_list ORDER BY contact", "share_member ORDER BY name")  # fmt: skip
        rows = [db.execute(f"SELECT * FROM {table}").fetchall() for table in tables]
        db.close()
        assert (len(rows[0]), len(rows[1])) == (237, 2)
        text = str(rows).replace(who.told("contact", "show", "Una Berg")["uid"], "(hers)")
        found.append(re.sub(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", "(then)", text))
    assert found[0] == found[1]
    team.maren.run("share", "stop", "Many")


def test_a_second_book_a_merge_and_a_list_removed_here(team: Colleagues, tmp_path: Path) -> None:
    crew(team)
    maren, tor = team.maren, team.tor
    second = Office(tmp_path / "second")
    second.folder.mkdir()
    second.within("setup", "--me", "Tor Vik <tor@tidewick.example>")
    second.run("hub", "connect", team.hub.url, "--code", team.hub.code("tor@tidewick.example"))
    assert second.json("sync")["lists"][0]["title"] == "Crew" and sorted(second.members("Crew")) == [
        "Bo Lund",
        "Una Berg",
    ]
    assert {t["name"] for t in second.json("hub", "token")} >= {t["name"] for t in tor.json("hub", "token")}
    # Two who are one here: the other card goes, and nobody is lost.
    tor.within("contact", "add", "U. Berg <una.berg@kelp.example>", "--into", "Crew")
    tor.run("sync")
    maren.run("sync")
    assert len(maren.members("Crew")) == 3
    maren.within("contact", "merge", "una@kelp.example", "una.berg@kelp.example")
    for one in (maren, tor, second):
        one.run("sync")
        assert len(one.members("Crew")) == 2
    assert "is shared, and you own it" in maren.run("list", "remove", "Crew", "--yes", code=2).err
    # A joined list that is removed is left; its people, and everybody else's list, stay.
    tor.within("list", "remove", "Crew", "--yes")
    tor.run("sync")
    assert second.json("sync", code=1)["lists"][0]["ended"] and second.members("Crew")
    assert "tor@tidewick.example" not in str(maren.told("share", "who", "Crew"))
    assert tor.told("find", "una") and len(maren.members("Crew")) == 2
    end(team)


def known_to_tor(team: Colleagues) -> None:
    """Tor has Una on Maren's Crew, and Bo, whom nobody shares; and edits Pilots, as Ida does, whose list it is."""
    crew(team)
    team.tor.within("contact", "add", "Bo Private <bo@home.example>", "--org", "Home")
    team.ida.within("list", "new", "Pilots")
    team.ida.within("share", "offer", "Pilots", "--with", "tor@tidewick.example", "--role", "editor")
    team.tor.within("share", "accept", "Pilots")


STRANGE_CARDS = {
    "a uid of another list": ("{una}", "Una Berg", "EMAIL:ida.catches@all.example\r\nORG:Elsewhere\r\n", "Una Berg"),
    "a uid of another list, of somebody else": ("{una}", "Cy Dale", "EMAIL:cy@all.example\r\n", None),
    "an address of another list": (
        "x1",
        "Una Berg",
        "EMAIL:una@kelp.example\r\nTEL:+44 1632 960099\r\nORG:Elsewhere\r\n",
        "Una Berg",
    ),
    "an opt-out": ("x2", "Una Berg", "EMAIL:una@kelp.example\r\nX-OPT-OUT:2026-11-28T10:00:00Z forged\r\n", "Una Berg"),
    "a private contact": ("x3", "Bo Private", "EMAIL:bo@home.example\r\nORG:Elsewhere\r\nTITLE:Mate\r\n", "Bo Private"),
}


@pytest.mark.parametrize("what", STRANGE_CARDS)
def test_a_card_speaks_for_its_list_only(team: Colleagues, what: str) -> None:
    known_to_tor(team)
    tor, ida = team.tor, team.ida
    uid, name, more, who = STRANGE_CARDS[what]
    before = {one: line_of(tor, one) for one in ("Una Berg", "Bo Private")}
    text = f"BEGIN:VCARD\r\nVERSION:4.0\r\nUID:{uid.format(una=before['Una Berg']['uid'])}\r\nFN:{name}\r\n{more}END:VCARD\r\n"
    tablet = Person(
        team.hub.url, "ida@tidewick.example", ida.json("hub", "token", "new", "--for", f"t {what}")["token"]
    )
    (made,) = [one["id"] for one in tablet.ask("GET", "api/lists", 200).json() if one["title"] == "Pilots"]
    tablet.put(made, "strange", 201, text)
    for change in ("", "NOTE:x\r\nTITLE:Captain\r\n"):
        if change:
            tablet.put(made, "strange", 204, text.replace("END:", f"{change}END:").replace("TITLE:Mate\r\n", ""))
        tor.run("sync", code=None)
        for one, was in before.items():
            now = line_of(tor, one)
            assert {**now, "memberships": 0, "lists": 0} == {**was, "memberships": 0, "lists": 0}, one
    if who is None:
        assert tor.members("Pilots") == ["Cy Dale"] and line_of(tor, "Cy Dale")["uid"] != before["Una Berg"]["uid"]
    else:
        assert tor.members("Pilots") == [who] and {c["list"] for c in tor.told("share", "conflicts")} == {"Pilots"}
    reached = {
        one["name"]: one["reachable"]
        for title in ("Crew", "Pilots")
        for one in tor.told("list", "show", title)["members"]
    }
    assert reached[who or "Cy Dale"] is (what != "an opt-out") or who == "Una Berg"
    if what == "an opt-out":
        crew_now, pilots = (tor.told("list", "show", title)["members"] for title in ("Crew", "Pilots"))
        assert [m["reachable"] for m in crew_now if m["name"] == "Una Berg"] == [True] and not pilots[0]["reachable"]
        counts = {one["title"]: (one["members"], one["reachable"]) for one in tor.told("list")}
        assert counts["Pilots"] == (1, 0)
    # What is one's own from then on does not go there either.
    mine = who or "Una Berg"
    tor.within("contact", "edit", mine, "--phone", "+44 1632 960077", "--web", "https://private.example")
    tor.run("sync", code=None)
    there = tablet.ask("GET", f"dav/lists/{made}/strange.vcf", 200).text
    assert "960077" not in there and "private.example" not in there
    tor.within("share", "leave", "Pilots")
    ida.within("share", "stop", "Pilots")
    end(team)


def test_a_mark_goes_only_by_a_word_of_its_own_and_a_mistyped_address_costs_nobody_anything(team: Colleagues) -> None:
    crew(team)
    tablet = Person(
        team.hub.url, "maren@tidewick.example", team.maren.json("hub", "token", "new", "--for", "mine")["token"]
    )
    (made,) = [one["id"] for one in tablet.ask("GET", "api/lists", 200).json() if one["title"] == "Crew"]
    uid = line_of(team.maren, "Una Berg")["uid"]
    team.tor.within("contact", "optout", "Una Berg", "--why", "asked")
    team.tor.run("sync")
    path = f"dav/lists/{made}/{uid}.vcf"
    text = tablet.ask("GET", path, 200).text
    bare = "".join(f"{line}\r\n" for line in text.splitlines() if not line.startswith("X-"))
    tablet.put(
        made, uid, 204, bare.replace("una@kelp.example", "una@@kelp.example").replace("END:", "TITLE:Mate\r\nEND:")
    )
    bad = card("new", "Cy Dale").replace("new@kelp.example", "x@@n.example")
    tablet.put(made, "new", 201, bad)
    team.maren.within("contact", "edit", "Bo Lund", "--org", "Kelp")
    done = team.maren.json("sync", code=1)["lists"][0]
    assert (done["came"], done["changed"], done["sent"]) == (1, 1, 1) and len(done["unreadable"]) == 2
    una = line_of(team.maren, "Una Berg")
    assert una["opted_out"] and una["job"] == "Mate" and una["addresses"][0]["address"] == "una@kelp.example"
    assert sorted(team.maren.members("Crew")) == ["Bo Lund", "Cy Dale", "Una Berg"]
    found = {one["name"]: one for one in team.maren.told("check", "Crew")}
    assert found["Cy Dale"]["kind"] == "unreadable" and "x@@n.example" in found["Cy Dale"]["what"]
    # Later edits travel, what could not be read stays; until somebody mends it.
    team.tor.run("sync", code=1)
    team.tor.within("contact", "edit", "Cy Dale", "--job", "Pilot")
    team.tor.run("sync")
    text = tablet.ask("GET", f"dav/lists/{made}/new.vcf", 200).text
    assert "x@@n.example" in text and "TITLE:Pilot" in text
    team.maren.within("contact", "edit", "Cy Dale", "--address", "cy@kelp.example")
    team.maren.run("sync", code=None)
    text = tablet.ask("GET", f"dav/lists/{made}/new.vcf", 200).text
    assert "x@@n.example" not in text and "cy@kelp.example" in text
    team.maren.within("contact", "optin", "Una Berg")
    team.maren.run("sync", code=None)
    team.tor.run("sync", code=None)
    assert not line_of(team.tor, "Una Berg")["opted_out"] and "X-OPT-IN:" in tablet.ask("GET", path, 200).text
    last = {m["name"]: m["changed_by"] for m in team.tor.told("list", "show", "Crew")["members"]}
    assert last["Una Berg"] == "Maren Holt <maren@tidewick.example>"
    history = team.tor.told("share", "history", "Crew")
    assert (history[0]["what"], history[0]["whom"], history[0]["by"][:5]) == ("changed", "Una Berg", "Maren")
    assert {one["what"] for one in history} == {"added", "changed"}
    end(team)


def test_lists_of_one_name_all_come_in_and_the_trouble_of_one_is_its_own(team: Colleagues) -> None:
    token = team.maren.json("hub", "token", "new", "--for", "script", "--everything")["token"]
    script = Person(team.hub.url, "maren@tidewick.example", token)
    tor = "people/tor@tidewick.example"
    for _ in range(3):
        made = script.ask("POST", "api/lists", 201, json={"title": "Crew"}).json()["id"]
        script.ask("PUT", f"api/lists/{made}/{tor}", 200, json={"role": "editor"})
    with closing(sqlite3.connect(team.hub.office.folder / "hub" / "hub.sqlite")) as db, db:
        db.execute("UPDATE role SET state = 'joined'")  # accepted elsewhere
    titles = [one["title"] for one in team.tor.json("sync")["lists"]]
    assert sorted(titles) == ["Crew", "Crew (maren@tidewick.example)", "Crew (maren@tidewick.example) 2"]
    team.tor.within("contact", "add", "Cy Dale <cy@kelp.example>", "--into", "Crew")
    team.tor.within("contact", "add", "Di Ebb <di@kelp.example>", "--into", titles[1])
    with closing(sqlite3.connect(team.hub.office.folder / "hub" / "hub.sqlite")) as db, db:
        db.execute("UPDATE role SET role = 'reader' WHERE list = (SELECT min(id) FROM shared_list)")
    done = {one["title"]: one for one in team.tor.json("sync", code=None)["lists"]}
    assert sum(one["sent"] for one in done.values()) >= 1 and any(one["role"] == "reader" for one in done.values())


def test_a_list_that_one_may_only_read_takes_nobody_in_from_a_file(team: Colleagues) -> None:
    crew(team, "reader")
    before = team.tor.everything()
    file = team.tor.file("more.csv", "Name,E-mail\nCy Dale,cy@pier.example\n")
    refused = team.tor.run("import", str(file), "--into", "Crew", code=2)
    assert "read" in refused.err and team.tor.everything() == before
    end(team)


def test_again_and_again_goes_on_through_everything_but_a_token_that_has_ended(office: Office) -> None:
    office.run("sync", "--every", "0s", code=2)
    with hub_in(office) as hub:
        office.run("hub", "connect", hub.url, "--code", hub.code("maren@tidewick.example"))
        office.within("contact", "add", "Una Berg <una@kelp.example>", "--into", "Crew")
        hub.code("tor@tidewick.example")
        office.run("share", "offer", "Crew", "--with", "tor@tidewick.example")
        with told_by(office, "sync", "--every", "1s") as hears:
            hears("out", "Crew: nothing new.")
            with FileLock(f"{office.book}.sync"):
                hears("err", "Another `barnacle sync` is using this book. Let it finish. The next attempt is in 1s.")
            hears("out", "Crew: nothing new.")
            with closing(sqlite3.connect(office.book, isolation_level=None)) as busy:
                busy.execute("BEGIN IMMEDIATE")
                hears("err", "Another Barnacle command is writing to this book.")
            hears("out", "Crew: nothing new.")
            hub.stop()
            hears("err", "cannot be reached (nothing answers there).")
            hub.start()
            hears("out", "Crew: nothing new.")
            office.run("hub", "token", "revoke", office.told("hub", "token")[0]["name"])
            hears("err", "does not let you in")
            assert hears("out", None) == 2  # it has ended


def test_over_tls_and_at_a_new_place(office: Office, tmp_path: Path) -> None:
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "ca.pem")
    authority.issue_cert("127.0.0.1").private_key_and_cert_chain_pem.write_to_path(tmp_path / "hub.pem")
    tls = ("--tls-cert", str(tmp_path / "hub.pem"), "--tls-key", str(tmp_path / "hub.pem"))
    with hub_in(office) as plain:
        office.run("hub", "connect", plain.url, "--code", plain.code("maren@tidewick.example"))
        office.within("contact", "add", "Una Berg <una@kelp.example>", "--into", "Crew")
        plain.code("tor@tidewick.example")
        office.run("share", "offer", "Crew", "--with", "tor@tidewick.example")
    with hub_in(office, *tls) as hub:
        code = hub.code("maren@tidewick.example")
        assert hub.url.startswith("https://127.0.0.1:")
        unproven = office.run("hub", "connect", hub.url, "--moved", "--code", code, code=2)
        assert "could not prove its identity" in unproven.err
        office.environment["SSL_CERT_FILE"] = str(tmp_path / "ca.pem")
        assert "add --moved" in office.run("hub", "connect", hub.url, "--code", code, code=2).err
        office.run("hub", "connect", hub.url, "--moved", "--code", code)
        office.within("contact", "edit", "Una Berg", "--job", "Master")
        assert office.json("sync")["lists"][0]["sent"] == 1


def test_fields_of_one_s_own_are_shared_where_that_was_asked_for(team: Colleagues) -> None:
    maren, tor = team.maren, team.tor
    crew(team)
    maren.within("contact", "edit", "Crew", "--set", "Voice=Alto", "--set", "Paid=no")
    for one in (maren, tor):
        one.run("sync")
    assert line_of(tor, "Una Berg")["fields"] == {}, "a sheet's columns are one's own"
    maren.run("share", "fields", "Crew", "--include", "fields")
    for one in (maren, tor):
        one.run("sync")
    assert line_of(tor, "Una Berg")["fields"] == {"Voice": "Alto", "Paid": "no"}
    # Both edit: different fields meet, the same one is asked about.
    maren.within("contact", "edit", "una", "--set", "Paid=yes", "--set", "Voice=Bass")
    tor.within("contact", "edit", "una", "--set", "Voice=Tenor", "--set", "Season=2026")
    tor.run("sync")
    maren.run("sync", code=None)
    assert line_of(maren, "Una Berg")["fields"] == {"Voice": "Tenor", "Paid": "yes", "Season": "2026"}
    (asked,) = maren.told("share", "conflicts")
    assert asked["mine"].endswith("Bass") and asked["theirs"].endswith("Tenor")
    maren.run("share", "conflicts", "--keep", "mine", "all")
    maren.within("contact", "edit", "bo", "--set", "Paid=")
    for one in (maren, tor):
        one.run("sync")
    assert line_of(tor, "Una Berg")["fields"]["Voice"] == "Bass" and "Paid" not in line_of(tor, "Bo Lund")["fields"]
    maren.run("share", "fields", "Crew", "--exclude", "fields")
    phone = Person(
        team.hub.url, "maren@tidewick.example", maren.json("hub", "token", "new", "--for", "mobile")["token"]
    )
    made = next(one["id"] for one in phone.ask("GET", "api/lists").json())
    assert "X-FIELD" not in phone.ask("GET", f"dav/lists/{made}/").text
    end(team)
