"""Taking people in from CSV files as they really come."""

from __future__ import annotations

import codecs
import csv
import io
import random
import re
import sqlite3
import zipfile
from base64 import b64encode
from contextlib import closing
from dataclasses import replace
from itertools import chain
from pathlib import Path
from typing import Any

import pytest
from conftest import Office, sheet_of
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from barnacle.book.bulk import PlainPeople, Rows
from barnacle.book.index import rebuild
from barnacle.book.sums import row_sum
from barnacle.core.errors import FileError
from barnacle.core.text import fold
from barnacle.files.drafts import Fitting, Row
from barnacle.files.source import Table
from barnacle.files.tables.columns import Columns, Use
from barnacle.files.tables.csv_reader import find_layout, read_rows
from barnacle.files.tables.layout import find_tables
from barnacle.files.tables.rows import RowReader
from barnacle.jobs.imports.fast_rows import Gathered, PlainRows, Stamp

PEOPLE = "Name,E-mail\nZoë Fjällgren,zoe@kelp.example\nBo Lund,bo@kelp.example\n"


@pytest.mark.parametrize(
    ("encoded", "label"),
    [
        (PEOPLE.encode(), "UTF-8"),
        (codecs.BOM_UTF8 + PEOPLE.encode(), "UTF-8 with a mark"),
        (PEOPLE.encode("cp1252"), "Windows-1252"),
        (PEOPLE.encode("utf-16"), "UTF-16"),
        (PEOPLE.encode("utf-16-be"), "UTF-16"),
    ],
)
@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
def test_encoding_and_separator_are_worked_out_and_said(
    office: Office, encoded: bytes, label: str, separator: str
) -> None:
    if separator != ",":
        comma, other = (
            s.encode("utf-16-be" if b"\0" in encoded and encoded[0] == 0 else "utf-16-le")
            if b"\0" in encoded
            else s.encode()
            for s in (",", separator)
        )
        encoded = encoded.replace(comma, other)
    office.file("people.csv", encoded)
    report = office.json("import", "people.csv", "--into", "Crew")
    named = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}[separator]
    assert report["files"][0]["layout"] == f"{label}, separated by {named}"
    assert (report["rows"], report["added"], report["refused"]) == (2, 2, [])
    assert office.members("Crew") == ["Bo Lund", "Zoë Fjällgren"]


def test_the_columns_are_told_with_what_they_were_taken_for(office: Office) -> None:
    office.file(
        "berths.csv",
        (
            "Tidewick Harbour Trust;;;;;;;;\n;;;;;;;;\n"
            "Surname;First name;Contact details;Mobile;Company;Timestamp;Co-owner;Co-owner e-mail;Remarks\n"
            'Lund;Bo;"bo@kelp.example, bo@work.example";07700 900111;Ebb Chandlery;2026-01-02 10:00;Una Berg;'
            "una@kelp.example;key 14\n"
        ),
    )
    report = office.json("import", "berths.csv")
    assert report["columns"] == {
        "Surname": "family",
        "First name": "given",
        "Contact details": "address",
        "Mobile": "mobile phone",
        "Company": "org",
        "Timestamp": None,
        "Co-owner": "name of the second person",
        "Co-owner e-mail": "address of the second person",
        "Remarks": "note",
    }
    assert report["files"][0]["tables"][0]["header"] == 3 and report["rows"] == 1 and report["added"] == 1
    bo, una = sorted(office.told("find"), key=lambda c: c["name"])
    assert [a["address"] for a in bo["addresses"]] == ["bo@kelp.example", "bo@work.example"]
    assert [a["preferred"] for a in bo["addresses"]] == [True, False]
    assert (bo["name"], bo["org"], bo["notes"]) == ("Bo Lund", "Ebb Chandlery", "key 14")
    assert bo["phones"] == [{"number": "07700 900111", "kind": "mobile"}]
    assert [a["address"] for a in una["addresses"]] == ["una@kelp.example"]


def test_a_sheet_without_a_header_is_taken_too(office: Office) -> None:
    office.file("bare.csv", "Bo Lund,bo@kelp.example,01632 960001\nUna Berg,una@kelp.example,01632 960002\n")
    report = office.json("import", "bare.csv")
    assert report["columns"] == {"column A": "name", "column B": "address", "column C": "phone"}
    assert report["files"][0]["tables"][0]["header"] == 0 and report["added"] == 2


def test_a_column_of_addresses_is_addresses_whatever_its_title_and_a_note_that_names_one_is_a_note(
    office: Office,
) -> None:
    office.file("odd.csv", "Name,Boat,Note\nBo Lund,Bo <bo@kelp.example>,was bo@ebb.example\nUna,una@kelp.example,\n")
    assert office.json("import", "odd.csv")["columns"] == {"Name": "name", "Boat": "address", "Note": "note"}
    office.file("title.csv", "Name,Organisation\nIda Rask,ida@kelp.example; ida@ebb.example\n")
    assert office.json("import", "title.csv")["columns"] == {"Name": "name", "Organisation": "address"}
    office.file("who.csv", "Name\nEva Rask eva@kelp.example\n")
    assert office.json("import", "who.csv")["added"] == 1
    assert [(one["name"], one["addresses"][0]["address"]) for one in office.told("find", "eva")] == [
        ("Eva Rask", "eva@kelp.example")
    ]


