"""Where things of the core begin and end: limits, last and first ones, one of two that looks like the other."""

from __future__ import annotations

import io
from datetime import date
from email.message import EmailMessage

import pytest

from barnacle.core import card_fields, contact_fields, rules, sharing
from barnacle.core.addresses import split_cell, split_pasted, suggest
from barnacle.core.checklist import Checklist, Line
from barnacle.core.contact import (
    Address,
    Contact,
    Extra,
    Failing,
    OptOut,
    Phone,
    check_label,
    check_name,
    join,
    read_phone,
)
from barnacle.core.contentline import LOGICAL_LIMIT, decoded, folded, parse_line, pieces, unfolded
from barnacle.core.errors import UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.mail.audience import Candidate, work_out
from barnacle.core.mail.delivery import batches, in_words, message_state
from barnacle.core.mail.merge_fields import pieces as cut
from barnacle.core.mail.merge_fields import values_of
from barnacle.core.merging import merge
from barnacle.core.moments import plain_day, read_day
from barnacle.core.names import split_name, turned
from barnacle.core.phones import check_phone, digits, phone_key
from barnacle.core.text import count, listed, plain_body, plain_title, plain_value, tidy, visible, words
from barnacle.files.contents.search import find_leaks


def refused(make, *arguments: object) -> str:  # type: ignore[no-untyped-def]
    with pytest.raises(UnclearError) as caught:
        make(*arguments)
    return str(caught.value)


def test_texts_are_taken_up_to_their_limit_and_refused_with_the_place() -> None:
    assert plain_value("x" * 10, "It", 10) == "x" * 10 and plain_value("  a   b ", "It") == "a b"
    assert refused(plain_value, "x" * 11, "It", 10) == "It has 11 characters; 10 is the most."
    assert refused(plain_value, "ab\ncd", "It").startswith("It has a line break at place 3.")
    assert refused(plain_value, "\x1bcd", "It").startswith("It has a character that cannot be shown at place 1.")
    assert plain_day("2026-11-23") == "2026-11-23"
    said = ("24.12.", "1 March", "Monday", "sun", "yesterday")
    days = [str(read_day(one, date(2026, 11, 29), past=True)) for one in said]
    assert days == ["2025-12-24", "2026-03-01", "2026-11-23", "2026-11-29", "2026-11-28"]
    spans = {
        "last week": "2026-03-23",
        "this week": "2026-03-30",
        "last month": "2026-02-01",
        "last year": "2025-01-01",
    }
    spans |= {"a month ago": "2026-02-28", "13 months ago": "2025-02-28", "2 weeks ago": "2026-03-17", "week": "None"}
    assert {said: str(read_day(said, date(2026, 3, 31), past=True)) for said in spans} == spans
    assert plain_day("2025") == "2025-01-01" and plain_day("march 2025") == "2025-03-01"
    for wrong in ("20261123", "2026-02-30", "2026-11-23T10:00", ""):
        assert "is not a date" in refused(plain_day, wrong)
    assert refused(plain_title, "!?") and plain_title(" Crew  7 ") == "Crew 7"
    assert plain_body("a\r\nb\rc\td", "The text") == "a\nb\nc\td"
    assert "control character in line 3." in refused(plain_body, "a\nb\n\x07c", "The text")
    assert (
        check_label("x" * 60)
        and refused(check_label, "x" * 61)
        and refused(check_label, "a,b")
        and refused(check_label, "a;b")
    )
    assert check_name("x" * 200) and refused(check_name, "x" * 501)
    assert (
        tidy("a\x07b  c", 3) == "a b" and visible("\x1b[31m", 3) != "\x1b[31m" and words("Ærø, Bo!") == ["aero", "bo"]
    )


def test_numbers_and_lists_are_said_as_people_say_them() -> None:
    assert [count(n, "person", "people") for n in (0, 1, 2, 1200)] == [
        "0 people",
        "1 person",
        "2 people",
        "1,200 people",
    ]
    assert [listed(list("abcdef")[:n], 4) for n in (1, 2, 4, 5)] == [
        "a",
        "a and b",
        "a, b, c and d",
        "a, b, c, d and 1 more",
    ]
    assert (
        in_words({"refused": 1, "accepted": 1234, "waiting": 0}) == "1,234 accepted, 1 refused"
        and in_words({}) == "0 people"
    )


