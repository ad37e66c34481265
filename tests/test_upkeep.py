"""The daily upkeep: edits, labels, the address of each list, merging, lists from lists and from pasted lines."""

from __future__ import annotations

import shlex
import subprocess
from pathlib import Path

import pexpect
import pytest
from conftest import HANGS, PROGRAM, Mail, Office
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.addresses import split_pasted
from barnacle.core.checklist import Checklist, Line
from barnacle.core.contact import KINDS, Address, Contact, Phone, to_doc
from barnacle.core.contact_form import read_card, write_card
from barnacle.core.errors import UnclearError


def addresses(office: Office, who: str) -> list[str]:
    return [a["address"] for a in office.told("contact", "show", who)["addresses"]]


def used(office: Office, title: str, name: str) -> str:
    return next(m["address"] for m in office.told("list", "show", title)["members"] if m["name"] == name)


def paste(office: Office, text: str, *arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [str(PROGRAM), *arguments], input=text, text=True, capture_output=True, env=office.environment, check=False
    )


def test_edit_by_options_replaces_adds_and_drops(crew: Office) -> None:
    before = crew.everything()
    crew.run(
        "contact",
        "edit",
        "bo",
        "--name",
        "Bo Lundgren",
        "--org",
        "Ebb Chandlery",
        "--address",
        "work:bo@ebb.example",
        "--drop-address",
        "BO@kelp.example",
        "--phone",
        "mobile:07700 900111",
        "--label",
        "chandler",
        "--note",
        "key 14",
    )
    bo = crew.told("contact", "show", "lundgren")
    assert (bo["name"], bo["org"], bo["notes"], bo["labels"]) == (
        "Bo Lundgren",
        "Ebb Chandlery",
        "key 14",
        ["pilot", "chandler"],
    )
    assert [(a["address"], a["kind"]) for a in bo["addresses"]] == [
        ("bo@tidewick.example", ""),
        ("bo@ebb.example", "work"),
    ]
    crew.within("contact", "edit", "bo@ebb.example", "--drop-phone", "+44 7700 900111", "--note", "")
    bo = crew.told("contact", "show", "lundgren")
    assert bo["phones"] == [] and bo["notes"] == ""
    assert crew.json("contact", "edit", "lundgren", "--org", "Ebb Chandlery")["changed"] is False
    for wrong in (
        ("--drop-address", "no@kelp.example"),
        ("--drop-phone", "123"),
        ("--address", "no@kelp"),
        ("--name", "a\nb"),
    ):
        crew.run("contact", "edit", "lundgren", "--org", "Other", *wrong, code=2)
    assert crew.told("contact", "show", "lundgren")["org"] == "Ebb Chandlery"
    crew.run("contact", "edit", "ida", "--name", "", code=2)
    crew.run("undo")
    crew.run("undo")
    assert crew.everything() == before


def editor(office: Office, script: str) -> None:
    path = office.file("editor.sh", f"#!/bin/sh\n{script}\n")
    path.chmod(0o700)
    office.environment["EDITOR"] = str(path)


def test_edit_as_a_card_in_the_editor(crew: Office) -> None:
    editor(crew, "sed -i 's/^org:.*/org: Ebb Chandlery/; s/^address: home bo.*/address: work bo@ebb.example/' \"$1\"")
    crew.within("list", "new", "Home", "bo@kelp.example")
    ran = crew.run("contact", "edit", "bo")
    assert "Changed Bo Lund." in ran.out and "Home used bo@kelp.example; now it uses bo@ebb.example." in ran.out
    assert addresses(crew, "bo") == ["bo@tidewick.example", "bo@ebb.example"]
    assert crew.told("contact", "show", "bo")["org"] == "Ebb Chandlery"
    editor(crew, "true")
    assert "Nothing was changed." in crew.run("contact", "edit", "bo").out


