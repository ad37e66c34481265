"""Sheets as people send them: what comes in, what is said, what goes out as a workbook and comes back."""

from __future__ import annotations

import datetime
import io
import random
import subprocess
import zipfile
from itertools import chain
from pathlib import Path
from typing import Any

import openpyxl
import other_sheets
import pexpect
import pytest
import python_calamine
import sheets
import unseen_sheets
from conftest import HANGS, PROGRAM, Office
from servers import need

from barnacle.core.names import family_last, split_name, turned, two_people, usual_case
from barnacle.core.phones import cut_phones, national_form, with_lost_signs
from barnacle.core.text import words
from barnacle.files.encoding import find_encoding
from barnacle.files.tables import title_words
from barnacle.files.tables.titles import read_title


def fresh(folder: Path, number: int) -> Path:
    """A folder of its own."""
    made = folder / str(number)
    made.mkdir()
    return made


@pytest.mark.parametrize("part", range(3))
def test_made_up_sheets_come_in_right(part: int, tmp_path: Path) -> None:
    """Half of the corpus that the reader was tuned on: language by layout by mess (tests/corpora/sheets.py)."""
    wrong, silent = [], []
    for number in range(part, 336, 6):
        sheet = sheets.make(sheets.SEED, number)
        verdict = sheets.judge(sheet, sheets.write(sheet, fresh(tmp_path, number), random.Random(number)))
        if verdict.wrong:
            wrong.append((sheet.about, verdict.wrong[:2]))
            silent += [] if verdict.said else [sheet.about]
    assert not silent and len(wrong) <= 0.03 * 56, wrong


def test_headers_of_another_hand_come_in_right(tmp_path: Path) -> None:
    wrong, silent, number = [], [], 0
    unseen = [unseen_sheets.everyone(templates, 7, 1) for templates in unseen_sheets.TEMPLATES]
    for about, sheet in chain(other_sheets.everyone(2026, 1), *unseen):
        number += 1
        verdict = sheets.judge(sheet, sheets.write(sheet, fresh(tmp_path, number), random.Random(about)))
        if verdict.wrong:
            wrong.append((about, verdict.wrong[:2]))
            silent += [] if verdict.said else [about]
    assert not silent and len(wrong) <= 0.03 * number, wrong


@pytest.mark.parametrize(
    ("titles", "rows", "people"),
    [
        # What asks for somebody else in words of its own names nobody, wherever it stands.
        ("¿Quién te lo recomendó?,Mail,Nombre,Apellidos", ("Inés Mata,jose@n.example,José,Rey", "Inés Mata,ana@n.example,Ana,Paz"),
         ("José Rey jose@n.example", "Ana Paz ana@n.example")),
        ("Wer hat dich geworben?,Mail,Wie heißt du?", ("Ruth Lang,jan@n.example,Jan Otto", "Ruth Lang,eva@n.example,Eva Hein"),
         ("Jan Otto jan@n.example", "Eva Hein eva@n.example")),
        # Parts that no word list has: couples have a family name in common and are two all the same.
        ("Bride,Bride's email,Groom,Groom's email", ("Ada Holt,ada@n.example,Bo Holt,bo@n.example",),
         ("Ada Holt ada@n.example", "Bo Holt bo@n.example")),
        ("Trainer,Mail Trainer,Co-Trainer,Mail Co-Trainer", ("Ada Holt,ada@n.example,Bo Lund,bo@n.example",),
         ("Ada Holt ada@n.example", "Bo Lund bo@n.example")),
        # Others that are named beside somebody stay fields of his, however many they are.
        ("Member,Member e-mail,Emergency contact,Emergency contact e-mail,Doctor,Doctor's e-mail,Sub,Sub e-mail",
         ("Ada Holt,ada@n.example,Cy Vane,cy@n.example,Di Keel,di@n.example,Bo Lund,bo@n.example",),
         ("Ada Holt ada@n.example", "Bo Lund bo@n.example")),
        ("Übungsleiter,Email", ("Jan Otto,jan@n.example", "Eva Hein,eva@n.example"), ("Jan Otto jan@n.example", "Eva Hein eva@n.example")),
    ],
)  # fmt: skip
def test_whom_a_row_is_about_is_worked_out(
    office: Office, titles: str, rows: tuple[str, ...], people: tuple[str, ...]
) -> None:
    report = office.run("import", str(office.file("in.csv", "\n".join([titles, *rows]))), "--yes")
    found = {f"{one['name']} {one['addresses'][0]['address']}" for one in office.json("find", "n.example")}
    assert found == set(people)
    assert "Please check this first" in report.out
    assert ("(2 people)" in report.out) == (len(rows) == 1)


@pytest.mark.parametrize(
    ("title", "concept", "role", "kind", "number"),
    [
        ("What is your name?", "name", "main", "", 0), ("E-Mail (privat)", "email", "", "home", 0), ("Name, Vorname", "both", "", "", 0),
        ("Company name", "org", "", "", 0), ("Mother's e-mail", "email", "mother", "", 0), ("Owner 2 e-mail", "email", "main", "", 2),
        ("Boat name", "", "", "", 0), ("Nom du bateau", "", "", "", 0), ("Kontaktperson E-Mail", "email", "somebody", "", 0),
        ("Omistajan sähköposti", "email", "main", "", 0), ("Direktenummer", "phone", "", "work", 0), ("Mitgliedsnummer", "", "", "", 0),
        ("firstName", "given", "", "", 0), ("Tel. kom.", "phone", "", "mobile", 0),
    ],
)  # fmt: skip
def test_a_title_is_read_word_by_word(title: str, concept: str, role: str, kind: str, number: int) -> None:
    found = read_title(title)
    assert (found.concept, found.role, found.kind, found.number) == (concept, role, kind, number)


@pytest.mark.parametrize(
    ("cell", "want"),
    [
        ("0441/223303", ["0441/223303"]), ("01632 960010 or 07700 900010", ["01632 960010", "07700 900010"]),
        ("01632 960010 ext. 12", ["01632 960010 ext. 12"]), ("0160 1234567 / 0441 223303", ["0160 1234567", "0441 223303"]),
        ("after 6pm 07700 900010", ["07700 900010"]), ("+44 1632 960010 +44 7700 900010", ["+44 1632 960010", "+44 7700 900010"]),
        ("not yet", [""]), ("04421/1234 / 0170-5556677", ["04421/1234", "0170-5556677"]),
        ("01632 960010 (h) 07700 900010 (m)", ["01632 960010", "07700 900010"]),
        ("home: 01632 960010 mobile: 07700 900010", ["01632 960010", "07700 900010"]),
        ("01632 960010 (from 18 to 20)", ["01632 960010"]),
    ],
)  # fmt: skip
def test_numbers_are_cut_out_of_a_cell(cell: str, want: list[str]) -> None:
    assert [number for number, _ in cut_phones(cell)] == want


REMARKED = """Name,E-mail,Tel. home / mobile
Finn Gale,finn@gull.example (work),01632 960010 (h) 07700 900010 (m)
Gus Hale,private: gus@gull.example,n/a
Hal Ives,hal@gull.example bounced,-
Ivy Joss,"ivy@gull.example (evenings, not on Sundays)",?
Jon Kerr,jon@gull.exam ple,tbc
Kim Lowe,s. o.,unknown
-,info@gull.example,
n/a,none,n/a
Per †,per@gull.example,
Eva Foss (deceased 2024),eva@gull.example,
see above,x@gull.example,
No Name,nobody@gull.example,01632 960011
"""


def test_what_people_write_beside_and_instead_of_values_is_understood(office: Office) -> None:
    office.file("remarked.csv", REMARKED)
    report = office.run("import", "remarked.csv", "--json", code=1).json
    found = {one["name"] or one["addresses"][0]["address"]: one for one in office.told("find")}
    assert set(found) == {
        "Finn Gale", "Gus Hale", "Hal Ives", "Ivy Joss", "Jon Kerr", "Kim Lowe", "info@gull.example", "Per", "Eva Foss (deceased 2024)",
        "x@gull.example", "nobody@gull.example",
    }  # fmt: skip
    assert [(a["address"], a["kind"]) for name in ("Finn Gale", "Gus Hale") for a in found[name]["addresses"]] == [
        ("finn@gull.example", "work"),
        ("gus@gull.example", "home"),
    ]
    phones = {name: [(p["number"], p["kind"]) for p in one["phones"]] for name, one in found.items() if one["phones"]}
    assert phones == {
        "Finn Gale": [("01632 960010", "home"), ("07700 900010", "mobile")],
        "nobody@gull.example": [("01632 960011", "")],
    }
    assert [one["address"] for one in found["Hal Ives"]["failing"]] == ["hal@gull.example"]
    assert "ivy@gull.example: evenings, not on Sundays" in office.run("contact", "show", "ivy").out
    assert {name for name, one in found.items() if one["opted_out"]} == {"Per", "Eva Foss (deceased 2024)"}
    office.file("card.vcf", "BEGIN:VCARD\nVERSION:4.0\nFN:Ole Siel ✝\nEMAIL:ole@gull.example\nEND:VCARD\n")
    assert office.json("import", "card.vcf")["doubtful"][0]["value"] == "Ole Siel ✝"
    assert (office.told("find", "ole siel")[0]["name"], office.told("find", "ole siel")[0]["opted_out"]) == (
        "Ole Siel",
        True,
    )
    # Nothing of it silently.
    assert [(one["row"], one["value"]) for one in report["refused"]] == [
        (6, "jon@gull.exam ple"), (7, "s. o."), (9, "n/a none n/a"),
    ]  # fmt: skip
    assert {one["row"] for one in report["cleaned"]} == {2, 3, 4, 5}
    assert {one["row"] for one in report["doubtful"]} == {8, 10, 11, 12, 13}