@pytest.mark.parametrize(
    ("text", "pieces_"),
    [
        ("a@x.example b@y.example", ["a@x.example", "b@y.example"]),
        ("a@x.example/b@y.example", ["a@x.example", "b@y.example"]),
        ("a@x.example and b@y.example", ["a@x.example", "b@y.example"]),
        ("a @x.example", ["a @x.example"]),
        ("mailto:a@x.example;B <b@y.example>", ["mailto:a@x.example;B <b@y.example>"]),
        ("MAILTO:a@x.example", ["a@x.example"]),
    ],
)
def test_a_cell_is_cut_into_its_addresses(text: str, pieces_: list[str]) -> None:
    assert split_cell(text) == pieces_


def test_pasted_lines_keep_commas_of_names_and_cut_at_those_between_addresses() -> None:
    assert split_pasted("Holt, Maren <m@x.example>, bo@y.example, Lund, Bo <b@y.example>") == [
        "Holt, Maren <m@x.example>", "bo@y.example", "Lund, Bo <b@y.example>",
    ]  # fmt: skip
    lines = {
        "Ole Siel (ole@x.example)": "Ole Siel <ole@x.example>", "- Tom Pike: tom@x.example": "Tom Pike <tom@x.example>",
        "* anna@x.example (Anna Lund)": "Anna Lund <anna@x.example>", "3. Cy Dale\tcy@x.example": "Cy Dale <cy@x.example>",
        "Eva [eva@x.example]": "Eva <eva@x.example>", "An: Ida Rask <ida@x.example>": "Ida Rask <ida@x.example>",
        "> Cc: joe@x.example": "joe@x.example", "Jan Priel jan@x.example": "Jan Priel <jan@x.example>",
        "una una@x.example": "una una@x.example", "una. berg@x.example": "una. berg@x.example",  # a part of it, perhaps
        "Bo Lund - bo@x.example - 0163": "Bo Lund - bo@x.example - 0163", "Ada at home": "Ada at home",
    }  # fmt: skip
    assert split_pasted("\n".join(lines)) == list(lines.values())
    assert split_pasted(" , ,Una <u@x.example>") == ["Una <u@x.example>"]
    assert split_pasted("a@x.example\tb@x.example\nc@x.example") == ["a@x.example", "b@x.example", "c@x.example"]
    meant = {"una at kelp.example": "una@kelp.example", "una@@kelp..example": "una@kelp.example", "una(at)kelp(dot)example": "una@kelp.example",
             "<una@kelp.example>.": "una@kelp.example", "Una Berg una@kelp.example": "Una Berg <una@kelp.example>",
             "Una una@kelp.example": "", "no idea": ""}  # fmt: skip
    assert {text: suggest(text) for text in meant} == meant


def test_names_and_phones_at_their_edges() -> None:
    assert [turned(name) for name in ("Berg, Una", "Berg, Una, jun.", "Pike, jun.", "Una Berg")] == [
        "Una Berg", "Una Berg, jun.", "Pike, jun.", "Una Berg",
    ]  # fmt: skip
    assert split_name("Jan van der Meer") == ("Jan", "van der Meer") and split_name("Dr. Una Berg sen.") == (
        "Una",
        "Berg",
    )
    assert (
        split_name("Al Lund") == ("Al", "Lund")
        and split_name("Una") == ("Una", "")
        and split_name("van Meer") == ("van", "Meer")
    )
    assert (
        check_phone("123") == "123"
        and check_phone("1" * 20)
        and refused(check_phone, "12")
        and refused(check_phone, "1" * 21)
    )
    assert (
        phone_key("01632 960001", "GB") == "+441632960001"
        and phone_key("x", "GB") == ""
        and digits("+44 (0)16") == "44016"
    )
    assert read_phone("mobile: 01632 960001") == Phone("01632 960001", "mobile") and "not a kind" not in str(
        read_phone("01632 960001")
    )
    assert [is_loopback(host) for host in ("localhost", "127.0.0.2", "::1", "127.0.0.1.example", "10.0.0.1", "")] == [
        True
    ] * 3 + [False] * 3


