"""What each reader makes of files as they come: encodings, columns, directories, headers of mail, delivery reports, a hub's answers."""

from __future__ import annotations

import io
import json
import re
import subprocess
import sys
from collections.abc import Iterator
from email import message_from_string
from pathlib import Path

import openpyxl
import pexpect
import pytest
from conftest import HANGS, PROGRAM, Office
from fuzzing import workbook
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from barnacle.book import contacts
from barnacle.book.contacts import fragments
from barnacle.core.checklist import chosen_numbers
from barnacle.core.contact import Address, Contact, Failing, Phone
from barnacle.core.contentline import pieces
from barnacle.core.errors import FileError, HubError, UnclearError
from barnacle.core.mail.audience import Candidate, work_out
from barnacle.core.text import fold
from barnacle.files import free_text, ldif, pasted
from barnacle.files.delivery_reports import read_report
from barnacle.files.encoding import Encoding, find_encoding
from barnacle.files.kinds import kind_by_octets, kind_by_text
from barnacle.files.mailbox import is_automatic, mails
from barnacle.files.opening import open_source
from barnacle.files.source import Options
from barnacle.files.tables.columns import Columns, Use, mapped, read_mapping, read_use
from barnacle.files.worker import ahead
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.imports.column_maps import written
from barnacle.net.answers import read_page


@pytest.mark.parametrize(
    ("octets", "label", "reads"),
    [
        ("Zoë,zoe@kelp.example\n".encode("utf-32"), "UTF-32", "Zoë"),
        (("Иван Петров,ivan@kelp.example\nМария Сидорова,maria@kelp.example\n" * 20).encode("cp1251"), "CP1251", "Иван"),
        (("Ada,ada@kelp.example\n" * 3000 + "Zoë,zoe@kelp.example\n").encode("cp1252"), "Windows-1252", "Zoë"),
        ("Zoë Åse Ødegård\n".encode() + b"Bj\xf8rn\n" + "Åsa\n".encode(), "UTF-8, with characters in Windows-1252", "Bjørn"),
        (b"Ada,ada@kelp.example\n", "UTF-8", "Ada"),
    ],
)  # fmt: skip
def test_the_encoding_is_worked_out_from_the_letters(tmp_path: Path, octets: bytes, label: str, reads: str) -> None:
    path = tmp_path / "x"
    path.write_bytes(octets)
    found = find_encoding(path)
    assert found.label == label
    assert reads in path.read_text(encoding=found.codec, errors=found.errors)


def test_an_encoding_can_be_named(office: Office) -> None:
    office.file("polish.csv", "Name,E-mail\nŁucja Żak,l@kelp.example\n".encode("cp1250"))
    office.run("import", "polish.csv", "--encoding", "windows-1250")
    assert office.told("find")[0]["name"] == "Łucja Żak"
    assert "There is no encoding `klingon`." in office.run("import", "polish.csv", "--encoding", "klingon", code=2).err
    office.run("export", "all", "--out", "polish.xlsx")
    assert "--encoding cp1250 is not used" in office.run("import", "polish.xlsx", "--encoding", "cp1250").out


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("\ufeffbegin:vcard\nFN:x\n", "vcard"), ('[["vcard",[]]]', "jcard"), ('["vcard",[]]', "jcard"), ('{"@type":"Card"}', "jscontact"),
        ("# a remark\n\nversion: 1\n\ndn: cn=x\n", "ldif"), ("dn:: Y249eA==\ncn: x\n", "ldif"),
        ("Ada Brine <ada@kelp.example>, bo@kelp.example\n", "line"), ("ada@kelp.example\nbo@kelp.example\n", "line"),
        ('"Brine, Ada" <ada@kelp.example>; x\n', "line"), ("Name,E-mail\nAda,ada@kelp.example\n", "csv"), ("E-mail\nada@kelp.example\n", "csv"),
        ("From: a@kelp.example\nTo: b@kelp.example\n\nx\n", "mail"), ("From a Mon Jan  5\nFrom: a@kelp.example\nTo: b@kelp.example\n\nx\n", "mbox"),
        ("From,To\na@kelp.example,b@kelp.example\n", "csv"),
    ],
)  # fmt: skip
def test_the_kind_of_a_file_is_told_by_its_content_not_its_name(tmp_path: Path, text: str, kind: str) -> None:
    path = tmp_path / "list.pdf"
    path.write_text(text, encoding="utf-8")
    assert (kind_by_octets(path.read_bytes()) or kind_by_text(path, find_encoding(path))) == kind