def test_two_people_below_each_other_in_a_cell_and_signs_nobody_sees(office: Office) -> None:
    office.file(
        "cells.csv",
        'Name,E-mail\n"Lotte Ebb\nKai Ebb","lotte@gull.example\nkai@gull.example"\nOle Siel,ole@gull.example\u200b\n'
        "Pia Warft,pia＠gull.example\nMia Noe,‘mia@gull.example’\nVal Wye,val(a)gull.example\nHal Ives,Hal Ives hal@gull.example\n"
        'Ada Brine,"ada@gull.example, 01632 960111"\nCy Dale,"cy@gull.example, cyd at kelp.example"\n',
    )
    report = office.run("import", "cells.csv", "--json", code=1).json
    assert {one["name"]: [a["address"] for a in one["addresses"]] for one in office.told("find", "gull")} == {
        "Lotte Ebb": ["lotte@gull.example"], "Kai Ebb": ["kai@gull.example"], "Ole Siel": ["ole@gull.example"],
        "Hal Ives": ["hal@gull.example"], "Ada Brine": ["ada@gull.example"], "Cy Dale": ["cy@gull.example"],
    } | {name: [] for name in ("Pia Warft", "Mia Noe", "Val Wye")}  # fmt: skip
    assert office.told("find", "ada")[0]["phones"][0]["number"] == "01632 960111"
    assert [one["suggestion"] for one in report["refused"]] == [
        "pia@gull.example", "mia@gull.example", "val@gull.example", "cyd@kelp.example",
    ]  # fmt: skip


def test_parents_who_are_not_there_are_nobody(office: Office) -> None:
    office.file(
        "class.csv",
        "Child,Mother,Mother's e-mail,Father,Father's e-mail\nMia Ebb,Lotte Ebb,lotte@gull.example,-,-\n"
        "Lea Watt,s. Vater,,Ole Watt,ole@gull.example\nBen Siel,unbekannt,,Kai Siel,kai@gull.example\n",
    )
    office.run("import", "class.csv")
    assert {one["name"] for one in office.told("find")} == {
        "Mia Ebb", "Lotte Ebb", "Lea Watt", "Ole Watt", "Ben Siel", "Kai Siel",
    }  # fmt: skip


def test_guests_kinds_in_columns_and_what_stands_together_in_a_cell(office: Office) -> None:
    def people(name: str, text: str) -> dict[str, Any]:
        office.file(name, text)
        report = office.told("import", name, "--into", name)
        found = [office.json("contact", "show", one["name"]) for one in office.told("find", "--in", name)]
        return {"doubts": [one["sentence"] for one in report["doubts"]]} | {
            one["name"]: [(a["address"], a["kind"]) for a in one["addresses"]] for one in found
        }

    # Whoever booked has a name of his own, and is no first guest.
    booked = "Order,First name,Surname,Email,Guest name 1,Guest email 1,Guest name 2,Guest email 2\n"
    guests = people("guests.csv", booked + "1,Una,Keel,una@kelp.example,Tom Pike,tom@kelp.example,Kai Ebb,\n")
    assert guests == {
        "doubts": [], "Una Keel": [("una@kelp.example", "")], "Tom Pike": [("tom@kelp.example", "")], "Kai Ebb": [],
    }  # fmt: skip
    header = "Name,Labels,E-mail 1 type,E-mail 1,Phone 1 kind,Phone 1\n"
    card = "Dee Rask,Crew; Board,* Work,dee@kelp.example ** rask@kelp.example,Mobile,07700 900001 // 07700 900002\n"
    both = [("dee@kelp.example", "work"), ("rask@kelp.example", "work")]
    assert people("cards.csv", header + card) == {"doubts": [], "Dee Rask": both}
    dee = office.json("contact", "show", "Dee Rask")
    assert dee["labels"] == ["Crew", "Board"] and {one["kind"] for one in dee["phones"]} == {"mobile"}
    assert [one["number"] for one in dee["phones"]] == ["07700 900001", "07700 900002"] and dee["fields"] == {}
    people("more.csv", header + "Ben Siel,,Mobile,ben@kelp.example,On board,07700 900008\n")
    ben = office.json("contact", "show", "ben siel")
    assert (ben["addresses"][0]["kind"], ben["phones"][0]["kind"]) == ("", "")
    assert ben["fields"] == {"E-mail 1 type": "Mobile", "Phone 1 kind": "On board"}, "what is none of ours is kept"
    # Whoever is numbered is somebody of his own, whatever else is numbered; one family name is that of all.
    asked = (
        "Contact 1 name,Contact 1 relationship,Contact 1 email,Contact 2 name,Contact 2 relationship,Contact 2 email\n"
    )
    pupil = (
        "Pupil surname,Pupil forename,"
        + asked
        + "Ebb,Lotte,Ute Ebb,Mother,ute@kelp.example,Max Ebb,Father,max@kelp.example\n"
    )
    assert people("pupils.csv", pupil) == {
        "doubts": [], "Lotte Ebb": [], "Ute Ebb": [("ute@kelp.example", "")], "Max Ebb": [("max@kelp.example", "")],
    }  # fmt: skip
    homes = "Surname,First name 1,First name 2,Email 1,Email 2,Personnr\nSiel,Ida,Ole,ida@kelp.example,ole@kelp.example,700203-1234\n"
    assert people("homes.csv", homes) == {
        "doubts": [], "Ida Siel": [("ida@kelp.example", "")], "Ole Siel": [("ole@kelp.example", "")],
    }  # fmt: skip
    # A group in each row.
    office.file(
        "groups.csv",
        'Group,Members\nDeck,ida@kelp.example; una@kelp.example\nBoard,"Fay Watt <fay@kelp.example>, ole@kelp.example"\n',
    )
    report = office.told("import", "groups.csv", "--list-by", "group")
    assert "each is a contact; --list-by 'Group' makes a list of each row." in report["doubts"][0]["sentence"]
    assert (office.members("Deck"), office.members("Board")) == (["Ida Siel", "Una Keel"], ["Fay Watt", "Ole Siel"])
    # A column that nobody made for addresses alone; and names of which nothing is made.
    rota = "Skipper,Mate,How to reach\nBo Lund,Tom Pike,bo@kelp.example 07700 900003\nUna Berg,Ole Siel,07700 900004 b@kelp.example\n"
    told = people("rota.csv", rota)
    assert [sentence.partition("`, ")[0] for sentence in told.pop("doubts")] == [
        "`How to reach` holds addresses among other things, and is read as such.",
        "`Mate` holds names, and is kept as a field; --columns 'Mate=name 2' makes people of them.",
    ]
    assert told == {"Bo Lund": [("bo@kelp.example", "")], "Una Berg": [("b@kelp.example", "")]}
    assert [one["number"] for one in office.json("contact", "show", "una berg")["phones"]] == ["07700 900004"]


def test_whoever_a_message_went_to_is_somebody_else_than_its_writer(office: Office) -> None:
    office.file(
        "inbox.csv",
        "Ämne,Från,Till,Kopia\nStäddag,Lotte Ebb <lotte@gull.example>,"
        '"Una Keel <una@gull.example>; Watt, Kai <kai@gull.example>",\n'
        "Flod,Ole Siel <ole@gull.example>,una@gull.example,pia@gull.example; tom(at)gull.example\n",
    )
    report = office.run("import", "inbox.csv", "--json", code=1).json
    assert {one["name"]: [a["address"] for a in one["addresses"]] for one in office.told("find")} == {
        "Lotte Ebb": ["lotte@gull.example"], "Una Keel": ["una@gull.example"], "Kai Watt": ["kai@gull.example"],
        "Ole Siel": ["ole@gull.example"], "": ["pia@gull.example"],
    }  # fmt: skip
    assert [one["value"] for one in report["refused"]] == ["tom(at)gull.example"]
    assert "and everybody in `Till` and `Kopia`" in report["files"][0]["tables"][0]["people"]


