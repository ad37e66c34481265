"""The demo's files through the installed program: in once, in again, out and into another book; who is known by what."""

from __future__ import annotations

import csv
import json
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from conftest import HANGS, Office, sheet_of
from servers import wait

from barnacle.core.contact import Address, Contact, Extra, OptOut, join
from barnacle.files import ldif
from barnacle.files.cards import jcard, jscontact, vcard

DATA = Path(__file__).parents[1] / "src" / "barnacle" / "demo" / "data"
# What each demo file comes to: rows read, people in them that can be taken, values refused.
FILES = {
    "berth-holders.csv": (116, 130, 2),
    "slipway-sign-up.csv": (52, 52, 1),
    "ferry-crews.tsv": (17, 17, 0),
    "suppliers.xlsx": (15, 15, 0),
    "card-file.vcf": (143, 141, 0),
    "directory.ldif": (40, 40, 0),
    "pasted-line.txt": (9, 9, 0),
}


def cards(office: Office) -> list[dict[str, Any]]:
    """Every contact's card as the book keeps it, but for when and how it came."""
    db = sqlite3.connect(office.book)
    rows = [json.loads(card) for (card,) in db.execute("SELECT card FROM contact ORDER BY name_key, id")]
    db.close()
    return [{key: value for key, value in card.items() if key not in ("source", "added")} for card in rows]


@pytest.mark.parametrize("name", FILES)
def test_each_demo_file_comes_in_whole_and_a_second_time_changes_nothing(office: Office, name: str) -> None:
    rows, people, refused = FILES[name]
    first = office.json("import", str(DATA / name), "--into", "Everyone", code=1 if refused else 0)
    assert (first["rows"], len(office.told("find")), len(first["refused"])) == (rows, people, refused)
    before = cards(office)
    again = office.json("import", str(DATA / name), "--into", "Everyone", code=1 if refused else 0)
    assert (again["rows"], again["added"], again["updated"]) == (rows, 0, 0)
    assert again["unchanged"] == first["added"] + first["updated"] + first["unchanged"]
    assert cards(office) == before and office.told("history")[0]["title"].startswith("Imported")
    assert len([e for e in office.told("history") if e["command"] == "import"]) == 1
    office.run("undo")
    assert office.told("find") == [] and office.told("list") == []


def test_a_birthday_of_a_sheet_stands_where_phones_look_for_it_and_comes_back_once(office: Office) -> None:
    rows = ["Bo Lund,12.03.1975", "Una Berg,1.4.81", "Cy Dale,31.12.08", "Elin Quay,30.2.1980", "Wim Ast,soon"]
    office.file("born.csv", "Name,Geburtsdatum\n" + "\n".join(rows) + "\n")
    office.run("import", "born.csv")
    assert [one["name"] for one in office.told("find", "--where", "Geburtsdatum is April")] == ["Una Berg"]
    for form, days in (("vcard", ["19750312", "19810401"]), ("jcard", ["1975-03-12", "1981-04-01"])):
        office.run("export", "all", "--as", form, "--out", form)
        text = (office.folder / form).read_text()
        told = [line.partition(":")[2] for line in text.splitlines() if line.startswith("BDAY")]
        told = told or [one[3] for card in json.loads(text) for one in card[1] if one[0] == "bday"]
        assert told == days, "of the others the day or its century is not known"
        assert office.told("import", form)["unchanged"] == len(rows)
    # A phone gives back the day without what it does not know.
    card = (office.folder / "vcard").read_text()
    office.file("phone.vcf", "".join(line for line in card.splitlines(True) if not line.startswith("X-FIELD")))
    office.run("import", "phone.vcf")
    shown = office.run("contact", "show", "bo").out
    assert "Geburtsdatum  12.03.1975" in shown and "Birthday" not in shown
    office.run("export", "all", "--as", "vcard", "--out", "again")
    assert (office.folder / "again").read_text().count("BDAY") == 2
    office.run("contact", "edit", "bo", "--set", "Geburtsdatum=13.03.1975")
    assert "BDAY:19750313" in office.run("export", "bo", "--fields", "all", "--as", "vcard").out
    assert "Birthday" not in office.run("contact", "show", "bo").out