USES = [Use("name"), Use("address", 1, "work"), Use("address", 2), Use("phone", 1, "mobile"), Use("label"), None]


@given(st.lists(st.sampled_from(USES), min_size=1, max_size=6), st.data())
def test_a_kept_map_reads_the_same_columns_again(uses: list[Use | None], data: st.DataObject) -> None:
    titles = data.draw(st.lists(st.text("aB é", min_size=1, max_size=5).map(str.strip).filter(bool), min_size=len(uses),
                                max_size=len(uses), unique_by=fold))  # fmt: skip
    dropped = frozenset(t for t, use in zip(titles, uses, strict=True) if use is None and data.draw(st.booleans()))
    columns = Columns(titles, uses, 1, dropped)
    bare = Columns(titles, [Use("note")] * len(uses), 1)
    again = mapped(bare, read_mapping(written(columns)))
    assert (again.uses, again.dropped) == (columns.uses, columns.dropped)


@pytest.mark.parametrize("text", ["ship", "work", "name 12", "", "work name home"])
def test_a_use_that_is_none_is_refused_with_those_there_are(text: str) -> None:
    with pytest.raises(UnclearError, match="Uses are name, given"):
        read_use(text)


def test_a_sheet_can_be_named_and_every_refusal_tells_it(office: Office) -> None:
    book = openpyxl.Workbook()
    for title in ("Crew", "Board"):
        sheet = book.create_sheet(title)
        sheet.append(["Name", "E-mail"])
        sheet.append([f"Ada {title}", f"{title.lower()}@kelp.example"])
        sheet.append(["Bo", f"{title}@x"])
    book.save(office.folder / "people.xlsx")
    report = office.json("import", "people.xlsx", "--plan", code=1)
    assert [(d["sheet"], d["row"], d["value"]) for d in report["refused"]] == [
        ("Crew", 3, "Crew@x"),
        ("Board", 3, "Board@x"),
    ]
    assert (
        report["files"][0]["skipped"] == ["Sheet"]
        and "Crew, 3" in office.run("import", "people.xlsx", "--plan", code=1).out
    )
    assert office.json("import", "people.xlsx", "--sheet", "board", "--only-good", code=1)["added"] == 1
    refused = office.run("import", "people.xlsx", "--sheet", "Owners", code=2).err
    assert "people.xlsx has no `Owners` in it: there are `" in refused and "`Board`" in refused
    number = 1 + re.findall("`(.*?)`", refused)[1:].index("Board")
    assert office.json("import", "people.xlsx", "--sheet", str(number), "--only-good", code=1)["unchanged"] == 1
    office.file("one.csv", "Name,E-mail\nUna Berg,una@kelp.example\n")
    assert "one.csv is no workbook" in office.run("import", "one.csv", "--sheet", "1", code=2).err


def test_entries_that_tell_of_changes_or_of_other_files_are_not_people() -> None:
    text = (
        "dn: cn=Ada\nchangetype: delete\n\ndn: cn=Bo\ncn: Bo\nmail: bo@kelp.example\njpegPhoto:< file:///etc/passwd\n\n"
        "dn: cn=Cy\ncn: Cy\nmail:: !!!\nmail: cy@kelp\n\ndn: cn=Dee\nobjectClass: person\ncn: Dee\nsn: Dee\n"
    )
    ada, bo, cy, dee = ldif.read_entries(io.StringIO(text))
    assert "a change (delete)" in ada.refused[0].reason
    assert bo.people[0].addresses == [Address("bo@kelp.example")] and not any(
        "passwd" in e.value for e in bo.people[0].extra
    )
    assert [d.reason for d in bo.cleaned] == ["line 7 could not be read and was left out"]
    assert cy.refused[0].reason == "there is no ending such as .example after `kelp`" and not cy.people
    assert (dee.people[0].name, dee.people[0].family) == ("Dee", "")