def test_a_checklist_ticks_narrows_and_moves() -> None:
    some = Checklist([Line(key, f"{key} line") for key in ("ada", "bo", "cy")], {"ada"})
    some.type("o l")
    assert [one.key for one in some.shown] == ["bo"] and (some.filter, some.cursor) == ("o l", 0)
    some.rub_out()
    assert some.filter == "o " and [one.key for one in some.shown] == ["bo"]
    some.rub_out()
    some.rub_out()
    assert len(some.shown) == 3
    some.tick_shown()
    assert some.ticked == {"ada", "bo", "cy"}
    some.type("bo")
    some.tick_shown()
    assert some.ticked == {"ada", "cy"}, "all that is shown was ticked, so none of it is"
    some.rub_out()
    some.rub_out()
    some.tick()
    assert some.ticked == {"cy"} and some.cursor == 1
    some.move(9)
    assert some.cursor == 2 and some.window(2) == (1, [some.choices[1], some.choices[2]])
    some.move(-9)
    assert some.cursor == 0 and some.window(2)[0] == 0 and some.window(9) == (0, some.choices)
    some.type("nobody")
    some.tick()
    assert some.shown == [] and some.ticked == {"cy"}


def test_content_lines_are_cut_folded_and_unfolded() -> None:
    line = "NOTE:" + "é" * 60
    assert all(len(one.encode()) <= 75 for one in folded(line).split("\r\n")) and folded("A:b") == "A:b\r\n"
    assert folded("A:" + "b" * 73) == "A:" + "b" * 73 + "\r\n" and folded("A:" + "b" * 74).count("\r\n") == 2
    back = [text for _, text in unfolded(io.StringIO(folded(line) + "B:c\r\n\r\nD:e\r\n", newline="\n"))]
    assert back[0] == line and "B:c" in back and "D:e" in back
    assert pieces(r"a\;b;c\\;;d", ";") == [r"a\;b", r"c\\", "", "d"] and pieces("a,b", ",") == ["a", "b"]
    prop = parse_line('item1.TEL;TYPE="work,voice";PREF=1:+44 1632')
    assert prop is not None
    assert (prop.group, prop.name, prop.value, dict(prop.params)["PREF"]) == ("item1", "TEL", "+44 1632", ("1",))
    assert set(prop.param("TYPE")) == {"work", "voice"}
    quoted = parse_line("NOTE;ENCODING=QUOTED-PRINTABLE;CHARSET=utf-8:=C3=A9=20x")
    assert quoted is not None and decoded(quoted, "2.1").value == "é x"


def test_shared_values_are_said_in_words_and_nothing_is_none() -> None:
    assert sharing.in_text([["01632 960001", "work"], ["01632 960002", ""]]) == "01632 960001 (work), 01632 960002"
    assert (
        sharing.in_text([["choir"]]) == "choir"
        and sharing.in_text("") is None
        and sharing.in_text([]) is None
        and sharing.in_text(7) == "7"
    )
    assert sharing.shared_fields(["labels"], ["phones", "name"]) == ["name", "address", "org", "job", "web", "labels"]
    assert sharing.named(["phones"]) == ["name", "address", "phones"] and sharing.USUAL == (
        "name",
        "address",
        "phones",
        "org",
        "job",
        "web",
    )
    assert (
        set(sharing.MORE) == {"addresses", "notes", "labels", "fields"}
        and {"name", "given", "family", "address", "opt_out"} == sharing.ALWAYS
    )
    card = Contact("Una", extra=[Extra(card_fields.OPT_OUT, "X-OPT-OUT:2026-01-01T00:00:00Z asked by phone")])
    assert sharing.fields_of_card(card, ()) == {"name": "Una", "opt_out": "2026-01-01T00:00:00Z asked by phone"}
    assert card.opt_out == OptOut("2026-01-01T00:00:00Z", "asked by phone")
    here = Contact("Una", addresses=[Address("a@x.example"), Address("b@x.example"), Address("c@x.example")])
    old = {"address": "a@x.example", "addresses": [["b@x.example", ""], ["c@x.example", ""]]}
    used = sharing.put_on_contact(here, old, {"address": "d@x.example", "addresses": [["c@x.example", ""]]})
    assert used == "d@x.example" and [a.address for a in here.addresses] == [
        "a@x.example",
        "c@x.example",
        "d@x.example",
    ]


