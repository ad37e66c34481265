"""People in files that are neither tables nor cards: JSON, XML, invitations, workbooks in one file, text with markup."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory
from xml.sax.saxutils import escape, quoteattr

import compound
import pytest
from conftest import Office
from hypothesis import given
from hypothesis import strategies as st
from servers import need

from barnacle.core.contact import Contact
from barnacle.files.opening import open_source
from barnacle.files.source import Options
from barnacle.files.tables.nested import _LIMIT

GIVEN, FAMILY = ("Una", "Bo", "Jörg", "Anne-Marie", "Þóra"), ("Keel", "Lund", "O'Brine", "van der Siel", "Fjällgren")
PEOPLE = st.lists(
    st.tuples(st.sampled_from(GIVEN), st.sampled_from(FAMILY), st.sampled_from(("", "01632 960001", "07700 900010")), st.sampled_from(("", "A 7", "B & C"))),
    min_size=2, max_size=6,
)  # fmt: skip


def people_in(path: Path, **options: object) -> list[Contact]:
    source = open_source(path, Options(**options))  # type: ignore[arg-type]
    return [person for table in source.tables() for draft in table.drafts() for person in draft.people]


def told(people: list[Contact]) -> list[object]:
    return [
        (p.parts(), [a.address for a in p.addresses], [n.number for n in p.phones], [e.value for e in p.extra])
        for p in people
    ]


def as_json(records: list[dict[str, str]]) -> str:
    return json.dumps(records)


def as_lines(records: list[dict[str, str]]) -> str:
    return "\n".join(json.dumps(one, ensure_ascii=False) for one in records)


def as_keyed(records: list[dict[str, str]]) -> str:
    return json.dumps({"total": len(records), "data": {"people": {f"p{n}": one for n, one in enumerate(records)}}})


def as_nested(records: list[dict[str, str]]) -> str:
    deep = [
        {"firstName": one["firstName"], "person": {"lastName": one["lastName"], "reach": {"email": one["email"]}}}
        | {"phones": [{"type": "work", "value": one["phone"]}], "berth": one["berth"]}
        for one in records
    ]
    return json.dumps({"Resources": deep})


def as_xml(records: list[dict[str, str]]) -> str:
    people = ["".join(f"<{key}>{escape(value)}</{key}>" for key, value in one.items()) for one in records]
    return f"<?xml version='1.0'?><crew xmlns='urn:x'><!-- 1 -->{''.join(f'<one>{one}</one>' for one in people)}</crew>"


def as_attributes(records: list[dict[str, str]]) -> str:
    return (
        f"<r>{''.join('<p ' + ' '.join(f'{k}={quoteattr(v)}' for k, v in one.items()) + '/>' for one in records)}</r>"
    )


@pytest.mark.parametrize("form", [as_json, as_lines, as_keyed, as_nested, as_xml, as_attributes])
@given(people=PEOPLE)
def test_records_of_other_programs_are_what_a_table_of_them_is(form, people: list[tuple[str, ...]]) -> None:  # type: ignore[no-untyped-def]
    keys = ("firstName", "lastName", "email", "phone", "berth")
    records = [
        dict(zip(keys, (one, other, f"p{n}@kelp.example", phone, berth), strict=True))
        for n, (one, other, phone, berth) in enumerate(people)
    ]
    text = form(records)
    if form is as_attributes:
        text = text.replace("<r>", "<?xml version='1.0'?><r>")
    with TemporaryDirectory() as folder:
        path = Path(folder, "list")
        path.write_text(text, encoding="utf-8")
        found = told(people_in(path))
    meant = [
        ((one["firstName"], one["lastName"]), [one["email"]], [one["phone"]] * bool(one["phone"]), [one["berth"]] * bool(one["berth"]))
        for one in records
    ]  # fmt: skip
    assert found == meant


def test_people_within_people_are_found_under_what_they_belong_to(office: Office) -> None:
    office.file("teams.json", json.dumps({"teams": [
        {"name": "Crew", "contact": "crew@kelp.example", "members": [{"name": "Bo Lund", "email": "bo@kelp.example"}, {"name": "Ida Sand", "email": None}]},
        {"name": "Pilots", "members": [{"name": "Una Rask", "email": "una@kelp.example"}]},
    ]}))  # fmt: skip
    out = office.run("import", "teams.json", "--plan").out
    for title in ("teams", "Crew", "Pilots"):
        assert f"lists in JSON, UTF-8; under {title}; one person a row." in out
    assert "4 entries: 4 would be added" in out and "1 person without an address would be added" in out
    office.run("import", "teams.json", "--sheet", "pilots", "--into", "Pilots")
    assert office.members("Pilots") == ["Una Rask"]


def test_a_list_of_addresses_is_people_and_several_of_one_person_are_not(office: Office) -> None:
    office.file("a.json", '["bo@kelp.example", "Una Rask <una@kelp.example>"]')
    office.file("b.json", '{"subscribers": ["cy@kelp.example", "dee@kelp.example"]}')
    office.file(
        "c.json", '{"name": "Ida Sand", "emails": ["ida@kelp.example", "ida@mole.example"], "tags": ["crew", "deck"]}'
    )
    office.run("import", "a.json", "b.json", "c.json")
    found = {one["name"]: [a["address"].partition("@")[0] for a in one["addresses"]] for one in office.told("find")}
    assert found.pop("") in (["bo"], ["cy"], ["dee"]) and found == {"Una Rask": ["una"], "Ida Sand": ["ida", "ida"]}
    assert len(office.told("find")) == 5


def test_entries_of_several_are_told_by_their_kinds(office: Office) -> None:
    entries = {"emails": [{"value": "bo@kelp.example", "type": "work", "primary": True}, {"value": "bo@mole.example", "type": "home"}],
               "phoneNumbers": [{"value": "07700 900010", "type": "mobile"}], "name": {"formatted": "Bo Lund", "givenName": "Bo"},
               "active": True, "id": 7, "shoe": 42.50}  # fmt: skip
    office.file("scim.json", json.dumps({"schemas": ["urn:x"], "Resources": [entries]}))
    office.file(
        "book.xml",
        "<b><one name='Una Rask'><email kind='work'>una@kelp.example</email><email kind='home'>una@mole.example</email></one></b>",
    )
    office.run("import", "scim.json", "book.xml")
    bo, una = office.told("find")
    assert [(a["address"], a["kind"]) for a in bo["addresses"]] == [
        ("bo@kelp.example", "work"),
        ("bo@mole.example", "home"),
    ]
    assert bo["phones"] == [{"number": "07700 900010", "kind": "mobile"}]
    assert bo["fields"] == {"active": "yes", "id": "7", "shoe": "42.5"}
    assert [(a["address"], a["kind"]) for a in una["addresses"]] == [
        ("una@kelp.example", "work"),
        ("una@mole.example", "home"),
    ]


@pytest.mark.parametrize(
    ("name", "content", "sentence"),
    [
        ("a.json", '[{"name":"Bo","email":"bo@kelp.example"},{"name":"Una" "email":1}]', "is not valid JSON: see line 1, column 56."),
        ("a.json", '{"a": 1}', "has nobody with an address in it."),
        ("a.json", '{"a":' * 90 + '{"email":"bo@kelp.example"}' + "}" * 90, "is nested too deeply."),
        ("a.json", '[{"x":' * 9000 + "1" + "}]" * 9000, "is nested too deeply."),
        ("a.json", '[{"email":"bo@kelp.example"}]' + " " * _LIMIT, "has over 16 MB, more than is read of JSON."),
        ("a.xml", "<?xml version='1.0'?><a><b>bo@kelp.example</a>", "is not valid XML: see line 1, column 45."),
        ("a.xml", "<?xml version='1.0'?><!DOCTYPE x [<!ENTITY a 'b'>]><x><y>&a;@kelp.example</y></x>", "has entities in it"),
        ("a.xml", "<?xml version='1.0'?>" + "<a>" * 90 + "bo@kelp.example" + "</a>" * 90, "is nested too deeply."),
        ("a.ics", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nSUMMARY:x\nEND:VEVENT\nEND:VCALENDAR\n", "has nobody in it"),
        ("a.mdb", "\0\1\0\0Standard Jet DB\0", "is a database, which is not read."),
    ],
)  # fmt: skip
def test_what_cannot_be_read_of_them_is_said(office: Office, name: str, content: str, sentence: str) -> None:
    office.file(name, content)
    assert f"{name} {sentence}" in office.run("import", name, code=None).err
    assert office.told("find") == []


INVITATION = """BEGIN:VCALENDAR
VERSION:2.0
METHOD:REQUEST
BEGIN:VEVENT
SUMMARY:Slipway\\, spring
ORGANIZER;CN=Mia Berg:mailto:mia@kelp.example
ATTENDEE;CN="Lund, Bo";ROLE=REQ-PARTICIPANT;PARTSTAT=ACCEPTED;X-NUM-GUESTS=0:mailto:bo
 @kelp.example