HEADER = (
    "From: {}\nTo: undisclosed-recipients:;\nCc: =?utf-8?q?Brine=2C_Ada_=3Ceve=40gull=2Eexample=3E?= <ada@kelp.example>,\n"
    ' "Lund, Bo" <bo@kelp.example>, broken@x, Crew: cy@kelp.example, dee@kelp.example;\nDate: {}\n\nx\n'
)


@pytest.mark.parametrize(
    ("date", "want"),
    [("Mon, 5 Jan 2026 12:00:00 +0200", "2026-01-05T10:00:00Z"), ("Mon, 5 Jan 2026 12:00:00", "2026-01-05T12:00:00Z"),
     ("yesterday", ""), ("Mon, 5 Jan 99999 12:00:00 +0000", "")],
)  # fmt: skip
def test_the_people_of_a_message_are_told_apart_before_their_names_are_decoded(
    tmp_path: Path, date: str, want: str
) -> None:
    path = tmp_path / "one.eml"
    path.write_text(HEADER.format("=?bad?x?y?= <maren@tidewick.example>", date))
    (mail,) = mails(path)
    assert mail.date == want
    assert [(p.name, p.address) for p in mail.people["Cc"]] == [
        ("Brine, Ada <eve@gull.example>", "ada@kelp.example"), ("Lund, Bo", "bo@kelp.example"), ("", "cy@kelp.example"),
        ("", "dee@kelp.example"),
    ]  # fmt: skip
    assert [(one.column, one.reason) for one in mail.odd] == [("Cc", "there is no ending such as .example after `x`")]
    assert "To" not in mail.people


@pytest.mark.parametrize(
    ("address", "automatic"),
    [("no-reply@kelp.example", True), ("donotreply@x.example", True), ("MAILER-DAEMON@x.example", True), ("crew-bounces@x.example", True),
     ("owner-crew@x.example", True), ("noreen@kelp.example", False), ("bo@noreply.example", False)],
)  # fmt: skip
def test_senders_that_no_person_reads_are_known(address: str, automatic: bool) -> None:
    assert is_automatic(address) is automatic


@pytest.mark.parametrize(
    ("fields", "want"),
    [
        ("Action: failed\nStatus: 5.1.1\nDiagnostic-Code: smtp; 550 5.1.1 nobody", ("gone", "5.1.1 550 5.1.1 nobody")),
        (
            "Action: failed\nStatus: 5.0.0\nDiagnostic-Code: smtp; 550 no such user here",
            ("gone", "5.0.0 550 no such user here"),
        ),
        ("Action: failed\nStatus: 5.0.0\nDiagnostic-Code: smtp; 552 over quota", ("deferred", "5.0.0 552 over quota")),
        (
            "Action: failed\nStatus: 5.7.1\nDiagnostic-Code: smtp; 550 relay access denied",
            ("deferred", "5.7.1 550 relay access denied"),
        ),
        (
            "Action: failed\nStatus: 5.1.1\nDiagnostic-Code: smtp; 550 spam refused",
            ("deferred", "5.1.1 550 spam refused"),
        ),
        ("Action: failed\nStatus: 5.3.4\nDiagnostic-Code: smtp; 552 too big", ("deferred", "5.3.4 552 too big")),
        ("Action: failed\nStatus: 4.4.7", ("deferred", "4.4.7")),
        ("Action: failed\nStatus: 5.2.2 (full)", ("deferred", "5.2.2")),
        ("Action: delayed\nStatus: 4.4.1", ("deferred", "4.4.1")),
        ("Action: failed", ("unclear", "failed")),
        ("Action: relayed\nStatus: 2.0.0", None),
        ("Status: 5.1.1", None),
    ],
)
def test_a_delivery_report_tells_for_good_from_for_now(fields: str, want: tuple[str, str] | None) -> None:
    message = message_from_string(
        'Content-Type: multipart/report; boundary="b"\n\n--b\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; x\n\n'
        f"Final-Recipient: rfc822;<bo@kelp.example>\n{fields}\n\n--b--\n"
    )
    report = read_report(message, automatic=True)
    assert report is not None
    assert [(one.verdict, one.why) for one in report.recipients] == ([want] if want else [])


