"""What stands in a message as it goes out: put together quickly or slowly, with entries of a calendar, with fields."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.message import EmailMessage

import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.addresses import Mailbox
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import FileError
from barnacle.core.mail import merge_fields
from barnacle.core.mail.invitation import invitation, read_invitation
from barnacle.core.mail.letter import Attachment, Letter, build, token_for
from barnacle.core.mail.markdown import as_html, quoted
from barnacle.files.contents.search import find_leaks

ME = Mailbox("Maren Holt", "maren@tidewick.example")
AT = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
WORDS = st.text(st.sampled_from("abcÄø ,.\"'<>()@:;?=&%#*_-é☂"), max_size=60)
BOXES = st.builds(
    Mailbox,
    st.text(st.sampled_from("abcÄø ,.\"'()-"), max_size=30).map(lambda name: " ".join(name.split())),
    st.sampled_from(
        [
            "bo@x.example",
            "bo.lund+x@kelp.example",
            "o'brien@kelp.example",
            "a" * 60 + "@kelp.example",
            "ü@größe.example",
        ]
    ),
)


def read(raw: bytes) -> EmailMessage:
    message = message_from_bytes(raw, policy=policy.default)
    assert isinstance(message, EmailMessage)
    return message


@given(WORDS, WORDS, st.lists(BOXES.filter(lambda one: one.address.isascii()), max_size=3))
def test_any_words_come_out_as_they_went_in_on_lines_that_a_server_takes(
    subject: str, text: str, recipients: list[Mailbox]
) -> None:
    subject = " ".join(subject.split()) or "x"
    letter = Letter("ab" * 16, ME, subject, text, AT, recipients=recipients)
    raw = build(letter)
    assert raw == build(letter) and raw.isascii() and b"\r\n\r\n" in raw
    assert all(len(line) <= 998 and b"\r" not in line for line in raw.split(b"\r\n")) and b"\n" not in raw.replace(
        b"\r\n", b""
    )
    message = read(raw)
    if "=?" not in subject:
        assert " ".join(str(message["Subject"]).split()) == subject
    to = [a.addr_spec for a in message["To"].addresses]
    assert to == ([r.address for r in recipients] or ["maren@tidewick.example"])
    part = message.get_body(("plain",))
    assert part is not None and str(part.get_content()).replace("\r\n", "\n").rstrip("\n") == text.rstrip("\n")
    assert set(message.keys()) == {
        "From", "Reply-To", "To", "Subject", "Date", "Message-ID", "List-Id", "List-Unsubscribe", "Content-Type",
        "Content-Transfer-Encoding", "MIME-Version",
    }  # fmt: skip


@given(st.binary(max_size=300), st.sampled_from(["plan.pdf", "Plan für Ada.txt", 'a "b".bin', "x" * 120 + ".csv"]))
def test_files_arrive_octet_for_octet_under_their_names(data: bytes, name: str) -> None:
    files = [Attachment(name, "application/octet-stream", data), Attachment("b.txt", "text/plain", b"b\n")]
    letter = Letter("cd" * 16, ME, "x", "y", AT, html="<p>y</p>", attachments=files)
    raw = build(letter)
    assert raw == build(letter) and raw.isascii()
    message = read(raw)
    arrived = [(one.get_filename(), one.get_payload(decode=True)) for one in message.iter_attachments()]
    assert arrived == [(name, data), ("b.txt", b"b\n")]
    boundaries = re.findall(rb'boundary="([^"]*)"', raw)
    assert len(set(boundaries)) == len(boundaries) == 2 and all(b"cdcd" in one for one in boundaries)


@given(BOXES, BOXES, st.text(st.sampled_from("abc Äø\n"), max_size=200))
def test_a_copy_for_one_holds_nobody_else(one: Mailbox, other: Mailbox, text: str) -> None:
    if one.address == other.address:
        return
    guarded = {other.address.casefold(): "the other"}
    people = [Contact("Bo Lund", addresses=[Address(one.address)])]
    values = merge_fields.values_of(people, one.address)
    filled = merge_fields.fill(merge_fields.pieces(f"Dear {{name|you}} at {{address}}\n{text}"), values)
    letter = Letter(token_for("ab" * 16, one.address), ME, "x", filled, AT)
    letter.recipients = [one] if one.address.isascii() else []
    assert not find_leaks(build(letter), guarded) or other.address in text
    assert (
        token_for("ab" * 16, one.address) != token_for("ab" * 16, other.address) != token_for("cd" * 16, other.address)
    )
    assert token_for("ab" * 16, one.address.capitalize()) == token_for("ab" * 16, one.address)


@pytest.mark.parametrize(
    ("people", "values"),
    [
        ((("Bo Lund", "Ebb"),), {"given": "Bo", "family": "Lund", "name": "Bo Lund", "org": "Ebb"}),
        ((("Una Berg", ""), ("Per Berg", "Ebb")), {"given": "Una and Per", "family": "Berg", "name": "Una Berg and Per Berg", "org": "Ebb"}),
        ((("", "Ebb"),), {"given": "", "family": "", "name": "", "org": "Ebb"}),
        ((("Bo", ""), ("Ida", ""), ("Una", "")), {"given": "Bo, Ida and Una", "family": "", "name": "Bo, Ida and Una"}),
        ((("Bo Lund", "Ebb"), ("Bo Lund", "Ebb")), {"given": "Bo", "name": "Bo Lund", "org": "Ebb"}),
        ((), {"given": "", "name": ""}),
    ],
)  # fmt: skip
def test_people_who_share_an_address_are_named_together(
    people: tuple[tuple[str, str], ...], values: dict[str, str]
) -> None:
    found = merge_fields.values_of([Contact(name, org=org) for name, org in people], "a@x.example")
    assert {name: found[name] for name in values} == values and found["address"] == "a@x.example"


@given(st.text(max_size=60))
def test_text_without_fields_is_left_alone_and_every_field_is_found(text: str) -> None:
    cut = merge_fields.pieces(text)
    if "{" not in text:
        assert merge_fields.fill(cut, {}) == text and not merge_fields.unknown(cut)
    doubled = text.replace("{", "{{")
    assert merge_fields.fill(merge_fields.pieces(doubled), {}) == text
    with_one = merge_fields.pieces(f"{doubled}{{given}}")
    assert (
        merge_fields.missing(with_one, {}) == ["given"] and merge_fields.fill(with_one, {"given": "Bo"}) == f"{text}Bo"
    )


def test_an_unknown_field_is_told_with_its_line() -> None:
    cut = merge_fields.pieces("Dear {given},\n\nyour {boat|dinghy} and {berth}\n")
    assert [(f.name, f.fallback, f.line) for f in merge_fields.unknown(cut)] == [
        ("boat", "dinghy", 3),
        ("berth", None, 3),
    ]


@given(st.text(st.sampled_from("ab*_`[]()<>#+-.!&|~\\{} "), max_size=40))
def test_a_value_in_markdown_says_just_what_it_says(value: str) -> None:
    import html

    value = " ".join(value.split()) or "x"
    page = as_html(f"x{quoted(value)}x")
    body = re.search(r"<p>(.*)</p>", page, re.DOTALL)
    assert body is not None and html.unescape(body[1]) == f"x{value}x"


def test_html_of_the_writer_s_own_and_scripts_stay_text() -> None:
    page = as_html("<script>alert(1)</script>\n\n[x](javascript:alert(1)) **bold** <b>b</b>")
    assert "<script>" not in page and "href" not in page and "<strong>bold</strong>" in page and "&lt;b&gt;" in page


ENTRY = "BEGIN:VCALENDAR\nVERSION:2.0\nMETHOD:REQUEST\nBEGIN:VEVENT\nUID:1\nDTSTART:20261127T080000Z\nSUMMARY:Gr\n öße\nATTENDEE:mailto:a@x.example\nEND:VEVENT\nEND:VCALENDAR"


@given(BOXES)
def test_an_entry_names_whom_it_goes_to_and_nobody_else(one: Mailbox) -> None:
    calendar = read_invitation(ENTRY, "x.ics")
    assert "ATTENDEE" not in calendar and "METHOD" not in calendar and "SUMMARY:Größe" in calendar
    method, text = invitation(calendar, ME, [one])
    unfolded = text.replace("\r\n ", "")
    assert method == "REQUEST" and unfolded.count("ATTENDEE") == unfolded.count("ORGANIZER") == 1
    assert all(len(line.encode()) <= 75 for line in text.split("\r\n")) and text.endswith("END:VCALENDAR\r\n")
    assert invitation(calendar, ME)[0] == "PUBLISH" and "a@x.example" not in invitation(calendar, ME)[1]
    letter = Letter("ab" * 16, ME, "x", "y", AT, calendar=(method, text))
    part = next(p for p in read(build(letter)).walk() if p.get_content_type() == "text/calendar")
    assert str(part["Content-Type"].params["method"]) == "REQUEST"
    assert str(part.get_content()).replace("\r\n", "\n") == text.replace("\r\n", "\n")


@pytest.mark.parametrize(
    "text",
    ["", "hello", "BEGIN:VCALENDAR", "BEGIN:VCALENDAR\nEND:VCALENDAR", ENTRY.replace("UID", "X"), ENTRY.replace("VEVENT", "VTODO"), ENTRY.replace("Gr", "G\x1br"),
     ENTRY.replace("DTSTART:", "DTSTART:x"), ENTRY.replace("UID", "RRULE:FREQ=SOMETIMES\nUID"), ENTRY.replace("UID", "no colon\nUID"),
     ENTRY.replace("UID", "BEGIN:VALARM\nUID")],
)  # fmt: skip
def test_what_is_no_entry_is_refused_in_words(text: str) -> None:
    with pytest.raises(FileError, match=r"x\.ics"):
        read_invitation(text, "x.ics")
