"""Contacts in the core: two descriptions of one person joined or merged; columns worked out from headers and cells."""

from __future__ import annotations

import phonenumbers
import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.contact import (
    Address,
    Contact,
    OptOut,
    Phone,
    comparable_numbers,
    from_doc,
    join,
    read_address,
    read_phone,
    to_doc,
)
from barnacle.core.errors import BarnacleError
from barnacle.core.merging import merge
from barnacle.core.phones import digits, phone_key
from barnacle.core.text import fold, words
from barnacle.files.drafts import Row
from barnacle.files.tables.layout import find_tables
from barnacle.files.tables.rows import RowReader

TEXT = st.sampled_from(["", "Ada", "Ada Brine", "ebb", "Ébb", "key 14"])
CONTACTS = st.builds(
    Contact,
    name=TEXT,
    org=TEXT,
    note=TEXT,
    job=TEXT,
    addresses=st.lists(st.sampled_from(["a@x.example", "b@x.example", "c@y.example"]), unique=True, max_size=3).map(
        lambda found: [Address(a, "work") for a in found]
    ),
    phones=st.lists(st.sampled_from(["01632 960001", "+44 1632 960001", "999 111"]), unique=True, max_size=2).map(
        lambda found: [Phone(n) for n in found]
    ),
    labels=st.lists(st.sampled_from(["crew", "Crew", "pilot"]), unique_by=str.lower, max_size=2),
    opt_out=st.sampled_from([None, OptOut("2026-01-01T00:00:00Z", "asked")]),
    uid=st.sampled_from(["u1", "u2"]),
    added=st.sampled_from(["", "2025-01-01T00:00:00Z", "2026-01-01T00:00:00Z"]),
)


def key(number: str) -> str:
    return phone_key(number, "GB")


@given(CONTACTS)
def test_a_contact_is_stored_and_read_as_it_was(contact: Contact) -> None:
    assert to_doc(from_doc(contact.uid, to_doc(contact))) == to_doc(contact)


@given(CONTACTS, CONTACTS)
def test_joining_adds_what_is_new_overwrites_nothing_and_is_done_once(known: Contact, new: Contact) -> None:
    before = to_doc(known)
    changed, differences = join(known, new, key)
    after = to_doc(known)
    assert changed == (after != before)
    for name in ("name", "org", "job"):
        assert after.get(name, "") == before.get(name, "") or not before.get(name)
        disagree = before.get(name) and getattr(new, name) and fold(before[name]) != fold(getattr(new, name))
        assert bool(disagree) == any(d.field == name for d in differences)
    assert set(known.address_keys()) >= set(new.address_keys())
    assert {key(p.number) for p in known.phones} >= {key(p.number) for p in new.phones}
    assert join(known, new, key)[0] is False


@given(CONTACTS, CONTACTS)
def test_merging_keeps_every_address_phone_label_uid_and_an_opt_out(kept: Contact, other: Contact) -> None:
    first, second = from_doc("u1", to_doc(kept)), from_doc("u2", to_doc(other))
    merge(first, second, 7, key)
    assert {*first.address_keys()} == {*kept.address_keys(), *other.address_keys()}
    assert {label.lower() for label in first.labels} == {label.lower() for label in [*kept.labels, *other.labels]}
    assert (first.opt_out is not None) == (kept.opt_out is not None or other.opt_out is not None)
    assert first.former[0][:2] == ("u2", 7) and {first.name, first.former[0].name} == {kept.name, other.name}
    assert len(first.name.split()) == max(len(kept.name.split()), len(other.name.split()))
    said = words(" ".join((first.name, first.org, first.job, first.note)))
    for text in (kept.name, other.name, kept.org, other.org, other.job, other.note):
        assert set(words(text)) <= set(said), "what gives way is noted"
    assert first.added == min(filter(None, (kept.added, other.added)), default="")


