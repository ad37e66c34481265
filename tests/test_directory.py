"""The organisation's directory, at a real server: found, taken, kept right; and what can be wrong with it."""

from __future__ import annotations

import contextlib
import sqlite3
import subprocess
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path

import pytest
import trustme
from conftest import PROGRAM, Office
from servers import Slapd, directory

PEOPLE = "ou=people,dc=tidewick,dc=example"
MORE = """
dn: uid=odd,ou=people,dc=tidewick,dc=example
objectClass: inetOrgPerson
uid: odd
cn:: QWRhIChIb2xtKSAqIBtbMW1YHA==
sn: Holm
ou: berthing
jpegPhoto:: /9j/4AAQSkZJRgD/

dn: uid=ada,ou=people,dc=tidewick,dc=example
objectClass: inetOrgPerson
uid: ada
cn: Ada Holm
givenName: Ada
sn: Holm
mail: ada@tidewick.example
mobile: 07700 900777
ou: berthing
title: Berthing master
labeledURI: https://tidewick.example/ada her page

dn: uid=bo,ou=people,dc=tidewick,dc=example
objectClass: inetOrgPerson
uid: bo
cn: Bo Strand
sn: Strand
mail: bo.strand@tidewick.example
ou: berthing
"""


@pytest.fixture(scope="module")
def certificates(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("authority")
    folder.chmod(0o755)
    authority = trustme.CA()
    authority.cert_pem.write_to_path(folder / "ca.pem")
    authority.issue_cert("localhost", "127.0.0.1").private_key_and_cert_chain_pem.write_to_path(folder / "here.pem")
    return folder / "here.pem", folder / "ca.pem"


@pytest.fixture
def slapd(certificates: tuple[Path, Path]) -> Iterator[Slapd]:
    demo = files("barnacle.demo").joinpath("data", "directory.ldif").read_text("utf-8").partition("version: 1\n")[2]
    with directory(demo.lstrip() + MORE, *certificates) as server:
        yield server


@pytest.fixture
def desk(office: Office, slapd: Slapd) -> Office:
    office.run("setup", "--directory", slapd.plain + PEOPLE)
    return office


def test_found_by_any_part_shown_and_taken(desk: Office, slapd: Slapd) -> None:
    found = desk.json("directory", "find", "holm", "berth")["people"]
    assert [(one["name"], one["addresses"], one["department"]) for one in found] == [
        ("Ada (Holm) * [1mX", [], "berthing"),
        ("Ada Holm", ["ada@tidewick.example"], "berthing"),
    ]
    assert desk.json("directory", "find", "*")["people"][0]["name"].startswith("Ada (Holm) *"), "a star is no wildcard"
    assert not desk.json("directory", "find", ")(uid=*")["people"], "nothing of it is read as a filter"
    assert "Berthing master" in desk.run("directory", "show", "Ada Holm").out
    desk.run("directory", "take", "Ada Holm", "idris@tidewick.example", "--into", "Office")
    ada = desk.told("contact", "show", "ada")
    assert ada["addresses"][0]["address"] == "ada@tidewick.example" and ada["phones"] == [
        {"number": "07700 900777", "kind": "mobile"}
    ]
    assert (ada["job"], ada["web"], ada["fields"]) == (
        "Berthing master",
        "https://tidewick.example/ada",
        {"Department": "berthing"},
    )
    assert desk.members("Office") == ["Ada Holm", "Idris Vane"]
    assert "yes" in desk.run("directory", "find", "ada", "holm").out
    # Somebody who is in the book by address is joined, not added twice.
    desk.within("contact", "add", "Petra <petra@tidewick.example>")
    assert desk.json("directory", "take", "petra@tidewick.example")["taken"][0]["added"] is False
    assert desk.told("contact", "show", "petra@tidewick.example")["job"] == "Works and dredging"
    assert offered(desk, "barnacle directory show ada\\ h") == [r"Ada\ Holm"]


def offered(office: Office, typed: str) -> list[str]:
    """What the shell offers behind what is typed."""
    asked = {"_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "|", "_ARGCOMPLETE_SHELL": "bash", "COMP_LINE": typed}
    script = f"{PROGRAM} 8>&1 9>/dev/null >/dev/null"
    environment = {**office.environment, **asked, "COMP_POINT": str(len(typed))}
    done = subprocess.run(["bash", "-c", script], env=environment, capture_output=True, text=True, check=False)
    return [word.strip() for word in done.stdout.split("|") if word.strip()]


def test_wherever_a_person_is_named(desk: Office) -> None:
    desk.within("list", "new", "Office")
    desk.run("list", "add", "Office", "directory:ada@tidewick.example")
    assert desk.members("Office") == ["Ada Holm"]
    made = desk.json("compose", "--for", "directory:idris@tidewick.example", "--subject", "x", "--text", "y")
    assert made["recipients"] == 1 and desk.told("find", "idris")[0]["name"] == "Idris Vane"
    desk.run("undo")
    assert desk.told("find", "idris") == [], "what a command took from the directory goes with it"
    desk.within("list", "add", "Office", "Dot <dot@kelp.example>")
    desk.within("list", "new", "Kelp")
    desk.run("list", "add", "Kelp", "find:@kelp.example")
    assert desk.members("Kelp") == ["Dot"], "an @ does not make an address of a search"
    err = desk.run("list", "add", "Office", "Bo Strand", code=2).err
    assert "The directory has Bo Strand" in err and "directory:Bo Strand" in err
    assert "fits 2" in desk.run("list", "add", "Office", "directory:Holm", code=2).err
    assert (
        "Nobody in the directory"
        in desk.run("compose", "--for", "directory:xyzzy", "--subject", "x", "--text", "y", code=2).err
    )


def test_details_stay_right_and_ones_own_edits_stand(desk: Office, slapd: Slapd) -> None:
    desk.run("directory", "take", "Ada Holm", "Bo Strand", "idris@tidewick.example", "--into", "Office")
    desk.within("contact", "edit", "ada", "--job", "My own word")
    slapd.change(
        f"dn: uid=ada,{PEOPLE}\nchangetype: modify\nreplace: mail\nmail: ada.holm@tidewick.example\n-\nreplace: title\ntitle: Pilot\n\n"
        f"dn: uid=bo,{PEOPLE}\nchangetype: delete\n\n"
        f"dn: uid=idris,{PEOPLE}\nchangetype: modify\nreplace: title\ntitle: Harbour master\n"
    )
    seen = desk.run("directory", "refresh", code=None)
    assert "ada.holm@tidewick.example" in seen.out and "yours stays" in seen.out and "Bo Strand" in seen.out
    assert desk.told("contact", "show", "idris@tidewick.example")["job"] == "Deputy harbour master", (
        "nothing without a yes"
    )
    checked = [(one["kind"], one["what"]) for one in desk.told("check", "Office")]
    assert any(kind == "directory" and "left the directory" in what for kind, what in checked)
    assert any(kind == "directory" and "ada.holm@tidewick.example" in what for kind, what in checked)
    done = desk.json("directory", "refresh", "--yes")
    assert (done["looked_at"], done["changed"], done["gone"]) == (3, 2, ["Bo Strand"])
    ada = desk.told("contact", "show", "Ada Holm")
    assert ada["addresses"][0]["address"] == "ada.holm@tidewick.example" and len(ada["addresses"]) == 1
    assert (
        ada["job"] == "My own word"
        and desk.told("contact", "show", "idris@tidewick.example")["job"] == "Harbour master"
    )
    assert desk.json("directory", "refresh", "--yes")["changed"] == 0
    assert desk.json("directory", "refresh", "ada", "--over-mine", "--yes")["changed"] == 1
    assert desk.told("contact", "show", "Ada Holm")["job"] == "Pilot"
    desk.run("undo")
    assert desk.told("contact", "show", "Ada Holm")["job"] == "My own word"


def test_a_directory_that_was_set_up_anew_has_the_same_people(office: Office, certificates: tuple[Path, Path]) -> None:
    for number in range(2):  # with other numbers of its entries each time
        with directory(MORE.lstrip(), *certificates) as server:
            office.run("setup", "--directory", server.plain + PEOPLE)
            if not number:
                office.run("directory", "take", "Bo Strand", "ada@tidewick.example")
            done = office.json("directory", "refresh")
            assert (done["looked_at"], done["gone"], done["differences"]) == (2, [], [])


def test_a_list_by_a_filter_is_kept_up(desk: Office, slapd: Slapd) -> None:
    desk.run("list", "new", "Berthing", "--where", 'directory "(ou=berthing)" and not address missing')
    assert desk.members("Berthing") == []
    assert "Your lists by filter bring in 3" in desk.run("directory", "refresh", code=None).out
    desk.run("directory", "refresh", "--yes")
    assert desk.members("Berthing") == ["Ada Holm", "Bo Strand"]
    slapd.change(f"dn: uid=bo,{PEOPLE}\nchangetype: modify\nreplace: ou\nou: ferries\n")
    desk.run("directory", "refresh", "--yes")
    assert desk.members("Berthing") == ["Ada Holm"]
    assert 'directory "(ou=berthing)"' in desk.told("list", "show", "Berthing")["rule"]
    assert [one["name"] for one in desk.told("find", "--where", 'directory "(ou=berthing)" and label missing')] == [
        "Ada (Holm) * [1mX",
        "Ada Holm",
    ]
    assert "is not a filter" in desk.run("list", "rule", "Berthing", 'directory "ou=("', code=2).err
    write = ("compose", "--for", "Berthing", "--subject", "Tides", "--text", "Low at ten.")
    assert "directory" not in desk.run().out + desk.run(*write).out
    with contextlib.closing(sqlite3.connect(desk.book)) as db, db:
        db.execute("UPDATE directory_link SET at = '2026-09-04T12:00:00Z'")
    old = "Berthing follows the directory as it was on Friday 4 September 2026; `barnacle directory refresh` brings"
    assert old in desk.run().out and old in desk.run(*write).out
    desk.run("directory", "refresh", "--yes")
    assert "directory" not in desk.run().out + desk.run("preview", "m1").out


def test_letting_oneself_in_and_what_can_be_wrong(office: Office, slapd: Slapd, certificates: tuple[Path, Path],
                                                  talker: Callable[[Callable[..., None]], int]) -> None:  # fmt: skip
    authority = certificates[1]
    office.environment["BARNACLE_DIRECTORY_PASSWORD"] = "flood-gate"
    secure = slapd.secure + PEOPLE
    assert "directory.ca_file" in office.run("setup", "--directory", secure, code=1).out
    office.within("settings", "directory.ca_file", str(authority))
    assert "It works" in office.run("setup", "--directory", secure).out
    assert "It works" in office.run("setup", "--directory-user", "cn=admin,dc=tidewick,dc=example").out
    assert "flood-gate" not in (office.home / "barnacle.toml").read_text()
    nobody = office.run("setup", "--directory", f"{secure}??sub?(cn=Nobody*)", code=1).out
    assert "shows nobody at ou=people" in nobody and "It works" not in nobody
    assert (
        "has nothing at ou=persons"
        in office.run("setup", "--directory", secure.replace("people", "persons"), code=1).out
    )
    # Without encryption from the start, it is asked for; and by whom one is on this machine.
    started = slapd.plain.replace("127.0.0.1", "localhost") + PEOPLE
    assert "It works" in office.run("setup", "--directory", started).out
    assert "It works" in office.run("setup", "--directory", slapd.local + PEOPLE, "--directory-user", "external").out
    assert office.json("directory", "find", "ada", "holm")["people"]
    office.run("setup", "--directory", secure, "--directory-user", "cn=admin,dc=tidewick,dc=example")
    office.environment["BARNACLE_DIRECTORY_PASSWORD"] = "ebb"
    assert "does not accept this name" in office.run("directory", "find", "ada", code=2).err
    office.environment["BARNACLE_DIRECTORY_PASSWORD"] = ""
    assert "asks for the password" in office.run("directory", "find", "ada", code=2).err
    office.within("settings", "directory.user", "")
    assert (
        "has nothing at"
        in office.run("setup", "--directory", slapd.plain + "ou=nobody,dc=tidewick,dc=example", code=1).out
    )
    assert "cannot be reached" in office.run("setup", "--directory", "ldap://127.0.0.1:9/dc=x", code=1).out
    for wrong in ("http://x/dc=y", "ldap:///", "ldaps://u:p@host/dc=x", "ldap://h/dc=x??sub?((", "ldap://h:99999/x"):
        assert office.run("setup", "--directory", wrong, code=2).err
    port = talker(lambda line: line.sendall(b"\x00\xff" * 4000) or line.shutdown(2))
    assert office.run("setup", "--directory", f"ldap://127.0.0.1:{port}/dc=x", code=1).out
    office.within("settings", "directory.attributes", '["phone=telephoneNumber", "job=employeeType"]')
    office.run("setup", "--directory", slapd.plain + PEOPLE)
    assert office.json("directory", "find", "ada", "berthing")["people"][-1]["job"] == ""
    office.run("setup", "--directory", "")
    assert "doesn't know your organisation's directory" in office.run("directory", "find", "ada", code=2).err


def test_what_stands_elsewhere_is_said_and_not_asked(desk: Office, slapd: Slapd) -> None:
    slapd.change(
        f"dn: ou=far,{PEOPLE}\nchangetype: add\nobjectClass: referral\nobjectClass: extensibleObject\nou: far\n"
        "ref: ldap://192.0.2.1/ou=far,dc=tidewick,dc=example\n"
    )
    assert desk.json("directory", "find", "ada", "holm")["elsewhere"] == 1
    assert "those were not asked" in desk.run("directory", "find", "ada", "holm").out
    # The directory is gone: what stands in the book does not suffer.
    desk.run("directory", "take", "ada@tidewick.example")
    desk.run("setup", "--directory", "ldap://127.0.0.1:9/dc=x", code=1)
    assert "cannot be reached" in desk.run("directory", "refresh", "--yes", code=2).err
    assert "Nobody in the book" in desk.run("contact", "show", "Otto Nobody", code=2).err
    assert desk.run("contact", "show", "ada").out


def test_too_many_are_said_to_be(office: Office, certificates: tuple[Path, Path]) -> None:
    many = "".join(
        f"dn: uid=h{n},{PEOPLE}\nobjectClass: inetOrgPerson\nuid: h{n}\ncn: Holder Nr{n}\nsn: Nr{n}\nmail: h{n}@kelp.example\n\n"
        for n in range(900)
    )
    with directory(many, *certificates, size=1000) as server:
        office.run("setup", "--directory", server.plain + PEOPLE)
        found = office.json("directory", "find", "holder")
        assert len(found["people"]) == 200 and "more than 200" in found["more"]
        assert "not all" in office.run("directory", "find", "holder").out
    with directory(many, *certificates, size=50) as server:
        office.run("setup", "--directory", server.plain + PEOPLE)
        limited = office.json("directory", "find", "holder")
        assert len(limited["people"]) == 50 and "gives no more" in limited["more"]


def test_the_hub_takes_its_people_from_it(desk: Office, slapd: Slapd) -> None:
    data = ("--data", str(desk.folder / "hub"))
    slapd.change(f"dn: uid=bo,{PEOPLE}\nchangetype: delete\n")
    desk.run("hub", "person", "add", "gone@tidewick.example", *data)
    desk.run("hub", "person", "add", "ada@tidewick.example", *data)
    codes = desk.folder / "codes.csv"
    done = desk.run("hub", "person", "take", "--codes", str(codes), *data)
    assert "gone@tidewick.example" in done.out and "They were left in" in done.err
    text = codes.read_text()
    assert codes.stat().st_mode & 0o777 == 0o600 and "idris@tidewick.example" in text and "ada@" not in text
    again = desk.json("hub", "person", "take", "--codes", str(desk.folder / "more.csv"), *data, "--yes")
    assert (again["people"], again["removed"]) == (0, ["gone@tidewick.example"])
    assert "gone@" not in desk.run("hub", "person", *data).out and not (desk.folder / "more.csv").exists()
