"""`barnacle duplicates`: told, reviewed key by key, merged, kept apart, and what an import makes of it."""

from __future__ import annotations

import contextlib
import re
import time

import pexpect
import pyte
import pytest
from conftest import HANGS, PROGRAM, Office

ESCAPE, DOWN, RIGHT, LEFT = "\x1b", "\x1b[B", "\x1b[C", "\x1b[D"

CARDS = """Name,E-mail,Phone,Organisation,Labels
Robert Keel,keel@kelp.example,07700 900123,Ebb Yard,crew
Bo Keel,KEEL+boat@kelp.example,,,pilot
Dagny Strand,dagny@gull.example,07700 900456,Skerry,
Dagmy Strand,strand@pier.example,+44 7700 900456,Skerry Timber Ltd,
Cy Dale,cy@kelp.example,,,
Cy Dale,dale@gull.example,,,
"""


@pytest.fixture
def twice(crew: Office) -> Office:
    """The crew, and three people who are there twice: one for certain, two perhaps. Typed in, so that nothing was joined."""
    for line in CARDS.splitlines()[1:]:
        name, address, phone, org, label = line.split(",")
        options = [
            o
            for flag, value in (("--phone", phone), ("--org", org), ("--label", label))
            if value
            for o in (flag, value)
        ]
        crew.within("contact", "add", f"{name} <{address}>", *options, "--into", f"{name.split()[0]}'s")
    return crew


def uid(office: Office, who: str) -> str:
    return str(office.told("contact", "show", who)["uid"])


def names(office: Office, *arguments: str) -> list[tuple[str, list[str]]]:
    return [(g["verdict"], g["names"]) for g in office.json("duplicates", *arguments)["groups"]]


def test_groups_are_told_the_surest_first_with_reasons_in_words(twice: Office) -> None:
    groups = twice.json("duplicates")["groups"]
    assert [g["verdict"] for g in groups] == ["certain", "likely", "likely"]
    assert [g["score"] for g in groups] == sorted((g["score"] for g in groups), reverse=True)
    first, second, third = groups
    assert set(first["contacts"]) == {uid(twice, "keel@kelp.example"), uid(twice, "keel+boat@kelp.example")}
    assert (
        first["for"] == ["same family name", "Bo is short for Robert", "same address keel@kelp.example"]
        and not first["against"]
    )
    assert "same phone +447700900456" in second["for"] and "Dagmy and Dagny differ by a letter" in second["for"]
    assert second["against"] == ["other address"] and third["names"] == ["Cy Dale", "Cy Dale"]
    assert names(twice, "--in", "Dagny's") == [("likely", second["names"])]
    assert names(twice, "--in", "Crew") == []
    lines = twice.run("duplicates").out.splitlines()
    assert lines[0].split("\t")[0] == "Verdict" and len(lines) == 4 and "Robert Keel" in lines[1]
    assert twice.run("duplicates", "--in", "Nowhere", code=2).err and twice.run("duplicates", "merge", code=2).err


def test_those_that_are_certain_are_merged_at_once_and_taken_back_at_once(twice: Office) -> None:
    before = twice.everything()
    old = uid(twice, "keel+boat@kelp.example")
    done = twice.json("duplicates", "merge", "--certain")
    assert [(m["name"], m["contacts"]) for m in done["merged"]] == [("Robert Keel", 2)] and done["left"] == 2
    shown = twice.told("contact", "show", old)
    assert (
        shown["name"] == "Robert Keel"
        and shown["labels"] == ["crew", "pilot"]
        and shown["lists"] == ["Bo's", "Robert's"]
    )
    assert [m["address"] for m in shown["memberships"]] == ["KEEL+boat@kelp.example", "keel@kelp.example"]
    assert "also: Bo Keel" in shown["notes"]
    twice.file("again.csv", "Name,E-mail\nBo Keel,keel+boat@kelp.example\nBo Keel,keel@kelp.example\n")
    assert twice.json("import", "again.csv")["unchanged"] == 2, "the name that gave way is still known"
    assert "Nobody is in the book twice for certain" in twice.run("duplicates", "merge", "--certain").out
    twice.run("undo")
    assert twice.everything() == before and len(names(twice)) == 3