@pytest.mark.parametrize("form", ["csv", "vcf", "ldif"])
def test_marks_round_a_name_and_an_address_in_its_place_are_no_name(office: Office, form: str) -> None:
    written = ["'Una Rask'", "“Bo Lind”", "'t Hart", 'Siv "Sissi" Holm', "P4@kelp.example", "Pat O'Hara"]
    rows = [(name, f"p{n}@kelp.example") for n, name in enumerate(written)]
    if form == "csv":
        lines = ['"{}",{}'.format(name.replace('"', '""'), address) for name, address in rows]
        office.file("people.csv", "\n".join(["Name,E-mail", *lines]))
    elif form == "vcf":
        cards = [
            f"BEGIN:VCARD\nVERSION:4.0\nFN:{name}\nN:{name};;;;\nEMAIL:{address}\nEND:VCARD\n" for name, address in rows
        ]
        office.file("people.vcf", "".join(cards))
    else:
        office.file(
            "people.ldif", "\n\n".join(f"dn: cn={a}\ncn:: {b64encode(n.encode()).decode()}\nmail: {a}" for n, a in rows)
        )
    office.run("import", f"people.{form}", "--into", "Members")
    told = {one["address"]: one["name"] for one in office.told("list", "show", "Members")["members"]}
    names = ["Una Rask", "Bo Lind", "'t Hart", 'Siv "Sissi" Holm', "p4@kelp.example", "Pat O'Hara"]
    assert told == {f"p{n}@kelp.example": name for n, name in enumerate(names)}
    office.run("compose", "p4@kelp.example", "--subject", "x", "--text", "Dear {name|all} {family|members}", "--each")
    assert "Dear all members" in office.run("preview", "m1").out


def test_refused_rows_are_listed_and_cost_no_good_row(office: Office) -> None:
    office.file(
        "mixed.csv",
        (
            "Name,E-mail,Phone\n"
            "Ada Brine,ada@kelp.example,01632 960001\n"
            "Bo Lund,bo at kelp,\n"
            '"Cy Dale,cy@kelp.example,\n'
            "Dee Strand,dee@kelp.example,01632 960002,stray,cells\n"
            "\n"
            "Eve Rask,eve@kelp.example; eve@kelp,not yet\n"
            "Fay Keel,n/a,\n"
            ",,01632 960003\n"
            "Short\n"
        ),
    )
    ran = office.run("import", "mixed.csv", "--into", "Crew", "--json", code=1)
    report = ran.json
    assert [(r["row"], r["column"], r["value"]) for r in report["refused"]] == [
        (3, "E-mail", "bo at kelp"),
        (4, "", '"Cy Dale,cy@kelp.example,'),
        (5, "", "stray"),
        (7, "E-mail", "eve@kelp"),
        (9, "", "01632 960003"),
    ]
    assert [r["reason"] for r in report["refused"]] == [
        "it has no @",
        "a quote opens in this row and is never closed",
        "the row has 5 cells where the header has 3",
        "there is no ending such as .example after `kelp`",
        "it has neither a name nor an address",
    ]
    assert report["rows"] == 8 and report["added"] == 5
    assert office.members("Crew") == ["Ada Brine", "Bo Lund", "Eve Rask", "Fay Keel", "Short"]
    assert office.told("find", "bo lund")[0]["notes"] == "E-mail: bo at kelp"  # he comes in without it
    assert office.told("find", "eve")[0]["notes"] == "not yet"


def test_the_same_file_again_changes_nothing(office: Office) -> None:
    office.file(
        "couples.csv",
        (
            "Owner,E-mail,Phone,Co-owner\nUna Berg,berg@kelp.example,01632 960001,Per Berg\n"
            "Tom Pike,pike@kelp.example,,Tom Pike jun.\nIda Rask,,,\n,office@kelp.example,,\n"
        ),
    )
    first = office.json("import", "couples.csv", "--into", "Crew", "--label", "berth")
    before = office.everything()
    again = office.json("import", "couples.csv", "--into", "Crew", "--label", "berth")
    assert (first["added"], again["added"], again["updated"], again["unchanged"]) == (4, 0, 0, 4)
    assert again["joined"] == 4
    assert office.everything() == before
    assert [e["command"] for e in office.told("history")] == ["import", "setup"]


def test_a_known_address_joins_unless_the_name_contradicts(crew: Office) -> None:
    crew.file(
        "form.csv",
        (
            "Name,E-mail,Phone,Organisation\n"
            "B. Lund,BO@Tidewick.example,01632 960001,Ebb Chandlery\n"
            "Kit Rudd,bo@kelp.example,,\n"
            "Per Berg,berg@kelp.example,,Skerry Timber\n"
            "Cy Dale,cy@kelp.example,,\n"
        ),
    )
    report = crew.json("import", "form.csv")
    assert (report["added"], report["updated"], report["joined"]) == (2, 2, 2)
    assert report["sharing"] == [
        {"file": "form.csv", "row": 3, "name": "Kit Rudd", "address": "bo@kelp.example", "with": ["Bo Lund"]}
    ]
    assert [(d["field"], d["book"], d["file"]) for d in report["differences"]] == [("name", "Bo Lund", "B. Lund")]
    bo = crew.told("contact", "show", "Bo Lund")
    assert (bo["org"], [p["number"] for p in bo["phones"]]) == ("Ebb Chandlery", ["01632 960001"])
    assert crew.told("contact", "show", "Per Berg")["org"] == "Skerry Timber"
    assert crew.told("contact", "show", "Una Berg")["org"] == ""


def test_nothing_in_the_book_is_overwritten_and_one_undo_takes_all_back(crew: Office) -> None:
    before = crew.everything()
    crew.file(
        "form.csv", "Name,E-mail,Phone,Note\nBo Lund,bo@tidewick.example,+44 1632 960001,new\nCy,cy@kelp.example,,\n"
    )
    crew.within("contact", "add", "Bo Lund <bo@tidewick.example>", "--phone", "01632 960001", "--note", "old")
    crew.json("import", "form.csv", "--into", "Fresh")
    bo = crew.told("contact", "show", "Bo Lund")
    assert bo["notes"] == "old; new" and len(bo["phones"]) == 1
    crew.run("undo")
    crew.run("undo")
    assert crew.everything() == before