def test_an_address_that_fails_is_passed_over_for_one_that_works() -> None:
    mark = Failing("bo@tidewick.example", True, 1, "2026-01-05T10:00:00Z", "550 gone")
    bo = Contact("Bo", addresses=[Address("bo@tidewick.example"), Address("bo@kelp.example")], failing=[mark], uid="b")
    audience = work_out([Candidate(bo, 1, "Crew")], lambda keys: {})
    assert [r.address for r in audience.recipients] == ["bo@kelp.example"]
    bo.addresses.pop()
    audience = work_out([Candidate(bo, 1, "Crew")], lambda keys: {})
    assert not audience.recipients and audience.left_out[0].reason == "the address fails: 550 gone"
    bo.failing = [mark._replace(for_good=False)]
    assert len(work_out([Candidate(bo, 1, "Crew")], lambda keys: {}).recipients) == 1


@pytest.mark.parametrize(("text", "want"), [("1", [1]), ("2-4, 3 1", [2, 3, 4, 1]), (" 5 ", [5])])
def test_numbers_are_chosen_as_people_write_them(text: str, want: list[int]) -> None:
    assert chosen_numbers(text, 5) == want


@pytest.mark.parametrize("text", ["0", "6", "4-2", "x", "1-", "99999999999"])
def test_numbers_that_are_none_are_refused(text: str) -> None:
    with pytest.raises(UnclearError, match="between 1 and 5"):
        chosen_numbers(text, 5)


LOCALS, DOMAINS = (
    st.text("abé1.", min_size=1, max_size=4).map(lambda t: t.strip(".") or "a"),
    ["ab.example", "kelp.example", "bücher.example"],
)
PEOPLE = st.builds(
    Contact,
    name=st.text("abÉ ", min_size=1, max_size=6).map(lambda t: t.strip() or "a"),
    addresses=st.lists(st.builds(lambda a, b: Address(f"{a.replace('..', '.')}@{b}"), LOCALS, st.sampled_from(DOMAINS)), max_size=2),
    phones=st.lists(st.sampled_from([Phone("01632 960001"), Phone("+44 1632 960002")]), max_size=1),
    org=st.sampled_from(["", "Ab Yard"]), labels=st.sampled_from([[], ["Kelp"]]),
)  # fmt: skip


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(PEOPLE, max_size=6), st.lists(st.sampled_from(
    ["ab", "kel", "abé", "@ke", "a@ab", "elp.ex", "b@", "bücher", "buch", "01632", "+44 1632", "a b", "ab.example", "a@", "@", "yar"]), min_size=1, max_size=2))  # fmt: skip
def test_searching_by_the_index_finds_what_looking_through_everything_finds(
    tmp_path_factory: pytest.TempPathFactory, people: list[Contact], wanted: list[str]
) -> None:
    desk = Desk(home=tmp_path_factory.mktemp("search"))
    with desk.open(make=True) as book:
        with book.action("test"):
            rows = {contacts.add(book, person): person for person in people}
        with book.action("test"):  # changed contacts leave nothing of what they were
            for row, person in list(rows.items())[::2]:
                person.addresses = person.addresses[1:]
                contacts.save(book, row, person)
        text = " ".join(wanted)
        found = {kept.id for kept in contacts.search(book, text)}
        index = dict(book.db.execute(
            "SELECT contact, name || char(10) || given || char(10) || family || char(10) || org || char(10) || addresses"
            " || char(10) || phones || char(10) || labels FROM contact_facts"))  # fmt: skip
        assert found == {row for row, words in index.items() if all(f in words for f in fragments(text))}
        for person in rows.values():
            for address in person.addresses:
                assert person.uid in {kept.contact.uid for kept in contacts.by_address(book, address.address)}


def counting(most: int, fails: bool) -> Iterator[int]:
    yield from range(most)
    if fails:
        raise FileError("the file broke off.")


def test_work_ahead_hands_on_items_errors_and_stops_when_nobody_wants_more() -> None:
    assert list(ahead(counting, 300, False)) == list(range(300))
    begun = ahead(counting, 3, True)
    assert [next(begun) for _ in range(3)] == [0, 1, 2]
    with pytest.raises(FileError, match=r"the file broke off\."):
        next(begun)
    endless = ahead(counting, 10**9, False)
    assert next(endless) == 0
    endless.close()  # ends the other process too, or this test would never end