@pytest.mark.parametrize("hub", ("Alpha", "Zeta"))
def test_where_both_differed_from_the_beginning_and_both_changed_it_is_a_clash(hub: str) -> None:
    met = sharing.meet({"org": "Mine"}, {"org": "Hub"}, {"org": "Mine too"}, {"org": hub})
    assert [(clash.mine, clash.theirs) for clash in met.clashes] == [("Mine too", hub)] and met.here == {"org": hub}
    # Only the hub's has changed: it comes in; only one's own has: it goes there.
    met = sharing.meet({"org": "Mine"}, {"org": "Hub"}, {"org": "Mine"}, {"org": hub})
    assert [clash.field for clash in met.clashes] == ["org"] and met.there == {"org": hub}
    assert sharing.meet({"org": "Mine"}, {"org": "Hub"}, {"org": "Mine too"}, {"org": "Hub"}).there == {
        "org": "Mine too"
    }


def test_a_line_without_end_is_cut_a_little_behind_the_limit_and_what_follows_is_read() -> None:
    endless = ["NOTE:" + "x" * 1000 + "\n", *[" " + "y" * 100_000 + "\n"] * 200, "FN:Una\n"]
    (_, note), (_, name) = unfolded(iter(endless))
    assert LOGICAL_LIMIT < len(note) < LOGICAL_LIMIT + 200_000 and name == "FN:Una"


def test_fields_of_a_contact_are_where_they_should_be() -> None:
    told = {f.name: (f.title, str(f.shared), f.choosable, f.in_letters, f.limit) for f in contact_fields.FIELDS}
    assert told["job"] == ("Job", "usually", True, True, 200) and told["web"] == ("Web", "usually", True, False, 2000)
    assert told["note"] == ("Note", "if asked", False, False, 2000) and told["name"] == (
        "Name",
        "always",
        True,
        True,
        200,
    )
    assert (
        told["org"][3] and told["given"][3] and told["family"][3] and not told["labels"][3] and not told["addresses"][2]
    )
    pair = [Contact("Una Berg", org="Kelp", job="Cook"), Contact("Per Berg", org="Kelp", job="")]
    assert values_of(pair, "b@x.example") == {
        "given": "Una and Per", "family": "Berg", "name": "Una Berg and Per Berg", "org": "Kelp", "job": "Cook", "address": "b@x.example",
    }  # fmt: skip
    assert [p if isinstance(p, str) else (p.name, p.fallback, p.line) for p in cut("Dear {Given|you},\n{{x} {org}")] == [
        "Dear ", ("given", "you", 1), ",\n", "{", "x} ", ("org", None, 2),
    ]  # fmt: skip


def test_a_field_that_is_none_is_a_field_all_the_same() -> None:
    assert [(p.name, p.line) for p in cut("{ärea} {~}") if not isinstance(p, str)] == [("ärea", 1), ("~", 1)]


@pytest.mark.parametrize("deep", (3, 4, 7))
def test_an_address_is_found_however_deep_a_message_lies_in_others(deep: int) -> None:
    message = EmailMessage()
    message["Subject"] = "Rota"
    message.set_content("ask una@kelp.example")
    for _ in range(deep):
        outer = EmailMessage()
        outer.set_content("see inside")
        outer.add_attachment(message)
        message = outer
    assert [leak.owner for leak in find_leaks(message.as_bytes(), {"una@kelp.example": "Una"})]
    assert find_leaks(message.as_bytes(), {}) == [] == find_leaks(message.as_bytes(), {"bo@kelp.example": "Bo"})


def test_who_shares_an_address_and_what_another_list_has_chosen_is_noted() -> None:
    three = [
        Candidate(Contact(name, addresses=[Address("berg@x.example")]), n, "Crew")
        for n, name in enumerate(("Una", "Per", "Nils"))
    ]
    assert work_out(three, lambda keys: {}).notes == [
        "Una, Per and Nils share berg@x.example, so they get one message for all"
    ]
    una = Contact("Una", addresses=[Address("a@x.example"), Address("b@x.example")])
    chosen = [
        Candidate(una, 1, title, chosen=address)
        for title, address in (("A", "b@x.example"), ("B", "b@x.example"), ("C", None))
    ]
    assert (
        work_out(chosen, lambda keys: {}).notes == []
        and work_out(chosen, lambda keys: {}).recipients[0].address == "b@x.example"
    )
    una.failing = [Failing("a@x.example", True, 1, "", "550 gone"), Failing("b@x.example", False, 1, "", "452 full")]
    assert (
        una.used_at() == "b@x.example"
        and una.used_at("A@x.example") == "a@x.example"
        and una.used_at("z@x.example") == "b@x.example"
    )
    assert una.preferred == "a@x.example" and Contact("x").preferred is None and Contact("x").used_at() is None