def test_a_broken_card_is_shown_again_and_never_lost(crew: Office) -> None:
    editor(
        crew,
        "grep -q '^#! Line' \"$1\" && sed -i 's/bo@broken$/bo@mended.example/' \"$1\""
        " || sed -i 's/^address: bo.*/address: bo@broken/' \"$1\"",
    )
    mended = crew.run("contact", "edit", "bo")
    assert "there is no ending such as .example after `broken`" in mended.err and "bo@mended.example" in addresses(
        crew, "bo"
    )
    editor(crew, "grep -q '^#! Line' \"$1\" || sed -i 's/^org:.*/colour: blue/' \"$1\"")
    given_up = crew.run("contact", "edit", "bo", code=2)
    assert "`colour` is not a field." in given_up.err and "Nothing was changed; your text is in" in given_up.err
    kept = given_up.err.rsplit("text is in ", 1)[1].strip().rstrip(".")
    assert "colour: blue" in Path(kept).read_text()
    for script, sentence in (("exit 3", "ended with an error (3)"), ('rm "$1"; mkdir "$1"', "Is a directory")):
        editor(crew, script)
        assert sentence in crew.run("contact", "edit", "bo", code=2).err
    crew.environment["EDITOR"] = "/no/such/editor"
    assert "cannot be started" in crew.run("contact", "edit", "bo", code=2).err
    del crew.environment["EDITOR"]
    crew.environment.pop("VISUAL", None)
    assert "No editor is set" in crew.run("contact", "edit", "bo", code=2).err


LINE = st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1, max_size=12).filter(
    lambda t: not t.startswith("#")
)


@given(
    name=LINE,
    org=LINE,
    note=LINE,
    kind=st.sampled_from(["", *KINDS]),
    labels=st.lists(st.text("abc xyz", min_size=1, max_size=6).map(str.strip).filter(bool), unique=True, max_size=3),
    phones=st.lists(st.text("0123456789", min_size=3, max_size=9), unique=True, max_size=2),
)
def test_a_card_written_and_read_is_the_same_contact(
    name: str, org: str, note: str, kind: str, labels: list[str], phones: list[str]
) -> None:
    labels = [" ".join(label.split()) for label in labels]
    contact = Contact(
        name,
        org=org,
        note=note,
        labels=labels,
        addresses=[Address("a@x.example", kind)],
        phones=[Phone(p, "mobile") for p in phones],
    )
    assert to_doc(read_card(write_card(contact))) == to_doc(contact)


@pytest.mark.parametrize(
    "card", ["name", "colour: red\nname: x", "address: a@b", "phone: soon", "org:\n", "name: a\x1bb"]
)
def test_a_card_that_cannot_be_names_the_line(card: str) -> None:
    with pytest.raises(UnclearError):
        read_card(card)


def test_removing_people_says_which_lists_lose_them_and_is_undone_whole(crew: Office) -> None:
    crew.within("list", "new", "Pilots", "bo")
    before = crew.everything()
    ran = crew.run("contact", "remove", "bo", "ida")
    assert "Removed Bo Lund from the book, and with that from Crew and Pilots." in ran.out
    assert crew.members("Crew") == ["Per Berg", "Una Berg"] and crew.told("find", "bo@tidewick") == []
    crew.run("undo")
    assert crew.everything() == before
    crew.run("contact", "remove", "ida", "nobody", code=2)
    assert crew.everything() == before


def test_labels_on_many_at_once_counted_renamed_and_removed(crew: Office) -> None:
    assert crew.json("contact", "label", "una", "per", "bo", "--add", "Sailor", "--drop", "PILOT")["changed"] == [
        "Una Berg",
        "Per Berg",
        "Bo Lund",
    ]
    crew.within("contact", "label", "ida", "--add", "sailor")
    assert crew.told("label") == [{"label": "Sailor", "people": 4}]
    assert crew.json("compose", "--for", "label:sailor", "--subject", "x", "--text", "y")["people"] == 3
    crew.within("label", "rename", "sailor", "Deck hand")
    assert crew.run("label").rows == [["Deck hand", "4"]]
    assert [c["name"] for c in crew.told("find", "--label", "deck hand", "berg")] == ["Per Berg", "Una Berg"]
    crew.within("label", "remove", "deck hand")
    assert crew.told("label") == [] and len(crew.told("find")) == 4
    crew.run("undo")
    assert crew.told("label") == [{"label": "Deck hand", "people": 4}]
    for wrong in (
        ("contact", "label", "bo"),
        ("contact", "label", "bo", "--add", "a,b"),
        ("label", "remove", "none"),
        ("label", "rename", "none", "x"),
    ):
        crew.run(*wrong, code=2)