def test_a_long_file_that_breaks_off_loses_the_card_in_which_it_does(office: Office) -> None:
    cards = [
        {
            "@type": "Card",
            "name": {"full": f"Ada {n}"},
            "emails": {"1": {"address": f"a{n}@kelp.example"}},
            "x": "y" * 2000,
        }
        for n in range(600)
    ]
    office.file("long.json", json.dumps(cards)[:-5])
    ran = office.run("import", "long.json", code=1)
    assert "is not valid JSON: see line 1, column" in ran.out and "where the file ends" in ran.out
    assert len(office.told("find")) == 599


def test_on_a_terminal_gather_asks_for_numbers_or_lets_one_tick(crew: Office) -> None:
    crew.file("sent", "From: Maren <maren@tidewick.example>\nTo: Ada <ada@kelp.example>, Eve <eve@kelp.example>\n"
                      "Date: Mon, 5 Jan 2026 10:00:00 +0000\n\nx\n")  # fmt: skip
    terminal = pexpect.spawn(PROGRAM or "", ["gather", "sent", "--into", "Met"], cwd=crew.folder, env=crew.environment,
                             encoding="utf-8", timeout=HANGS, dimensions=(30, 90))  # fmt: skip
    terminal.expect_exact("Numbers to add")
    terminal.sendline("2")
    terminal.expect_exact("1 person taken: 1 new.")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert (terminal.exitstatus, crew.members("Met")) == (0, ["Eve"])
    terminal = pexpect.spawn(PROGRAM or "", ["gather", "sent", "--pick", "--into", "Met"], cwd=crew.folder,
                             env={**crew.environment, "TERM": "xterm"}, encoding="utf-8", timeout=HANGS, dimensions=(30, 90))  # fmt: skip
    terminal.expect_exact("Escape cancels")
    terminal.send("ada\t\r")
    terminal.expect_exact("1 person taken: 1 new.")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert crew.members("Met") == ["Ada", "Eve"]


def test_reading_a_file_of_a_kind_that_is_named_does_not_guess(tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_text("ada@kelp.example\nbo@kelp.example\n")
    assert open_source(path, Options(kind="csv")).kind == "csv" and open_source(path, Options()).kind == "line"


def test_a_mailbox_is_read_message_by_message_however_large_each_is(tmp_path: Path) -> None:
    path = tmp_path / "box"
    large = "x" * 70_000 + "\n"
    path.write_text(
        "From a Mon\nFrom: a@kelp.example\nTo: b@kelp.example\n\n>From the quay\nFrom here on\n\n"
        + "From b Mon\nFrom: c@kelp.example\nTo: d@kelp.example\n\n"
        + large * 40
        + "\nFrom c Mon\nFrom: e@kelp.example\n\n"
    )
    found = list(mails(path))
    assert [(m.number, m.people["From"][0].address) for m in found] == [
        (1, "a@kelp.example"),
        (2, "c@kelp.example"),
        (3, "e@kelp.example"),
    ]
    assert str(found[0].message.get_payload()).startswith("From the quay\nFrom here on")
    assert len(str(found[1].message.get_payload())) < 1_200_000


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "is empty"),
        (b"Name,E-mail\nAda,a@b\n", "is not mail"),
        (None, "There is no file"),
        (b"\x00\x01", "is not mail"),
    ],
)
def test_what_is_no_mail_is_said_to_be_none(tmp_path: Path, content: bytes | None, said: str) -> None:
    path = tmp_path / "box"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(FileError, match=said):
        list(mails(path))


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("slash.vcf", "BEGIN:VCARD\nFN:Ada\nORG:" + "a" * 900_000 + "\\\nEMAIL:ada@kelp.example\nEND:VCARD\n"),
        ("spaces.csv", "Name,E-mail\nAda,ada@kelp.example\nBo,a" + " " * 120_000 + "b\n"),
        ("angle.csv", "Name,E-mail\nAda,ada@kelp.example\nBo,a" + " " * 120_000 + "<b\n"),
        ("remarks.txt", "# people\n" + " \n\n" * 24 + "Name,E-mail\nAda,ada@kelp.example\n"),
        ("endless.vcf", "BEGIN:VCARD\nFN:Bo\nNOTE:x\n" + (" " + "y" * 70_000 + "\n") * 90 + "END:VCARD\nBEGIN:VCARD\nFN:Ada\nEMAIL:ada@kelp.example\nEND:VCARD\n"),
        ("endless.ldif", "dn: cn=Bo\ncn: Bo\nx: y\n" + (" " + "y" * 70_000 + "\n") * 90 + "\ndn: cn=Ada\ncn: Ada\nmail: ada@kelp.example\n"),
        ("bad.json", '[{"name":{"full":"Bo"}},' + "{x}," * 150_000 + '{"name":{"full":"Ada"},"emails":{"1":{"address":"ada@kelp.example"}}}]'),
        ("words.json", '[{"name":{"full":"Bo"}},' + "x," * 300_000 + '{"name":{"full":"Ada"},"emails":{"1":{"address":"ada@kelp.example"}}}]'),
    ],
)  # fmt: skip
def test_a_hostile_value_costs_its_own_row_and_no_time(office: Office, name: str, content: str) -> None:
    office.file(name, content)
    # Each of these once took minutes, or forever; a command here is given one.
    report = office.json("import", name, code=None)
    assert report["rows"] and "ada@kelp.example" in [a["address"] for c in office.told("find") for a in c["addresses"]]