def test_an_import_of_many_is_taken_back_whole_or_not_at_all(crew: Office) -> None:
    crew.file(
        "many.csv",
        "Name,E-mail,Label,Berth\n" + "".join(f"Cy Dale{n},cy{n}@kelp.example,Deck,{n}\n" for n in range(2300)),
    )
    before = crew.everything()
    crew.within("import", "many.csv", "--into", "Fresh")
    assert len(crew.told("find", "cy77")) == 11, "and with that the text index has them"
    after = crew.everything()
    crew.run("undo", "--yes")
    assert crew.everything() == before and crew.told("find", "cy77") == []
    crew.within("book", "check")
    crew.within("undo", str(crew.told("history")[0]["number"]), "--yes")
    assert crew.everything() == after and len(crew.told("find", "cy77")) == 11
    crew.within("book", "check")
    number = next(one["number"] for one in crew.told("history") if one["command"] == "undo")
    crew.within("contact", "edit", "cy1234@kelp.example", "--note", "keeps the key")
    after = crew.everything()
    said = crew.run("undo", str(number), "--yes", code=2).err
    assert "builds on it" in said and crew.everything() == after


def test_a_plan_says_the_same_and_does_nothing(crew: Office) -> None:
    crew.file("form.csv", "Name,E-mail\nBo Lund,bo@tidewick.example\nCy Dale,cy@kelp.example\nEve,eve@kelp\n")
    before = crew.everything()
    planned = crew.json("import", "form.csv", "--into", "Fresh", "--plan", code=1)
    assert crew.everything() == before
    done = crew.json("import", "form.csv", "--into", "Fresh", code=1)
    assert {**planned, "planned": False} == done
    assert "Nothing was changed" in crew.run("import", "form.csv", "--plan", code=1).out


def test_namesakes_without_an_address_go_to_review(crew: Office) -> None:
    crew.file("names.csv", "Name,Phone\nBo Lund,01632 960009\nIda Rask,01632 960010\n")
    report = crew.json("import", "names.csv")
    assert [(one["row"], one["name"]) for one in report["review"]] == [(2, "Bo Lund")]
    assert report["review"][0]["like"] == crew.told("contact", "show", "bo@kelp.example")["uid"]
    assert len(crew.told("find", "Ida")) == 1


def test_nobody_of_a_sheet_is_lost_who_has_somebody_s_name(office: Office) -> None:
    office.file(
        "club.csv",
        "Name,E-mail,Birthday,Street,Member number\n"
        "Tom Pike,,1951-02-09,5 Rope Walk,4711\nTom Pike,,1984-11-23,5 Rope Walk,4712\n"  # father and son
        "Una Berg,,1971-01-01,3 Salt Row,4713\nUna Berg,,1971-01-01,3 Salt Row,4713\n"
        "Ida Rask,,,1 Quay Lane,4714\nIda Rask,,,9 Salt Row,4720\n"
        "Per Holm,holm@kelp.example,12.3.1950,,\nPer Holm,holm@kelp.example,30.9.1981,,\n",
    )
    said = office.json("import", "club.csv", "--into", "Club")
    assert (said["added"], said["unchanged"]) == (7, 1)
    assert [(one["row"], one["reason"]) for one in said["review"] if one["reason"].startswith("the")] == [
        (3, "the same name, but another birthday"), (7, "the same name, but another street"),
    ]  # fmt: skip
    assert [one["row"] for one in said["sharing"]] == [9]
    assert len(office.told("list", "show", "Club")["members"]) == 7
    again = office.json("import", "club.csv", "--into", "Club")
    assert (again["added"], again["unchanged"]) == (0, 8), "each row is who it was"
    # Somebody who has moved is known by birthday and number.
    office.file("later.csv", "Name,Birthday,Street,Member number\nTom Pike,1984-11-23,7 Salt Row,4712\n")
    moved = office.json("import", "later.csv")
    assert (moved["added"], [one["field"] for one in moved["differences"]]) == (0, ["Street"])


def test_a_crowd_of_one_name_comes_in_whole_in_bounded_time_and_is_known_again(office: Office) -> None:
    rows = [f"Guest,{n % 20},{10_000 + n * 7}" for n in range(400)]
    office.file("guests.csv", "\n".join(["Name,Table,Number", *rows]))
    said = office.json("import", "guests.csv")
    assert (
        said["added"] == 400
        and sum(one["reason"] == "the same name, but another table" for one in said["review"]) < 800
    )
    again = office.json("import", "guests.csv")
    assert (again["added"], again["unchanged"]) == (0, 400)


def test_in_a_crowd_of_one_name_a_phone_tells_who_it_is(office: Office) -> None:
    rows = [f"Guest,01632 9{n:05d}" for n in range(100, 160)]
    office.file("guests.csv", "\n".join(["Name,Phone", *rows]))
    assert office.json("import", "guests.csv")["added"] == 60
    office.file("again.csv", "\n".join(["Name,Phone", *(row.replace("01632", "+44 1632") for row in rows)]))
    assert office.json("import", "again.csv")["added"] == 0


def test_in_a_book_of_thousands_a_mistyped_name_is_met_all_the_same(office: Office) -> None:
    pick = random.Random(5)
    names = ["".join(pick.choices("abdefgiklmnoprstu", k=6)).capitalize() for _ in range(6_000)]
    rows = [f"{one} {other},p{n}@kelp.example," for n, (one, other) in enumerate(zip(names, names[::-1], strict=True))]
    rows.append("Torva Skarn,torva.skarn@kelp.example,01632 960001")
    office.file("all.csv", "\n".join(["Name,E-mail,Phone", *rows]))
    office.run("import", "all.csv")
    office.file("more.csv", "Name,E-mail,Phone\nTorwa Skarn,t.skarn@gull.example,01632 960001\n")
    said = office.json("import", "more.csv")
    assert [(one["row"], one["name"]) for one in said["review"]] == [(2, "Torwa Skarn")]
    assert said["review"][0]["like"] == office.told("contact", "show", "torva.skarn@kelp.example")["uid"]