def test_each_list_has_its_own_address_for_a_person(crew: Office) -> None:
    crew.within("list", "new", "Home", "bo")
    said = crew.run("contact", "prefer", "bo", "BO@kelp.example", "--in", "Home")
    assert "Home writes to Bo Lund at bo@kelp.example from now on." in said.out
    assert (used(crew, "Home", "Bo Lund"), used(crew, "Crew", "Bo Lund")) == ("bo@kelp.example", "bo@tidewick.example")
    crew.within("list", "copy", "Home", "Copy")
    assert used(crew, "Copy", "Bo Lund") == "bo@kelp.example"
    renamed = crew.run(
        "contact", "edit", "bo", "--drop-address", "bo@kelp.example", "--address", "home:bo@quay.example"
    )
    assert "Home used bo@kelp.example; now it uses bo@quay.example." in renamed.out
    assert used(crew, "Copy", "Bo Lund") == "bo@quay.example"
    gone = crew.run("contact", "edit", "bo", "--drop-address", "bo@quay.example")
    assert "Home used bo@quay.example; now it uses bo@tidewick.example." in gone.out
    assert used(crew, "Home", "Bo Lund") == "bo@tidewick.example"
    crew.run("undo")
    assert used(crew, "Home", "Bo Lund") == "bo@quay.example"
    crew.within("contact", "prefer", "bo", "bo@quay.example")
    assert used(crew, "Crew", "Bo Lund") == "bo@quay.example"
    for wrong in (
        ("bo", "no@kelp.example"),
        ("bo", "bo@quay.example", "--in", "None"),
        ("per", "berg@kelp.example", "--in", "Home"),
    ):
        crew.run("contact", "prefer", *wrong, code=2)


def test_an_opt_out_keeps_the_person_and_stops_the_mail(crew: Office, serve: object) -> None:
    crew.within("contact", "optout", "una", "--why", "asked on the phone")
    made = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    assert {(o["name"], o["reason"]) for o in made["left_out"]} == {
        ("Ida Rask", "no address"),
        ("Una Berg", "opted out (asked on the phone)"),
        ("Per Berg", "shares this address with Una Berg, who opted out"),
    }
    assert crew.told("list")[0]["reachable"] == made["people"] == 1
    assert "asked on the phone" in crew.run("contact", "show", "una").out
    assert "opted out" in crew.run("list", "show", "Crew").out
    mail: Mail = serve()  # type: ignore[operator]
    crew.within("contact", "optout", "bo")
    ran = crew.run("send", "m1", "--yes", code=2)
    assert "Nobody would get this message" in ran.err and mail.addresses == set()
    crew.within("contact", "optin", "una")
    crew.run("send", "m1", "--yes")
    assert mail.addresses == {"berg@kelp.example"}


def test_merging_keeps_everything_and_is_taken_back_whole(crew: Office, serve: object) -> None:
    mail: Mail = serve()  # type: ignore[operator]
    crew.run(
        "contact",
        "add",
        "Robert Magnus Lund <rob@pier.example>",
        "--phone",
        "01632 960001",
        "--label",
        "angler",
        "--into",
        "Anglers",
        "--into",
        "Crew",
    )
    crew.within("list", "add", "Anglers", "ida")
    crew.run("send", crew.json("compose", "--for", "Anglers", "--subject", "Tides", "--text", "x")["message"], "--yes")
    crew.within("contact", "optout", "rob@pier.example")
    old = crew.told("contact", "show", "rob@pier.example")["uid"]
    before = crew.everything()
    merged = crew.run("contact", "merge", "bo@tidewick.example", "rob@pier.example")
    assert "Anglers still uses rob@pier.example." in merged.out
    shown = crew.told("contact", "show", old)
    assert shown["name"] == "Robert Magnus Lund" and shown["labels"] == ["pilot", "angler"] and shown["opted_out"]
    assert [a["address"] for a in shown["addresses"]] == ["bo@tidewick.example", "bo@kelp.example", "rob@pier.example"]
    assert used(crew, "Anglers", "Robert Magnus Lund") == "rob@pier.example"
    assert used(crew, "Crew", "Robert Magnus Lund") == "bo@tidewick.example" and len(crew.members("Crew")) == 4
    assert [s["message"] for s in shown["sent"]] == ["m1"] and "rob@pier.example" in mail.addresses
    crew.run("undo")
    assert crew.everything() == before
    crew.run("contact", "merge", "bo", "bo@kelp.example", code=2)