def test_apart_is_remembered_over_edits_imports_and_merges_with_a_third(twice: Office) -> None:
    assert twice.json("duplicates", "apart", "cy@kelp.example", "dale@gull.example")["apart"]
    twice.within("contact", "edit", "cy@kelp.example", "--phone", "01632 960999")
    twice.within("contact", "edit", "dale@gull.example", "--phone", "01632 960999")
    twice.file(
        "cy.csv", "Name,E-mail,Phone\nCy Dale,cy@kelp.example,01632 960999\nCy Dale,dale@gull.example,01632 960999\n"
    )
    again = twice.json("import", "cy.csv")
    assert again["unchanged"] == 2 and again["review"] == [] and ("likely", ["Cy Dale", "Cy Dale"]) not in names(twice)
    twice.within("contact", "add", "Cyril Dale <cyril@pier.example>")
    twice.run("duplicates", "merge", "cyril@pier.example", "cy@kelp.example")
    assert [one["names"] for one in twice.json("duplicates", "apart")] in (
        [["Cyril Dale", "Cy Dale"]],
        [["Cy Dale", "Cyril Dale"]],
    )
    assert all("Cy Dale" not in group for _, group in names(twice))
    twice.run("duplicates", "apart", "cyril@pier.example", "dale@gull.example", "--forget")
    assert any("Cy Dale" in group for _, group in names(twice)) and twice.json("duplicates", "apart") == []
    assert (
        "had not been kept apart"
        in twice.run("duplicates", "apart", "cyril@pier.example", "dale@gull.example", "--forget", code=2).err
    )


class Reviewing:
    """A review on a terminal of its own, whose screen is read as a person sees it."""

    def __init__(self, office: Office, *arguments: str, size: tuple[int, int] = (24, 80)) -> None:
        self.terminal = pexpect.spawn(
            str(PROGRAM), ["duplicates", "review", *arguments], env={**office.environment, "TERM": "xterm"}, timeout=HANGS,
            dimensions=size,
        )  # fmt: skip
        self.screen = pyte.Screen(size[1], size[0])
        self.stream = pyte.ByteStream(self.screen)

    def press(self, *keys: str) -> None:
        for key in keys:
            self.terminal.send(key)

    def sees(self, *texts: str) -> None:
        until = time.monotonic() + HANGS
        while not all(text in "\n".join(self.screen.display) for text in texts):
            assert time.monotonic() < until, "\n".join(self.screen.display)
            with contextlib.suppress(pexpect.TIMEOUT):
                self.stream.feed(self.terminal.read_nonblocking(65536, 0.2))

    def ends(self) -> str:
        self.terminal.expect(pexpect.EOF)
        self.terminal.close()
        assert self.terminal.exitstatus == 0
        return self.terminal.before.decode().replace("\r\n", " ")


def test_a_review_is_decided_key_by_key_and_goes_on_another_day(twice: Office) -> None:
    review = Reviewing(twice)
    review.sees("Is this one person? Certain.")
    review.sees("Bo is short for Robert")
    review.press("m")
    review.sees("Robert Keel is one contact now.")
    review.press("l")
    review.sees("Left for later")
    review.press(ESCAPE)
    assert "1 merged and 1 left for later; 2 left to look at." in review.ends()
    assert [e["title"] for e in twice.told("history")[:2]] == [
        "Left a likely duplicate for later",
        "Merged two contacts: Robert Keel",
    ]
    review = Reviewing(twice)
    review.sees("Is this one person? Likely.", "cy@kelp.example")
    review.press("t")
    review.sees("two people. You will not be asked about them again.", "Dagny Strand")
    review.press("f", RIGHT, DOWN, DOWN, RIGHT)  # the other's name and address stay
    review.sees("Name         Dagmy Strand", "Also at      dagny@gull.example")
    review.press("m")
    assert "1 merged and 1 kept apart; 0 left to look at." in review.ends()
    kept = twice.told("contact", "show", "strand@pier.example")
    assert kept["name"] == "Dagmy Strand" and [a["address"] for a in kept["addresses"]] == [
        "strand@pier.example",
        "dagny@gull.example",
    ]
    assert "also: Dagny Strand" in kept["notes"] and names(twice) == []
    assert "Nobody seems to be in the book twice." in twice.run("duplicates").out
    assert "needs a terminal" in twice.run("duplicates", "review", code=2).err