ATTENDEE;CN=una@kelp.example;PARTSTAT=DECLINED:MAILTO:Una@kelp.example
ATTENDEE;CN=Ole Siel;PARTSTAT=NEEDS-ACTION;EMAIL=ole@kelp.example:urn:uuid:1
ATTENDEE;CUTYPE=ROOM;CN=Sail loft:mailto:loft@kelp.example
BEGIN:VALARM
ACTION:EMAIL
ATTENDEE:mailto:alarm@kelp.example
END:VALARM
END:VEVENT
END:VCALENDAR
"""


def test_who_is_invited_and_who_accepted(office: Office) -> None:
    office.file("slipway.ics", INVITATION)
    out = office.run("import", "slipway.ics", "--into", "Invited").out
    assert "Invited, but no people, and left out: Sail loft." in out and "Slipway, spring (yes or no)" in out
    assert office.members("Invited") == ["Bo Lund", "Mia Berg", "Ole Siel", "Una@kelp.example"]
    made = next(line for line in out.splitlines() if line.startswith("`barnacle list new TITLE"))
    assert (
        made == """`barnacle list new TITLE --where 'field "Slipway, spring" is yes'` makes a list of who said yes."""
    )
    office.run("list", "new", "Coming", "--where", '"Slipway, spring" is yes')
    assert office.members("Coming") == ["Bo Lund"]
    # Two events of one name are told apart, and a changed one of a series is no other.
    event = (
        INVITATION.partition("METHOD:REQUEST\n")[2].replace("\nEND:VCALENDAR", "").replace("Slipway\\, spring", "Rota")
    )
    first, second = (event.replace("SUMMARY", f"UID:{n}\nDTSTART:202612{n}T090000Z\nSUMMARY") for n in (10, 17))
    second = second.replace("ACCEPTED", "DECLINED")
    office.file("two.ics", f"BEGIN:VCALENDAR\n{first}{second}{first}END:VCALENDAR\n")
    office.run("import", "two.ics")
    bo = office.told("contact", "show", "bo")["fields"]
    assert (bo["Rota 2026-12-10"], bo["Rota 2026-12-17"]) == ("yes", "no")
    # Of a whole calendar people alone are taken, each once.
    many = "".join(INVITATION.partition("METHOD:REQUEST\n")[2].replace("spring", f"{n}") for n in range(7))
    office.file("all.ics", f"BEGIN:VCALENDAR\nVERSION:2.0\n{many}")
    assert "What was answered is read of up to 5 events; here are 7." in office.run("import", "all.ics").out
    assert len(office.told("find")) == 4


SPREADSHEET = """<?xml version="1.0"?><?mso-application progid="x"?>
<Workbook xmlns="urn:schemas-microsoft-com:office:spreadsheet" xmlns:ss="urn:schemas-microsoft-com:office:spreadsheet">
<Worksheet ss:Name="Crew"><Table><Column/><Column/><Column ss:Hidden="1"/>
<Row><Cell><Data ss:Type="String">Name</Data></Cell><Cell><Data ss:Type="String">E-mail</Data></Cell><Cell><Data ss:Type="String">Secret</Data></Cell>
<Cell ss:Index="5"><Data ss:Type="String">Born</Data></Cell></Row>
<Row ss:Index="4"><Cell><Data ss:Type="String">Bo <b>Lund</b></Data></Cell><Cell><Data ss:Type="String">bo@kelp.example</Data></Cell><Cell ss:Index="3"><Data>x</Data></Cell>
<Cell ss:Index="5"><Data ss:Type="DateTime">1980-12-05T00:00:00.000</Data></Cell></Row>
<Row ss:Hidden="1"><Cell><Data ss:Type="String">Una Rask</Data></Cell><Cell><Data ss:Type="String">una@kelp.example</Data></Cell></Row>
</Table></Worksheet>
<Worksheet ss:Name="Old"><Table><Row><Cell><Data>E-mail</Data></Cell></Row><Row><Cell><Data>old@kelp.example</Data></Cell></Row></Table>
<WorksheetOptions xmlns="urn:schemas-microsoft-com:office:excel"><Visible>SheetHidden</Visible></WorksheetOptions></Worksheet></Workbook>
"""


def test_workbooks_in_one_file_hide_what_they_hide(office: Office) -> None:
    office.file("crew.xls", SPREADSHEET)
    out = office.run("import", "crew.xls").out
    assert "crew.xls: a workbook in one XML file; sheet Crew; its header is row 1;" in out
    assert "not read: 1 hidden row of sheet Crew, 1 hidden column of sheet Crew and sheet Old is hidden." in out
    (bo,) = office.told("find")
    assert (bo["name"], bo["fields"]) == ("Bo Lund", {"Born": "1980-12-05"})
    office.run("import", "crew.xls", "--hidden")
    assert len(office.told("find")) == 3


@pytest.mark.parametrize("form", ["fods", "xml:MS Excel 2003 XML"])
def test_workbooks_in_one_file_that_an_office_suite_made(office: Office, form: str) -> None:
    program = need("soffice", "libreoffice-calc")
    office.file("crew.csv", "Name,E-mail,Berth\nBo Lund,bo@kelp.example,A 7\n,,\nUna Rask,una@kelp.example,\n")
    profile = f"-env:UserInstallation=file://{office.folder}/profile"
    subprocess.run([program, profile, "--headless", "--convert-to", form, "crew.csv"], cwd=office.folder, check=True, capture_output=True)  # fmt: skip
    shutil.rmtree(office.folder / "profile")
    out = office.run("import", f"crew.{form.partition(':')[0]}").out
    assert "a workbook in one XML file; sheet crew; its header is row 1;" in out and "2 rows: 2 added" in out
    assert [(one["name"], one["fields"]) for one in office.told("find")] == [
        ("Bo Lund", {"Berth": "A 7"}),
        ("Una Rask", {}),
    ]


@pytest.mark.parametrize(
    "text",
    [
        "| Name | E-mail | Berth |\n|------|:------:|---|\n| Bo Lund | bo@kelp.example | |\n| Una Rask | una@kelp.example | B 1 |\n",
        " name     | email            | berth\n----------+------------------+-------\n Bo Lund  | bo@kelp.example  |\n Una Rask | una@kelp.example | B 1\n",
        "+----------+------------------+-----+\n| name     | email            |berth|\n+----------+------------------+-----+\n"
        "| Bo Lund  | bo@kelp.example  |     |\n| Una Rask | una@kelp.example | B 1 |\n+----------+------------------+-----+\n",
        "# Crew\n- **Bo Lund** – [bo@kelp.example](mailto:bo@kelp.example)\n- **Una Rask** – <una@kelp.example>, B 1\n",
        "[Bo Lund](mailto:bo@kelp.example), [Una Rask](mailto:una@kelp.example)\n",
    ],
)  # fmt: skip
def test_tables_and_names_as_plain_text_draws_them(office: Office, text: str) -> None:
    office.file("crew.md", text)
    out = office.run("import", "crew.md", "--into", "Crew").out
    assert "column" not in out.lower().replace("column\tread as", "") and "---" not in out
    assert office.members("Crew") == ["Bo Lund", "Una Rask"]


def test_a_link_to_write_to_people_has_all_of_them(office: Office) -> None:
    link = "mailto:bo@kelp.example,una@kelp.example?cc=ole@kelp.example&bcc=ida%40kelp.example&subject=a@b&body=x%0D%0ABcc:%20z@kelp.example"
    office.file("link.txt", f"{link}\n")
    office.run("import", "link.txt", "--into", "Linked")
    assert office.members("Linked") == [f"{name}@kelp.example" for name in ("bo", "ida", "ole", "una")]
    office.run("list", "new", "Again", link)
    assert office.members("Again") == office.members("Linked")


def test_whom_a_message_went_to_that_a_mail_program_saved(office: Office) -> None:
    def wide(text: str) -> bytes:
        return text.encode("utf-16-le")

    recipients: dict[str, compound.Tree] = {
        "__recip_version1.0_#00000000": {"__substg1.0_3001001F": wide("Lund, Bo"), "__substg1.0_3003001F": wide("/O=KELP/CN=BO"),
                                        "__substg1.0_39FE001F": wide("bo@kelp.example")},
        "__recip_version1.0_#00000001": {"__substg1.0_3001001E": "Jörg Weiß".encode("cp1252"), "__substg1.0_3003001E": b"joerg@kelp.example"},
        "__recip_version1.0_#0000000A": {"__substg1.0_3001001E": b"'una@kelp.example'", "__substg1.0_3003001E": b"una@kelp.example"},
        "__recip_version1.0_#0000000B": {"__substg1.0_3001001F": wide("Crew list"), "__substg1.0_3003001F": wide("/O=KELP/CN=CREW")},
        "__recip_version1.0_#0000000C": {"__substg1.0_3001001F": wide("Ole"), "__substg1.0_39FE001F": wide("ole@kelp,example")},
    }  # fmt: skip
    saved: compound.Tree = {"__properties_version1.0": b"\0" * 32, "__substg1.0_0037001F": wide("Slipway"), "__substg1.0_0C1A001F": wide("Mia Berg"),
                            "__substg1.0_0C1F001F": wide("/O=KELP/CN=MIA"), "__substg1.0_5D01001F": wide("mia@kelp.example"), **recipients}  # fmt: skip
    # What is attached is another message's, and the directory may stand far behind.
    saved["__attach_version1.0_#00000000"] = {"__substg1.0_37010102": b"x" * (6 << 20), "__substg1.0_3701000D": {"__recip_version1.0_#00000000": {"__substg1.0_39FE001F": wide("no@kelp.example")}}}  # fmt: skip
    (office.folder / "slipway.msg").write_bytes(compound.written(saved))
    out = office.run("import", "slipway.msg", "--into", "Slipway", code=1).out
    assert "1\tCrew list\tthere is no address beside this name" in out and "ole@kelp,example" in out
    assert office.members("Slipway") == ["Bo Lund", "Jörg Weiß", "Mia Berg", "una@kelp.example"]
    (office.folder / "broken.msg").write_bytes(compound.written(saved)[: 5 << 20])
    assert "damaged" in office.run("import", "broken.msg", code=2).err
