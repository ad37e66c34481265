"""People in texts that are no table: lines as people type them, blocks, signatures, what a form sends."""

from __future__ import annotations

import pytest
from conftest import Office
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.contact import Contact
from barnacle.files.drafts import Line
from barnacle.files.free_text import people_in

GIVEN = ("Una", "Bo", "Jörg", "Anne-Marie", "Þóra", "Loïc", "Siân")
FAMILY = ("Keel", "Lund", "O'Brine", "van der Siel", "Fjällgren", "Le Quai", "Ó Duill")
PHONES = ("07700 900010", "+44 1632 960011", "04421/960012", "06 12 34 56 78", "(01632) 960013", "0170-9600100")
PEOPLE = st.lists(st.tuples(*map(st.sampled_from, (GIVEN, FAMILY, PHONES))), min_size=1, max_size=8)


def read(text: str) -> list[Contact]:
    lines = (Line(n, line.strip(), False) for n, line in enumerate(text.splitlines(), 1) if line.strip())
    return [person for draft in people_in(lines) for person in draft.people]


@given(
    people=PEOPLE,
    order=st.permutations(("name", "phone", "address")),
    between=st.sampled_from((", ", "; ", " - ", " – ", " / ", "\t", " | ", "   ", " ")),
    label=st.sampled_from(("", "Tel. ", "Tel: ", "Phone: ", "Handy ", "T ", "mobile ")),
    bullet=st.sampled_from(("", "- ", "• ", "{n}. ", "* ")),
    heading=st.sampled_from(("", "Crew 2026\n", "Mannschaft:\n\n")),
)
def test_a_line_is_one_person_in_any_order(
    people: list[tuple[str, str, str]], order: list[str], between: str, label: str, bullet: str, heading: str
) -> None:
    meant, lines = [], []
    for n, (given_name, family, phone) in enumerate(people, 1):
        # Nothing but a name parts what has a space between; a label stands where something is in front of it.
        order = ["phone", "name", "address"] if between == " " and order.index("name") == 2 else order
        said = label if between != " " or order[0] == "phone" or label.strip(" ")[-1:] in ".:" else ""
        parts = {"name": f"{given_name} {family}", "phone": f"{said}{phone}", "address": f"p{n}@mole.example"}
        meant.append((parts["name"], [f"p{n}@mole.example"], [phone]))
        lines.append(bullet.format(n=n) + between.join(parts[part] for part in order))
    found = read(heading + "\n".join(lines))
    assert [(p.name, [a.address for a in p.addresses], [one.number for one in p.phones]) for p in found] == meant


@given(
    people=PEOPLE,
    order=st.permutations(("phone", "address", "street")),
    gap=st.booleans(),
    labels=st.sampled_from((("", ""), ("Tel. ", "E-mail: "), ("T: ", "E: "), ("Mobil ", "Mail "))),
)
def test_lines_below_a_name_are_of_that_person(
    people: list[tuple[str, str, str]], order: list[str], gap: bool, labels: tuple[str, str]
) -> None:
    lines: list[str] = []
    for n, (given_name, family, phone) in enumerate(people, 1):
        parts = {"phone": labels[0] + phone, "address": f"{labels[1]}p{n}@mole.example", "street": f"Quay {n}"}
        lines += [f"{given_name} {family}", *(parts[part] for part in order), *([""] if gap else [])]
    found = read("\n".join(lines))
    assert [(p.name, p.preferred, [one.number for one in p.phones], p.note) for p in found] == [
        (f"{one} {family}", f"p{n}@mole.example", [phone], f"Quay {n}")
        for n, (one, family, phone) in enumerate(people, 1)
    ]


@given(st.text(max_size=300))
def test_any_text_is_read_and_nothing_of_it_is_taken_silently(text: str) -> None:
    lines = [Line(n, line.strip(), False) for n, line in enumerate(text.splitlines(), 1) if line.strip()]
    drafts = list(people_in(lines))
    said = [defect for one in drafts for defect in (*one.left_out, *one.refused, *one.doubtful)]
    assert {line.number for line in lines} >= {defect.row for defect in said}
    assert all(person.addresses or person.phones or person.note for one in drafts for person in one.people)
    assert bool(lines) == bool(drafts)