@pytest.mark.parametrize(
    ("number", "region", "form"),
    [
        ("01632 960123", "GB", "+441632960123"),
        ("+44 (0)1632 960123", "GB", "+441632960123"),
        ("0044 1632 960123", "GB", "+441632960123"),
        ("01632 960123", "", "01632960123"),
        ("not one", "GB", ""),
    ],
)
def test_numbers_are_compared_in_the_international_form(number: str, region: str, form: str) -> None:
    assert phone_key(number, region) == form


def test_numbers_are_found_as_they_are_written_at_home() -> None:
    assert comparable_numbers(Contact(phones=[Phone("+44 1632 960123")])) == ["441632960123", "01632960123"]
    for region in phonenumbers.SUPPORTED_REGIONS:
        number = f"{phonenumbers.country_code_for_region(region)}555012345"
        assert comparable_numbers(Contact(phones=[Phone(f"+{number}")])) == [number, "0555012345"], region
    assert digits("+44 (1632)") == "441632"


@pytest.mark.parametrize("text", ["desk:a@x.example", "a@x", "work:", ""])
def test_an_address_from_the_command_line_is_checked(text: str) -> None:
    with pytest.raises(BarnacleError):
        read_address(text)


def test_kinds_stand_before_a_colon() -> None:
    assert read_address("Home: a@x.example") == Address("a@x.example", "home")
    assert read_phone("mobile:07700 900111") == Phone("07700 900111", "mobile")
    assert read_phone("07700 900111") == Phone("07700 900111", "")


@pytest.mark.parametrize(
    ("rows", "header", "uses"),
    [
        ([["Name", "E-mail"], ["Ada", "a@x.example"]], 1, ["name", "address"]),
        ([["E-MAIL ADDRESS", "Last Name", "First name"], ["a@x.example", "B", "A"]], 1, ["address", "family", "given"]),
        ([["Trust"], [], ["Company", "Contact", "Mail"], ["Ebb", "Ada", "a@x.example"]], 3, ["org", "name", "address"]),
        ([["Wer", "Wohin"], ["Ada", "a@x.example"], ["Bo", "b@x.example"]], 1, ["name", "address"]),
        ([["Ada Brine", "a@x.example"], ["Bo Lund", "b@x.example"]], 0, ["name", "address"]),
        ([["a@x.example"], ["b@x.example"]], 0, ["address"]),
        (
            [["Name", "Home phone", "Office e-mail"], ["A", "01632 960001", "a@x.example"]],
            1,
            ["name", "home phone", "work address"],
        ),
        ([["Name", "Name", "Notes", "Comments"], ["A", "B", "c", "d"]], 1, ["name", None, "note", "note"]),
        (
            [["Owner", "Owner e-mail", "Co-owner", "Co-owner phone"], ["A", "a@x.example", "B", "01632 960001"]],
            1,
            ["name", "address", "name of the second person", "phone of the second person"],
        ),
        ([["Name", "Kontakt"], ["A", "01632 960001"], ["B", "07700 900111"]], 1, ["name", "phone"]),
        ([["Name", "When"], ["A", "2026-03-01 10:00"], ["B", "2026-03-02 11:30"]], 1, ["name", None]),
    ],
)
def test_columns_are_worked_out(rows: list[list[str]], header: int, uses: list[str | None]) -> None:
    columns = find_tables([Row(number, cells) for number, cells in enumerate(rows, 1)])[0]
    assert columns.header == header
    assert [str(use) if use else None for use in columns.uses] == uses


def test_a_row_gives_its_people_each_with_what_is_theirs() -> None:
    rows = [
        Row(1, ["Owner", "E-mail", "Co-owner", "Co-owner e-mail", "Labels", "Phone"]),
        Row(2, ["Lund, Bo", "Bo <bo@x.example>, bo@y.example", "Una", "una@x", "a; b", "ask at the office"]),
    ]
    draft = RowReader(find_tables(rows)[0]).read(rows[1])
    assert [p.name for p in draft.people] == ["Bo Lund", "Una"]
    assert [a.address for a in draft.people[0].addresses] == ["bo@x.example", "bo@y.example"]
    assert draft.people[0].labels == ["a", "b"] and draft.people[0].note == "ask at the office"
    assert [(d.column, d.value) for d in draft.refused] == [("Co-owner e-mail", "una@x")]
