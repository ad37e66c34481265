"""Readers and writers of the open formats: the RFCs' own examples, round trips, and files that are anything."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any
from unittest.mock import patch

import openpyxl
import pytest
from conftest import Office
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from barnacle.core.addresses import check_address, plain_address, suggest
from barnacle.core.contact import Address, Contact, Extra, Phone, to_doc
from barnacle.core.contentline import folded, parse_line, unfolded
from barnacle.core.errors import BarnacleError
from barnacle.files import ldif
from barnacle.files import pasted as lines
from barnacle.files.cards import jcard, jscontact, vcard
from barnacle.files.drafts import Draft
from barnacle.files.opening import open_source
from barnacle.files.source import Options
from barnacle.files.tables.contact_columns import cells_of, columns_in_order
from barnacle.files.tables.csv_writer import harmless, unharmed, write_csv

# RFC 6350 section 8, RFC 2426 section 7, RFC 7095 section 3.1 and appendix, RFC 9553 section 1, RFC 2849 examples 1 to 3.
VCARD_4 = """BEGIN:VCARD
VERSION:4.0
FN:Simon Perreault
N:Perreault;Simon;;;ing. jr,M.Sc.
BDAY:--0203
ANNIVERSARY:20090808T1430-0500
GENDER:M
LANG;PREF=1:fr
LANG;PREF=2:en
ORG;TYPE=work:Viagenie
ADR;TYPE=work:;Suite D2-630;2875 Laurier;Quebec;QC;G1V 2M2;Canada
TEL;VALUE=uri;TYPE="work,voice";PREF=1:tel:+1-418-656-9254;ext=102
TEL;VALUE=uri;TYPE="work,cell,voice,video,text":tel:+1-418-262-6501
EMAIL;TYPE=work:simon.perreault@viagenie.example
GEO;TYPE=work:geo:46.772673,-71.282945
KEY;TYPE=work;VALUE=uri:http://www.viagenie.example/simon.asc
TZ:-0500
URL;TYPE=home:http://nomis80.example
END:VCARD
"""
VCARD_3 = """BEGIN:vCard
VERSION:3.0
FN:Frank Dawson
ORG:Harbour Development Corporation
ADR;TYPE=WORK,POSTAL,PARCEL:;;6544 Battleford Drive
 ;Raleigh;NC;27613-3502;U.S.A.
TEL;TYPE=VOICE,MSG,WORK:+1-919-676-9515
EMAIL;TYPE=INTERNET,PREF:fdawson@first.example
EMAIL;TYPE=INTERNET:frank@second.example
URL:http://home.example/~fdawson
X-ABC-VIDEO:one\\, two
END:vCard
"""
VCARD_2 = (
    "BEGIN:VCARD\r\nVERSION:2.1\r\nN;CHARSET=ISO-8859-1;ENCODING=QUOTED-PRINTABLE:Fj=E4llgren;Zo=EB\r\n"
    "FN;CHARSET=UTF-8;QUOTED-PRINTABLE:Zo=C3=AB=\r\n Fj=C3=A4llgren\r\nTEL;HOME;VOICE:01632 960001\r\n"
    "EMAIL;PREF;INTERNET:zoe@kelp.example\r\nNOTE;ENCODING=QUOTED-PRINTABLE:one=0D=0Atwo, three\r\n"
    "PHOTO;ENCODING=BASE64;TYPE=GIF:\r\n    R0lGODlhAQAB\r\n    AAAAACw=\r\n\r\nEND:VCARD\r\n"
)
JCARD = [
    "vcard",
    [
        ["version", {}, "text", "4.0"],
        ["fn", {}, "text", "Simon Perreault"],
        ["n", {}, "text", ["Perreault", "Simon", "", "", ["ing. jr", "M.Sc."]]],
        ["bday", {}, "date-and-or-time", "--02-03"],
        ["lang", {"pref": "1"}, "language-tag", "fr"],
        ["org", {"type": "work"}, "text", "Viagenie"],
        ["tel", {"type": ["work", "voice"], "pref": "1"}, "uri", "tel:+1-418-656-9254;ext=102"],
        ["email", {"type": "work"}, "text", "simon.perreault@viagenie.example"],
        ["rating", {"group": "g1", "x-scale": "a,b"}, "integer", 7, 8],
    ],
]
JSCONTACT: dict[str, Any] = {
    "@type": "Card", "version": "1.0", "uid": "22B2C7DF-9120-4969-8460-05956FE6B065", "kind": "individual",
    "name": {"components": [{"kind": "given", "value": "John"}, {"kind": "surname", "value": "Doe"}], "isOrdered": True},
    "emails": {"e1": {"contexts": {"work": True}, "address": "jqpublic@xyz.example"},
               "e2": {"address": "jane_doe@example.example", "pref": 1, "label": "mine"}},
    "phones": {"tel0": {"features": {"voice": True}, "number": "tel:+1-555-555-5555;ext=5555"}},
    "organizations": {"o1": {"name": "ABC, Inc.", "units": [{"name": "North"}], "sortAs": "ABC"}},
    "keywords": {"internet": True, "IETF": True}, "example.example:customprop": {"x": [1, 2]},
}  # fmt: skip
LDIF = """version: 1
dn: cn=Barbara Jensen, ou=Product Development, dc=airius, dc=example
objectclass: top
objectclass: person
objectclass: organizationalPerson
cn: Barbara Jensen
cn: Barbara J Jensen
sn: Jensen
uid: bjensen
mail: bjensen@airius.example
mail: babs@airius.example
telephonenumber: +1 408 555 1212
description: Babs is a big sailing fan, and travels exten
 sively in search of perfect sailing conditions.