@pytest.mark.parametrize("between", ["; ", ", ", "\n"])
def test_a_long_line_is_cut_between_people(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, between: str) -> None:
    monkeypatch.setattr(pasted, "_LINE_LIMIT", 100)
    text = between.join(f"Holm, Ada <ada{n}@kelp.example>" for n in range(200))
    path = tmp_path / "line.txt"
    path.write_text(text)
    assert [
        (one.people[0].name, one.people[0].preferred)
        for one in free_text.read(pasted.lines_of(path, Encoding("utf-8", "")))
    ] == [("Ada Holm", f"ada{n}@kelp.example") for n in range(200)]


@pytest.mark.parametrize(
    ("value", "want"),
    [
        ("a;b", ["a", "b"]),
        ("a\\;b;c", ["a\\;b", "c"]),
        ("\\\\;", ["\\\\", ""]),
        ("a\\", ["a\\"]),
        (";;", ["", "", ""]),
        ("", [""]),
    ],
)
def test_a_value_is_cut_where_the_separator_is_not_escaped(value: str, want: list[str]) -> None:
    assert pieces(value, ";") == want


def test_options_that_fit_no_table_are_refused_not_passed_over(office: Office) -> None:
    office.file("a.vcf", "BEGIN:VCARD\nFN:Ada\nEND:VCARD\n")
    for option in (("--list-by", "A"), ("--columns", "A=name")):
        assert "is not a table (vCards), so it has no columns" in office.run("import", "a.vcf", *option, code=2).err
    assert office.told("find") == []


def test_the_report_file_has_all_however_much_it_is(office: Office) -> None:
    office.file("bad.csv", "Name,E-mail\nAda,ada@kelp.example\n" + "Bo,bo@x\n" * 10_050)
    kept = office.json("import", "bad.csv", "--report", "told.csv", code=1)
    assert len(kept["refused"]) == 10_000
    assert (office.folder / "told.csv").read_text().count("\nrefused,") == 10_050
    assert "50 such remarks more than --json keeps" in office.run("import", "bad.csv", "--plan", code=1).out


@pytest.mark.parametrize(
    "data",
    [
        b"", b"no JSON", b'{"cards": [', b"[]", b"null", b'{"cards": [], "token": "", "more": false}', b'{"cards": [], "token": "x"}',
        b'{"cards": [["a", "b"]], "token": "x", "more": false}', b'{"cards": [["a", 1, "c", "d", "e"]], "token": "x", "more": false}',
        b'{"cards": [["a", "b", "c", {}, "e"]], "token": "x", "more": false}', b'{"cards": 7, "token": "x", "more": false}',
        b'{"cards": [["a", "b", ["c"], "d", "e"]], "token": "x", "more": false}', b"[" * 100_000,
    ],
)  # fmt: skip
def test_an_answer_of_a_hub_that_is_none_is_an_error_with_a_sentence(data: bytes) -> None:
    with pytest.raises(HubError, match="Nothing more was changed"):
        read_page(data)


