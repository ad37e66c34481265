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


@given(st.one_of(st.text(max_size=300), st.text("aB@.,;:|()<>-/ \n\t01Ä", max_size=200)))
def test_any_text_is_read_and_nothing_of_it_is_taken_silently(text: str) -> None:
    lines = [Line(n, line.strip(), False) for n, line in enumerate(text.splitlines(), 1) if line.strip()]
    drafts = list(people_in(lines))
    said = [defect for one in drafts for defect in (*one.left_out, *one.refused, *one.doubtful)]
    assert {line.number for line in lines} >= {defect.row for defect in said}
    assert all(person.addresses or person.phones or person.note for one in drafts for person in one.people)
    assert bool(lines) == bool(drafts)


@pytest.mark.parametrize(
    ("line", "name", "phones", "addresses"),
    [
        ("LUND Bo....07700 900010....bo@mole.example", "Bo Lund", ["07700 900010"], ["bo@mole.example"]),
        ("Dee Keel dee@keel.example dee.keel@home.example", "Dee Keel", [], ["dee@keel.example", "dee.keel@home.example"]),
        ("van der Siel, Jan; jan@siel.example", "Jan van der Siel", [], ["jan@siel.example"]),
        ("Jean-Luc d'Arc; 06.12.34.56.78; jl@mole.example", "Jean-Luc d'Arc", ["06.12.34.56.78"], ["jl@mole.example"]),
        ("García López, José; 600 000 011; jgl@mole.example", "José García López", ["600 000 011"], ["jgl@mole.example"]),
        ("Bo Lund, Harbour Master, Mole Ltd, bo@mole.example", "Bo Lund", [], ["bo@mole.example"]),
        ("Bo Lund, skipper <bo@mole.example>", "Bo Lund, skipper", [], ["bo@mole.example"]),
        ("strand, ada  ada@strand.example", "ada strand", [], ["ada@strand.example"]),
        ("Treasurer – Una Berg – una@berg.example", "Una Berg", [], ["una@berg.example"]),
        ("Secretary: Una Berg (una@berg.example)", "Una Berg", [], ["una@berg.example"]),
        ("Chair: Una Berg <una@berg.example>", "Una Berg", [], ["una@berg.example"]),
        ("E-mail: una@berg.example", "", [], ["una@berg.example"]),
        ("Gus, 12/11/2026, F: 01632 960019, gus@watt.example", "Gus", [], ["gus@watt.example"]),
        ("Иван Петров, +7 495 000-00-10, ivan@mole.example", "Иван Петров", ["+7 495 000-00-10"], ["ivan@mole.example"]),
        ("山田花子、090-0000-0010、hanako@mole.example", "山田花子", ["090-0000-0010"], ["hanako@mole.example"]),
        ("محمد علي، 050 000 0010، m.ali@mole.example", "محمد علي", ["050 000 0010"], ["m.ali@mole.example"]),
        ("mob 07700 900010 Ada ada@strand.example (home)", "Ada", ["07700 900010"], ["ada@strand.example"]),
    ],
)  # fmt: skip
def test_what_a_line_says(line: str, name: str, phones: list[str], addresses: list[str]) -> None:
    (person,) = read(line)
    assert (person.name, [one.number for one in person.phones]) == (name, phones)
    assert [one.address for one in person.addresses] == addresses
    if "Harbour" in line:
        assert (person.org, person.note) == ("Mole Ltd", "Harbour Master")
        return
    said = {"T": "Treasurer", "S": "Secretary", "C": "Chair", "Gu": "12/11/2026, F 01632 960019"}
    assert person.note == said.get(line[0], said.get(line[:2], ""))  # what somebody is, is kept


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
    assert (bo["phones"][0]["number"], bo["notes"]) == ("01632 960010", "Harbour Master, 12 Mole Street, Tidewick")
    assert ("Harbour Master, 12 Mole Street, Tidewick", "kept in the note") in [
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
    # The last line without a line break is one person, whole.
    office.file("last.txt", LETTER + "Ida Rask 07700 900015 ida@rask.example")
    office.run("import", "last.txt")
    assert office.json("contact", "show", "ida rask")["phones"][0]["number"] == "07700 900015"
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
    assert "form.txt: fields, each with its title, UTF-8; one person a row." in ran.out
    assert (office.members("Guests"), office.members("Tern")) == (["Änne Kiel", "Jörg Strand"], ["Änne Kiel"])
    jorg = office.json("contact", "show", "Jörg")
    assert (jorg["notes"], jorg["fields"]["Boot"]) == ("Komme später, bringe Kuchen mit", "Möwe")


TABLES = ("Name,Organisation\nIda Rask,ida@kelp.example; ida@ebb.example\n", "E-mail\nbo@kelp.example\n",
          '"Lund, Bo",bo@kelp.example,"a; b"\n"Keel, Dee",dee@kelp.example\n')  # fmt: skip


@pytest.mark.parametrize("text", TABLES)
def test_a_table_is_no_text(office: Office, text: str) -> None:
    office.file("table.csv", text)
    assert office.told("import", "table.csv", "--plan")["files"][0]["kind"] in ("csv", "line")


def test_somebody_is_typed_with_a_phone_number(office: Office) -> None:
    ran = office.run("contact", "add", "Kim Reed, 07700 900020, kim@reed.example")
    assert ran.out == "Added Kim Reed at kim@reed.example, phone 07700 900020.\n"
    office.run("list", "new", "Crew", "Max Reed 07700 900021 max@reed.example")
    typed = "Ole Reed, 07700 900022, ole@reed.example\n- Pia Reed: pia@reed.example (mobile 07700 900023)\nRob <r@reed.example>\n"
    assert (
        office.run("list", "add", "Crew", "-", stdin=typed).out
        == "Added Ole Reed, Pia Reed and Rob to Crew: 4 people now.\n"
    )
    assert office.json("contact", "show", "pia")["phones"] == [{"number": "07700 900023", "kind": "mobile"}]
    told = office.run("contact", "add", "Una Reed, 07700 900026, berth 12, una@reed.example", code=2).err
    assert 'contact add "Una Reed <una@reed.example>" --phone "07700 900026" --note "berth 12"` keeps it.' in told


PAGE = """<!DOCTYPE html><html><head><title>Staff</title><script>var a="x@y.example"</script></head><body>
<h1>Harbour office</h1><p>Please write to <a href="mailto:office@tidewick.example">us</a> whenever you have lost a boat.</p>
<div><h3>Bo Lund</h3><p>Tel. 01632 960010</p><p><a href="mailto:bo@mole.example">E-mail</a></p></div>
<div><h3>Dee Keel</h3><p>Berths<br>01632 960011<br><a href="mailto:dee@keel.example">dee@keel.example</a></p></div>
<ul><li><b>Una Berg</b>, <a href="mailto:una@berg.example">mail</a>, 07700 900012<li>Per Holm &ndash; per(at)holm.example</ul>
"""


def test_people_in_the_text_of_a_web_page_are_read(office: Office) -> None:
    office.file("staff.html", PAGE)
    report = office.json("import", "staff.html", "--into", "Staff", "--accept-suggestions")
    assert report["files"][0]["layout"] == "text of a web page, UTF-8"
    assert office.members("Staff") == ["Bo Lund", "Dee Keel", "office@tidewick.example", "Per Holm", "Una Berg"]
    found = {one["name"]: one for one in office.told("find")}
    assert [p["number"] for name in ("Bo Lund", "Dee Keel", "Una Berg") for p in found[name]["phones"]] == [
        "01632 960010", "01632 960011", "07700 900012",
    ]  # fmt: skip
    assert found["Per Holm"]["addresses"][0]["address"] == "per@holm.example"
    assert [one["value"] for one in report["left_out"]] == ["Harbour office"]
    table = "<table><tr><th>Name<th>E-mail<tr><td>Ada Strand<td>ada@strand.example</table>"
    office.file("both.html", PAGE.replace("<ul>", f"{table}<ul>"))
    assert "5 lines with addresses stand beside the tables, and were not read." in office.run("import", "both.html").out


def test_what_stands_in_one_cell_or_above_a_table_is_read_or_told(office: Office) -> None:
    # All of somebody in one column, as it was pasted into a sheet.
    lines = ("Crew", "Bo Lund - 07700 900010 - bo@mole.example", "Dee Keel, 01632 960011, dee@keel.example (berths)")
    office.file("one.csv", "".join(f'"{line}"\n' for line in lines))
    report = office.json("import", "one.csv")
    assert report["doubts"][0]["sentence"] == "`Crew` holds addresses among other things, and is read as such."
    bo, dee = office.json("contact", "show", "bo lund"), office.json("contact", "show", "dee keel")
    assert (bo["phones"][0]["number"], dee["phones"][0]["number"], dee["notes"]) == (
        "07700 900010",
        "01632 960011",
        "berths",
    )
    # A number in the column of names, which would stand in a greeting.
    above = "Questions to office@tidewick.example,\n\nName,E-mail\nAda Strand (07700 900014),ada@strand.example\n"
    office.file("name.csv", above)
    report = office.json("import", "name.csv")
    assert office.json("contact", "show", "ada@strand.example")["name"] == "Ada Strand"
    assert report["cleaned"][0]["reason"] == "read as `Ada Strand`; a number stands beside it"
    told = "Row 1 stands above the table, and has an address in it, which was not read."
    assert told in [one["sentence"] for one in report["doubts"]]


def test_addresses_that_are_hidden_from_machines_are_found_and_asked_about(office: Office) -> None:
    people = "Bo Lund, bo(at)mole.example", "Dee Keel [01632 960011] dee [at] keel [dot] example"
    for name, text in (
        ("a.txt", "\n".join(people)),
        ("a.html", f"<html><body><p>{people[0]}<p>{people[1]}</body></html>"),
    ):
        office.file(name, text)
        report = office.json("import", name, "--plan", "--accept-suggestions")
        assert (report["files"][0]["kind"], report["added"]) == ("text", 2)
        refused = office.json("import", name, "--plan", code=1)["refused"]
        assert [one["suggestion"] for one in refused] == ["bo@mole.example", "dee@keel.example"]
