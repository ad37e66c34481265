"""What both sides' changes of a shared member come to, without a hub."""

from __future__ import annotations

import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core import sharing
from barnacle.core.contact import Address, Contact, Extra, OptOut, Phone
from barnacle.core.sharing import MORE, USUAL, Clash, Fields, meet, named, shared_fields
from barnacle.files.cards.vcard import read_cards, write

BASE: Fields = {"name": "Una Berg", "org": "Kelp", "phones": [["1", ""], ["2", "home"]]}
EVERY = (*USUAL, *MORE)


@pytest.mark.parametrize(
    ("here", "there", "expected", "clashes"),
    [
        (BASE, BASE, BASE, []),
        ({**BASE, "job": "Mate"}, BASE, {**BASE, "job": "Mate"}, []),
        (BASE, {**BASE, "job": "Mate"}, {**BASE, "job": "Mate"}, []),
        ({**BASE, "job": "Mate"}, {**BASE, "web": "x"}, {**BASE, "job": "Mate", "web": "x"}, []),
        ({**BASE, "org": "Pier"}, {**BASE, "org": "Quay"}, {**BASE, "org": "Quay"}, [Clash("org", "Pier", "Quay")]),
        ({**BASE, "org": "Pier"}, {**BASE, "org": "Pier"}, {**BASE, "org": "Pier"}, []),
        ({"name": "Una Berg", "phones": BASE["phones"]}, {**BASE, "org": "Quay"}, {**BASE, "org": "Quay"}, [Clash("org", None, "Quay")]),
        ({**BASE, "phones": [["1", ""], ["3", ""]]}, {**BASE, "phones": [["1", ""], ["2", "home"], ["4", ""]]},
         {**BASE, "phones": [["1", ""], ["4", ""], ["3", ""]]}, []),
        ({**BASE, "phones": [["1", ""], ["2", "work"]]}, {**BASE, "phones": [["1", ""], ["2", "mobile"]]},
         {**BASE, "phones": [["1", ""], ["2", "mobile"]]}, [Clash("phones", [["1", ""], ["2", "work"]], [["1", ""], ["2", "mobile"]])]),
    ],
)  # fmt: skip
def test_changes_of_both_sides_come_together(
    here: Fields, there: Fields, expected: Fields, clashes: list[Clash]
) -> None:
    met = meet(BASE, BASE, here, there)
    assert met.here == met.there == expected and met.clashes == clashes


def test_what_differed_from_the_beginning_goes_on_to_differ_until_somebody_changes_it() -> None:
    mine, theirs = (
        {"name": "Una", "org": "Kelp", "phones": [["1", ""], ["9", ""]]},
        {"name": "Una", "org": "Quay", "phones": [["1", ""]]},
    )
    assert meet(mine, theirs, mine, theirs) == (mine, theirs, [])
    edited = meet(mine, theirs, {**mine, "org": "Kelp & Co"}, theirs)
    assert edited.there["org"] == "Kelp & Co" and edited.there["phones"] == [["1", ""]], "what is one's own stays here"
    changed = meet(mine, theirs, mine, {**theirs, "org": "Pier", "phones": [["1", ""], ["2", ""]]})
    assert changed.here["org"] == "Pier" and changed.clashes == [Clash("org", "Kelp", "Pier")]
    assert sorted(changed.here["phones"]) == [["1", ""], ["2", ""], ["9", ""]]
    assert sorted(changed.there["phones"]) == [["1", ""], ["2", ""]]


VALUES = st.sampled_from(["", "a", "b", "c"])
NUMBERS = st.lists(st.sampled_from(["1", "2", "3", "4"]), unique=True, max_size=4)


@st.composite
def members(draw: st.DrawFn) -> Fields:
    fields: Fields = {name: draw(VALUES) for name in ("name", "org", "job", "address")}
    fields["phones"] = [[number, ""] for number in draw(NUMBERS)]
    return {name: value for name, value in fields.items() if value}


@given(base=members(), here=members(), there=members())
def test_nothing_is_lost_without_a_clash_and_a_second_exchange_changes_nothing(
    base: Fields, here: Fields, there: Fields
) -> None:
    met = meet(base, base, here, there)
    assert met.here == met.there
    clashing = {clash.field for clash in met.clashes}
    for name in ("name", "org", "job", "address"):
        was, mine, theirs, now = (side.get(name) for side in (base, here, there, met.here))
        assert now == (theirs if theirs != was else mine)
        assert (name in clashing) == (mine != was and theirs != was and mine != theirs)
    was, mine, theirs, now = ({p[0] for p in side.get("phones", [])} for side in (base, here, there, met.here))
    assert now == (mine & theirs) | (mine - was) | (theirs - was)
    assert meet(met.there, met.there, met.here, met.there) == (met.here, met.there, [])