def test_states_and_batches_at_their_edges() -> None:
    assert [len(b) for b in batches(map(str, range(5)), 2)] == [2, 2, 1] and [len(b) for b in batches("ab", 0)] == [
        1,
        1,
    ]
    states = [message_state(counts, *flags) for counts, *flags in (({}, True, False), ({}, False, False, True), ({}, False, False),
              ({"accepted": 1, "sending": 1}, False, True), ({"refused": 2}, False, True), ({"accepted": 1, "refused": 2}, False, True))]  # fmt: skip
    assert states == ["held", "handed over", "waiting", "sent in part", "refused", "sent"]


def test_a_rule_may_be_so_deep_and_no_deeper_and_fields_know_their_verbs() -> None:
    def deep(number: int) -> str:
        return "not (name is a or (" * number + "name is b" + "))" * number

    assert rules.parse(deep(5)) and "inside each other" in refused(rules.parse, deep(45))
    assert "rule has" in refused(rules.parse, "name is " + "x" * 2000)
    assert rules.write(rules.parse("(name is a or name is b) and not (org has c and in L)")) == (
        "(name is a or name is b) and not (org has c and in L)"
    )
    assert (
        rules.write(rules.parse("name is a or name is b and org missing")) == "name is a or name is b and org missing"
    )
    assert "one says before, after, is or missing" in refused(rules.parse, "added has 2026") or "before" in refused(
        rules.parse, "added has 2026"
    )
    assert "is not a date" in refused(rules.parse, "added is soon") and rules.parse("added after 2026-11")
    assert list(rules.lists_in(rules.parse('not in A and (in "B C" or name is x)'))) == ["A", "B C"]


def test_joining_and_merging_keep_what_is_there() -> None:
    known = Contact(
        "Una Berg",
        note="sings",
        labels=["choir"],
        addresses=[Address("u@x.example")],
        phones=[Phone("01632 960001")],
        list_only=True,
    )
    new = Contact("Una Berg", org="Kelp", note="cooks", labels=["Choir", "mate"], addresses=[Address("U@x.example", "work"), Address("v@x.example")],
                  phones=[Phone("+44 1632 960001"), Phone("01632 960002")], extra=[Extra("csv:Boat", "Tern")])  # fmt: skip
    changed, differences = join(known, new, lambda number: phone_key(number, "GB"))
    assert (
        changed
        and differences == []
        and known.note == "sings; cooks"
        and known.labels == ["choir", "mate"]
        and not known.list_only
    )
    assert (
        [a.address for a in known.addresses] == ["u@x.example", "v@x.example"]
        and len(known.phones) == 2
        and known.org == "Kelp"
    )
    assert join(known, new, lambda number: phone_key(number, "GB")) == (False, [])
    other = Contact("Una Berg", org="Ebb", extra=[Extra("csv:Boat", "Gull")])
    _, differences = join(known, other, str, prefer_new=True)
    assert [(d.field, d.book, d.file) for d in differences] == [
        ("org", "Kelp", "Ebb"),
        ("Boat", "Tern", "Gull"),
    ] and known.org == "Ebb"
    assert known.extra == [Extra("csv:Boat", "Gull")]
    early = Contact(
        "Una", uid="e", added="2020-01-01T00:00:00Z", source="import", opt_out=OptOut("2026-01-01T00:00:00Z", "asked")
    )
    late = Contact("Una Berg", uid="l", added="2024-01-01T00:00:00Z", source="gather")
    merge(late, early, 7, str)
    assert (late.added, late.source, late.opt_out and late.opt_out.why) == ("2020-01-01T00:00:00Z", "import", "asked")
    assert [(f.uid, f.number, f.name) for f in late.former] == [("e", 7, "Una")]