BLOCKS = """Crew of the Gannet

Bo Lund
Harbour Master
12 Mole Street, Tidewick
Tel. 01632 960010
bo.lund@mole.example

Gus Watt
Ida Holm
ida@holm.example

Kelp Yard Ltd
office@kelp.example
"""
LETTER = """Please tell Bo Lund (bo@mole.example) whether you can come to the quay on Friday, or ring 01632 960010.

Una Berg, una@berg.example
Ada Strand 07700 900014, no mail
Per Holm: per@holm.example, berth 12
"""


def test_what_a_text_says_of_people_and_what_is_nobodys(office: Office) -> None:
    office.file("blocks.txt", BLOCKS)
    report = office.json("import", "blocks.txt", "--into", "Crew")
    assert (report["files"][0]["kind"], report["added"]) == ("text", 3)
    assert [one["value"] for one in report["left_out"]] == ["Crew of the Gannet", "Gus Watt"]
    bo = office.json("contact", "show", "bo")
    assert (bo["phones"][0]["number"], bo["notes"]) == ("01632 960010", "12 Mole Street, Tidewick")
    assert ("Harbour Master", "taken for the organisation") in [
        (one["value"], one["reason"]) for one in report["cleaned"]
    ]
    assert office.members("Crew") == ["Bo Lund", "Ida Holm", "Kelp Yard Ltd"]
    office.file("letter.txt", LETTER)
    report = office.json("import", "letter.txt", "--into", "Letter")
    assert {(one["value"], one["reason"]) for one in report["doubtful"]} >= {
        ("bo@mole.example", "what stands beside it reads like a sentence, and was left out"),
        ("Ada Strand", "no address stands beside it"),
    }
    assert ("berth 12", "kept in the note") in [(one["value"], one["reason"]) for one in report["cleaned"]]
    # The same, piped in; and a document's kind for a text.
    assert office.run("import", "-", "--plan", "--json", stdin=LETTER).json["unchanged"] == report["added"]
    assert office.json("import", "letter.txt", "--as", "text", "--plan")["unchanged"] == report["added"]


FORM = """New answer
----------
Vorname: Jörg
Nachname: Strand
E-Mail-Adresse: joerg@strand.example
Telefon: 04421 960010
Boot: Möwe
Bemerkung: Komme später,
bringe Kuchen mit

Vorname: Änne
Nachname: Kiel
E-Mail-Adresse: aenne@kiel.example
Telefon:
Boot: Tern
"""


def test_what_a_form_sends_is_read_as_a_table_is(office: Office) -> None:
    office.file("form.txt", FORM)
    ran = office.run("import", "form.txt", "--into", "Guests", "--list-by", "Boot")
    assert "form.txt: fields below each other, each with its title, UTF-8; one person a row." in ran.out
    assert (office.members("Guests"), office.members("Tern")) == (["Änne Kiel", "Jörg Strand"], ["Änne Kiel"])
    jorg = office.json("contact", "show", "Jörg")
    assert (jorg["notes"], jorg["fields"]["Boot"]) == ("Komme später, bringe Kuchen mit", "Möwe")


TABLES = ("Name,Organisation\nIda Rask,ida@kelp.example; ida@ebb.example\n", "E-mail\nbo@kelp.example\n",
          '"Lund, Bo",bo@kelp.example,"a; b"\n"Keel, Dee",dee@kelp.example\n')  # fmt: skip


@pytest.mark.parametrize("text", TABLES)
def test_a_table_is_no_text(office: Office, text: str) -> None:
    office.file("table.csv", text)
    assert office.told("import", "table.csv", "--plan")["files"][0]["kind"] in ("csv", "line")