title:: UHJvZHVjdCBNYW5hZ2Vy
jpegphoto:: /9j/4AAQSkZJRg==

# the branch that people hang from
dn: ou=Product Development, dc=airius, dc=example
objectclass: organizationalUnit
ou: Product Development

dn: cn=Crew, dc=airius, dc=example
objectclass: groupOfNames
cn: Crew
member: cn=Barbara Jensen, ou=Product Development, dc=airius, dc=example
"""


def cards(text: str) -> list[Draft]:
    return list(vcard.read_cards(io.StringIO(text, newline="\n")))


def contact(draft: Draft) -> Contact:
    assert not draft.refused, draft.refused
    return draft.people[0]


def unfolded_lines(text: str) -> list[str]:
    return sorted(line for _, line in unfolded(io.StringIO(text)) if not line.startswith(("UID", "VERSION")))


def test_a_vcard_of_the_standard_comes_in_right_and_goes_out_with_nothing_lost() -> None:
    simon = contact(cards(VCARD_4)[0])
    assert (simon.name, simon.org, simon.web) == ("Simon Perreault", "Viagenie", "http://nomis80.example")
    assert simon.addresses == [Address("simon.perreault@viagenie.example", "work")]
    assert simon.phones == [Phone("+1-418-656-9254", "work"), Phone("+1-418-262-6501", "mobile")]
    assert unfolded_lines("".join(vcard.write([simon], "4.0"))) == unfolded_lines(VCARD_4.replace("\n", "\r\n"))
    # A field that was changed goes out changed, and takes only its own line along.
    simon.phones = [Phone("01632 960001", "home")]
    out = "".join(vcard.write([simon], "4.0"))
    assert "TEL;TYPE=home:01632 960001" in out and "tel:" not in out and "ANNIVERSARY:20090808T1430-0500" in out


def test_a_vcard_of_older_versions_comes_in_right() -> None:
    frank = contact(cards(VCARD_3)[0])
    assert [a.address for a in frank.addresses] == ["fdawson@first.example", "frank@second.example"]
    out = "".join(vcard.write([frank], "3.0"))
    assert "X-ABC-VIDEO:one\\, two\r\n" in out and "ADR;TYPE=WORK,POSTAL,PARCEL:;;6544 Battleford Drive;Ral" in out
    zoe = contact(cards(VCARD_2)[0])
    assert (zoe.name, zoe.note, zoe.phones) == ("ZoëFjällgren", "one two, three", [Phone("01632 960001", "home")])
    assert "PHOTO:data:image/gif;base64,R0lGODlhAQABAAAAACw=" in "".join(vcard.write([zoe], "4.0")).replace("\r\n ", "")
    assert "PHOTO;TYPE=GIF;ENCODING=b:R0lGODlhAQABAAAAACw=" in "".join(vcard.write([zoe], "3.0")).replace("\r\n ", "")


def test_a_jcard_of_the_standard_goes_round_through_vcard_and_back() -> None:
    simon = contact(jcard.draft(JCARD, 1))
    assert simon.phones == [Phone("+1-418-656-9254", "work")]
    again = jcard.card(contact(cards("".join(vcard.write([simon], "4.0")))[0]))
    want = sorted(json.dumps(p) for p in JCARD[1][1:-1])  # type: ignore[index]
    have = sorted(json.dumps(p) for p in again[1] if p[0] not in ("version", "uid", "rating"))
    assert have == want
    assert 'g1.RATING;X-SCALE="a,b";VALUE=integer:7,8' in "".join(vcard.write([simon], "4.0"))


def test_a_jscontact_card_goes_out_as_it_came_but_for_what_changed() -> None:
    john = contact(jscontact.draft(JSCONTACT, 1))
    assert john.name == "John Doe" and john.addresses[0].address == "jane_doe@example.example"
    assert jscontact.card(john) == JSCONTACT
    john.org, john.labels = "Ebb Chandlery", ["crew"]
    john.addresses = john.addresses[:1]
    changed = jscontact.card(john)
    assert changed["organizations"]["o1"] == {"name": "Ebb Chandlery", "units": [{"name": "North"}], "sortAs": "ABC"}
    assert changed["keywords"] == {"crew": True} and changed["example.example:customprop"] == {"x": [1, 2]}
    assert [e["label"] for e in changed["emails"].values()] == ["mine"] and changed["phones"] == JSCONTACT["phones"]


def test_entries_of_a_directory_come_in_right_and_go_out_with_nothing_lost() -> None:
    person, group = list(ldif.read_entries(io.StringIO(LDIF)))
    babs = contact(person)
    assert (babs.name, babs.job, babs.phones[0].number) == ("Barbara Jensen", "Product Manager", "+1 408 555 1212")
    assert babs.note.endswith("travels extensively in search of perfect sailing conditions.")
    assert group.group and group.group.title == "Crew" and group.group.members == ["bjensen@airius.example"]
    out = "".join(ldif.write([babs]))
    for line in ("cn: Barbara J Jensen", "uid: bjensen", "jpegphoto:: /9j/4AAQSkZJRg==", "objectclass: person",
                 "dn: cn=Barbara Jensen, ou=Product Development, dc=airius, dc=example"):  # fmt: skip
        assert f"\n{line}\n" in out
    assert to_doc(contact(next(ldif.read_entries(io.StringIO(out))))) == to_doc(babs)


NAMES = st.text("aZéß'-.ł", min_size=1, max_size=9).filter(lambda t: any(c.isalpha() for c in t))
TEXT = st.text("ab é,;:\\=\"'^<>+-@\n{}", max_size=20).map(lambda t: " ".join(t.split()))
CONTACTS = st.builds(
    Contact,
    name=st.builds(lambda a, b: f"{a} {b}", NAMES, NAMES),
    addresses=st.lists(
        st.builds(Address, st.sampled_from([f"{n}@kelp.example" for n in "abcd"]), st.sampled_from(["", "work", "home"])),
        max_size=3, unique_by=lambda a: a.address,
    ),
    phones=st.lists(
        st.builds(Phone, st.sampled_from(["01632 960001", "+44 1632 960002", "(01632) 960003"]),
                  st.sampled_from(["", "work", "mobile"])), max_size=2, unique_by=lambda p: p.number,
    ),
    org=TEXT, job=TEXT, note=TEXT, web=st.sampled_from(["", "https://kelp.example/?a=b;c,d"]),
    labels=st.lists(st.sampled_from(["crew", "night pilot", "=2+3"]), max_size=2, unique=True),
)  # fmt: skip


def without(person: Contact, *fields: str) -> dict[str, Any]:
    doc = to_doc(person)
    return {k: v for k, v in doc.items() if k not in ("extra", *fields)}


@settings(max_examples=150)
@given(CONTACTS)
@example(Contact("Ada Brine", addresses=[Address("a@kelp.example")], org="=cmd()", note="'@x, \\n;"))
def test_every_format_gives_back_what_it_was_given(person: Contact) -> None:
    whole = without(person)
    for version in ("4.0", "3.0"):
        assert without(contact(cards("".join(vcard.write([person], version)))[0])) == whole
    assert without(contact(jcard.draft(json.loads(json.dumps(jcard.card(person))), 1))) == whole
    assert without(contact(jscontact.draft(json.loads(json.dumps(jscontact.card(person))), 1))) == whole
    entry = contact(next(ldif.read_entries(io.StringIO("".join(ldif.write([person]))))))
    bare = Contact(**{s: getattr(person, s) for s in ("name", "org", "job", "note", "web")})  # type: ignore[arg-type]
    assert without(entry, "addresses", "phones") == without(bare)
    assert [a.address for a in entry.addresses] == [a.address for a in person.addresses]
    pasted = lines.write((person.name, a.address) for a in person.addresses).strip()
    assert len(person.addresses) == pasted.count("@")


VALUES = st.one_of(
    st.sampled_from(["Ada Brine", "Mr Brine", "Zoë Fjäll", "Ada  Brine", "Yard", "Brine;Ada;;;", "Brine;Ada;Mae;;", ";Ada",
                     "Holt,Brine;Ada", "a@kelp.example", "A@kelp.example", "a@Kelp.example", "mailto:a@kelp.example", "a@kelp",
                     "01632 960001", "+44 1632", "tel:+44-1632-960001", "crew,pilot", "crew, pilot", "crew,Crew", "4.0", "2.1",
                     "urn:uuid:0a-1", "WEEKEND:VCARD", "Ada\\, Brine", "", " Ada", "Yard;Slip", "x" * 201]),
    st.text(st.characters(exclude_categories=["Cs"]), max_size=6),
)  # fmt: skip
HEADS = st.sampled_from(
    ["FN", "N", "EMAIL", "EMAIL", "EMAIL;TYPE=work", "email;type=INTERNET,HOME", "EMAIL;TYPE=home,pref", "EMAIL;PREF=1", "TEL",
     "TEL;TYPE=cell", "TEL;TYPE=work,voice", "TEL;WORK", "ORG", "TITLE", "URL", "NOTE", "CATEGORIES", "UID", "VERSION", "REV",
     "item1.EMAIL", "X-BOAT", "KIND", "BDAY", "BEGIN", "NOTE;QUOTED-PRINTABLE", 'FN;X="a:b"', "NOTE;ENCODING=QUOTED-PRINTABLE",
     "EMAIL;TYPE=work\r", " folded", "no colon"]
)  # fmt: skip
CARDS = st.lists(st.tuples(HEADS, VALUES), max_size=7)


@settings(max_examples=500)
@given(st.lists(CARDS, min_size=1, max_size=3), st.sampled_from(["\n", "\r\n"]),
       st.sampled_from(["", "", "{end}", "note{end}", " {end}", "BEGIN:VCARD{end}"]), st.sampled_from([1 << 16, 7]))  # fmt: skip
def test_the_short_way_for_cards_comes_to_the_same_as_the_long_way(
    some: list[list[tuple[str, str]]], end: str, between: str, at_once: int
) -> None:
    fine = [("VERSION", "3.0"), ("FN", "Zoë Fjäll"), ("N", "Fjäll;Zoë;;;"), ("EMAIL;TYPE=work", "zoe@kelp.example")]
    text = between.format(end=end).join(
        "".join(f"{line}{end}" for line in ["BEGIN:VCARD", *map(":".join, fine + more), "END:VCARD"])
        for more in [[("TEL;TYPE=CELL", "01632 960001"), ("CATEGORIES", "crew,pilot")], *some]
    )
    with patch.object(vcard, "_AT_ONCE", at_once):
        short = cards(text)
        with patch.object(vcard, "plain_card", lambda text, start: None):
            long = cards(text)
    assert [d.people[0].uid for d in short if d.people] == [d.people[0].uid for d in long if d.people]
    assert repr(short) == repr(long)


def test_plain_cards_go_the_short_way() -> None:
    people = [
        Contact(f"Zoë Fjäll{chr(97 + n // 15)}{chr(97 + n % 15)}", addresses=[Address("zoe@kelp.example", "work"), Address("z@gull.example")], org="Yard & Sons",
                phones=[Phone("+44 1632 960001", "mobile")], labels=["crew", "night pilot"], job="Mate", uid=f"a-{n}")
        for n in range(150)
    ]  # fmt: skip
    for version in ("3.0", "4.0"):
        with patch.object(vcard, "draft_of", side_effect=AssertionError), patch.object(vcard, "_AT_ONCE", 1 << 13):
            text = "".join(vcard.write(people, version))
            assert len(text) > 1 << 15
            assert [repr(contact(draft)) for draft in cards(text)] == list(map(repr, people))


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@example([Contact("Ada Brine", addresses=[Address("a@kelp.example")], note="was b@kelp.example")])
@given(st.lists(CONTACTS.filter(lambda c: c.addresses), min_size=1, max_size=4))
def test_a_table_gives_back_what_it_was_given_and_no_cell_is_a_formula(tmp_path: Path, people: list[Contact]) -> None:
    for person in people:
        person.extra = [Extra("csv:=Berth", "-7")]
    rows = [cells_of(person) for person in people]
    text = "".join(write_csv(columns_in_order(list(dict.fromkeys(key for row in rows for key in row))), rows))
    (tmp_path / "out.csv").write_text(text, newline="")
    import csv

    assert not any(
        cell.lstrip("' ")[:1] in "=+-@" and cell[0] != "'"
        for row in csv.reader(io.StringIO(text))
        for cell in row
        if cell
    )
    source = open_source(tmp_path / "out.csv", Options(kind="csv"))
    (table,) = source.tables()
    back = [contact(table.read(item)) for item in table.items(None) if not isinstance(item, Draft)]
    assert [sorted(map(str, without(p, "labels"))) for p in back] == [
        sorted(map(str, without(p, "labels"))) for p in people
    ]
    for one, other in zip(back, people, strict=True):
        assert Extra("csv:=Berth", "-7") in one.extra and one.labels == other.labels
        assert [a.address for a in one.addresses][:1] == [a.address for a in other.addresses][:1]
        assert {(a.address, a.kind) for a in one.addresses} == {(a.address, a.kind) for a in other.addresses}


@given(st.text("=+-@'\t\r ab", max_size=6))
def test_what_was_made_harmless_comes_back_unharmed(cell: str) -> None:
    assert unharmed(harmless(cell)) == cell
    assert harmless(cell)[:1] not in tuple("=+-@\t\r")


@given(st.text(min_size=1, max_size=300))
def test_a_folded_line_is_short_and_whole(text: str) -> None:
    line = "NOTE:" + "".join(c for c in text if c.isprintable())
    out = folded(line)
    assert all(len(part.encode()) <= 75 for part in out.split("\r\n"))
    assert [found for _, found in unfolded(io.StringIO(out, newline="\n"))] == [line]


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("ada @kelp.example", "ada@kelp.example"), ("ada@kelp,example", "ada@kelp.example"),
        ("ada@@kelp.example", "ada@kelp.example"), ("ada at kelp.example", "ada@kelp.example"),
        ("ada(at)kelp.example", "ada@kelp.example"), ("ada@kelp..example.", "ada@kelp.example"),
        ("Ada Brine ada@kelp.example", "Ada Brine <ada@kelp.example>"), ("ada brine@kelp.example", ""),
        ("ada@kelp", ""), ("not yet", ""), ("ada@kelp.example\r\nBcc: x@kelp.example", ""),
    ],
)  # fmt: skip
def test_an_obvious_slip_gets_a_suggestion(text: str, meant: str) -> None:
    assert suggest(text) == meant


@given(st.text("ab.@-_+Ü xN1[", max_size=24))
def test_the_fast_path_of_addresses_agrees_with_the_library(text: str) -> None:
    fast = plain_address(text)
    if fast is not None:
        from email_validator import validate_email

        assert (
            validate_email(fast, check_deliverability=False, test_environment=True).normalized
            == fast
            == check_address(text)
        )


def test_a_property_is_cut_where_it_should_be() -> None:
    prop = parse_line('g1.X-A;B="c:d;e",f;TYPE=g:h:i;j')
    assert prop and (prop.group, prop.name, prop.value) == ("g1", "X-A", "h:i;j")
    assert prop.params == (("B", ("c:d;e", "f")), ("TYPE", ("g",)))


# Beginnings that lead into each reader, with hostile content behind.
BEGINNINGS = [
    "", "BEGIN:VCARD\n", "BEGIN:VCARD\nVERSION:2.1\nN;ENCODING=QUOTED-PRINTABLE:=\n", "version: 1\ndn:: ", "dn: x\nmail:< ",
    '["vcard",[', '[{"@type":"Card","emails":', '{"name":', "From x\nFrom: a@kelp.example\nTo: ", "From: a@b\nTo: =?utf-8?q?",
    "Ada <ada@kelp.example>, ", "Name;E-mail\n", "PK\x03\x04",
]  # fmt: skip


@settings(max_examples=400, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from(BEGINNINGS),
    st.one_of(st.binary(max_size=200), st.text('ab@.,;:="\\\n\r<>[]{}é\0\u202e 1', max_size=200).map(str.encode)),
    st.sampled_from([None, "vcard", "ldif", "jcard", "jscontact", "line", "mail", "mbox", "csv"]),
)
def test_no_file_breaks_any_reader(tmp_path: Path, begin: str, rest: bytes, kind: str | None) -> None:
    path = tmp_path / "any"
    path.write_bytes(begin.encode("latin-1") + rest)
    try:
        source = open_source(path, Options(kind=kind))
        for table in source.tables():
            for item in table.items(None):
                draft = item if isinstance(item, Draft) else table.read(item)
                assert all(p.addresses or p.called for p in draft.people)
                assert not any("\n" in a.address or "\x1b" in p.name for p in draft.people for a in p.addresses)
    except BarnacleError as error:
        assert str(error).endswith(".") and "Traceback" not in str(error)


def test_a_workbook_gives_text_as_a_person_would_type_it(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Berths"
    for row in (["", "Harbour list"], [], ["", "Pontoon", "Name", "E-mail", "Phone", "Since"]):
        sheet.append(row)
    import datetime

    sheet.append(["", "A", "Ada Brine", "ada@kelp.example", 1632960001, datetime.datetime(2026, 1, 2)])
    sheet.append(["", None, "Bo Lund", "bo@kelp.example", "01632 960002", 2019])
    sheet.merge_cells("B4:B5")
    book.create_sheet("Tides").append(["Day", "High"])
    book.save(tmp_path / "list.bin")
    source = open_source(tmp_path / "list.bin", Options(list_by="Pontoon"))
    assert source.skipped == ["Tides"] and source.sheets[0].columns.header == 3
    (table,) = source.tables()
    drafts = [table.read(item) for item in table.items(None) if not isinstance(item, Draft)]
    assert [(d.row, d.people[0].name, d.lists) for d in drafts] == [
        (4, "Ada Brine", ["Pontoon A"]),
        (5, "Bo Lund", ["Pontoon A"]),
    ]
    assert [d.people[0].phones[0].number for d in drafts] == ["1632960001", "01632 960002"]
    assert [e.value for d in drafts for e in d.people[0].extra if e.key == "csv:Since"] == ["2026-01-02", "2019"]


def test_a_second_address_in_ldif_is_one_whatever_it_is_called(office: Office) -> None:
    office.file(
        "a.ldif",
        "dn: cn=Bo Lund\ncn: Bo Lund\nmail: bo@kelp.example\nxSecondEmail: bo@mole.example\nxMailFormat: html\n",
    )
    office.run("import", "a.ldif")
    (bo,) = office.told("find")
    assert [one["address"] for one in bo["addresses"]] == ["bo@kelp.example", "bo@mole.example"]
    out = office.run("export", "all", "--as", "ldif").out
    assert "xSecondEmail: bo@mole.example\n" in out and "xMailFormat: html\n" in out