def test_two_reviews_at_once_decide_nothing_twice_and_show_what_changed(twice: Office) -> None:
    one, other = Reviewing(twice, size=(40, 120)), Reviewing(twice, size=(40, 120))
    for review in (one, other):
        review.sees("Bo is short for Robert")
    twice.within("contact", "edit", "keel@kelp.example", "--job", "Rigger")
    one.press("m")
    one.sees("Rigger")
    one.sees("has changed in the meantime")
    one.press("m")
    one.sees("is one contact now")
    other.press("m")
    other.sees("been decided elsewhere")
    one.press(ESCAPE)
    other.press(ESCAPE)
    assert "1 merged; 2 left" in one.ends() and "Nothing decided; 2 left" in other.ends()
    assert len(twice.told("find", "keel")) == 1


def test_an_import_joins_who_is_certain_and_names_who_is_likely_in_the_same_words(twice: Office) -> None:
    before = twice.everything()
    twice.file(
        "late.csv",
        "Name,E-mail,Phone\nDagny Strand,dagny+club@gull.example,\nStrand Dagny,ds@oldpost.example,07700 900456\nEve Rask,eve@kelp.example,\n",
    )
    told = twice.json("import", "late.csv", "--into", "Late")
    assert (told["rows"], told["added"], told["updated"], told["joined"]) == (3, 2, 1, 1)
    assert [(one["row"], one["name"], one["reason"]) for one in told["joins"]] == [
        (2, "Dagny Strand", "same name; same address dagny@gull.example")
    ]
    reasons = {(one["row"], one["like"]): one["reason"] for one in told["review"]}
    assert (
        reasons[3, uid(twice, "dagny@gull.example")]
        == "same name, the other way round; same phone +447700900456; but other address"
    )
    assert [m["address"] for m in twice.told("list", "show", "Late")["members"]] == [
        "dagny+club@gull.example",
        "eve@kelp.example",
        "ds@oldpost.example",
    ]
    again = twice.json("import", "late.csv", "--into", "Late")
    assert (again["added"], again["unchanged"], again["review"], again["joins"]) == (0, 3, [], [])
    twice.run("undo")
    assert twice.everything() == before


def test_contacts_that_were_merged_and_taken_apart_again_are_found_again(twice: Office) -> None:
    twice.run("duplicates", "merge", "--certain")
    twice.run("undo")
    verdict, found = names(twice)[0]
    assert (verdict, sorted(found)) == ("certain", ["Bo Keel", "Robert Keel"])
    twice.run("duplicates", "apart", "keel@kelp.example", "keel+boat@kelp.example")
    assert "Nobody is in the book twice for certain" in twice.run("duplicates", "merge", "--certain").out
    twice.run("undo")
    assert twice.json("duplicates", "merge", "--certain", "--in", "Bo's")["merged"][0]["name"] == "Robert Keel"


def test_a_review_goes_back_pages_on_a_low_terminal_and_chooses_nothing_where_nothing_differs(twice: Office) -> None:
    twice.run(
        "contact",
        "edit",
        "keel@kelp.example",
        "--note",
        "Keeps the key of the net loft and of the boat shed",
        "--web",
        "https://ebb.example",
    )
    review = Reviewing(twice, size=(14, 80))
    review.sees("Bo is short for Robert", "Page Down shows more")
    review.press("\x1b[6~")  # Page Down
    review.sees("KEEL+boat@kelp.example")
    review.press("b")
    review.sees("This is the first one left.")
    review.press("l")
    review.sees("2 of 3 pairs")
    review.press("b")
    review.sees("1 of 3 pairs")
    review.press("\x03")  # Ctrl-C stops like Escape
    assert "1 left for later; 3 left to look at." in review.ends()
    twice.run("duplicates", "merge", "--certain")
    twice.within("contact", "edit", "dale@gull.example", "--drop-address", "dale@gull.example")
    twice.run("duplicates", "apart", "dagny@gull.example", "strand@pier.example")
    review = Reviewing(twice)
    review.sees("cy@kelp.example")
    review.press("f")
    review.sees("There is nothing to choose: everything is kept.")
    review.press("q")
    assert "Nothing decided; 1 left" in review.ends()