@pytest.mark.parametrize("form", ["vcard", "vcard3", "jcard", "jscontact", "csv"])
def test_all_the_demo_goes_out_and_into_another_book_as_it_was(office: Office, tmp_path: Path, form: str) -> None:
    office.run(
        "import",
        *(str(DATA / name) for name in ("ferry-crews.tsv", "suppliers.xlsx", "directory.ldif", "card-file.vcf")),
    )
    office.run("export", "all", "--as", form, "--out", "all")
    other = Office(tmp_path / "other")
    other.folder.mkdir()
    other.within("setup", "--me", "Idris Vane <idris@tidewick.example>")
    other.run("import", str(office.folder / "all"))

    def bare(book: Office) -> list[dict[str, Any]]:
        kept = []
        for card in cards(book):
            card.pop("extra", None)
            card["addresses"] = card.get("addresses", [])[:1] + sorted(card.get("addresses", [])[1:])
            kept.append(card)
        return kept

    assert bare(other) == bare(office)
    # Out again, what was kept beside the fields is there still.
    other.run("export", "all", "--as", form, "--out", "again")
    if form.startswith("vcard"):
        assert (other.folder / "again").read_text().count("ORG:Tidewick Harbour Trust;Pilotage") > 3
    elif form == "csv":
        # But for the last column, which is the book's own.
        one, two = (
            sorted(line.rpartition(",")[0] for line in (book.folder / name).read_text("utf-8-sig").splitlines())
            for book, name in ((office, "all"), (other, "again"))
        )
        assert one == two and any("Since" in line for line in one)


def test_a_uid_leads_to_the_contact_also_after_a_merge_and_a_change_of_everything(crew: Office) -> None:
    card = "BEGIN:VCARD\nVERSION:4.0\nUID:{}\nFN:{}\nEMAIL:{}\nEND:VCARD\n"
    crew.file(
        "a.vcf",
        card.format("urn:uuid:x-1", "Ada Brine", "ada@kelp.example")
        + card.format("x-2", "Adah Brine", "adah@kelp.example"),
    )
    crew.run("import", "a.vcf")
    crew.within("contact", "merge", "ada@kelp.example", "adah@kelp.example")
    crew.file("b.vcf", card.format("x-2", "Mrs A Somebody-Else", "new@kelp.example"))
    report = crew.json("import", "b.vcf")
    assert (report["added"], report["updated"]) == (0, 1)
    assert [(d["field"], d["file"]) for d in report["differences"]] == [("name", "Mrs A Somebody-Else")]
    (ada,) = crew.told("find", "brine")
    assert {a["address"] for a in ada["addresses"]} == {"ada@kelp.example", "adah@kelp.example", "new@kelp.example"}
    # The same uid twice in one file is one person too.
    crew.file("c.vcf", card.format("y", "Cy Dale", "cy@kelp.example") + card.format("y", "Cy Dale", "cy@gull.example"))
    assert crew.json("import", "c.vcf")["added"] == 1 and len(crew.told("find", "cy dale")[0]["addresses"]) == 2


def test_a_rule_is_right_after_a_long_import_and_after_it_is_taken_back(crew: Office) -> None:
    crew.within("list", "new", "Kelp", "--where", "domain is kelp.example and not label is crew")
    assert len(crew.members("Kelp")) == 3
    crew.file("many.csv", "Name,E-mail,Tags\n" + "".join(
        f"Mate{n} Dale,m{n}@{'kelp' if n % 2 else 'gull'}.example,{'crew' if n % 3 == 0 else ''}\n" for n in range(900)
    ))  # fmt: skip
    crew.run("import", "many.csv")
    assert len(crew.members("Kelp")) == 3 + len([n for n in range(900) if n % 2 and n % 3])
    assert crew.told("list")[1]["members"] == len(crew.members("Kelp"))
    crew.run("undo")
    assert len(crew.members("Kelp")) == 3


def test_a_value_that_names_a_list_that_is_there_fills_that_one(crew: Office) -> None:
    crew.within("list", "new", "Pontoon A", "bo")
    crew.file(
        "berths.csv",
        "Pontoon,Name,E-mail\nA,Bo Lund,bo@kelp.example\na,Ada,ada@kelp.example\nCrew,Eve,eve@kelp.example\n,Cy,cy@kelp.example\n",
    )
    report = crew.json("import", "berths.csv", "--list-by", "Pontoon", "--into", "Everyone")
    assert [(o["title"], o["new"], o["came"]) for o in report["lists"]] == [
        ("Everyone", True, 4), ("Pontoon A", False, 1), ("Crew", False, 1),
    ]  # fmt: skip
    assert crew.members("Pontoon A") == ["Ada", "Bo Lund"] and crew.members("Everyone") == [
        "Ada",
        "Bo Lund",
        "Cy",
        "Eve",
    ]