def test_a_cell_over_several_rows_stands_in_each_of_them_however_many_there_are(office: Office) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["Boat", "Name", "E-mail"])
    for n in range(1500):
        for half in range(2):
            sheet.append([f"Boat {n}" if half == 0 else None, f"Ada Holm{n}", f"a{n}x{half}@kelp.example"])
        sheet.merge_cells(start_row=2 * n + 2, end_row=2 * n + 3, start_column=1, end_column=1)
    book.save(office.folder / "boats.xlsx")
    office.run("import", "boats.xlsx", code=None)
    for n in (0, 999, 1000, 1499):
        assert len(office.told("find", "--where", f'field "Boat" is "Boat {n}"')) == 2, n


def _cell(place: str, text: str) -> str:
    return f'<c r="{place}" t="inlineStr"><is><t>{text}</t></is></c>'


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('<row r="9"><c r="C9" t="b"><v>maybe</v></c></row>', ""),
        ('<row r="9"><c r="C9" t="zz"><v>1</v></c></row>', "cell C9 is of a kind `zz` that is not known"),
        (
            '<row r="9"><c r="C9" t="s"><v>77</v></c></row>',
            "cell C9 has text number `77`, which the workbook does not have",
        ),
        ('<row r="9"><c r="C9"><v>abc</v></c></row>', "cell C9 has `abc` for a number"),
        ('<row r="1048576">' + _cell("XFD1048576", "far") + "</row>", "cell XFD1048576 is beyond the 1,000 columns"),
        ('<row r="9">' + _cell("AAAAAAA9", "x") + "</row>", "stands at `AAAAAAA9`, which is no place"),
        ('<row r="9">' + _cell("A9", "Bo &nothing; B") + "</row>", "the workbook is damaged here"),
        ('<row r="9">' + _cell("A9", "y" * 400_000) + _cell("B9", "bo@kelp.example") + "</row>", "characters"),
    ],
)
def test_an_odd_or_hostile_cell_costs_itself_alone(office: Office, more: str, told: str) -> None:
    """Each of these stopped the import, or took the process with it."""
    rows = "".join(
        f'<row r="{n}">{_cell(f"A{n}", f"Ada Holm{n}")}{_cell(f"B{n}", f"a{n}@kelp.example")}</row>' for n in (2, 3)
    )
    last = f'<row r="12">{_cell("A12", "Cy Dahl")}{_cell("B12", "cy@kelp.example")}</row>'
    head = f'<row r="1">{_cell("A1", "Name")}{_cell("B1", "E-mail")}</row>'
    sheet = f"<worksheet><sheetData>{head}{rows}{more}{last}</sheetData></worksheet>"
    if "1048576" in more:
        sheet = f"<worksheet><sheetData>{head}{rows}{last}{more}</sheetData></worksheet>"
    office.file("odd.xlsx", workbook(sheet.encode()))
    ran = office.run("import", "odd.xlsx", code=None)
    assert {"a2@kelp.example", "a3@kelp.example", "cy@kelp.example"} <= {
        one["address"] for person in office.told("find") for one in person["addresses"]
    }
    assert told in ran.out, ran.out


def test_a_text_that_is_repeated_a_million_times_takes_no_memory(office: Office) -> None:
    text = "long " * 200_000
    rows = "".join(
        f'<row r="{n}"><c r="A{n}" t="s"><v>0</v></c>{_cell(f"B{n}", f"p{n}@kelp.example")}</row>'
        for n in range(2, 2002)
    )
    head = f'<row r="1">{_cell("A1", "Name")}{_cell("B1", "E-mail")}</row>'
    sheet = f"<worksheet><sheetData>{head}{rows}</sheetData></worksheet><si><t>{text}</t></si>"
    office.file("long.xlsx", workbook(sheet.encode()))
    # By a small process in between: what this one holds would be counted to whatever it starts.
    measured = (
        "import resource, subprocess, sys; code = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode;"
        "print(code, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10)"
    )
    command = [sys.executable, "-S", "-c", measured, PROGRAM or "barnacle", "import", "long.xlsx", "--yes"]
    ran = subprocess.run(command, cwd=office.folder, env=office.environment, capture_output=True, text=True, check=True)
    code, megabytes = map(int, ran.stdout.split())
    assert code in (0, 1) and megabytes < 350  # it once took five gigabytes
