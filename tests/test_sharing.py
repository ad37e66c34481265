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

import keyring
import pytest
import trustme
from conftest import Office, told_by
from filelock import FileLock
from hubs import Person, RunningHub, card, hub_in
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from keyring.backends import null
from servers import wait

from barnacle.book import contacts, lists, shares
from barnacle.core import sharing as core
from barnacle.core.contact import Address, Contact
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import exchange, first_fetch, offers, roles, sync
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
        {"title": "Crew", "received": 0, "sent": 2, "conflicts": 0, "ended": False, "refused": ""}
    ]
    assert maren.json("sync")["lists"][0] | {"received": 2, "sent": 2} == maren.json("sync")["lists"][0] | {
        "received": 2,
        "sent": 2,
    }
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
    maren.run("undo", str(next(a["number"] for a in maren.told("history") if a["command"] == "list take")))
    maren.run("sync")
    tor.run("sync")
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


def test_roles_in_the_program(team: Colleagues) -> None:
    maren, tor, ida = team.maren, team.tor, team.ida
    crew(team, "reader", "--tell")
    assert "share waiting" in maren.json("preview", "m1")["text"]
    for command in (("list", "add", "Crew", "x@y.example"), ("list", "take", "Crew", "una"), ("list", "rename", "Crew", "X"),
                    ("contact", "add", "Zed <z@y.example>", "--into", "Crew")):  # fmt: skip
        assert "shared with you to read" in tor.run(*command, code=2).err
    assert "takes the role owner" in tor.run("share", "offer", "Crew", "--with", "ida@tidewick.example", code=2).err
    maren.within("list", "new", "Board", "Una Berg")
    maren.run("share", "offer", "Board", "--with", "nobody@tidewick.example", code=2)
    assert maren.told("list", "show", "Board")["shared"] is None, "shared with nobody is not shared"
    assert [one["title"] for one in maren.json("sync")["lists"]] == ["Crew"]
    offered = maren.run("share", "offer", "Crew", "--with", "ida@tidewick.example", "nobody@tidewick.example", code=1)
    assert "not a person of this hub" in offered.err
    assert ida.json("share", "waiting") == [{"list": "Crew", "from": "maren@tidewick.example", "role": "reader",
                                             "since": ida.json("share", "waiting")[0]["since"]}]  # fmt: skip
    ida.run("share", "decline", "Crew")
    people = {p["address"].partition("@")[0]: (p["role"], p["state"]) for p in maren.told("share", "who", "Crew")}
    assert people == {"maren": ("owner", "joined"), "tor": ("reader", "joined"), "ida": ("reader", "declined")}
    maren.run("share", "role", "Crew", "tor@tidewick.example", "editor")
    tor.run("sync")
    tor.within("list", "take", "Crew", "Bo Lund")
    tor.run("sync")
    maren.run("sync")
    assert maren.members("Crew") == ["Una Berg"]
    assert "last owner" in maren.run("share", "leave", "Crew", code=2).err
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
    assert "takes the role owner" in tor.run("share", "fields", "Crew", "--include", "labels", code=2).err
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
    maren.run("share", "fields", "Crew", "--include", "labels")
    maren.run("sync")
    assert phone.ask("GET", f"dav/lists/{made}/").text.count("TEL") == 2
    assert "no field" in maren.run("share", "fields", "Crew", "--include", "secrets", code=2).err
    assert "without the name" in maren.run("share", "fields", "Crew", "--exclude", "name", code=2).err
    end(team)


def test_what_is_shared_no_more_is_not_taken_for_emptied(team: Colleagues, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its owner excludes a field just after a colleague's program asked what is shared."""
    crew(team)
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", team.tor.environment["PYTHON_KEYRING_BACKEND"])
    changes = net.Client.changes

    def late(client: net.Client, remote: str, token: str) -> tuple[list[Card], str]:
        monkeypatch.setattr(net.Client, "changes", changes)
        team.maren.run("share", "fields", "Crew", "--exclude", "phones")
        team.maren.within("contact", "edit", "Una Berg", "--job", "Mate")
        team.maren.run("sync")
        return changes(client, remote, token)

    monkeypatch.setattr(net.Client, "changes", late)
    (done,) = sync.sync(Desk(home=team.tor.home))
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

    def late(client: net.Client, remote: str, cards: Any) -> Any:
        monkeypatch.setattr(net.Client, "put", put)
        lists_there.append(remote)
        tablet.put(remote, "elsewhere", 201, card(uid, "Dot Fly").replace("UID:", "UID:urn:uuid:"))
        return put(client, remote, cards)

    monkeypatch.setattr(net.Client, "put", late)
    (done,) = sync.sync(Desk(home=team.maren.home))
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
    monkeypatch.setattr(exchange, "TOGETHER", 100)
    team.maren.run("import", str(team.maren.file("many.csv", rows)), "--into", "Many")
    team.maren.run("share", "offer", "Many", "--with", "tor@tidewick.example", "ida@tidewick.example")
    found = []
    for who, many in ((team.tor, first_fetch.MANY), (team.ida, 1000)):
        who.within("contact", "add", "Una Berg <una@kelp.example>", "--org", "Quay")
        for module in (first_fetch, exchange):
            monkeypatch.setattr(module, "MANY", many)
        offers.answer(Desk(home=who.home), "Many", None, True, lambda done, of: None)
        db = sqlite3.connect(who.book)
        db.execute("CREATE VIRTUAL TABLE temp.terms USING fts5vocab(main, contact_text, row)")
        tables = ("contact ORDER BY id", "share_conflict ORDER BY number", "contact_facts ORDER BY contact", "temp.terms",
                  "contact_address ORDER BY hash, contact", "on_list ORDER BY contact", "share_member ORDER BY name")  # fmt: skip
        rows = [db.execute(f"SELECT * FROM {table}").fetchall() for table in tables]
        db.close()
        assert (len(rows[0]), len(rows[1])) == (237, 1)
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
                hears(
                    "err", "Another `barnacle sync` is at work on this book. Let it finish. The next exchange is in 1s."
                )
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
        assert "could not prove that it is what it says" in unproven.err
        office.environment["SSL_CERT_FILE"] = str(tmp_path / "ca.pem")
        assert "say --moved" in office.run("hub", "connect", hub.url, "--code", code, code=2).err
        office.run("hub", "connect", hub.url, "--moved", "--code", code)
        office.within("contact", "edit", "Una Berg", "--job", "Master")
        assert office.json("sync")["lists"][0]["sent"] == 1


# Any edits, in any order, by colleagues who are now and then connected.

FIELDS = ("org", "job", "web")
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("edit"), st.integers(0, 2), st.integers(0, 3), st.sampled_from(FIELDS)),
        st.tuples(st.just("phone"), st.integers(0, 2), st.integers(0, 3), st.none()),
        st.tuples(st.sampled_from(("take", "put", "new", "sync")), st.integers(0, 2), st.integers(0, 3), st.none()),
    ),
    min_size=3, max_size=22,
)  # fmt: skip