def test_one_s_own_other_addresses_are_nobody_to_gather(office: Office) -> None:
    office.within("contact", "add", "Maren Holt <maren@tidewick.example>", "--address", "home:maren@kelp.example")
    office.file("sent", "From: Maren <maren@kelp.example>\nTo: Maren <maren@tidewick.example>, Ada <ada@kelp.example>\n"
                        "Date: Mon, 5 Jan 2026 10:00:00 +0000\n\nx\n")  # fmt: skip
    assert [(p["address"], p["sent"]) for p in office.json("gather", "sent")["people"]] == [("ada@kelp.example", 1)]


def test_no_report_and_no_table_runs_in_a_spreadsheet(office: Office) -> None:
    office.file(
        "evil.csv", "Name,E-mail,=Berth\n=cmd|'/c calc'!A1,x@y,1\n+Ada,ada@kelp.example,-7\n@Bo,bo@kelp.example,\n"
    )
    office.run("import", "evil.csv", "--report", "told.csv", code=1)
    office.run("export", "all", "--out", "all.csv")
    for name in ("told.csv", "all.csv"):
        for row in csv.reader((office.folder / name).read_text().splitlines()):
            assert not any(cell.startswith(("=", "+", "-", "@")) for cell in row), row
    before = cards(office)
    assert office.json("import", "all.csv")["updated"] == 0 and cards(office) == before
    assert {c["name"] for c in office.told("find")} == {"+Ada", "@Bo", "=cmd|'/c calc'!A1"}


def test_an_export_that_cannot_be_written_leaves_nothing_half(crew: Office) -> None:
    assert "cannot be written" in crew.run("export", "Crew", "--out", "nowhere/crew.csv", code=2).err
    (crew.folder / "folder.csv").mkdir()
    assert crew.run("export", "Crew", "--out", "folder.csv", "--yes", code=2).err
    assert sorted(p.name for p in crew.folder.iterdir()) == ["folder.csv", "home"]
    assert "Where to? `--out people.csv`" in crew.run("export", "Crew", code=2).err
    assert "`Nobody` is not a list" in crew.run("export", "Nobody", "--as", "csv", code=2).err


def test_what_is_the_book_s_own_goes_into_no_file() -> None:
    una = Contact("Una Berg", addresses=[Address("una@kelp.example")], uid="u", opt_out=OptOut("2026-01-01", "asked on the quay"),
                  source="import secret.csv", added="2026-01-01")  # fmt: skip
    whole = "".join(vcard.write([una], "4.0")) + json.dumps(jcard.card(una)) + "".join(ldif.write([una]))
    assert "quay" not in whole and "secret" not in whole and "2026" not in whole


def test_long_and_foreign_values_of_a_directory_entry_are_folded_and_encoded() -> None:
    una = Contact("Zoë Berg", note="n" * 300, addresses=[Address("una@kelp.example")],
                  extra=[Extra("ldif:x", json.dumps([" leading", "plain", {"b64": "AAH/"}]))])  # fmt: skip
    out = "".join(ldif.write([una]))
    assert all(len(line) <= 76 for line in out.splitlines())
    assert (
        "\ncn:: Wm/DqyBCZXJn\n" in out
        and "\nx:: IGxlYWRpbmc=\n" in out
        and "\nx: plain\n" in out
        and "\nx:: AAH/\n" in out
    )


def test_properties_of_the_newer_vcard_stand_under_names_of_their_own_in_the_older() -> None:
    una = Contact("Una", uid="u", extra=[Extra("vcard:GENDER", "GENDER:F"), Extra("vcard:TEL", "TEL;VALUE=uri:tel:none"),
                                         Extra("vcard:PHOTO", "PHOTO:data:image/png;base64,AAAA")])  # fmt: skip
    old = "".join(vcard.write([una], "3.0"))
    assert "X-GENDER:F\r\n" in old and "TEL:none\r\n" in old and "PHOTO;TYPE=PNG;ENCODING=b:AAAA\r\n" in old
    assert "KIND" not in "".join(vcard.write([una], "3.0", "Crew"))
    assert "KIND:group\r\nFN:Crew\r\nMEMBER:u\r\n" in "".join(vcard.write([una], "4.0", "Crew"))


CARD: dict[str, Any] = {
    "@type": "Card", "version": "1.0", "uid": "x", "name": {"full": "Ada Brine"}, "emails": {"e": {"address": "ada@kelp.example", "label": "mine"}},
    "phones": {"p": {"number": "01632 960001", "features": {"mobile": True}}}, "notes": {"n": {"note": "one"}, "m": {"note": "two"}},
    "links": {"a": {"uri": "https://kelp.example", "kind": "contact"}, "b": {"uri": "https://gull.example"}}, "keywords": {"crew": True},
}  # fmt: skip


