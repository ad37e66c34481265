"""One contact of two: what is kept, what may be chosen, what stands side by side."""

from __future__ import annotations

import copy

import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core import threeway
from barnacle.core.contact import Address, Contact, Extra, Failing, OptOut, Phone, to_doc
from barnacle.core.merging import CHOOSABLE, merge, side_by_side
from barnacle.core.phones import phone_key


def key(number: str) -> str:
    return phone_key(number, "GB")


def two() -> tuple[Contact, Contact]:
    left = Contact(
        "Bo Lund", addresses=[Address("bo@kelp.example", "work")], phones=[Phone("07700 900001")], org="Ebb Yard",
        job="Rigger", labels=["crew"], uid="left", added="2025-03-01T00:00:00Z", source="import a.csv",
        extra=[Extra("csv:Berth", "A1"), Extra("vcard:X-BOAT#1", "X-BOAT:Teal")],
    )  # fmt: skip
    right = Contact(
        "Robert Lund", addresses=[Address("rob@gull.example", "home"), Address("bo@kelp.example")],
        phones=[Phone("+44 7700 900001"), Phone("01632 960001")], org="Skerry", web="https://skerry.example", note="keys",
        labels=["Crew", "pilot"], uid="right", added="2024-01-01T00:00:00Z", source="contact add",
        opt_out=OptOut("2026-01-01T00:00:00Z", "asked"), extra=[Extra("csv:Berth", "B7")],
        failing=[Failing("rob@gull.example", True, 2, "2026-02-01T00:00:00Z", "no such mailbox")],
    )  # fmt: skip
    return left, right


def test_a_merge_keeps_everything_and_notes_what_gives_way() -> None:
    kept, other = two()
    merge(kept, other, 7, key)
    assert (
        kept.name == "Bo Lund"
        and kept.org == "Ebb Yard"
        and kept.job == "Rigger"
        and kept.web == "https://skerry.example"
    )
    assert kept.note == "keys; also: Robert Lund, organisation Skerry"
    assert [a.address for a in kept.addresses] == ["bo@kelp.example", "rob@gull.example"]
    assert [p.number for p in kept.phones] == ["07700 900001", "01632 960001"] and kept.labels == ["crew", "pilot"]
    assert kept.opt_out == OptOut("2026-01-01T00:00:00Z", "asked")
    assert (kept.added, kept.source) == ("2024-01-01T00:00:00Z", "contact add"), "the one that is longer known"
    assert kept.former == [("right", 7, "Robert Lund")] and kept.failing[0].address == "rob@gull.example"
    assert kept.extra == [Extra("csv:Berth", "A1; B7"), Extra("vcard:X-BOAT#1", "X-BOAT:Teal")]
    assert other.name == "Robert Lund" and other.uid == "right", "the other one is left as it was"


@pytest.mark.parametrize(
    ("theirs", "name", "org", "first", "gone"),
    [
        (None, "Bo Lund", "Ebb Yard", "bo@kelp.example", ("Robert", "Skerry")),
        ((), "Bo Lund", "Ebb Yard", "bo@kelp.example", ("Robert", "Skerry")),
        (("name",), "Robert Lund", "Ebb Yard", "bo@kelp.example", ("Bo Lund", "Skerry")),
        (("org",), "Bo Lund", "Skerry", "bo@kelp.example", ("Robert", "Ebb Yard")),
        (("address",), "Bo Lund", "Ebb Yard", "rob@gull.example", ("Robert", "Skerry")),
        (("name", "org", "address"), "Robert Lund", "Skerry", "rob@gull.example", ("Bo Lund", "Ebb Yard")),
        (("job", "web"), "Bo Lund", "Ebb Yard", "bo@kelp.example", ("Robert", "Skerry")),
    ],
)
def test_a_person_chooses_field_by_field(
    theirs: tuple[str, ...] | None, name: str, org: str, first: str, gone: tuple[str, ...]
) -> None:
    kept, other = two()
    merge(kept, other, 7, key, theirs)
    assert (kept.name, kept.org, kept.addresses[0].address, kept.job) == (name, org, first, "Rigger")
    assert all(word in kept.note for word in gone) and len(kept.addresses) == 2
    assert {kept.name, kept.former[0].name} == {"Bo Lund", "Robert Lund"}


def test_what_both_changed_alike_is_no_clash_and_what_one_left_alone_is_the_other_s() -> None:
    before = {"org": "Kelp", "labels": ["a", "b"]}
    assert threeway.merge(before, {"org": "Ebb", "labels": ["a"]}, {"org": "Ebb", "labels": ["a"]}) == (
        {"org": "Ebb", "labels": ["a"]},
        [],
    )
    assert threeway.merge(before, {"org": "Ebb"}, {**before, "org": "Quay"})[1] == ["org"]
    assert threeway.merge(before, before, {"org": "Quay", "labels": ["b", "c"]})[0] == {
        "org": "Quay",
        "labels": ["b", "c"],
    }
    # A list that is one value is no set of them.
    out = {"opt_out": ["2026-11-01T08:00:00Z", "moved"]}
    later = {"opt_out": ["2026-11-02T08:00:00Z", "moved"]}
    assert threeway.merge(out, later, {}) == (later, ["opt_out"])