def test_the_overview_fits_a_terminal_and_a_larger_book_says_the_same(twice: Office) -> None:
    twice.run("duplicates", "merge", "--certain")
    few = names(twice)
    rows = "".join(f"Mate{n} Oakum{n},mate{n}.oakum{n}@brig.example,01632 96{n:04}\n" for n in range(90))
    twice.file("many.csv", f"Name,E-mail,Phone\n{rows}Mate7 Oakum7,mate7.oakum7+x@brig.example,\n")
    assert twice.json("import", "many.csv")["joined"] == 1, "the ninety-first is the eighth, at a tagged address"
    assert [sorted(group) for _, group in names(twice)] == [sorted(group) for _, group in few]
    assert len(twice.run("duplicates", "--most", "1").rows) == 1
    terminal = pexpect.spawn(
        str(PROGRAM),
        ["duplicates"],
        env={**twice.environment, "TERM": "xterm", "NO_COLOR": "1", "COLUMNS": "72"},
        timeout=HANGS,
        dimensions=(30, 72),
    )
    terminal.expect(pexpect.EOF)
    told = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", terminal.before.decode()).replace("\r", "")
    told = "\n".join(line for line in told.split("\n") if "Comparing" not in line)
    assert "2 groups: 2 likely." in told
    assert [line for line in told.split("\n") if len(line) > 72] == []
    assert "1  " in told and "likely: " in told and "duplicates review" in told


def test_somebody_is_found_by_a_name_that_gave_way(twice: Office) -> None:
    twice.run("duplicates", "merge", "--certain")
    assert [c["name"] for c in twice.told("find", "bo keel")] == ["Robert Keel"]
    twice.file("renamed.csv", "Name,E-mail\nDagny Holm,dagny@gull.example\n")
    told = twice.json("import", "renamed.csv")
    assert told["added"] == 1 and [one["reason"] for one in told["review"]] == [
        "same given name; same address dagny@gull.example; but the family names differ"
    ]
    twice.run("duplicates", "merge", "Dagny Strand", "Dagny Holm")
    again = twice.json("import", "renamed.csv")
    assert (again["added"], again["unchanged"], again["review"]) == (0, 1, []), "each of her names is hers"


def test_what_is_wrong_is_said_with_the_way_on(twice: Office) -> None:
    for command, said in (
        (
            ("duplicates", "merge", "bo", "--certain"),
            "Give --certain to merge all that are certain, or name those who are one person.",
        ),
        (("duplicates", "apart", "cy@kelp.example"), "Name two different contacts"),
        (("duplicates", "apart", "--forget"), "Who may be one person after all?"),
        (("duplicates", "merge", "nobody", "bo@kelp.example"), "Nobody in the book is called `nobody`."),
        (("duplicates", "merge", "cy@kelp.example", "cy@kelp.example"), "one contact already"),
        (("duplicates", "review", "--json"), "Reviewing needs a terminal"),
        (("duplicates", "revue"), "Did you mean `barnacle duplicates review` (compare"),
    ):
        told = twice.run(*command, code=2)
        assert said in told.err.replace("\n", " ") or said in told.out
    empty = twice.json("duplicates", "--in", "Crew")
    assert empty == {"groups": []}


def test_a_merge_of_two_who_seem_to_be_two_says_so(crew: Office) -> None:
    for who in ("Tom Pike", "Tom Pike jun.", "Tom Keel", "Thomas Keel"):
        crew.within("contact", "add", who)
    merged = crew.run("contact", "merge", "Tom Pike", "Tom Pike jun.").out
    assert "Tom Pike and Tom Pike jun. look like two people: only one is called the younger." in merged
    crew.within("duplicates", "apart", "Tom Keel", "Thomas Keel")
    assert "had been kept apart, as two people." in crew.run("contact", "merge", "Tom Keel", "Thomas Keel").out
    crew.within("contact", "add", "B. Lund", "--address", "bo@mole.example")
    assert "two people" not in crew.run("contact", "merge", "Bo Lund", "B. Lund").out