@pytest.mark.parametrize(
    ("pasted", "pieces"),
    [
        ("Ada <a@x.example>, Bo Lund <b@x.example>", ["Ada <a@x.example>", "Bo Lund <b@x.example>"]),
        ("Brine, Ada <a@x.example>; Lund, Bo <b@x.example>", ["Brine, Ada <a@x.example>", "Lund, Bo <b@x.example>"]),
        ("Ada <a@x.example>, Lund, Bo <b@x.example>,", ["Ada <a@x.example>", "Lund, Bo <b@x.example>"]),
        ('"Brine, Ada" <a@x.example>\nb@x.example', ['"Brine, Ada" <a@x.example>', "b@x.example"]),
        ("a@x.example b@x.example;c@x.example", ["a@x.example", "b@x.example", "c@x.example"]),
        ("a@x.example, Lund, Bo <b@x.example>", ["a@x.example", "Lund, Bo <b@x.example>"]),
        ("<a@x.example>\t<b@x.example>", ["<a@x.example>", "<b@x.example>"]),
        ("  \n;, ", []),
    ],
)
def test_pasted_lines_fall_apart_at_any_separator(pasted: str, pieces: list[str]) -> None:
    assert split_pasted(pasted) == pieces


def test_a_list_is_made_from_pasted_lines_another_list_a_label_or_a_sent_message(crew: Office, serve: object) -> None:
    done = paste(
        crew, "Dale, Cy <cy@kelp.example>; Bo <bo@kelp.example>\nnew@kelp.example\n", "list", "new", "Pasted", "-"
    )
    assert done.returncode == 0, done.stderr
    assert crew.members("Pasted") == ["Bo Lund", "Cy Dale", "new@kelp.example"]
    assert used(crew, "Pasted", "Bo Lund") == "bo@kelp.example"
    broken = paste(crew, "Eve <eve@kelp.example>, not an address", "list", "add", "Pasted", "-")
    assert (
        broken.returncode == 2
        and "`not an address` is not a list" in broken.stderr
        and len(crew.members("Pasted")) == 3
    )
    crew.within("list", "new", "Found", "find:kelp berg")
    assert crew.members("Found") == ["Per Berg", "Una Berg"]
    crew.run("list", "add", "Found", "find:no such", code=2)
    crew.within("list", "new", "Both", "Pasted", "Crew", "label:pilot")
    assert len(crew.members("Both")) == 6 and used(crew, "Both", "Bo Lund") == "bo@kelp.example"
    serve()  # type: ignore[operator]
    crew.run("list", "new", "Unsent", "m9", code=2)
    crew.within("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    assert "has not been sent" in crew.run("list", "new", "Unsent", "m1", code=2).err
    crew.run("send", "m1", "--yes")
    crew.within("list", "new", "Written to", "m1")
    assert crew.members("Written to") == ["Bo Lund", "Per Berg", "Una Berg"]
    assert "fits 2" in crew.run("list", "new", "Other", "berg@kelp.example", code=2).err


def test_a_list_only_address_lives_and_goes_with_its_list(crew: Office) -> None:
    crew.within("list", "add", "Crew", "Baker <baker@pier.example>", "--list-only")
    assert "on this list alone" in crew.run("list", "show", "Crew").out
    crew.within("list", "take", "Crew", "baker")
    assert crew.told("find", "baker") == []
    crew.run("undo")
    crew.file("more.csv", "Name,E-mail\nBaker,baker@pier.example\n")
    crew.run("import", "more.csv", "--into", "Third")
    assert "on this list alone" not in crew.run("list", "show", "Third").out
    crew.run("undo")
    plan = crew.run("list", "remove", "Crew", code=2)
    assert "1 person from the book: Baker? The other 4 people stay in the book." in plan.err
    crew.within("list", "new", "Second", "baker")
    crew.within("list", "remove", "Crew", "--yes")
    assert len(crew.told("find", "baker")) == 1, "on a second list it is somebody of the book"


def test_removing_a_list_with_its_people_spares_those_on_other_lists(crew: Office) -> None:
    crew.within("list", "new", "Pilots", "bo")
    before = crew.everything()
    plan = crew.run("list", "remove", "Crew", "--with-contacts", code=2)
    assert "3 people from the book: Ida Rask, Per Berg and Una Berg?" in plan.err
    assert "Bo Lund stays, being on other lists too." in plan.err and crew.everything() == before
    crew.within("list", "remove", "Crew", "--with-contacts", "--yes")
    assert [c["name"] for c in crew.told("find")] == ["Bo Lund"]
    crew.run("undo")
    assert crew.everything() == before
    assert crew.json("list", "remove", "Crew", "--even-if-on-others", "--yes")["removed"] == [
        "Bo Lund",
        "Ida Rask",
        "Per Berg",
        "Una Berg",
    ]
    assert crew.told("find") == [] and crew.told("list")[0]["members"] == 0


def test_lists_are_renamed_described_pinned_and_copied(crew: Office) -> None:
    crew.within("list", "new", "Anglers")
    crew.within("list", "rename", "crew", "Zulu crew")
    crew.within("list", "about", "zulu", "Everybody on the ferry")
    crew.within("list", "pin", "zulu")
    assert [(one["title"], one["pinned"]) for one in crew.told("list")] == [("Zulu crew", True), ("Anglers", False)]
    assert crew.told("list", "show", "zulu")["about"] == "Everybody on the ferry"
    crew.within("list", "unpin", "zulu")
    crew.within("list", "copy", "zulu", "Copy")
    assert crew.members("Copy") == crew.members("Zulu") and crew.told("list", "show", "Copy")["about"]
    for wrong in (
        ("rename", "zulu", "ANGLERS"),
        ("rename", "zulu", ""),
        ("rename", "zulu", "a\x1bb"),
        ("copy", "zulu", "Copy"),
        ("about", "zulu", "a\nb"),
        ("pin", "none"),
    ):
        crew.run("list", *wrong, code=2)
    for _ in range(5):
        crew.run("undo")
    assert [one["title"] for one in crew.told("list")] == ["Anglers", "Crew"]


def test_compare_says_who_is_on_both_and_who_on_one_only(crew: Office) -> None:
    crew.within("list", "new", "Pilots", "bo", "Cy Dale <cy@kelp.example>")
    crew.within("list", "new", "Third", "bo", "per")
    two = crew.json("list", "compare", "Crew", "Pilots")
    assert two["on_all"] == ["Bo Lund"]
    assert two["only_on"] == {"Crew": ["Ida Rask", "Per Berg", "Una Berg"], "Pilots": ["Cy Dale"]}
    three = crew.run("list", "compare", "Crew", "Pilots", "Third")
    assert three.rows == [
        ["On all 3", "1"],
        ["Only on Crew", "2"],
        ["Only on Pilots", "1"],
        ["Only on Third", "0"],
        ["On some", "1"],
    ]
    assert "  Per Berg (Crew and Third)" in three.out
    crew.run("list", "compare", "Crew", "crew", code=2)


UP, DOWN, ESCAPE, RUB_OUT, TAB = "\x1b[A", "\x1b[B", "\x1b", "\x7f", "\t"


def picked(office: Office, keys: list[str], *arguments: str) -> int:
    """Run a command with its checklist in a real pseudo-terminal, and press the keys."""
    terminal = pexpect.spawn(
        str(PROGRAM), list(arguments), env={**office.environment, "TERM": "xterm"}, timeout=HANGS, dimensions=(30, 90)
    )
    terminal.expect_exact("Enter saves")
    for key in keys:
        terminal.send(key)
    terminal.expect(pexpect.EOF)
    terminal.close()
    return int(terminal.exitstatus)


def test_picking_who_is_on_a_list(crew: Office) -> None:
    crew.within("contact", "add", "Cy Dale <cy@kelp.example>")
    assert (
        picked(crew, [*"berg", "x", RUB_OUT, " ", TAB, *[RUB_OUT] * 5, *"cy", TAB, "\r"], "list", "pick", "Crew") == 0
    )
    assert crew.members("Crew") == ["Bo Lund", "Cy Dale", "Ida Rask", "Una Berg"]
    assert crew.told("history")[0]["title"] == "Chose who is on Crew: 1 added, 1 taken off"
    before = crew.everything()
    assert picked(crew, [" ", " ", DOWN, " ", ESCAPE], "list", "pick", "Crew") == 0
    assert picked(crew, [DOWN, UP, "\r"], "list", "pick", "Crew") == 0
    assert crew.everything() == before
    assert "A checklist needs a terminal" in crew.run("list", "pick", "Crew", code=2).err


def test_picking_for_one_message_changes_no_list(crew: Office) -> None:
    before = crew.everything()
    compose = ("compose", "--for", "Crew", "--also", "kit@pier.example", "--subject", "Tides", "--text", "x", "--pick")
    assert picked(crew, [*"una", TAB, *[RUB_OUT] * 3, *"kit", TAB, "\r"], *compose) == 0
    recipients = [r["address"] for r in crew.told("outbox", "show", "m1")["recipients"]]
    assert recipients == ["bo@tidewick.example"], "Per shares Una's address, so it gets nothing"
    assert picked(crew, [" ", ESCAPE], *compose) == 2
    assert crew.everything() == before and len(crew.told("outbox")) == 1


@given(
    st.lists(st.sampled_from(["ada", "bo", "cy", "ada bo"]), max_size=8),
    st.text("abo y", max_size=4),
    st.lists(st.sampled_from(["tick", "up", "down", "rub", "all"]), max_size=10),
    st.integers(1, 5),
)
def test_a_checklist_never_ticks_what_is_not_shown(names: list[str], typed: str, steps: list[str], height: int) -> None:
    checklist = Checklist([Line(str(n), name) for n, name in enumerate(names)], ["0"])
    checklist.type(typed)
    for step in steps:
        shown, before = {c.key for c in checklist.shown}, set(checklist.ticked)
        {
            "tick": checklist.tick,
            "up": lambda: checklist.move(-1),
            "down": lambda: checklist.move(1),
            "rub": checklist.rub_out,
            "all": checklist.tick_shown,
        }[step]()
        assert before ^ checklist.ticked <= shown
        start, lines = checklist.window(height)
        assert len(lines) == min(height, len(checklist.shown))
        assert not lines or start <= checklist.cursor < start + len(lines)


def test_check_finds_what_is_wrong_with_a_list_and_how_to_mend_it(crew: Office, serve: object) -> None:
    serve("--refuse", "bo@*")  # type: ignore[operator]
    for number in range(8):
        crew.within("contact", "add", f"Mate{number} Dale <m{number}@kelp.example>", "--into", "Big")
    crew.within("contact", "add", "Ada Brine <ada@klep.example>", "--into", "Crew")
    for address in ("bo@tidewick.example", "other@kelp.example"):
        crew.within("contact", "add", f"Bo Lund <{address}>", "--phone", "01632 960009", "--into", "Crew")
    crew.within("contact", "optout", "una", "--why", "moved")
    crew.run(
        "send",
        crew.json("compose", "--for", "bo@tidewick.example", "--subject", "x", "--text", "y")["message"],
        "--yes",
        code=1,
    )
    found = crew.json("check", "Crew")
    assert [(f["kind"], f["name"]) for f in found] == [
        ("unreachable", "Ida Rask"),
        ("unreachable", "Per Berg"),
        ("opted out", "Una Berg"),
        ("mistyped", "Ada Brine"),
        ("refused", "Bo Lund"),
        ("duplicate", "Bo Lund"),
    ]
    assert found[1]["what"] == "berg@kelp.example: shares this address with Una Berg, who opted out"
    assert found[3]["what"] == "ada@klep.example: did you mean kelp.example?" and "550" in found[4]["what"]
    assert "same phone" in found[5]["what"]
    # What `duplicates` does not say, because somebody said otherwise, `check` does not either.
    crew.run("duplicates", "apart", "bo@tidewick.example", "other@kelp.example")
    assert "duplicate" not in {f["kind"] for f in crew.json("check", "Crew")}
    crew.run("duplicates", "apart", "bo@tidewick.example", "other@kelp.example", "--forget")
    for command in (found[3]["mend"], found[5]["mend"]):
        crew.run(*shlex.split(command)[1:])
    crew.within("contact", "edit", "ida", "--address", "ida@kelp.example")
    left = crew.json("check", "Crew")
    assert [f["kind"] for f in left] == ["unreachable", "opted out", "refused"]
    # What a server refused once is written to again, and is not said to fail; what a report says fails is left out.
    made = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    assert {o["name"] for o in made["left_out"]} == {"Una Berg", "Per Berg"}
    assert made["people"] == next(one["reachable"] for one in crew.told("list") if one["title"] == "Crew") == 3
    assert "Big: nothing wrong." in crew.run("check").out
    idle = crew.json("check", "Big", "--idle-since", "2026-01-01")
    assert len(idle) == 8 and idle[0]["what"] == "never written to, never heard from"
    assert len(crew.run("check", "Big", "--idle-since", "2026-01-01").rows) == 8
    crew.run("check", "Big", "--idle-since", "soon", code=2)


def test_a_mistyped_domain_is_asked_about_wherever_an_address_is_typed(office: Office) -> None:
    office.file("all.csv", "E-mail\n" + "".join(f"p{n}@kelp.example\n" for n in range(20)))
    office.run("import", "all.csv", "--into", "Guests")
    asked = "Is gus@kelp.exmaple mistyped? 20 others have kelp.example."
    for words in (
        ("compose", "Guests", "gus@kelp.exmaple", "--subject", "x", "--text", "y"),
        ("contact", "add", "Gus gus@kelp.exmaple"),
        ("contact", "edit", "p7@kelp.example", "--address", "gus@kelp.exmaple"),
        ("list", "add", "Guests", "Gus Holm <gus@kelp.exmaple>"),
        ("list", "new", "Both", "gus@kelp.exmaple"),
    ):
        assert asked in office.run(*words).out, words
        office.run("undo")
    assert "mistyped" not in office.run("contact", "add", "Gus gus@gull.example").out


def test_outsiders_are_told_where_most_are_of_ones_own_domain(office: Office) -> None:
    for who in ("ada@tidewick.example", "bo@tidewick.example", "cy@pier.example"):
        office.within("contact", "add", who, "--into", "Staff")
    assert [(f["kind"], f["what"]) for f in office.json("check", "Staff")] == [
        ("outsider", "cy@pier.example: not tidewick.example")
    ]


def test_the_short_uid_of_namesakes_whom_nothing_else_tells_apart_is_understood_everywhere(crew: Office) -> None:
    crew.within("contact", "add", "Bo Lund <second@pier.example>")
    short = crew.told("find", "second@pier.example")[0]["uid"][-8:]
    ambiguous = crew.json("contact", "show", "Bo Lund", code=2)["candidates"]
    assert sorted(ambiguous) == ["Bo Lund · bo@tidewick.example", "Bo Lund · second@pier.example"]
    crew.within("contact", "add", "Bo Lund", "--phone", "01632 960001")
    third = next(one for one in crew.json("contact", "show", "Bo Lund", code=2)["candidates"] if "no address" in one)
    assert "01632 960001" in crew.run("contact", "show", third.split(" · ")[-1]).out
    assert "second@pier.example" in crew.run("contact", "show", short).out
    crew.within("list", "add", "Crew", short)
    assert crew.json("compose", "--for", "Crew", "--without", short, "--subject", "x", "--text", "y")["people"] == 3
    assert crew.json("compose", "--for", short, "--subject", "x", "--text", "y")["recipients"] == 1
    assert crew.json("preview", "m2", "--as", short)["as"]["address"] == "second@pier.example"
    assert "gets m2 at second@pier.example" in crew.run("preview", "m2", "--why", short).out
    crew.within("contact", "edit", short, "--address", "home:bo@home.example")
    crew.within("contact", "prefer", short, "bo@home.example", "--in", "Crew")
    crew.within("contact", "label", short, "--add", "mate")
    crew.within("contact", "optout", short)
    crew.run("duplicates", "apart", short, "bo@tidewick.example")
    crew.within("list", "take", "Crew", short)
    crew.within("contact", "merge", "bo@tidewick.example", short)
    assert addresses(crew, short) == addresses(crew, "bo@tidewick.example"), "a merged one's is its successor's"