def test_the_fuller_name_stays_and_says_nothing_twice() -> None:
    kept, other = Contact("Bo Lund", uid="a"), Contact("Bo Magnus Lund", given="Bo Magnus", family="Lund", uid="b")
    merge(kept, other, 2, key)
    assert kept.name == "Bo Magnus Lund" and kept.note == "" and kept.parts() == ("Bo Magnus", "Lund")
    third = Contact("Bo Magnus Lund", org="Ebb", uid="c")
    merge(kept, third, 3, key)
    assert kept.org == "Ebb" and [f.uid for f in kept.former] == ["b", "c"] and kept.note == ""


def test_two_contacts_stand_side_by_side_with_what_becomes_of_them() -> None:
    left, right = two()
    rows = {row.title: row for row in side_by_side(left, right, None, key, (["Crew"], ["Pilots", "Crew"]))}
    assert [title for title, row in rows.items() if row.choice] == ["Name", "Organisation", "Address"]
    assert rows["Name"].differs and rows["Name"].merged == "Bo Lund" and rows["Job"].right == ""
    assert rows["Also at"].merged == "rob@gull.example" and rows["Phones"].merged == "07700 900001, 01632 960001"
    assert rows["Lists"].left == "Crew" and rows["Lists"].merged == "Crew and Pilots"
    assert rows["Opted out"].merged == "since 2026-01-01 asked" and not rows["In the book"].differs
    assert (
        rows["From files"].left == "2 more fields" and "Web" in rows and rows["Note"].merged.startswith("keys; also:")
    )
    chosen = {row.title: row for row in side_by_side(left, right, {"name", "address"}, key)}
    assert chosen["Name"].merged == "Robert Lund" and chosen["Address"].merged == "rob@gull.example"
    same = side_by_side(left, copy.deepcopy(left), None, key)
    assert not any(row.differs or row.choice for row in same)


FIELDS = st.sampled_from(["", "Ebb", "Skerry Yard", "Ébb"])
PEOPLE = st.builds(
    lambda name, org, job, web, addresses: Contact(
        name, org=org, job=job, web=web, addresses=[Address(a) for a in addresses], uid="u"
    ),
    st.sampled_from(["", "Bo", "Bo Lund", "Robert Lund"]), FIELDS, FIELDS, FIELDS,
    st.lists(st.sampled_from(["a@x.example", "A@x.example", "b@x.example"]), max_size=2, unique_by=str.lower),
)  # fmt: skip


@given(PEOPLE, PEOPLE, st.sets(st.sampled_from(CHOOSABLE)))
def test_whatever_is_chosen_nothing_is_lost_and_the_preview_is_what_comes(
    left: Contact, right: Contact, theirs: set[str]
) -> None:
    shown = {row.title: row.merged for row in side_by_side(left, right, theirs, key)}
    before = to_doc(right)
    merged = copy.deepcopy(left)
    merge(merged, right, 3, key, theirs)
    assert to_doc(right) == before
    said = " ".join((merged.name, merged.org, merged.job, merged.web, merged.note)).lower().replace("é", "e")
    for one in (left, right):
        for value in (one.name, one.org, one.job, one.web):
            assert all(word in said for word in value.lower().replace("é", "e").split())
        assert set(one.address_keys()) <= set(merged.address_keys())
    for title, value in (("Name", merged.name), ("Organisation", merged.org), ("Note", merged.note)):
        assert shown.get(title, "") == value
    for name in theirs - {"address"}:
        if getattr(right, name):
            assert getattr(merged, name) == getattr(right, name)


@pytest.mark.parametrize(
    ("mine", "theirs", "both"),
    [
        ("", "B7", ["B7"]),
        ("A1", "", ["A1"]),
        ("A1", "a1", ["A1"]),
        ("A1", "B7", ["A1; B7"]),
        ("A1; B7", "B7", ["A1; B7"]),
    ],
)
def test_a_column_that_both_have_holds_both_values(mine: str, theirs: str, both: list[str]) -> None:
    kept, other = (
        Contact("Bo", uid=uid, extra=[Extra("csv:Berth", value)] if value else [])
        for uid, value in (("a", mine), ("b", theirs))
    )
    merge(kept, other, 2, key)
    assert [one.value for one in kept.extra] == both


def test_what_has_no_field_is_kept_of_both() -> None:
    kept = Contact("Bo", uid="a", extra=[Extra("vcard:X-BOAT", "X-BOAT:Teal"), Extra("ldif:room", '["A1"]'), Extra("vcard:BDAY", "BDAY:19700101")])  # fmt: skip
    more = [Extra("vcard:X-BOAT", "X-BOAT:Plover"), Extra("vcard:X-BOAT#2", "X-BOAT:Teal"), Extra("ldif:room", '["A1", "B2"]'), Extra("vcard:BDAY", "BDAY:19700102")]  # fmt: skip
    merge(kept, Contact("Bo", uid="b", extra=more), 2, key)
    assert [one.value for one in kept.extra if "BOAT" in one.key] == ["X-BOAT:Teal", "X-BOAT:Plover"]
    assert Extra("ldif:room", '["A1", "B2"]') in kept.extra and Extra("vcard:BDAY", "BDAY:19700101") in kept.extra
    assert kept.note == "also: Birthday 1970-01-02"