def test_signs_that_a_spreadsheet_dropped_come_back() -> None:
    for number, region, want in (
        ("1632960010", "GB", "01632960010"), ("447700900010", "GB", "+447700900010"), ("4915112345678", "DE", "+4915112345678"),
        ("612345678", "ES", "612345678"), ("65550016", "IT", "065550016"), ("12345678", "", "12345678"),
    ):  # fmt: skip
        assert with_lost_signs(number, region) == want
    assert (national_form("+49160", "DE"), national_form("+49160", "GB"), national_form("0160", "DE")) == (
        "0160",
        "",
        "",
    )


def test_names_are_turned_and_written_as_people_are_called() -> None:
    for name, want in (
        ("Holt, Maren, MBE", "Maren Holt, MBE"), ("Maren Holt, PhD", "Maren Holt, PhD"), ("VAN DER BERG, JAN", "Jan van der Berg"),
        ("St. Mary's Church, Vestry", "St. Mary's Church, Vestry"), ("Kelp Bootsbau, Inh. Jon Holt", "Kelp Bootsbau, Inh. Jon Holt"),
        ("Lund, Åsa", "Åsa Lund"),
    ):  # fmt: skip
        assert usual_case(turned(name)) == want
    for name, written in (
        ("DUPONT Jean", "Jean Dupont"), ("McDONALD Ian", "Ian McDonald"), ("Ana DA SILVA", "Ana da Silva"), ("UNA ZORITI JUNIOR", "UNA ZORITI JUNIOR"), ("MEIER H.", "H. Meier"),
        ("Tom Pike III", "Tom Pike III"), ("Anna Lund DLRG", "Anna Lund DLRG"), ("Jan VLK", "Jan Vlk"),
    ):  # fmt: skip
        assert family_last(name) == written
    assert split_name("Maren Holt, PhD") == ("Maren", "Holt")
    for name in (
        "Una Keel (Treasurer)",
        'Una "Nan" Keel',
        "Una Keel geb. Lund",
        "Keel, Una (née Lund)",
        "Una Keel | Night pilots",
        '"Una Keel"',
    ):
        assert split_name(turned(name)) == ("Una", "Keel")
    assert turned("Keel, Una (née Lund)") == "Una Keel (née Lund)" == family_last("KEEL Una (née Lund)")
    assert family_last("Keel Una (Bo)", sure=True) == "Una Keel (Bo)"
    assert family_last("Kai & Una", sure=True) == "Kai & Una"
    assert split_name("Anna (work)") == ("Anna", "") and split_name('"Nan" Keel') == ('"Nan"', "Keel")
    assert two_people("Anna & Per Lund") == ["Anna Lund", "Per Lund"] and two_people("Holt & Sons") == []
    # Titles, families, couples and remarks: none of them is anybody's given name.
    for name, parts in (
        ("Frau Ebb", ("", "Ebb")), ("Mrs Pike", ("", "Pike")), ("Sir Ian", ("Ian", "")), ("Mlle Zoé de La Tour", ("Zoé", "de La Tour")),
        ("Dr. med. dent. Ute Ebb", ("Ute", "Ebb")), ("Familie Watt", ("", "Watt")), ("Fam. Ek/Öberg", ("", "Ek/Öberg")),
        ("The Watt Family", ("", "Watt")), ("Eheleute Brine", ("", "Brine")), ("Mr & Mrs Pike", ("", "Pike")), ("M. et Mme Petit", ("", "Petit")),
        ("Herr und Frau Ebb", ("", "Ebb")), ("Anna & Per Lund", ("Anna & Per", "Lund")), ("Åsa Öberg, ordf.", ("Åsa", "Öberg")),
        ("Anna Nowak, mgr", ("Anna", "Nowak")), ("le président", ("", "")), ("La Toya Keel", ("La Toya", "Keel")), ("Jeurys Familia", ("Jeurys", "Familia")),
    ):  # fmt: skip
        assert split_name(name) == parts and turned(name) == name
    assert (turned("Holt, Maren, treasurer"), turned("Holt, maren")) == ("Maren Holt, treasurer", "maren Holt")
    assert family_last("Mme DUPONT Jeanne") == "Mme Jeanne Dupont"
    for name in ("Mlle Zoé de La Tour", "Frau Ebb", "le président"):
        assert family_last(name, sure=True) == name


@pytest.mark.parametrize(
    ("header", "names"),
    [
        ("Nom;Courriel", {"DUPONT Jean": "Jean Dupont", "Anna LUND": "Anna Lund", "PAUL MARTIN": "Paul Martin",
                          "CHIESA, Ugo": "Ugo Chiesa"}),
        ("Nachname Vorname;E-Mail", {"Lund Anna": "Anna Lund", "Holm Ada": "Ada Holm", "Berg Una": "Una Berg"}),
    ],
)  # fmt: skip
def test_names_are_read_as_well_in_the_plainest_sheet(office: Office, header: str, names: dict[str, str]) -> None:
    rows = [f"{name};{'.'.join(meant.lower().split())}@kelp.example" for name, meant in names.items()]
    office.file("plain.csv", "\n".join([header, *rows, "Familie Kreis;kreis@kelp.example", ""]))
    said = office.run("import", "plain.csv", code=None).out
    assert sorted(one["name"] for one in office.told("find", "kelp")) == sorted([*names.values(), "Familie Kreis"])
    for name, meant in names.items():
        assert "," in name or f"{name}\tread as `{meant}`" in said
    assert "Familie Kreis\tit may be more than one person" in said


def test_an_organisation_has_no_given_name_and_whoever_is_called_like_one_has() -> None:
    for name in (
        "Harbour Office",
        "Kelp Boatyard Ltd",
        "Brine & Daughters",
        "St Olaf’s Church",
        "Parish Church",
        "Office",
    ):
        assert split_name(name) == ("", "") and turned(name) == name == family_last(name)
    for name in ("Marina Kovač", "Charlotte Church", "Aminata Camara", "Willem Sas", "Ana Sa", "Anna Kreis"):
        given, family = name.split()
        assert split_name(name) == (given, family) == split_name(f"{name} (Harbour Office)")
        assert turned(f"{family}, {given}") == name
        assert family == "Sa" or family_last(f"{family.upper()} {given}") == name
    assert usual_case("AMINATA CAMARA") == "Aminata Camara" and usual_case("KELP SA") == "KELP SA"


@pytest.mark.parametrize(
    ("codec", "text"),
    [("cp1250", "Żaneta Łęcka, Śliwa"), ("iso8859-15", "Bœuf, Šárka"), ("iso8859-2", "Ćwik, Łąka"), ("mac_roman", "Jörg Müller"), ("cp850", "Jörg Weiß")],
)  # fmt: skip
def test_a_code_page_is_told_by_the_letters_of_a_language(tmp_path: Path, codec: str, text: str) -> None:
    path = tmp_path / "names.csv"
    path.write_bytes(f"Name;E-mail\n{text};x@kelp.example\n".encode(codec))
    assert path.read_text(find_encoding(path).codec).splitlines()[1].startswith(text)


def workbook(path: Path, **pages: list[list[Any]]) -> Path:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for title, rows in pages.items():
        page = book.create_sheet(title)
        for row in rows:
            page.append(row)
    book.save(path)
    return path


BERTHS = [
    ["Tidewick Harbour Trust"], [], ["Surname", "First name", "E-mail", "Mobile", "Boat", "Emergency contact"],
    ["Holt", "Maren", "maren.h@kelp.example", 7700900010, "Dunlin", "Bo Lund"], ["Pontoon B"],
    ["VAN DER BERG", "JAN", "jan@kelp,example", "07700 900011 or 01632 960012", "Teal", None],
    ["Lund", "Bo & Una", "bo.lund@kelp.example", "n/a", "Petrel", None], ["Total:", 3],
]  # fmt: skip


def test_what_was_guessed_or_left_out_is_said_in_front_and_three_are_shown_finished(office: Office) -> None:
    path = workbook(office.folder / "berths.xlsx", Berths=BERTHS, Old=[["Name", "E-mail"], ["X", "x@kelp.example"]])
    book = openpyxl.load_workbook(path)
    book["Old"].sheet_state = "hidden"
    book["Berths"].row_dimensions[4].hidden = True
    book.save(path)
    planned = office.json("import", "berths.xlsx", "--plan", "--hidden", "--sheet", "Berths", code=1)
    assert [one["reason"] for one in planned["left_out"]] == [
        "it is a heading: its row has nothing else",
        "it is a total",
    ]
    assert [one["reason"] for one in planned["doubtful"]] == ["read as two people: Bo Lund and Una Lund"]
    shown = {one["what"]: one["contact"] for one in planned["examples"]}
    assert [p["number"] for p in shown["first"]["phones"]] == ["07700900010"] and shown["first"]["fields"][
        "Boat"
    ] == "Dunlin"
    out = office.run("import", "berths.xlsx", "--plan", code=1).out
    assert out.index("read as two people") < out.index("rows: ") < out.index("The first, row 6: Jan van der Berg")
    assert "1 hidden row of sheet Berths and sheet Old is hidden" in out
    done = office.json("import", "berths.xlsx", "--accept-suggestions")
    assert (done["added"], done["refused"]) == (2, [])
    assert {c["name"] for c in office.told("find")} == {"Jan van der Berg", "Bo Lund", "Una Lund"}
    assert office.told("find", "jan@kelp.example")[0]["name"] == "Jan van der Berg"