class Client:
    """A colleague's book, used in this process."""

    def __init__(self, home: Path, title: str) -> None:
        self.desk = Desk(home=home)
        self.title = title
        self.superseded: set[str] = set()

    def find(self, book: Any, number: int) -> Any:
        found = contacts.by_address(book, f"p{number}@kelp.example")
        return found[0] if found else None

    def act(self, what: str, number: int, field: str | None, value: str) -> None:
        if what == "sync":
            sync.sync(self.desk)
            return
        with self.desk.open() as book, book.action("test"):
            row = lists.by_exact_title(book, self.title).id  # type: ignore[union-attr]
            kept = self.find(book, number)
            if what == "new":
                made = contacts.add(book, Contact(f"New {value}", addresses=[Address(f"{value}@kelp.example")]))
                lists.add_member(book, row, made, "test")
            elif kept is None:
                return
            elif what == "take":
                self.superseded |= {getattr(kept.contact, f) for f in FIELDS} | {p.number for p in kept.contact.phones}
                lists.take_member(book, row, kept.id)
            elif what == "put":
                lists.add_member(book, row, kept.id, "test")
            elif lists.is_on(book, row, kept.id):
                if what == "edit" and field:
                    self.superseded.add(getattr(kept.contact, field))
                    setattr(kept.contact, field, value)
                else:
                    core.put_on_contact(
                        kept.contact, {}, {"phones": [[p.number, ""] for p in kept.contact.phones] + [[value, ""]]}
                    )
                contacts.save(book, kept.id, kept.contact)
                return
            else:
                return
        return

    def state(self) -> dict[str, Any]:
        with self.desk.open() as book:
            row = lists.by_exact_title(book, self.title).id  # type: ignore[union-attr]
            return {
                m.contact.addresses[0].address: {
                    **core.fields_of(m.contact, m.address, core.USUAL), "phones": sorted(p.number for p in m.contact.phones)
                }
                for m in lists.members(book, row)
            }  # fmt: skip

    def conflicts(self) -> list[Any]:
        with self.desk.open() as book:
            return [(c.field, core.in_text(c.mine), core.in_text(c.theirs), c.name) for c in shares.conflicts(book)]


@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(steps=STEPS)
def test_clients_that_edit_at_random_end_with_the_same_list_and_no_edit_is_gone(
    made: Colleagues, steps: list[Any]
) -> None:
    keyring.set_keyring(null.Keyring())
    folder = made.maren.folder.parent / "random"
    shutil.rmtree(folder, ignore_errors=True)
    title = "Random"
    clients = []
    for given_name in WHO:
        shutil.copytree(getattr(made, given_name).home, folder / given_name)
        clients.append(Client(folder / given_name, title))
    owner = clients[0]
    with owner.desk.open() as book, book.action("test"):
        row = lists.new(book, title).id
        for n in range(4):
            person = contacts.add(book, Contact(f"Person Nr{n}", addresses=[Address(f"p{n}@kelp.example")]))
            lists.add_member(book, row, person, "test")
    others = [f"{name}@tidewick.example" for name in list(WHO)[1:]]
    offers.offer(owner.desk, [title], others, "editor", list(core.USUAL), False, lambda d, t: None)
    for client in clients[1:]:
        offers.answer(client.desk, title, None, True, lambda d, t: None)
    values = {}
    for number, (what, who, person, field) in enumerate(steps):
        value = f"+44 1632 {960000 + number}" if what == "phone" else f"v{number}"
        before = clients[who].state().get(f"p{person}@kelp.example")
        clients[who].act(what, person, field, value)
        if what in ("edit", "phone") and before is not None:
            values[value] = person
    for _ in range(3):
        for client in clients:
            sync.sync(client.desk)
    states = [client.state() for client in clients]
    assert states[0] == states[1] == states[2]
    told = [c for client in clients for c in client.conflicts()]
    spoken = " ".join(str(part) for c in told for part in c)
    on = {f"Person Nr{n}": n for n in range(4)}
    doubted = {on[c[1] or c[2]] for c in told if c[0] == core.ON and (c[1] or c[2]) in on}
    superseded = set().union(*(client.superseded for client in clients))
    final = str(states[0])
    for value, person in values.items():
        assert value in final or value in spoken or value in superseded or person in doubted, (value, final, told)
    roles.stop(owner.desk, title)