@given(base=members(), here=members(), there=members())
def test_what_a_hub_put_back_says_empties_nothing_and_what_it_lacks_goes_there_again(
    base: Fields, here: Fields, there: Fields
) -> None:
    (now, _, clashes), agreed = sharing.meet_again(base, base, here, there)
    clashing = {clash.field for clash in clashes}
    for name in ("name", "org", "job", "address"):
        mine, theirs = here.get(name), there.get(name)
        assert now.get(name) == (mine or theirs) and (name in clashing) == bool(mine and theirs and mine != theirs)
    assert {p[0] for side in (here, there) for p in side.get("phones", [])} == {p[0] for p in now.get("phones", [])}
    sent = meet(agreed, there, now, there)
    assert sent.here == now and not sent.clashes
    assert sent.there == {**now, **{name: there[name] for name in clashing}}, "what clashes waits for a choice"


def test_after_a_restore_what_differed_from_the_beginning_still_does_and_is_no_clash() -> None:
    here, there = {"name": "Una", "org": "Mine"}, {"name": "Una", "org": "Hub"}
    met, agreed = sharing.meet_again(here, there, here, there)
    assert met.here == here and not met.clashes and agreed["org"] == "Mine"
    # The hub's is another one than was agreed: that is for somebody to choose.
    met, _ = sharing.meet_again(here, there, here, {"name": "Una", "org": "Quay"})
    assert [(clash.field, clash.mine, clash.theirs) for clash in met.clashes] == [("org", "Mine", "Quay")]


def contact() -> Contact:
    return Contact(
        "Una Berg", addresses=[Address("una@kelp.example", "work"), Address("una@home.example", "home")],
        phones=[Phone("+44 1632 960001", "mobile")], org="Kelp", job="Master", web="https://kelp.example", note="sings",
        labels=["choir"], opt_out=OptOut("2026-11-23T10:00:00Z", "asked, on the quay; twice"), uid="u1",
        extra=[Extra("vcard:X-BOAT", "X-BOAT:Kittiwake")],
    )  # fmt: skip


@pytest.mark.parametrize(
    "names", [shared_fields(), shared_fields(MORE), shared_fields((), ["phones", "web"]), list(EVERY)]
)
def test_a_member_goes_onto_a_card_and_comes_back_as_far_as_it_is_shared(names: list[str]) -> None:
    one = contact()
    fields = sharing.fields_of(one, "una@home.example", names)
    card = Contact(uid="u1", extra=[Extra("vcard:NICKNAME", "NICKNAME:Nan")])
    sharing.put_on_card(card, fields, names)
    text = "".join(write([card], "4.0"))
    assert ("sings" in text) == ("notes" in names) and ("choir" in text) == ("labels" in names)
    assert ("una@kelp.example" in text) == ("addresses" in names) and ("960001" in text) == ("phones" in names)
    assert "NICKNAME:Nan" in text and "Kittiwake" not in text, (
        "what others put there stays; what is one's own is not there"
    )
    (draft,) = read_cards(io.StringIO(text, newline="\n"))
    back = sharing.fields_of_card(draft.people[0], names)
    assert (
        back == fields
        and back["opt_out"].endswith("asked, on the quay; twice")
        and back["address"] == "una@home.example"
    )
    fresh = Contact(uid="u1")
    sharing.put_on_contact(fresh, {}, back)
    assert sharing.fields_of(fresh, None, names) == fields


def test_taking_a_change_over_touches_nothing_else() -> None:
    one = contact()
    old = sharing.fields_of(one, "una@kelp.example", USUAL)
    new = {**old, "job": "Pilot", "address": "una@pilots.example"}
    assert sharing.put_on_contact(one, old, new) == "una@pilots.example"
    assert one.job == "Pilot" and one.note == "sings" and one.labels == ["choir"]
    assert [a.address for a in one.addresses] == ["una@kelp.example", "una@home.example", "una@pilots.example"]
    assert (
        sharing.put_on_contact(one, new, {k: v for k, v in new.items() if k != "opt_out"}) is None
        and one.opt_out is None
    )
    assert set(named(["name", "address"])) == {"name", "address"}