# How numbers are shown, by format: the number, and what comes of it.
SHOWN = {
    "0000": (7, "0007"), "00-00": (712, "07-12"), '"M-"000': (12, "M-012"), "0.0%": (0.125, "12.5%"),
    "[<=999]\\(0\\)\\ 00;0\\-000": (512, "(5) 12"), '#,##0.00 "€"': (1234, "1234"), "[$kr-406] 0": (50, "50"),
    '[=1]"yes";"no"': (1, "yes"), "hh:mm": (datetime.time(9, 30), "09:30"), "[h]:mm": (datetime.timedelta(hours=30), "30:00"),
    "#,##0": (1234567, "1234567"), "0 \"kg\"": (80, "80"), "0.00": (0, "0"), ";;;": (5, "5"),
}  # fmt: skip
OPEN_SHEET = """<office:document-content xmlns:office="o" xmlns:table="t" xmlns:text="x" xmlns:number="n" xmlns:style="s">
<office:automatic-styles><number:number-style style:name="N1"><number:number number:min-integer-digits="4"/></number:number-style>
</office:automatic-styles><office:body><office:spreadsheet><table:table table:name="A">{}</table:table></office:spreadsheet></office:body>
</office:document-content>"""
OLD_SHEET = """<?xml version="1.0"?><Workbook xmlns="urn:w" xmlns:s="urn:w"><Styles><Style s:ID="z"><NumberFormat s:Format="0000"/></Style>
<Style s:ID="p"><NumberFormat s:Format="Percent"/></Style></Styles><Worksheet s:Name="A"><Table>{}</Table></Worksheet></Workbook>"""