@pytest.mark.parametrize(
    ("change", "path", "want"),
    [
        ({"name": "Ada Strand"}, ("name", "full"), "Ada Strand"),
        ({"note": "three"}, ("notes",), {"1": {"note": "three"}}),
        ({"note": ""}, ("notes",), None),
        ({"web": "https://ebb.example"}, ("links", "a"), {"uri": "https://ebb.example", "kind": "contact"}),
        ({"web": "https://ebb.example"}, ("links", "b", "uri"), "https://gull.example"),
        ({"job": "Pilot"}, ("titles",), {"1": {"name": "Pilot"}}),
        ({"labels": []}, ("keywords",), None),
        ({"addresses": [Address("ada@ebb.example", "home")]}, ("emails",), {"1": {"address": "ada@ebb.example", "contexts": {"private": True}}}),
        ({"addresses": [Address("ada@ebb.example"), Address("ada@kelp.example")]}, ("emails", "2"),
         {"address": "ada@kelp.example", "label": "mine", "pref": 2}),
        ({"phones": []}, ("phones",), None),
    ],
)  # fmt: skip
def test_a_card_that_came_as_json_goes_out_with_just_the_change(
    change: dict[str, Any], path: tuple[str, ...], want: Any
) -> None:
    (ada,) = jscontact.draft(CARD, 1).people
    assert jscontact.card(ada) == CARD
    for field, value in change.items():
        setattr(ada, field, value)
    found: Any = jscontact.card(ada)
    for step in path:
        found = found.get(step)
    assert found == want
    untouched = {key: value for key, value in CARD.items() if key != path[0]}
    assert {key: value for key, value in jscontact.card(ada).items() if key in untouched} == untouched


def test_joining_with_the_file_preferred_takes_its_values_and_says_so() -> None:
    known = Contact("Ada Brine", org="Ebb", note="old", extra=[Extra("csv:Berth", "A1"), Extra("vcard:X", "X:1")])
    new = Contact("Ada Strand", org="EBB", note="new", extra=[Extra("csv:Berth", "A2"), Extra("vcard:X", "X:2")])
    changed, differences = join(known, new, str, prefer_new=True)
    assert changed and [(d.field, d.book, d.file) for d in differences] == [
        ("name", "Ada Brine", "Ada Strand"),
        ("Berth", "A1", "A2"),
        ("X", "X:1", "X:2"),
    ]
    assert (known.name, known.org, known.note) == ("Ada Strand", "Ebb", "old; new")
    assert known.extra == [Extra("csv:Berth", "A2"), Extra("vcard:X", "X:2")]
    assert join(known, new, str, prefer_new=True) == (False, [])


def test_two_imports_at_once_are_both_whole_or_one_says_that_the_other_writes(office: Office) -> None:
    for name in ("a.csv", "b.csv"):
        office.file(name, sheet_of(4000, name[0]))
    processes = [office.start("import", name, "--quiet") for name in ("a.csv", "b.csv")]
    ended = [(process.communicate(timeout=HANGS), process.returncode) for process in processes]
    for (_, err), code in ended:
        assert code == 0 or (code == 2 and b"Another Barnacle command is writing" in err)
    assert len(office.told("find")) == 4000 * sum(code == 0 for _, code in ended) >= 4000


def test_an_import_that_is_killed_leaves_no_process_behind_and_no_row(office: Office) -> None:
    office.file("a.csv", sheet_of(200_000))
    process = office.start("import", "a.csv", "--quiet")
    size = office.book.stat().st_size
    wait(
        lambda: office.book.stat().st_size > size + 200_000 or process.poll() is not None, lambda: "nothing is written"
    )
    process.kill()
    process.communicate()
    assert process.returncode == -9, "the import was faster than the test"
    assert office.book.read_bytes()[18:20] == b"\1\1"  # a book with nobody in it is filled without a log

    def left() -> list[str]:
        found = []
        for one in Path("/proc").glob("[0-9]*"):
            try:
                if (one / "cwd").readlink() == office.folder and "import" in (one / "cmdline").read_text():
                    found.append(one.name)
            except OSError:
                continue  # ended meanwhile, or somebody else's
        return found

    wait(lambda: not left(), lambda: str(left()))
    assert office.told("find") == []
    assert office.book.read_bytes()[18:20] == b"\2\2"  # and gets it back