def zipped(name: str, megabytes: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive, archive.open(name, "w") as file:
        for _ in range(megabytes):
            file.write(bytes(1 << 20))
    return out.getvalue()


ZIPPED, BOMB = zipped("people.txt", 1), zipped("xl/workbook.xml", 320)


@pytest.mark.parametrize(
    ("name", "content", "sentence"),
    [
        ("gone.csv", None, "There is no file gone.csv in /"),
        ("gone/a.csv", None, "There is no file gone/a.csv: there is no folder gone."),
        ("https://kelp.example/a.csv", None, "https://kelp.example/a.csv is a link. Save what is there to a file,"),
        ("empty.csv", b"", "empty.csv is empty."),
        ("blank.csv", b"\n \n", "blank.csv is empty."),
        ("header.csv", b"Name,E-mail\n", "header.csv has a header but no rows, so nothing was added."),
        ("book.csv", b"PK\x03\x04rest", "book.csv is not a workbook that can be read, or is damaged."),
        ("bin.csv", b"Name,E-mail\n\0\1\2\xff" * 9, "bin.csv is not a text file: it holds binary data."),
        (
            "tides.csv",
            b"Day,High,Low\nMo,4.1,0.9\nTu,4.3,0.7\n",
            "No column of tides.csv looks like names or addresses",
        ),
        ("allbad.csv", b"Name,E-mail\n,ada@x\n", ""),
        ("cut.vcf", b"BEGIN:VCARD\nFN:Ada\n", ""),
        ("cut.json", b'[{"@type":"Card"', "cut.json is not valid JSON: see line 1, column 17"),
        ("deep.json", b'[{"a":' * 5000, "deep.json is"),
        ("card.json", b'{"a":1}', ""),
        ("zip.csv", ZIPPED, "zip.csv is a zip archive, not a workbook."),
        ("bomb.xlsx", BOMB, "bomb.xlsx unpacks to more than 300 MB"),
        ("wide.csv", b"x," * 10_000 + b"\n", "No column of wide.csv"),
        ("latin.csv", b"Name,E-mail\n,\xe9\xff@x\n", ""),
    ],
)
def test_a_file_that_gives_nothing_leaves_nothing(
    office: Office, name: str, content: bytes | None, sentence: str
) -> None:
    if content is not None:
        office.file(name, content)
    ran = office.run("import", name, "--into", "Crew", code=2)
    assert ran.err.startswith(sentence)
    assert office.told("list") == [] and len(office.told("history")) == 1


def test_control_characters_never_reach_the_terminal(office: Office) -> None:
    office.file(
        "evil.csv",
        'Name,E-mail\nAda \x1b[31mBrine\u202e,ada@kelp.example\n"Bo\nLund",bo@kelp.example\nCy\0 Dale,cy@kelp.example\n',
    )
    ran = office.run("import", "evil.csv", "--into", "Crew")
    assert "\x1b" not in ran.out
    cleaned = [row[:2] + row[3:] for row in ran.rows if len(row) == 4]
    assert cleaned[-3:] == [[str(n), "Name", "a line break or control character became a space"] for n in (2, 3, 4)]
    assert office.members("Crew") == ["Ada [31mBrine", "Bo Lund", "Cy Dale"]


def test_a_crash_half_way_leaves_the_book_as_it_was(crew: Office) -> None:
    crew.file("long.csv", sheet_of(30_000))
    before = crew.everything()
    process = crew.start("import", "long.csv", "--into", "Fresh")
    while not crew.being_written() and process.poll() is None:
        pass
    process.kill()
    process.communicate()
    assert process.returncode == -9, "the import was faster than the test"
    assert crew.everything() == before


FORM = (
    "Pontoon,Owner,E-mail,Phone,Boat,Secret\n"
    "A,Ada Brine,ada@kelp.example,01632 960001,Dunlin,x\n"
    "B,Bo Lund,bo@tidewick.example,,Petrel,y\n"
    "Night crew,Cy Dale,cy@kelp,01632 960003,,z\n"
)


def test_a_column_can_name_the_list_and_be_said_what_it_holds(crew: Office) -> None:
    crew.file("form.csv", FORM)
    report = crew.json(
        "import", "form.csv", "--list-by", "pontoon", "--columns", "Boat=label, F=drop, Pontoon=drop",
        "--keep-columns", "berths", "--only-good", code=1,
    )  # fmt: skip
    assert [(o["title"], o["new"], o["came"]) for o in report["lists"]] == [
        ("Pontoon A", True, 1),
        ("Pontoon B", True, 1),
    ]
    assert crew.told("contact", "show", "ada")["labels"] == ["Dunlin"]
    crew.file("later.csv", FORM.replace("x\n", "xx\n") + "A,Eve Rask,eve@kelp.example,,Teal,\n")
    later = crew.json("import", "later.csv", "--columns", "berths", "--list-by", "A", "--only-good", code=1)
    assert (later["added"], later["unchanged"], later["differences"]) == (1, 2, [])
    assert "secret" not in crew.run("export", "all", "--as", "csv").out.lower()
    for wrong, said in (
        ("Bow=note", "has no column `Bow`"),
        ("Boat=ship", "cannot be `ship`"),
        ("x", "The ones you have are berths"),
    ):
        assert said in crew.run("import", "form.csv", "--columns", wrong, code=2).err
    assert "has no column `Quay`" in crew.run("import", "form.csv", "--list-by", "Quay", code=2).err


def test_differences_are_listed_and_decided_by_whom_one_prefers(crew: Office) -> None:
    crew.file("form.csv", "Name,E-mail,Organisation,Berth\nBo Lund,bo@kelp.example,Ebb Chandlery,A1\n")
    crew.run("import", "form.csv")
    crew.file("form.csv", "Name,E-mail,Organisation,Berth\nBo Lund,bo@kelp.example,Skerry Timber,A2\n")
    kept = crew.json("import", "form.csv")
    told = [(d["field"], d["book"], d["file"], d["kept"]) for d in kept["differences"]]
    assert told == [("org", "Ebb Chandlery", "Skerry Timber", "book"), ("Berth", "A1", "A2", "book")]
    assert (kept["unchanged"], crew.told("contact", "show", "bo")["org"]) == (1, "Ebb Chandlery")
    assert crew.json("import", "form.csv", "--prefer", "file")["updated"] == 1
    assert crew.told("contact", "show", "bo")["org"] == "Skerry Timber"
    assert crew.json("import", "form.csv", "--prefer", "file")["differences"] == []


def test_who_answers_a_form_again_means_the_later_answer(office: Office) -> None:
    header = "Timestamp,Email,Name,Full name,Will you come to the party?,Met hoeveel personen kom je?\n"
    answers = [
        "11/20/2026 9:12:33,una@kelp.example,Una Keel,,Yes,2\n", "11/20/2026 9:40:00,anonymous,Anonymous,Tom Pike,Perhaps,1\n",
        "11/20/2026 9:50:00,una@kelp.example,Una Keel,,Yes please,3\n", "11/21/2026 9:50:00,una@kelp.example,Una Keel,,No thanks,0\n",
        "11/22/2026 9:50:00,una@kelp.example,Una Keel,,Yes,1\n",
    ]  # fmt: skip

    def told(number: int, *more: str) -> tuple[list[tuple[str, ...]], set[str]]:
        office.file("form.csv", header + "".join(answers[:number]))
        report = office.told("import", "form.csv", "--into", "Party", *more)
        kinds = {*report["files"][0]["tables"][0]["kinds"].values()}
        assert "days" in kinds and kinds <= {"days", "numbers", "yes or no", "mostly yes or no"}
        found = [
            (one["field"].partition(" ")[0], one["book"], one["file"], one["kept"]) for one in report["differences"]
        ]
        return found, set(office.members("Coming")) if number > 1 else set()

    assert told(1) == ([], set())
    office.run("list", "new", "Coming", "--where", "will you come to the party? is yes")
    again = [("Will", "Yes", "Yes please", "later row"), ("Met", "2", "3", "later row")]
    assert told(3) == (again, {"Una Keel"}), "against what the book has of the last time"
    assert told(3) == ([], {"Una Keel"})
    assert office.members("Party") == ["Tom Pike", "Una Keel"]
    more = [("Will", "Yes please", "No thanks", "later row"), ("Met", "3", "0", "later row")]
    assert told(4) == (more, set())
    assert told(4) == ([], set())
    # What somebody says in the book stays, and is told once, of the last answer.
    office.run("contact", "edit", "una", "--set", "Met hoeveel personen kom je?=4")
    assert told(4) == ([("Met", "4", "0", "book")], set())
    kept = [("Met", "4", "1", "book"), ("Will", "No thanks", "Yes", "later row")]
    assert told(5) == (kept[::-1], {"Una Keel"}) and told(5, "--prefer", "file") == (
        [("Met", "4", "1", "file")],
        {"Una Keel"},
    )
    # The whole at once comes to the same.
    office.run("contact", "remove", "una", "tom", "--yes")
    assert told(5) == ([("Met", "2", "1", "later row")], {"Una Keel"}), (
        "that she said yes at first and last is no change"
    )
    assert re.search("kom je\\? +1\n", office.run("contact", "una").out)
    said = office.run("import", "form.csv", "--into", "Other").out
    assert "makes a list of who said yes" in said


def test_the_report_has_what_differs_who_shares_and_who_may_be_known(office: Office) -> None:
    head = "Name,E-mail,Phone,Organisation\n"
    office.file("old.csv", head + "Bo Lund,bo@kelp.example,,Kelp\nUna Berg,berg@kelp.example,,Kelp\n"
                                  "Cy Dale,cy@kelp.example,01632 960003,Kelp\nDee Fay,dee@kelp.example,,Kelp\n")  # fmt: skip
    office.file("new.csv", head + "Bo Lund,bo@kelp.example,,=Ebb\nPer Berg,berg@kelp.example,,Kelp\n"
                                  "Cy Dale,cy@pier.example,01632 960003,Kelp\nDee Fay,dfay@pier.example,,Kelp\n")  # fmt: skip
    office.within("import", "old.csv")
    office.run("import", "new.csv", "--report", "told.csv")
    with (office.folder / "told.csv").open(newline="") as file:
        told = {row["What"]: row for row in csv.DictReader(file)}
    assert told.keys() == {"differences", "sharing", "joins", "review"} and {row["File"] for row in told.values()} == {
        "new.csv"
    }
    differs, shares, review = (told[what] for what in ("differences", "sharing", "review"))
    assert (differs["Row"], differs["Column"], differs["Value"]) == ("2", "org", "'=Ebb"), "no cell is a formula"
    assert differs["Reason"] == "Bo Lund: the book has `Kelp`; the book's value counts"
    assert (shares["Value"], shares["Reason"]) == ("berg@kelp.example", "Per Berg shares it with Una Berg")
    assert told["joins"]["Row"] == "4" and "same phone" in told["joins"]["Reason"]
    assert review["Row"] == "5" and review["Reason"].startswith("perhaps Dee Fay (")


def test_who_turns_out_to_be_on_the_list_already_is_counted_once(office: Office) -> None:
    head = "Name,E-mail,Phone\n"
    office.file("old.csv", head + "Cy Dale,cy@kelp.example,01632 960003\nUna Berg,una@kelp.example,\n")
    office.within("import", "old.csv", "--into", "Crew")
    office.file("new.csv", head + "Cy Dale,cy@pier.example,01632 960003\nBo Lund,bo@kelp.example,\n")
    done = office.json("import", "new.csv", "--into", "Crew")
    assert done["lists"] == [{"title": "Crew", "new": False, "came": 1}] and office.members("Crew") == [
        "Bo Lund",
        "Cy Dale",
        "Una Berg",
    ]


def test_doubts_are_told_with_a_suggestion_and_all_of_it_goes_into_a_report(office: Office) -> None:
    many = "".join(f"Mate {n} Dale,m{n}@kelp.example,\n" for n in range(12))
    office.file("crew.csv", f"Name,E-mail,Phone\n{many}=Ada,ada@kelp.exmaple,\nCy,cy @kelp.example,\n" + "x,y@z\n" * 12)
    ran = office.run("import", "crew.csv", "--report", "told.csv", code=1)
    assert (
        "ada@kelp.example" in ran.out
        and "cy@kelp.example" in ran.out
        and "more refused values; --report FILE" in ran.out
    )
    told = list(csv.reader((office.folder / "told.csv").read_text().splitlines()))
    assert [row[0] for row in told[1:]].count("refused") == 13 and len(told) == 15
    assert [
        "doubtful",
        "crew.csv",
        "",
        "14",
        "address",
        "ada@kelp.exmaple",
        "12 others have kelp.example",
        "ada@kelp.example",
    ] in told
    assert (office.folder / "told.csv").stat().st_mode & 0o777 == 0o600


def test_a_mistyped_domain_of_an_import_is_told_however_many_rare_ones_the_book_has(office: Office) -> None:
    office.file("old.csv", "E-mail\n" + "".join(f"a@berth{n}.example\n" for n in range(2100)) + "".join(f"m{n}@kelp.test\n" for n in range(12)))  # fmt: skip
    office.run("import", "old.csv")
    office.file("new.csv", "E-mail\nada@klep.test\n")
    office.run("import", "new.csv", "--report", "told.csv")
    assert "12 others have kelp.test,ada@kelp.test" in (office.folder / "told.csv").read_text()


def test_who_may_be_known_goes_to_review_and_stays_two_until_somebody_decides(crew: Office) -> None:
    crew.within("contact", "edit", "bo", "--org", "Ebb Chandlery", "--phone", "01632 960001")
    crew.file("form.csv", "Name,E-mail,Organisation,Phone\nBo Lund,bo@gull.example,EBB CHANDLERY,\nBo Lund,lund@gull.example,,+44 1632 960001\n"
              "Bo Lund,other@gull.example,Skerry,\n")  # fmt: skip
    review = crew.json("import", "form.csv")["review"]
    bo = crew.told("contact", "show", "bo@tidewick.example")["uid"]
    reasons = {one["row"]: one["reason"] for one in review if one["like"] == bo}
    assert reasons[2] == "same name; same organisation; bo@ at both"
    assert reasons[3] == "same name; same phone +441632960001; but other address"
    assert len(crew.told("find", "bo lund")) == 4


def test_several_files_and_what_is_piped_in_are_one_import(crew: Office) -> None:
    crew.file("a.csv", PEOPLE)
    crew.file("b.txt", "Una Berg <berg@kelp.example>; Dee Strand <dee@kelp.example>\n")
    process = crew.start("import", "a.csv", "b.txt", "-", "--into", "Everyone", "--json", stdin=-1)
    out, err = process.communicate(b"BEGIN:VCARD\nVERSION:3.0\nFN:Fay Keel\nEMAIL:fay@kelp.example\nEND:VCARD\n")
    assert process.returncode == 0, err
    import json

    assert [one["kind"] for one in json.loads(out)["files"]] == ["csv", "line", "vcard"]
    assert crew.members("Everyone") == ["Bo Lund", "Dee Strand", "Fay Keel", "Una Berg", "Zoë Fjällgren"]
    crew.run("undo")
    assert len(crew.told("find")) == 4


def test_a_long_file_is_taken_in_whole_and_again_changes_nothing(office: Office) -> None:
    rows = [f"Mate{n % 997} Dale,m{n}@kelp.example,01632 960{n % 1000:03d}" for n in range(20_000)]
    rows[15_000] = "Mate7 Dale,m7@kelp.example,07700 900001"  # known from further up: joined there, a number added
    rows[15_001] = "Mäte Dale,m15001@kelp.example,"
    rows[15_002] = "Odd,x@y"
    office.file("long.csv", "Name,E-mail,Phone\n" + "\n".join(rows) + "\n")
    first = office.json("import", "long.csv", "--into", "Crew", code=1)
    assert (first["rows"], first["added"], first["updated"], len(first["refused"])) == (20_000, 19_999, 1, 1)
    again = office.json("import", "long.csv", "--into", "Crew", code=1)
    assert (again["added"], again["updated"], again["unchanged"]) == (0, 0, 20_000)
    assert office.told("list")[0]["members"] == 19_999
    office.run("undo")
    assert office.told("find", "--most", "3") == [] and office.told("list") == []


def test_a_book_filled_in_bulk_holds_what_working_it_out_anew_gives(office: Office) -> None:
    rows = [
        f"{line.partition(',')[0]},mate{n}@k{n % 300}.example,01632 960{n % 1000:03d},Kelp's Yard {'and Boat House ' * 6}{n}\n"
        for n, line in enumerate(sheet_of(16_000).splitlines()[1:])
    ]
    rows[9_000] = ",,,Nobody Known\n"  # without an address: the index of names is needed before the end
    rows[9_001] = "Mäte Dale,,01632 960009,\n"
    rows[9_002] = rows[0]
    for name, some in (("one.csv", rows[:9_600]), ("two.csv", rows[9_100:])):
        path = office.file(name, "Name,E-mail,Phone,Organisation\n" + "".join(some))
        assert path.stat().st_size > 1 << 20  # so that another process prepares it
    assert office.json("import", "one.csv")["added"] == 9_599
    assert office.json("import", "two.csv")["added"] == 6_400
    db = sqlite3.connect(office.book)
    db.execute("CREATE VIRTUAL TABLE temp.terms USING fts5vocab(main, contact_text, row)")
    tables = ("contact_facts", "contact_address", "contact_label", "temp.terms")

    def worked_out() -> list[list[tuple[Any, ...]]]:
        return [sorted(db.execute(f"SELECT * FROM {table}")) for table in tables]

    before = worked_out()
    for table in tables[:3]:
        db.execute(f"DELETE FROM {table}")
    db.execute("INSERT INTO contact_text(contact_text) VALUES('delete-all')")
    assert worked_out() == [[], [], [], []]
    rebuild(db)
    assert worked_out() == before
    assert db.execute("SELECT sql FROM sqlite_master WHERE name = 'contact_name'").fetchone() is not None
    assert db.execute("SELECT count(*) FROM journal WHERE tbl = 'contact'").fetchone() == (15_999,)
    db.close()


@pytest.mark.parametrize("others", [0, 1, 900])
def test_an_import_of_many_is_taken_back_and_brought_back_whole(office: Office, others: int) -> None:
    office.run("list", "new", "Crew")
    for first, number, rest in ((0, others, ()), (1000, 600, ("--into", "Crew", "--label", "new"))):
        rows = "".join(
            f"Mate{n} Dale,mate{n}@k{n % 9}.example,01632 960{n % 1000:03d}\n" for n in range(first, first + number)
        )
        office.file("some.csv", f"Name,E-mail,Phone\n{rows}")
        if number:
            office.run("import", "some.csv", *rest)
    columns = {"member": "list, contact, since", "sqlite_master": "name, sql"}
    tables = ("contact", "member", "contact_facts", "contact_address", "contact_label", "temp.terms", "sqlite_master")

    def all_of_it() -> list[list[tuple[Any, ...]]]:
        assert len(office.told("find", "mate")) in (others, others + 600)  # the text index takes everybody in for it
        with closing(sqlite3.connect(office.book)) as db:
            db.execute("CREATE VIRTUAL TABLE temp.terms USING fts5vocab(main, contact_text, row)")
            return [sorted(db.execute(f"SELECT {columns.get(table, '*')} FROM {table}")) for table in tables]

    with_them = all_of_it()
    assert len(with_them[0]) == others + 600 and len(with_them[1]) == 600
    office.run("undo")
    without = all_of_it()
    assert [len(some) for some in without[:5]] == [others, 0, others, others, 0] and bool(without[5]) == bool(others)
    office.run("undo", str(office.told("history")[0]["number"]))
    assert all_of_it() == with_them
    assert office.told("book", "check")["findings"] == []


CELLS = {
    "name": st.one_of(
        st.from_regex(r"[A-Z][a-z]{1,5} [A-Z][a-z]{1,5}", fullmatch=True), st.text("aB é,.'mrju-", max_size=9),
        st.from_regex(r"([A-Z][a-z]{1,4}|[A-Z]{2,5}|[a-z]{2,4}) ([A-Z][a-z]{1,4}|[A-Z]{2,5}|[a-z]{2,4})", fullmatch=True),
        st.sampled_from(["Mr Brine", "Ada Junior", "Ada  Brine", "Ada Brine", "Harbour Office", "Kelp Ltd", "Mae Church",
                         "BRINE Ada", "Ada BRINE", "ADA BRINE", "Familie Brine", "Family Brine", "Eheleute Brine", "Ada PhD",
                         "Team Kelp", "Ada McDONALD", "van Brine", "Ada III", "Brine KG"]),
    ),
    "address": st.one_of(st.from_regex(r"[a-zA-Z]{1,4}[._-]?[a-z]{1,3}@[a-z]{1,5}\.(example|test|local)", fullmatch=True),
                         st.text("ab@.x ,<>-_É", max_size=12), st.just("")),
    "phone": st.one_of(st.from_regex(r"(0|\+44 ?)[0-9 ]{4,12}", fullmatch=True), st.text("0123 +/()x", max_size=12)),
    "org": st.text("aB &'=+\\\"é", max_size=10),
}  # fmt: skip


TWICE = ["name", "address", "address", "phone", "org"]


@settings(max_examples=300)
@given(
    st.permutations(TWICE).flatmap(
        lambda fields: st.tuples(st.just(fields), st.lists(st.tuples(*(CELLS[f] for f in fields)), max_size=6))
    )
)
@example(
    (TWICE, [("Ada Brine", "a@b.test", "A@B.Test", "", "Yard"), ("Ada Brine", "a@b.test", "", "+44 1632 960001", "")])
)
@example(
    (
        TWICE,
        [(name, "a@b.test", "", "", "") for name in ("Ada McDONALD", "BRINE Ada", "Ada O BRINE", "ADA LI", "AL LI")],
    )
)
def test_the_short_way_for_plain_rows_comes_to_the_same_as_the_long_way(
    case: tuple[list[str], list[tuple[str, ...]]],
) -> None:
    fields, rows = case
    uses = [Use(f, kind="work" if n % 2 and f in ("address", "phone") else "") for n, f in enumerate(fields)]
    columns = Columns([f"{f} {n}" for n, f in enumerate(fields)], list(uses), 1)
    reader = RowReader(columns)
    stamp = Stamp("import x.csv", "2026-01-01T00:00:00Z", ())
    plain = PlainRows.of(columns, "\n", stamp)
    assert plain is not None
    assert PlainRows.of(replace(columns, family_first=frozenset({1})), "\n", stamp) is None
    quick, slow, gathered = Rows(), Rows(), Gathered()
    commas = PlainRows.of(columns, ",", stamp)
    assert commas is not None
    in_one_go = commas.take_apart(
        [",".join(cells) + "\r\n" for cells in rows if not any("," in cell for cell in cells)]
    )
    one_by_one = [commas.fits(",".join(cells)) for cells in rows if not any("," in cell for cell in cells)]
    assert [parts[:-1] for parts in in_one_go if not parts[-1]] == [m.groups("") for m in one_by_one if m]
    taken = plain.take_apart(["\n".join(cells) for cells in rows])
    fitting = [(number, parts) for number, parts in enumerate(taken, 2) if not parts[-1]]
    shapes = plain.shapes([parts for _, parts in fitting])
    assert shapes == [shape for _, parts in fitting for shape in plain.shapes([parts])]
    gathered.add(shapes, [number for number, _ in fitting], [parts for _, parts in fitting])
    short = {number for (number, _), shape in zip(fitting, shapes, strict=True) if shape}
    for number, cells in enumerate(rows, 2):
        if number not in short:
            continue
        draft = reader.read(Row(number, list(cells)))
        (person,) = draft.people
        assert not (draft.refused or draft.cleaned or draft.doubtful or draft.left_out)
        person.uid, person.source, person.added = "u", stamp.source, stamp.added
        slow.add(number, person)
    gathered.into(quick)
    quick.people.identify(["u"] * len(quick.people.numbers))
    some, quick.people = quick.people, PlainPeople()
    same = ("", "", "", fold(stamp.source), stamp.added, True)
    for number, uid, name, low, card, summed, *facts in zip(*some.columns(), strict=True):
        assert summed == row_sum(uid, card)
        quick.contacts.append((number, "u", name, low, False, card, row_sum("u", card)))
        quick.facts.append((number, low, *facts[:3], *same, *facts[3:], "", "", ""))
    for one in (quick, slow):
        one.places.sort()
    assert quick == slow


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=150)
@given(
    content=st.one_of(
        st.binary(max_size=400),
        st.text(max_size=300).map(str.encode),
        st.text('",;\n\rab@.x\t', max_size=120).map(lambda t: b"Name,E-mail\n" + t.encode()),
    )
)
@example(content=b"MAILTO:")
def test_no_file_breaks_the_reader(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "any.csv"
    path.write_bytes(content)
    try:
        layout = find_layout(path)
        rows = [row for row in read_rows(path, layout) if isinstance(row, Row)]
    except FileError:
        return
    kind = re.compile(rf"[a-zA-Z@.-]+{re.escape(layout.separator)}[a-zA-Z@.-]+\r?\n?").fullmatch

    def fits(lines: list[str]) -> list[tuple[str, ...]]:
        return [("" if kind(line) else line,) for line in lines]

    table = Table(
        lambda fits: read_rows(path, layout, fits), RowReader(Columns([], [], 0)).read, separator=layout.separator
    )
    every = [
        [table.row(one, one.number + n) for n in range(len(one.lines))] if isinstance(one, Fitting) else [one]
        for one in table.items(fits)
    ]
    assert list(chain.from_iterable(every)) == rows
    reader = RowReader(find_tables(rows[:200])[0])
    for row in rows:
        draft = reader.read(row)
        assert all(p.addresses or p.title for p in draft.people)


def test_many_new_people_are_found_before_the_text_index_has_them_and_after(office: Office) -> None:
    """It is given them by the first search; one that meets another command at work finds them all the same."""
    rows = [f"Person{n} Kelp{n % 7},p{n}@gull{n % 3}.example" for n in range(2_500)]
    office.file("many.csv", "\n".join(["Name,E-mail", *rows]))
    office.run("import", "many.csv")

    def due() -> int:
        with closing(sqlite3.connect(office.book)) as db:
            return int(db.execute("SELECT count(*) FROM contact_text_due").fetchone()[0])

    assert due() == 1
    office.run("contact", "edit", "p7@gull1.example", "--name", "Ada Brine")
    office.run("contact", "remove", "p8@gull2.example", "--yes")
    searches = ("kelp3", "brine", "person8", "p24@", "gull2.ex", "p7@gull1", "erson12 elp1")
    with closing(sqlite3.connect(office.book, isolation_level=None)) as another:
        another.execute("BEGIN IMMEDIATE")
        before = [office.json("find", text) for text in searches]
        assert due() == 1
    assert [len(found) for found in before] == [357, 1, 110, 1, 832, 1, 16]
    assert [office.json("find", text) for text in searches] == before and due() == 0
    office.run("undo")
    among_all = sum("person8" in row.lower() and "kelp1" in row.lower() for row in rows)
    assert [len(office.json("find", text)) for text in ("person8 kelp1", "person8")] == [among_all, 111]
    office.run("import", office.file("few.csv", "Name,E-mail\nZoë Fjällgren,zoe@kelp.example\n").name)
    assert due() == 0 and len(office.json("find", "fjäll")) == 1


def test_nobody_is_taken_off_a_list_whom_the_file_may_mean(office: Office) -> None:
    people = "Name,E-mail\nBo Lund,bo@kelp.example\nUna Berg,una@kelp.example\nCy Dahl,cy@kelp.example\n"
    office.file("crew.csv", people)
    office.run("import", "crew.csv", "--into", "Crew")
    office.file("new.csv", "Name,E-mail\nBo Lund,bo@kelp\nUna Berg,una@kelp.example\n")
    done = office.json("import", "new.csv", "--take-missing-off", "Crew", code=1)
    assert (done["taken_off"], done["left_on"]) == ([{"list": "Crew", "name": "Cy Dahl"}], ["Bo Lund"])
    assert sorted(office.members("Crew")) == ["Bo Lund", "Una Berg"]
    office.run("undo")
    shown = office.run("import", "new.csv", "--take-missing-off", "Crew", "--only-good", "--plan", code=1)
    assert "Whoever is named only in the 1 row that was left out counts as not in the file." in shown.err