def test_a_number_is_what_the_sheet_shows(office: Office) -> None:
    path = workbook(
        office.folder / "a.xlsx", A=[["Name", "E-mail", *(f"Berth {chr(65 + n)}" for n in range(len(SHOWN)))]]
    )
    book = openpyxl.load_workbook(path)
    page = book.active
    for at in (2, 4):
        page.cell(at, 1, f"Una Rask{at}")
        page.cell(at, 2, f"una{at}@kelp.example")
        for column, (code, (value, _)) in enumerate(SHOWN.items(), 3):
            page.cell(at, column, value).number_format = code
    book.save(path)
    cell = '<table:table-cell office:value-type="{}" office:value="{}"><text:p>{}</text:p></table:table-cell>'
    row = "<table:table-row{}>{}</table:table-row>"
    titles = "".join(cell.format("string", "", title) for title in ("Name", "E-mail", "No", "Share", "Fee"))
    cells = [
        cell.format("string", "", f"Bo Lind{n}") + cell.format("string", "", f"bo{n}@kelp.example") + again
        for n, again in enumerate(
            (cell.format("float", 7, "0007") + cell.format("percentage", 0.5, "50.00%") + cell.format("float", 1234, "1,234"),
             cell.format("float", 12, '0012').replace("<text", "<office:annotation><text:p>0099</text:p></office:annotation><text", 1))
        )
    ]  # fmt: skip
    rows = row.format("", titles) + row.format("", cells[0]) + row.format(' table:number-rows-repeated="2"', "")
    with zipfile.ZipFile(office.folder / "a.ods", "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("content.xml", OPEN_SHEET.format(rows + row.format("", cells[1])))
    old = '<Cell s:StyleID="{}"><Data s:Type="{}">{}</Data></Cell>'
    said = [[("", "String", title) for title in ("Name", "E-mail", "No", "Share")],
            [("", "String", "Dag Nes"), ("", "String", "dag@kelp.example"), ("z", "Number", 7), ("p", "Number", 0.5)]]  # fmt: skip
    text = "".join(f"<Row>{''.join(old.format(*one) for one in row)}</Row>" for row in said)
    (office.folder / "old.xml").write_text(OLD_SHEET.format(text))
    for name in ("a.xlsx", "a.ods", "old.xml"):
        office.run("import", name)
    for at in (2, 4):
        fields = office.told("find", f"una{at}@kelp.example")[0]["fields"]
        assert [fields[f"Berth {chr(65 + n)}"] for n in range(len(SHOWN))] == [shown for _, shown in SHOWN.values()]
    assert office.told("find", "Bo Lind0")[0]["fields"] == {"No": "0007", "Share": "50%", "Fee": "1234"}
    assert office.told("find", "Bo Lind1")[0]["fields"] == {"No": "0012"}
    assert office.told("find", "Dag Nes")[0]["fields"] == {"No": "0007", "Share": "50%"}


# Titles as forms and clubs of other countries have them, each line of one language: given and family name, a whole name,
# address, telephone, organisation, what is a field of one's own, at work or at home.
TITLES = """
Jméno;Příjmení;Jméno a příjmení;E-mailová adresa;Číslo mobilu;Název firmy;Datum narození;Pracovní e-mail
Meno;Priezvisko;Celé meno;E-mailová adresa;Telefónne číslo;Zamestnávateľ;Dátum narodenia;Súkromný telefón
Keresztnév;Vezetéknév;Teljes név;E-mail cím;Telefonszám;Munkahely;Irányítószám;Otthoni telefon
Prenume;Nume de familie;Nume și prenume;Adresă de e-mail;Număr de telefon;Firma;Cod poștal;Telefon serviciu
Ime;Prezime;Ime i prezime;E-pošta;Broj mobitela;Tvrtka;Datum rođenja;Službeni e-mail
Ime;Priimek;Ime in priimek;E-naslov;Telefonska številka;Podjetje;Poštna številka;Službeni telefon
Имя;Фамилия;ФИО;Эл. почта;Мобильный телефон;Место работы;Дата рождения;Домашний телефон
Ім'я;Прізвище;Повне ім'я;Електронна пошта;Номер телефону;Місце роботи;Дата народження;Робоча пошта
Име;Фамилия;Име и фамилия;Имейл;Мобилен телефон;Фирма;Пощенски код;Служебен имейл
Όνομα;Επώνυμο;Ονοματεπώνυμο;Ηλεκτρονική διεύθυνση;Κινητό;Εταιρεία;Ημερομηνία γέννησης;Email εργασίας
Adı;Soyadı;Adı Soyadı;E-posta adresi;Cep telefonu;Kurum;Doğum tarihi;Kişisel e-posta
Eesnimi;Perekonnanimi;Ees- ja perekonnanimi;E-posti aadress;Telefoninumber;Asutus;Sünniaeg;Isiklik e-post
Vārds;Uzvārds;Vārds, uzvārds;E-pasta adrese;Tālruņa numurs;Uzņēmums;Dzimšanas datums;Darba tālrunis
Vardas;Pavardė;Vardas, pavardė;El. pašto adresas;Telefono nr.;Įmonė;Gimimo data;Darbo telefonas
Fornafn;Eftirnafn;Fullt nafn;Netfang;Farsími;Vinnustaður;Kennitala;Sími heima
Nom;Cognoms;Nom i cognoms;Correu electrònic;Telèfon mòbil;Empresa;Codi postal;Telèfon de la feina
Enw cyntaf;Cyfenw;Enw llawn;Cyfeiriad e-bost;Rhif ffôn;Cwmni;Dyddiad geni;E-bost gwaith
名;姓;氏名;メールアドレス;電話番号;会社名;生年月日;-
名;姓氏;姓名;电子邮箱;手机号码;工作单位;出生日期;-
-;성;성명;이메일 주소;휴대전화;회사명;생년월일;-
الاسم الأول;اسم العائلة;الاسم الكامل;البريد الإلكتروني;رقم الجوال;جهة العمل;تاريخ الميلاد;-
שם פרטי;שם משפחה;שם מלא;דואר אלקטרוני;טלפון נייד;מקום עבודה;תאריך לידה;מייל בעבודה
-;-;Họ và tên;Địa chỉ email;Số điện thoại;Cơ quan;Ngày sinh;-
Nama depan;Nama belakang;Nama lengkap;Alamat surel;Nomor telepon;Instansi;Tanggal lahir;-
"""


@pytest.mark.parametrize("line", TITLES.strip().splitlines())
def test_titles_are_read_in_many_languages(line: str) -> None:
    given, family, whole, email, phone, org, thing, kind = line.split(";")
    meant = ((given, "given"), (family, "family"), (email, "email"), (phone, "phone"), (org, "org"))
    said = [(read_title(title).concept, read_title(title).is_sure) for title, _ in meant if title != "-"]
    # `Nom` alone is a whole name; beside another it is a part, which the table tells.
    assert [("given" if one == "name" and given == "Nom" else one, sure) for one, sure in said] == [
        (concept, True) for title, concept in meant if title != "-"
    ]
    assert read_title(whole).concept == "name" and read_title(thing).is_thing
    assert kind == "-" or read_title(kind).kind in ("work", "home")


@pytest.mark.parametrize("title", ["Jméno", "Имя", "First name"])
def test_a_given_name_of_two_words_alone_is_a_whole_name(office: Office, title: str) -> None:
    office.file(
        "a.txt",
        "".join(f"{title}: {n}\nE-mail: {a}@kelp.example\n\n" for n, a in (("Jan Holm", "j"), ("Eva Rask", "e"))),
    )
    office.file("b.csv", f"{title},E-mail\nEva Maria,em@kelp.example\nJan,jan@kelp.example\n")
    for name in ("a.txt", "b.csv"):
        office.run("import", name, "--into", "X")
    office.run("compose", "X", "--subject", "x", "--text", "{given|-}/{family|-}", "--each")
    shown = [office.json("preview", "m1", "--as", f"{who}@kelp.example")["text"].strip() for who in ("j", "em", "jan")]
    assert shown == ["Jan/Holm", "Eva Maria/-", "Jan/-"]


@pytest.mark.parametrize(
    ("header", "no", "died", "total"),
    [
        ("Příjmení;Jméno;E-mail;Stav", "neznámý", "zemřel", "Celkem"),
        ("Vezetéknév;Keresztnév;E-mail cím;Állapot", "nincs", "elhunyt", "Összesen"),
        ("Фамилия;Имя;Эл. почта;Статус", "нет", "умер", "Итого"),
        ("Επώνυμο;Όνομα;Email;Κατάσταση", "δεν έχει", "απεβίωσε", "Σύνολο"),
        ("Soyad;Ad;E-posta;Durum", "yok", "vefat etti", "Toplam"),
        ("姓;名;メールアドレス;状態", "なし", "死去", "合計"),
        ("성;이름;이메일;상태", "없음", "사망", "합계"),
    ],
)
def test_what_stands_round_and_in_the_cells_of_such_sheets(
    office: Office, header: str, no: str, died: str, total: str
) -> None:
    rows = ["Berg;Una;una@kelp.example;", f"Lund;Bo;{no};", f"Rask;Ida;ida@kelp.example;{died}", f"{total};3;;"]
    office.file("members.csv", "\n".join([header, *rows]))
    office.run("import", "members.csv", "--into", "Members")
    shown = {one["name"]: (one["address"], one["why_not"]) for one in office.told("list", "show", "Members")["members"]}
    assert [*shown] == ["Bo Lund", "Ida Rask", "Una Berg"]
    assert shown["Bo Lund"][1] == "no address" and "opted out" in shown["Ida Rask"][1] and not shown["Una Berg"][1]


def test_the_words_of_titles_are_folded_and_no_longer_than_is_looked_for() -> None:
    for phrase, tags in title_words.phrases().items():
        assert words(" ".join(phrase)) == [*phrase] and len(phrase) <= title_words.LONGEST and tags


def test_on_a_terminal_spellings_and_doubts_are_asked_about(office: Office) -> None:
    office.file(
        "who.csv", "Isem u kunjom,Indirizz\nBo Lund,bo@kelp\nUna Berg,una@@kelp.example\nTor Dahl,tor@kelp.example\n"
    )

    def asked(answer: str) -> str:
        terminal = pexpect.spawn(str(PROGRAM), ["import", "who.csv"], cwd=office.folder, env={**office.environment, "TERM": "xterm"},
                                 encoding="utf-8", timeout=HANGS, dimensions=(50, 100))  # fmt: skip
        terminal.expect_exact("Mistyped address 1 of 1")
        terminal.send("y")
        terminal.expect_exact("Add 3 people like this?")
        shown = str(terminal.before)
        terminal.sendline(answer)
        terminal.expect(pexpect.EOF)
        terminal.close()
        return shown

    assert "Please check this first" in asked("n") and office.told("find") == []
    assert "looks like names" in asked("y")
    assert {c["name"]: len(c["addresses"]) for c in office.told("find")} == {"Bo Lund": 0, "Una Berg": 1, "Tor Dahl": 1}


@pytest.mark.parametrize("form", ["xlsx", "ods", "html"])
def test_addresses_behind_what_cells_show_are_read(office: Office, form: str) -> None:
    shown = [("Lotte Ebb", "Mail", "mailto:lotte@gull.example?subject=Hello%20you"), ("Kai Watt", "write to Kai", "MAILTO:kai@gull.example"),
             ("Ole Siel", "ole@gull.example", "mailto:old@gull.example"), ("Pia Warft", "page", "https://gull.example/")]  # fmt: skip
    book = openpyxl.Workbook()
    page = book.active
    page.append(["", "Name", "Contact"])
    for number, (name, text, link) in enumerate(shown, 2):
        page.append(["", name, text])
        page.cell(number, 3).hyperlink = link
        page.cell(number, 3).value = text
    book.save(office.folder / "crew.xlsx")
    if form == "html":
        rows = "".join(f'<tr><td>{name}<td><a href="{link}">{text}</a>' for name, text, link in shown)
        office.file("crew.html", f"<table><tr><th>Name<th>Contact{rows}</table>")
    elif form == "ods":
        saved_as(office, "crew.xlsx", "ods")
    office.run("import", f"crew.{form}", code=None)
    assert {one["name"]: [a["address"] for a in one["addresses"]] for one in office.told("find")} == {
        "Lotte Ebb": ["lotte@gull.example"], "Kai Watt": ["kai@gull.example"], "Ole Siel": ["ole@gull.example"], "Pia Warft": [],
    }  # fmt: skip


@pytest.mark.parametrize("form", ["xlsx", "ods"])
def test_rows_that_are_struck_through_are_named(office: Office, form: str) -> None:
    book = openpyxl.Workbook()
    page = book.active
    for row in (
        ("Name", "E-mail"),
        ("Lotte Ebb", "lotte@gull.example"),
        ("Kai Watt", "kai@gull.example"),
        (),
        ("Ole Siel", "ole@gull.example"),
    ):
        page.append(row)  # fmt: skip
    for place in ("A3", "B3", "A5"):
        page[place].font = openpyxl.styles.Font(strike=True)
    page["B2"].font = openpyxl.styles.Font(bold=True)
    book.save(office.folder / "crew.xlsx")
    if form == "ods":
        saved_as(office, "crew.xlsx", "ods")
    report = office.json("import", f"crew.{form}")
    assert [one["sentence"] for one in report["doubts"]] == [
        "Rows 3 and 5 are struck through, and read like any other."
    ]
    assert report["added"] == 3


def test_tables_copied_from_a_web_page_are_read(office: Office) -> None:
    page = (
        "<html><body><p>Crew<table><tr><th rowspan=2>Name<th colspan=2>E-mail<tr><th>private<th>work"
        "<tr><td>Bo <b>Lund</b><td>bo@kelp.example<td>bo@ebb.example<tr><td>Una&nbsp;Berg<td><td>una@kelp.example</table>"
    )
    report = office.run("import", "-", "--json", stdin=page).json
    assert report["files"][0]["kind"] == "html" and report["added"] == 2
    assert [a["kind"] for a in office.told("find", "bo lund")[0]["addresses"]] == ["home", "work"]
    # However many tables there are, the page is gone through once for all of them.
    office.file("many.html", page + "<table><tr><td>Boat<td>Berth<tr><td>Gull<td>B12</table>" * 20_000)
    unseen = office.told("import", "many.html")["files"][0]["unseen"]
    assert unseen == ["of 20,001 tables only the first 200 were looked at"]


def words_of(form: str, rows: list[list[str]], *lines: str) -> bytes:
    """A document with lines and a table, as a word processor writes one; `<a@b>` is a link that leads there."""
    if form == "docx":
        shapes = (
            "<w:tbl>{}</w:tbl>",
            "<w:tr>{}</w:tr>",
            "<w:tc><w:tcPr/><w:p><w:r>{}</w:r></w:p></w:tc>",
            "<w:t>{}</w:t>",
        )
        link = '<w:hyperlink r:id="rId{}"><w:r><w:t>write</w:t></w:r></w:hyperlink>'
        names = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"'
        whole = f"<w:document {names}><w:body>{{}}{{}}</w:body></w:document>"
        line = "<w:p><w:pPr><w:tabs><w:tab w:val='left' w:pos='720'/></w:tabs></w:pPr><w:r><w:t>{}</w:t></w:r></w:p>"
        between, below = "</w:t><w:tab/><w:t>", "</w:t><w:br/><w:t>"
    else:
        shapes = (
            "<table:table>{}</table:table>",
            "<table:table-row>{}</table:table-row>",
            "<table:table-cell><text:p>{}</text:p></table:table-cell>",
            "{}",
        )
        link = '<text:a xlink:href="mailto:{}">write</text:a>'
        names = " ".join(
            f'xmlns:{one}="urn:oasis:names:tc:opendocument:xmlns:{one}:1.0"'
            for one in ("office", "table", "text", "xlink")
        )
        whole = f"<office:document-content {names}><office:body><office:text>{{}}{{}}</office:text></office:body></office:document-content>"
        line, between, below = "<text:p>{}</text:p>", "<text:tab/>", "<text:line-break/>"
    links: list[str] = []

    def cell(text: str) -> str:
        if not text.startswith("<"):
            return shapes[2].format(shapes[3].format(text))
        links.append(text.strip("<>"))
        return shapes[2].format(link.format(len(links) if form == "docx" else links[-1]))

    said = "".join(line.format(one.replace("\t", between).replace("\n", below)) for one in ("Crew of 2026", *lines))
    table = shapes[0].format("".join(shapes[1].format("".join(map(cell, row))) for row in rows)) if rows else ""
    text = whole.format(said, table)
    kept = io.BytesIO()
    with zipfile.ZipFile(kept, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        archive.writestr(
            "word/document.xml" if form == "docx" else "content.xml", f'<?xml version="1.0" encoding="UTF-8"?>{text}'
        )
        found = "".join(
            f'<Relationship Id="rId{n}" Target="mailto:{one}" TargetMode="External"/>' for n, one in enumerate(links, 1)
        )
        archive.writestr("word/_rels/document.xml.rels", f"<Relationships>{found}</Relationships>")
    return kept.getvalue()


@pytest.mark.parametrize("form", ["docx", "odt"])
def test_people_in_the_text_of_a_document_are_read(office: Office, form: str) -> None:
    lines = (
        "• Una Keel: una@kelp.example", "Dee Ebb (treasurer) dee@kelp.example", "bo@kelp.example; eva@kelp.example",
        "Gus Watt", "Ida Holm\nida@kelp.example\n01632 960001", "Fay Siel fay@kelp.example, Hal Brine hal@kelp.example",
        "Please write to &lt;pier@kelp.example&gt;",
    )  # fmt: skip
    office.file(f"lines.{form}", words_of(form, [], *lines))
    report = office.told("import", f"lines.{form}", "--into", "Crew")
    assert (report["files"][0]["kind"], report["added"]) == ("text", 8)
    left = [(one["row"], one["value"]) for one in report["left_out"]]
    assert left == [(1, "Crew of 2026"), (5, "Gus Watt")]
    assert [one["value"] for one in report["doubtful"]] == ["Please write to"]
    named = {"Una Keel", "Dee Ebb (treasurer)", "Ida Holm", "Fay Siel", "Hal Brine"}
    assert named <= {*office.members("Crew")}
    tabs = (
        "Name\tVoice\tE-mail",
        "Fay Siel\tAlto\tfay@kelp.example",
        "Cy Dale\tBass\tcy@kelp.example",
        "Write to choir@kelp.example",
    )
    office.file(f"tabs.{form}", words_of(form, [], *tabs))
    ran = office.run("import", f"tabs.{form}", "--into", "Choir")
    assert office.members("Choir") == ["Cy Dale", "Fay Siel"] and "Fields of your own: Voice." in ran.out
    office.file(f"both.{form}", words_of(form, [["Name", "E-mail"], ["Ole Siel", "ole@kelp.example"]], *tabs[:3]))
    assert office.json("import", f"both.{form}")["added"] == 1 and "Ole Siel" in office.run("find", "ole").out
    assert "1 line with an address stands beside the tables, and was not read." in ran.out


@pytest.mark.parametrize("form", ["docx", "odt"])
def test_tables_of_documents_are_read(office: Office, form: str) -> None:
    rows = [
        ["Name", "E-mail", "Boat"],
        ["Una Keel", "una@kelp.example", "Gull"],
        ["Jörg &amp; Ute Ebb", "<ebb@kelp.example>", ""],
    ]
    office.file(f"crew.{form}", words_of(form, rows))
    report = office.told("import", f"crew.{form}", "--into", "Crew")
    assert report["files"][0]["kind"] == "document" and report["added"] == 2
    assert office.members("Crew") == ["Jörg Ebb", "Una Keel", "Ute Ebb"]
    assert office.json("contact", "show", "ute")["addresses"][0]["address"] == "ebb@kelp.example"
    office.file(f"two.{form}", words_of(form, [["Boat", "Berth"], ["Gull", "B12"]]))
    assert "has no table with names or addresses" in office.run("import", f"two.{form}", code=2).err
    office.file(f"three.{form}", words_of(form, rows).replace(b"PK\x01\x02", b"PK\x01\x03"))
    assert f"three.{form}" in office.run("import", f"three.{form}", code=2).err
    bomb = words_of(form, [["Name"], ["x" * (70 << 20)]])
    office.file(f"bomb.{form}", bomb)
    assert "has too much in it" in office.run("import", f"bomb.{form}", code=2).err
    entity = words_of(form, rows[:1])
    with zipfile.ZipFile(office.folder / f"entity.{form}", "w") as archive, zipfile.ZipFile(io.BytesIO(entity)) as old:
        for name in old.namelist():
            archive.writestr(name, old.read(name).replace(b"?>", b'?><!DOCTYPE x [<!ENTITY a "b">]>', 1))
    assert "is damaged, and was not read" in office.run("import", f"entity.{form}", code=2).err
    for name, content in (
        ("a.rtf", "{\\rtf1 Una}"),
        (
            "b.fods",
            "<?xml version='1.0'?><office:document xmlns:office='urn:oasis:names:tc:opendocument:xmlns:office:1.0'/>",
        ),
        ("c.slk", "ID;PX\n"),
    ):
        office.file(name, content)
        assert "which is not read. Save the table as CSV" in office.run("import", name, code=2).err


CHOIR = """Name,E-mail,Voice,Birthday,Member no.,Status,Paid
Bo Lund,bo@kelp.example,Tenor,02.03.1970,12,active,yes
Una Berg,una@kelp.example,Alto,14.12.1985,104,unsubscribed,no
Tor Dahl,tor@kelp.example,Tenor,1.1.2001,9,bounced,ja
Ida Rask,ida@kelp.example,,,,,
"""


def test_a_column_is_a_field_of_one_s_own(office: Office) -> None:
    office.file("choir.csv", CHOIR)
    office.run("import", "choir.csv", "--into", "Choir")
    assert office.told("contact", "show", "bo")["fields"]["Voice"] == "Tenor"

    def who(rule: str) -> set[str]:
        """By SQL, and one by one as a list keeps itself."""
        found = {c["name"] for c in office.told("find", "--where", rule)}
        office.within("list", "rule", "Kept", rule)
        assert set(office.members("Kept")) == found
        return found

    office.within("list", "new", "Kept")
    for rule, want in (
        ("field voice is tenor", {"Bo Lund", "Tor Dahl"}), ('field "Member no." after 10', {"Bo Lund", "Una Berg"}),
        ("field Birthday before 1980", {"Bo Lund"}), ("field Birthday after 1985", {"Tor Dahl"}), ("field Paid is yes", {"Bo Lund", "Tor Dahl"}),
        ("field Voice missing", {"Ida Rask"}), ("not field Voice missing and field Voice has lt", {"Una Berg"}),
    ):  # fmt: skip
        assert who(rule) == want, rule
    office.run("list", "rule", "Kept", "field Voice is Bass")
    office.run("contact", "edit", "find:tenor", "--set", "Voice=Bass")
    assert set(office.members("Kept")) == {"Bo Lund", "Tor Dahl"}
    assert [m["columns"]["Voice"] for m in office.told("list", "show", "Choir", "--columns", "voice")["members"]] == [
        "Bass",
        "",
        "Bass",
        "Alto",
    ]
    assert "Did you mean `Voice`?" in office.run("find", "--where", "field Voise is x", code=2).err
    # A status column says whom not to write to, and the number is the same everywhere.
    assert office.told("list")[0]["reachable"] == 2 and office.told("contact", "show", "tor")["failing"][0]["for_good"]
    office.run("compose", "--for", "bo", "--each", "--subject", "{Voice|no} voice", "--text", "Dear {given}.")
    assert "Bass voice" in office.run("preview", "m1").out
    office.run("undo", code=None)
    for wrong, said in (("Voice", "does not set a field"), ("note=x", "use --note")):
        assert said in office.run("contact", "edit", "bo", "--set", wrong, code=2).err
    for form in ("vcard", "jcard", "csv"):
        office.run("export", "all", "--as", form, "--out", form)
        other = Office(office.folder / f"other {form}")
        other.folder.mkdir()
        other.within("setup", "--me", "Una <una@tidewick.example>")
        other.within("import", str(office.folder / form))
        assert other.told("contact", "show", "una")["fields"]["Member no."] == "104", form


def test_who_is_meant_may_be_a_list_a_search_or_a_rule(office: Office) -> None:
    office.file("choir.csv", CHOIR)
    office.run("import", "choir.csv", "--into", "Choir")
    office.run("contact", "label", "where:field Voice is Tenor", "find:ida", "--add", "low")
    assert [one["people"] for one in office.told("label")] == [3]
    office.run("contact", "optout", "label:low", "--why", "left")
    assert office.told("list")[0]["reachable"] == 0
    assert office.told("contact", "optout", "Choir")["names"] == []
    assert "· left" in office.within("contact", "show", "tor").out, "whoever is marked already keeps the reason"
    office.run("contact", "optin", "Choir")
    office.run("list", "take", "Choir", "label:low")
    assert office.members("Choir") == ["Una Berg"]
    assert "None of" in office.run("list", "take", "Choir", "label:low", code=2).err
    assert {c["name"] for c in office.told("find", "--on-no-list")} == {"Bo Lund", "Tor Dahl", "Ida Rask"}
    office.run("contact", "remove", "Choir", "find:rask")
    assert {c["name"] for c in office.told("find")} == {"Bo Lund", "Tor Dahl"}
    for title in ("all", "m1", "label:x", "find: y", "where:z"):
        assert "means something else" in office.run("list", "new", title, code=2).err


def test_headings_in_a_sheet_are_lists_where_one_says_so(office: Office) -> None:
    rows = ("Name,E-mail,Phone", "Una Keel,una@gull.example,", "Board,,", "Tom Pike,tom@gull.example,01632 960001", "", "Juniors:,,",
            "Mia Ebb,mia@gull.example,", "Tom Pike,tom@gull.example,", "", "Passive members,,", "Ida Rask,,")  # fmt: skip
    office.file("club.csv", "\n".join(rows))
    said = office.run("import", "club.csv", "--plan").out
    assert "Headings can be lists, with those below on them: --list-by headings." in said
    report = office.json("import", "club.csv", "--list-by", "headings")
    assert {one["title"]: office.members(one["title"]) for one in office.told("list")} == {
        "Board": ["Tom Pike"], "Juniors": ["Mia Ebb", "Tom Pike"], "Passive members": ["Ida Rask"],
    }  # fmt: skip
    assert [(one["row"], one["reason"]) for one in report["doubtful"]] == [
        (2, "no heading stands above it, so it is on no list")
    ]


def test_two_lists_in_one_cell_are_two_and_an_opted_out_file_marks_everybody(office: Office) -> None:
    office.file("on.csv", 'Name,E-mail,On\nBo Lund,bo@kelp.example,"Choir, Board"\nUna Berg,una@kelp.example,Choir\n')
    report = office.json("import", "on.csv", "--list-by", "On")
    assert sorted((one["title"], one["came"]) for one in report["lists"]) == [("Board", 1), ("Choir", 2)]
    office.file("out.csv", "E-mail\nbo@kelp.example\nnew@kelp.example\n")
    assert "Nobody in the book has new@kelp.example" in office.run("contact", "optout", "--from", "out.csv").out
    assert [c["name"] for c in office.told("find") if c["opted_out"]] == ["Bo Lund"]
    office.run("contact", "optin", "bo lund")
    office.run("import", "out.csv", "--optout")
    assert [c["opted_out"] for c in office.told("find")] == [True, True, False]


def edit(path: Path, out: Path) -> None:
    """Change a workbook as somebody at a spreadsheet does."""
    book = openpyxl.load_workbook(path)
    page = book.active
    place = {cell.value: cell.column for cell in page[1]}
    page.cell(2, place["Voice"]).value = "Bass"
    page.cell(3, place["Family name"]).value = "Rask-Lund"
    page.cell(4, place["Birthday"]).value = None
    page.delete_rows(5)
    book.save(out)


def saved_as(office: Office, name: str, form: str, folder: str = ".") -> None:
    """Open a workbook in a spreadsheet program, and save it in another format."""
    program = need("soffice", "libreoffice-calc")
    profile = f"-env:UserInstallation=file://{office.folder}/profile"
    subprocess.run([program, profile, "--headless", "--convert-to", form, "--outdir", folder, name], cwd=office.folder,
                   check=True, capture_output=True, timeout=HANGS)  # fmt: skip


def test_what_formulas_say_is_taken_where_it_can_be_and_told_where_it_cannot(office: Office) -> None:
    """A library writes formulas without their results; an office suite writes both."""
    rows = [["Name", "E-mail", "Boat"], ["Una Rask", '=HYPERLINK("mailto:una@kelp.example","Una")', '="Te"&"al"'],
            ["Bo Lind", '=LOWER("BO")&"@kelp.example"', '=IF(TRUE,"","Tern")']]  # fmt: skip
    workbook(office.folder / "made.xlsx", A=rows)
    (doubt,) = office.json("import", "made.xlsx")["doubts"]
    assert doubt["sentence"].startswith(
        "Formulas in `E-mail` (1 cell, first in row 3) and `Boat` (2 cells, first in row 2) have no results"
    )
    assert [a["address"] for a in office.told("find", "Una Rask")[0]["addresses"]] == ["una@kelp.example"]
    office.run("undo")
    cells = "".join(
        f'<table:table-cell office:value-type="string"><text:p>{title}</text:p></table:table-cell>' for title in rows[0]
    )
    empty = '<table:table-cell office:value-type="string"><text:p>Bo</text:p></table:table-cell><table:table-cell table:formula="of:=1"/><table:table-cell office:value-type="string"><text:p>Tern</text:p></table:table-cell>'
    with zipfile.ZipFile(office.folder / "made.ods", "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        both = "".join(f"<table:table-row>{one}</table:table-row>" for one in (cells, empty))
        archive.writestr("content.xml", OPEN_SHEET.format(both))
    (doubt,) = office.json("import", "made.ods")["doubts"]
    assert doubt["sentence"].startswith("Formulas in `E-mail` (1 cell, first in row 2) have no results")
    office.run("undo")
    for form in ("xlsx", "ods"):
        saved_as(office, "made.xlsx", form, f"by_{form}")
        done = office.json("import", f"by_{form}/made.{form}")
        assert (done["added"], done["doubts"]) == (2, [])
        found = {one["name"]: one["addresses"][0]["address"] for one in office.told("find")}
        assert found == {"Una Rask": "una@kelp.example", "Bo Lind": "bo@kelp.example"}
        office.run("undo")


def test_a_book_that_has_just_begun_takes_back_what_was_edited(office: Office) -> None:
    """The version in a table holds whatever the book has done since, if that was little or much."""
    office.file("in.csv", "Name,E-mail,Organisation\nUna Rask,una@kelp.example,Kelp Ltd\nBo Lind,bo@kelp.example,\n")
    office.run("import", "in.csv")
    office.run("export", "all", "--out", "out.csv")
    text = (office.folder / "out.csv").read_text("utf-8-sig")
    office.file("back.csv", text.replace("una@kelp", "una.r@kelp").replace("Kelp Ltd", "Pier & Sons"))
    done = office.json("import", "back.csv")
    assert (done["updated"], done["unchanged"], done["differences"]) == (1, 1, [])
    (una,) = office.told("find", "una")
    assert ([a["address"] for a in una["addresses"]], una["org"]) == (["una.r@kelp.example"], "Pier & Sons")


@pytest.mark.parametrize(
    "typed, phones, note",
    [
        ("01632 960011; 01632 960012", [("01632 960011", ""), ("01632 960012", "")], ""),
        ("+44 (0)1632 960555 (office, until noon)", [("+44 (0)1632 960555", "work")], "until noon"),
        ("none", [], ""),
        ("", [], ""),
        ("ask Una", [("01632 960010", "")], "ask Una"),
        ("1" * 400, [("01632 960010", "")], "1" * 400),
        ("+441632960010", [("01632 960010", "")], ""),
    ],
)
def test_what_is_typed_over_a_phone_in_an_exported_table_is_read_as_people_write(
    office: Office, typed: str, phones: list[tuple[str, str]], note: str
) -> None:
    office.file("in.csv", "Name,E-mail,Phone,Mobile\nBo Lind,bo@kelp.example,01632 960010,07700 900010\n")
    office.within("import", "in.csv")
    office.within("export", "all", "--out", "out.csv")
    office.file("back.csv", (office.folder / "out.csv").read_text("utf-8-sig").replace("01632 960010", f'"{typed}"'))
    for updated in (int(phones != [("01632 960010", "")] or note != ""), 0):
        done = office.json("import", "back.csv")
        assert (done["updated"], done["differences"]) == (updated, [])
        (bo,) = office.told("find", "bo")
        kept = [(one["number"], one["kind"]) for one in bo["phones"]]
        assert sorted(kept) == sorted([*phones, ("07700 900010", "mobile")])
        assert note in bo["notes"] and (note or not bo["notes"])


@pytest.mark.parametrize("form", ["xlsx", "ods", "csv"])
def test_a_workbook_goes_out_is_edited_in_a_spreadsheet_program_and_comes_back(office: Office, form: str) -> None:
    office.file("choir.csv", CHOIR)
    office.run("import", "choir.csv", "--into", "Choir")
    office.run("contact", "edit", "bo", "--note", "=1+1", "--phone", "01632 960001")
    office.run("export", "all", "--out", "out.xlsx")
    edit(office.folder / "out.xlsx", office.folder / "edited.xlsx")
    saved_as(office, "edited.xlsx", form, "saved")
    office.run("contact", "edit", "tor", "--job", "Skipper")  # meanwhile, in the book
    saved = f"saved/edited.{form}"
    done = office.json("import", saved, "--take-missing-off", "Choir")
    assert (done["updated"], done["added"], done["differences"], done["refused"]) == (3, 0, [], [])
    assert [one["name"] for one in done["taken_off"]] == ["Una Berg"] and len(office.told("find")) == 4
    bo, tor = office.told("contact", "show", "bo"), office.told("contact", "show", "tor")
    assert (bo["fields"]["Voice"], bo["notes"], bo["phones"][0]["number"]) == ("Bass", "=1+1", "01632 960001")
    assert "Birthday" not in tor["fields"] and tor["job"] == "Skipper"
    assert office.told("contact", "show", "ida")["name"] == "Ida Rask-Lund"
    assert office.json("import", saved)["updated"] == 0
    office.run("contact", "edit", "bo", "--set", "Voice=Alto")
    (clash,) = office.json("import", saved)["differences"]
    assert (clash["field"], clash["book"], clash["file"], clash["kept"]) == ("Voice", "Alto", "Bass", "book")


@pytest.mark.parametrize("form", ["xlsx", "ods"])
def test_a_workbook_has_sheets_for_lists_and_runs_nothing(office: Office, form: str) -> None:
    office.file("choir.csv", CHOIR)
    office.run("import", "choir.csv", "--into", "Choir: alto/bass")
    office.run("list", "new", "Board", "bo@kelp.example")
    office.run("contact", "edit", "bo", "--note", '=HYPERLINK("x")')
    office.run("export", "all", "--by-list", "--out", f"lists.{form}", "--fields", "name, address, note, Voice")
    book = python_calamine.CalamineWorkbook.from_path(str(office.folder / f"lists.{form}"))
    assert book.sheet_names == ["Board", "Choir- alto-bass"]
    assert book.get_sheet_by_index(0).to_python() == [
        ["Name", "Given name", "Family name", "E-mail", "Note", "Voice"],
        ["Bo Lund", "Bo", "Lund", "bo@kelp.example", '=HYPERLINK("x")', "Tenor"],
    ]
    if form == "xlsx":
        page = openpyxl.load_workbook(office.folder / "lists.xlsx").worksheets[0]
        assert (
            page.freeze_panes == "A2" and page["A1"].font.bold and page.auto_filter.ref and page["E2"].data_type == "s"
        )
    assert "needs a file" in office.run("export", "all", "--as", form, code=2).err
    some = office.json("export", "Board", "find:tenor", "--out", f"some.{form}")
    assert (some["people"], some["fields"]) == (2, ["name", "address"]), "each once, and no more than was asked for"
    assert oct((office.folder / f"lists.{form}").stat().st_mode & 0o777) == "0o600"


def test_what_a_format_has_no_place_for_is_said(office: Office) -> None:
    office.file(
        "a.vcf",
        "BEGIN:VCARD\nVERSION:4.0\nFN:Bo Lund\nEMAIL:bo@kelp.example\nPHOTO:data:image/png;base64,iVBORw0K\nBDAY:19700302\nEND:VCARD\n",
    )
    office.run("import", "a.vcf")
    done = office.json("export", "all", "--out", "all.xlsx")
    assert done["not_carried"] == {"photo": 1}


def test_a_number_is_found_however_its_beginning_is_written(office: Office) -> None:
    office.run("settings", "me.region", "DE")
    office.run("contact", "add", "Jörg Weiß <joerg@kelp.example>", "--phone", "0160 1234567")
    for rule in ("phone starts +49160", "phone starts 0160", "phone is +491601234567"):
        assert len(office.told("find", "--where", rule)) == 1, rule
    office.run("contact", "edit", "jörg", "--phone", "mobile:+49 160 1234567")
    assert office.told("contact", "show", "jörg")["phones"] == [{"number": "+49 160 1234567", "kind": "mobile"}]
    assert office.told("history")[0]["title"] == "Jörg Weiß: phone changed"


def test_what_was_wrong_beside_sheets(office: Office, tmp_path: Path) -> None:
    # One name on a card that had a middle one.
    office.file(
        "a.vcf", "BEGIN:VCARD\nVERSION:4.0\nFN:Bo Erik Lund\nN:Lund;Bo;Erik;;\nEMAIL:bo@kelp.example\nEND:VCARD\n"
    )
    office.run("import", "a.vcf")
    office.run("contact", "edit", "bo", "--name", "Bo Holm")
    assert [
        line for line in office.run("export", "all", "--as", "vcard").out.splitlines() if line.startswith("N:")
    ] == ["N:Holm;Bo;;;"]
    assert "cannot be empty" in office.run("contact", "edit", "bo", "--name", " ", code=2).err
    # A directory: members without mail are members, and no password leaves it.
    office.file(
        "d.ldif",
        "dn: uid=una,o=x\nobjectClass: person\ncn: Una Berg\nsn: Berg\nuserPassword: {SSHA}secret\n\n"
        "dn: cn=Crew,o=x\nobjectClass: groupOfNames\ncn: Crew\nmember: uid=una,o=x\n",
    )
    assert office.json("import", "d.ldif")["cleaned"][0]["reason"] == "a password was left out"
    assert office.members("Crew") == ["Una Berg"] and "secret" not in office.run("export", "all", "--as", "ldif").out
    assert office.json("import", "d.ldif")["added"] == 0 and office.members("Crew") == ["Una Berg"]
    # Pasted lines of which half are wrong are pasted lines.
    office.file("pasted.txt", "Ada <ada@kelp.example>\nnobody here\nCy <cy@kelp.example>\nalso nobody\n")
    assert office.json("import", "pasted.txt", code=1)["files"][0]["kind"] == "line"
    # An undo in a copy of the folder leaves the original's settings alone.
    office.run("settings", "me.region", "FR")
    copy = Office(tmp_path / "copied")
    copy.folder.mkdir()
    copy.home.mkdir(parents=True, exist_ok=True)
    for path in office.home.iterdir():
        if path.is_file():
            (copy.home / path.name).write_bytes(path.read_bytes())
    copy.run("undo")
    assert 'region = "FR"' in (office.home / "barnacle.toml").read_text()
    assert 'region = "FR"' not in (copy.home / "barnacle.toml").read_text()


ODD = {
    "a language that nobody taught": ("Ad;Soyad;E-posta;Cep telefonu\nAyşe;Yılmaz;ayse@kelp.example;0532 555 01 23\nElif;Demir;elif@kelp.example;0532 555 01 24\n"
                                      "Mehmet;Kaya;mehmet@kelp.example;0532 555 01 25\n", ["Ayşe Yılmaz", "Elif Demir", "Mehmet Kaya"]),
    "the family name first": ("Név;E-mail cím;Hajó\nKovács János;janos.kovacs@kelp.example;Sirály\nSzabó Éva;eva.szabo@kelp.example;Delfin\n"
                              "Tóth Pál;pal.toth@kelp.example;Kócsag\n", ["János Kovács", "Pál Tóth", "Éva Szabó"]),
    "a particle of its own": ("Voornaam;Tussenvoegsel;Achternaam;E-mail\nJan;van der;Berg;jan@kelp.example\n", ["Jan van der Berg"]),
    "a title over all of it": ("Contact list of berth holders;;\nHolder;Boat's name;E-mail\nBo Lund;Teal;bo@kelp.example\n", ["Bo Lund"]),
}  # fmt: skip


@pytest.mark.parametrize("what", ODD)
def test_what_no_title_says_is_told_by_the_addresses(office: Office, what: str) -> None:
    text, names = ODD[what]
    office.file("odd.csv", text)
    office.run("import", "odd.csv")
    assert sorted(c["name"] for c in office.told("find")) == names
