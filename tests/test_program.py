"""The program as a whole: help, JSON, exit codes, terminal and pipe, the tour, and what the docs promise."""

from __future__ import annotations

import contextlib
import importlib.metadata
import json
import os
import re
import shlex
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pexpect
import pytest
from conftest import HANGS, ME, PROGRAM, Office

from barnacle import __version__
from barnacle.cli.commands.help import TITLES, TOPICS
from barnacle.cli.commands.tour import CHAPTERS
from barnacle.cli.console import meant
from barnacle.cli.console.examples import examples
from barnacle.cli.console.parser import Parser, Verbs
from barnacle.cli.main import as_meant, make_parser
from barnacle.demo import tour

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "scripts"))
from commands_page import page as commands_page  # noqa: E402


def spawn(office: Office, command: str, columns: int = 100) -> pexpect.spawn:  # type: ignore[type-arg]
    environment = {**office.environment, "TERM": "xterm", "COLUMNS": str(columns)}
    return pexpect.spawn(
        str(PROGRAM), shlex.split(command), env=environment, timeout=HANGS, encoding="utf-8", dimensions=(40, columns)
    )


def shown(office: Office, command: str, columns: int = 100) -> str:
    terminal = spawn(office, command, columns)
    terminal.expect(pexpect.EOF)
    return re.sub(r"\x1b\[[0-9;]*m", "", terminal.before or "")


def test_alone_it_says_where_things_stand_and_what_to_do_next(tmp_path: Path) -> None:
    office = Office(tmp_path)
    first = office.run().out
    assert "You have no book yet" in first and "`barnacle tour`" in first
    assert not office.home.exists(), "looking makes nothing"
    office.within("setup", "--me", ME)
    assert "Next: `barnacle import" in office.run().out
    office.within("contact", "add", "Ada Brine <ada@kelp.example>", "--into", "Crew")
    assert "In the book: 1 person on 1 list." in office.run().out
    office.within("compose", "--for", "Crew", "--subject", "Tides", "--text", "Low at ten.")
    assert "m1  Tides: waiting, 1 waiting" in office.run().out and "then `barnacle send m1`" in office.run().out
    assert office.json()["open_messages"] == ["m1"]


@pytest.mark.parametrize(
    ("command", "sentence"),
    [
        ("frobnicate", "There is no command `frobnicate`. `barnacle help` shows what there is."),
        ("--home x list", "There is no option `--home` in front of a command. There can be --book, --json,"),
        ("lst", "There is no command `lst`. Did you mean `barnacle list` (see, make, fill and remove lists)?"),
        ("list nwe Crew", "There is no list and no verb `nwe`. Did you mean `barnacle list new` (make a list)?"),
        ("list show", "LIST is missing. `barnacle list` shows your lists. `barnacle help list show`"),
        ("undo last", "NUMBER must be a whole number, not `last`."),
        ("send m1 --loud", "There is no option `--loud` here."),
        ("undo 99", "The history has no number 99."),
        ("preview m1", "The outbox has no message m1."),
        ("outbox show x", "The outbox has no message x."),
        ("list show Crew", "There is no list `Crew`."),
        (
            "contact add 'Ada <ada@kelp>'",
            "`ada@kelp` is not an address: there is no ending such as .example after `kelp`.",
        ),
        ("contact add 'A\x1b[2J <a@kelp.example>'", "The name has a character that cannot be shown at place 2."),
        ("contact add Ada --phone soon", "`soon` is not a phone number"),
        ("contact add Ada --address desk:a@kelp.example", "`desk` is not a kind of address."),
        ("setup --me maren.example", "`maren.example` is not an address: it has no @."),
        ("setup --region Brittany", "`Brittany` is no country"),
        ("list --book /nowhere/x.book", "There is no book at /nowhere/x.book yet."),
    ],
)
def test_a_mistake_gets_a_sentence_and_exit_code_2_also_as_json(office: Office, command: str, sentence: str) -> None:
    words = shlex.split(command)
    assert office.run(*words, code=2).err.startswith(sentence)
    as_json = office.run(*words, "--json", code=2)
    assert list(as_json.json) == ["error", "code"] and as_json.json["error"].startswith(sentence)


def test_a_name_where_a_command_should_stand_is_answered_with_what_there_is_for_it(office: Office) -> None:
    office.run("list", "new", "Berth holders", "Bo Lund <bo@kelp.example>", "Bo Keel <keel@kelp.example>")
    for words, sentence in (
        ("berth", "`Berth holders` is a list: `barnacle list show 'Berth holders'` shows it, `barnacle compose --for"),
        ("Berth holders hello", "`Berth holders` is a list: `barnacle list show 'Berth holders'`"),
        ("lund", "`Bo Lund` is in the book: `barnacle contact show 'Bo Lund'` shows all about them."),
        ("bo", "Several are called so: `barnacle find bo` shows them."),
        ("schedule", "`barnacle send m1 --at TIME` sends it later."),
        ("remove bo from berth", "Did you mean `barnacle list take bo from berth` (take people off a list;"),
        ("delete the list Berth holders", "Did you mean `barnacle list remove Berth holders` (remove a list;"),
        ("erase bo lund", "Did you mean `barnacle contact remove bo lund` (remove people"),
        ("add una@kelp.example to berth", "Did you mean `barnacle list add una@kelp.example to berth` (add people"),
        ("add una@kelp.example", "Did you mean `barnacle contact add una@kelp.example` (add somebody)?"),
        ("write a letter to berth", "Did you mean `barnacle compose 'Berth holders'` (write a message"),
        ("lsit show berth", "Did you mean `barnacle list show berth` (see, make, fill and remove lists)?"),
        ("merge berth", '`barnacle list new "Both" Crew Pilots` makes one list of two,'),
        ("who put Bo Lund on Berth?", "`barnacle contact show 'Bo Lund'` shows all of Bo Lund, and which lists"),
        ("what will they see m2", "`barnacle outbox show m2` shows who gets it, `barnacle preview m2` what they see."),
        ("whose number is 01632960123?", "`barnacle find 01632960123` looks for it."),
        ("who is on no list", "`barnacle find --on-no-list` shows who is on no list."),
    ):
        first = words.split()[0]
        assert office.run(*words.split(), code=2).err.startswith(f"There is no command `{first}`. {sentence}")


def test_names_of_several_words_need_no_quotation_marks(office: Office) -> None:
    office.run("contact", "add", "Bo Lund <bo@kelp.example>", "--label", "Night watch")
    office.run("contact", "add", "Una Marie Quay <una@kelp.example>")
    office.run("contact", "add", "Elin Quay <elin@kelp.example>")
    office.run("list", "new", "Ferry crews", "Bo Lund")
    office.run("list", "new", "Pontoon A")
    for words in ("list show Ferry crews", "list Ferry crews", "list ferry crews --columns note"):
        assert office.run(*words.split()).out.startswith("Ferry crews: 1 person")
    for words in ("contact show Bo Lund", "contact Bo Lund"):
        assert office.run(*words.split()).out.startswith("Bo Lund\n")
    assert "Bo Lund" in office.run("label", "night", "watch").out
    on_it = "Pontoon A: {} now."
    for line, said in (
        ("list add Pontoon A Bo Lund", f"Added Bo Lund to {on_it.format('1 person')}"),
        ("list add Bo Lund and elin quay to pontoon a", f"Added Elin Quay to {on_it.format('2 people')}"),
        ("list add everyone on Ferry crews to the pontoon", "Bo Lund was already on Pontoon A."),
        ("list show the ferry", "Ferry crews: 1 person"),
        ("list copy ferry to 'Night ferry'", "Made the list Night ferry"),
        ("list add una quay Pontoon A", f"Added Una Marie Quay to {on_it.format('3 people')}"),
        ("list take Pontoon A una quay", f"Took Una Marie Quay off {on_it.format('2 people')}"),
        ("list take Elin Quay, bo lund off Pontoon A", f"Took Elin Quay and Bo Lund off {on_it.format('0 people')}"),
        ("list add Pontoon A ferry", "`ferry` is the list Ferry crews."),
        ("list copy Pontoon A to Pontoon Z", "Made the list Pontoon Z with the same 1 person."),
        ("list compare Pontoon A with Pontoon Z", "On both"),
        ("check Pontoon A and Pontoon Z", "Pontoon Z: nothing wrong."),
        ("export Pontoon A and Pontoon Z --as csv", "Bo Lund"),
        ("list rename Pontoon Z Pontoon B", "Pontoon Z is now called Pontoon B."),
        ("list about Pontoon B Boats on the east side", "Pontoon B: Boats on the east side"),
        ("list about Pontoon B ''", "Pontoon B has no description now."),
        ("list rule Pontoon B", "Pontoon B"),
        ("contact label Bo Lund and Elin Quay --add Deck", "Changed labels of Bo Lund and Elin Quay."),
        ("label rename deck to night watch", "1 person had it before; 2 have it together."),
        ("contact label bo lund --drop Deck", "They did not have that label."),
        ("undo", "Undone: Renamed the label deck to night watch."),
        ("label rename night watch to Late watch", "night watch is now Late watch, for 1 person."),
        ("check all", "Ferry crews: nothing wrong."),
        ("settings signature Yours, Maren", "mail.signature is now Yours, Maren."),
        ("settings set mail.per_hour=100", "mail.per_hour is now 100."),
        ("setup --me maren@kelp.example", "You are Maren Holt <maren@kelp.example>."),
        ("contact prefer Bo Lund bo@kelp.example", "Bo Lund is written to at bo@kelp.example"),
        ("contact edit Bo Lund --phone 01632960099", "Changed Bo Lund."),
        ("contact add Cy Holm cy@kelp.example --into Pontoon B", "Cy Holm is now on Pontoon B."),
        ("list new Night anglers: cy, bo lund", "Made the list Night anglers with 2 people."),
        ("list new Early anglers with Bo Lund and Pontoon B", "Made the list Early anglers with 2 people."),
        ("list new Decked --where label is Deck", "Made the list Decked with 2 people."),
        ("list new Decks where label is Deck and not name is 'bo lund'", "Made the list Decks with 1 person."),
        ("find where label is deck", "Elin Quay"),
        ("find bo --where label is Deck --in Ferry crews", "Bo Lund"),
        ("list add Pontoon B where:label is Deck", "Elin Quay"),
        ("list rule Decks where name is 'bo lund'", 'Decks now follows the rule: name is "bo lund"'),
        ("list show Ferry crews --columns phone, note", "Phone"),
        ("list new Where una", "Made the list Where with 1 person."),
        ("duplicates --in Pontoon B", "Nobody seems to be in the book twice."),
        ("list remove Pontoon B", "Removed the list Pontoon B."),
        ("contact optin Elin Quay", "Nothing was changed: they had not opted out."),
    ):
        assert said in office.run(*shlex.split(line), code=None).out, line
    # What is no name, and what is missing, is not guessed.
    for line, said in (
        ("list remove Ferry crews bo", "It removes one list; `barnacle list take LIST WHO` takes people off one."),
        ("list take Ferry crews", "WHO is missing."),
        ("list rule Ferry crews off", "`off` is no rule. `barnacle list rule LIST --none` takes a list's rule away."),
        ("find --where", "Behind --where stands RULE:"),
        ("label elin late watch", "`barnacle contact label elin --add 'Late watch'` gives somebody a label."),
        ("list show elin", "`Elin Quay` is in the book: `barnacle contact show 'Elin Quay'` shows all of them."),
        ("contact show ferry", "`Ferry crews` is a list: `barnacle list show 'Ferry crews'` shows it."),
        ("list new Two una, quay", "`quay` fits 2 lists or contacts."),
        ("share follow Ferry crews", "Ferry crews is not shared."),
        ("outbox edit m1", "`barnacle outbox edit m1 --subject TEXT`. Nothing was changed."),
        ("list new Winter watch", 'stands in quotation marks: "Winter watch".'),
        ("list rename Ferry crews", "NEW-TITLE is missing."),
        ("compose --use Slipway closed --for Ferry crews", "Write `--use 'Slipway closed'`."),
        ("import crew.csv --into Winter crew", "Write `--into 'Winter crew'`."),
        ("import crew.csv --label night watch --plan", "Write `--label 'night watch'`."),
        ("import crew.csv as Winter crew", "To put them on a list, write --into 'Winter crew'."),
        ("list new Ferry crews bo", "There is already a list Ferry crews."),
        ("share role Ferry crews bo@kelp.example editor", "Ferry crews is not shared."),
        ("house open Ferry crews", "--at NAME is missing: what stands before the @, such as ferry-crews."),
        ("compose all --subject x --text y", '`"where:not address missing"` stands for everybody in the book'),
        ("undo import", "`barnacle history` shows the numbers of others."),
        (
            "share Ferry crews with Bo Lund",
            "`Bo Lund` is Bo Lund in your book. The hub knows people by their addresses",
        ),
        ("duplicates Pontoon A", "`barnacle duplicates --in 'Pontoon A'` looks at those on it."),
    ):
        assert said in office.run(*line.split(), code=2).err, line


@pytest.mark.parametrize(
    "line",
    [
        "list new “Night anglers” una bo",
        "list new „Night anglers“ una bo",
        "list new «Night anglers» una bo",
        "list new ‘Night anglers’ una bo",
        "list new \\'Night anglers\\' una bo",
        "list new “Night anglers” una bo —about “at ten”",
        "—quiet list new Night\u00a0anglers: una bo",
        "list new '“Night anglers”' una bo",
    ],
)
def test_a_line_that_a_word_processor_has_changed_is_read_as_it_was(crew: Office, line: str) -> None:
    crew.run(*shlex.split(line))
    assert crew.run("list", "new", '"Übung"', "una").out == 'Made the list "Übung" with 1 person.\n'
    title = "“Night anglers”" if "'“" in line else "Night anglers"
    assert crew.members(title) == ["Bo Lund", "Una Berg"]
    assert crew.told("list", "show", title)["about"] == ("at ten" if "about" in line else "")


def test_a_phone_number_needs_no_quotation_marks_and_is_found_by_any_of_its_forms(crew: Office) -> None:
    crew.run("contact", "edit", "una", "--phone", "01632", "960", "001", "--org", "Ebb")
    crew.run("contact", "edit", "--phone", "mobile:+358", "40", "123", "4567", "bo")
    assert crew.told("contact", "show", "una")["phones"][-1]["number"] == "01632 960 001"
    for typed in ("01632 960001", "+44 1632 960001", "0044 (0)1632 960001", "+44 (0)1632/960001"):
        assert [one["name"] for one in crew.told("find", *typed.split())] == ["Una Berg"], typed
    for typed in ("040 123 4567", "+358 40 1234567"):
        assert [one["name"] for one in crew.told("find", typed)] == ["Bo Lund"], typed
    assert [one["name"] for one in crew.told("find", "--where", "phone starts 040")] == ["Bo Lund"]


def test_names_stand_between_commas_without_spaces_and_a_kind_of_file_behind_them(crew: Office) -> None:
    crew.run("list", "new", "Trip", "una,bo", ",", "Per", "Berg")
    assert crew.members("Trip") == ["Bo Lund", "Per Berg", "Una Berg"]
    crew.run("list", "take", "Trip", "bo,per", "berg")
    assert crew.members("Trip") == ["Una Berg"]
    assert "2 people written" in crew.run("export", "trip,bo", "--out", "x.csv").out
    told = crew.run("export", "Trip", "and", "Crew", "to", "excel", code=2).err
    assert "Did you mean `barnacle export Trip Crew --out trip-crew.xlsx`?" in told


def test_a_file_named_where_people_are_is_called_one(office: Office) -> None:
    office.file("crew 1.csv", "Name,Email\nBo Lund,bo@kelp.example\n")
    way = "`crew 1.csv` is a file. `barnacle import 'crew 1.csv' --into LIST` puts the people in it on a list, old or new."
    for words in (("list", "new", "Crew"), ("compose", "--subject", "x", "--text", "y", "--for"), ("contact", "add")):
        assert office.run(*words, "crew 1.csv", code=2).err == f"{way}\n"
    assert way in office.run("find", "crew 1.csv").out
    assert office.told("find") == [] and office.told("list") == []


def test_what_people_ask_find_is_answered_with_what_asks_it(crew: Office) -> None:
    crew.run("contact", "edit", "bo", "--set", "Berth=B 7")
    for words, instead in (
        ("who has opted out", "--unreachable"),
        ("bounced", "--unreachable"),
        ("people not on any list", "--on-no-list"),
        ("everybody without phone", "--where 'phone missing'"),
        ("no email", "--where 'address missing'"),
        ("people on crew", "--where 'in Crew'"),
        ("Berth B", "--where 'field \"Berth\" is B'"),
        ("people with berth=B", "--where 'field \"berth\" is B'".replace("berth", "Berth")),
        ("added after 2020", "--where 'added after 2020'"),
    ):
        told = crew.run("find", *words.split()).out
        assert told.startswith(f"Nothing matches all of that. `barnacle find {instead}` "), told
        found = shlex.split(f"find {instead}")
        crew.run(*found)
    assert crew.run("find", "xyzzy").out == "Nothing matches all of that. Try fewer words, or part of one.\n"


def test_whom_no_message_reaches_and_why(crew: Office) -> None:
    assert [(one["name"], one["why_not"]) for one in crew.told("find", "--unreachable")] == [("Ida Rask", "no address")]
    crew.run("contact", "optout", "bo", "--why", "asked by phone")
    why = {one["name"]: one["why_not"] for one in crew.told("find", "--unreachable")}
    assert why == {"Bo Lund": "opted out (asked by phone)", "Ida Rask": "no address"}
    assert [one["name"] for one in crew.told("find", "--unreachable", "bo")] == ["Bo Lund"]
    out = crew.run("find", "--unreachable", "--in", "Crew").out
    assert out.splitlines()[0] == "Name\tAddress\tWhy not\tLists"
    # What a message to everybody leaves out is the same.
    left_out = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")["left_out"]
    assert {one["name"]: one["reason"] for one in left_out} == why
    crew.run("contact", "optin", "bo")
    assert crew.run("find", "--unreachable", "bo").out == "Of those asked for, nobody is known to be out of reach.\n"


def test_small_words_between_names_are_answered(office: Office) -> None:
    office.run("list", "new", "Crew", "Bo Lund <bo@kelp.example>", "Una Berg <una@kelp.example>")
    office.file("crew.txt", "Cy Dale <cy@kelp.example>\n")
    for words, sentence in (
        ("list new Deck and engine", "Leave out `and`: names stand one behind the other"),
        ("import crew.txt sailors", "There is no file sailors. To put everybody on a list, write --into sailors."),
        ("settings me", "There is no setting `me`. `me.name`, `me.address` and `me.region` begin so."),
        ("duplicates show", "There is no verb `show`. `barnacle duplicates` alone shows them."),
        (
            "duplicates crew",
            "There is no verb `crew`. `Crew` is a list: `barnacle duplicates --in Crew` looks at those on it.",
        ),
        (
            "report crew",
            "There is no report `crew`. `Crew` is a list: `barnacle report reach Crew` looks at those on it.",
        ),
        ("report reech", "There is no report `reech`. Did you mean `barnacle report reach` (whom"),
        ("duplicates merge all", "Give --certain to merge all that are certain, or name those who are one person."),
    ):
        assert office.run(*words.split(), code=2).err.startswith(sentence)
    assert "`barnacle find bo --in Crew` looks on that list alone." in office.run("find", "bo", "in", "crew").out
    assert office.members("Crew") == ["Bo Lund", "Una Berg"]


def test_names_stand_together_as_in_a_mail_program(office: Office) -> None:
    office.run("list", "new", "Crew", "Bo Lund <bo@kelp.example>", "Una Berg <una@kelp.example>")
    office.run("list", "new", "Sailors, Pilots", "Cy Dale <cy@kelp.example>")
    office.run("list", "new", "Deck", "una, bo", "and", "dale")
    assert office.members("Deck") == ["Bo Lund", "Cy Dale", "Una Berg"]
    assert office.run("list", "take", "Deck", "una and dale").out.startswith("Took Una Berg and Cy Dale off Deck")
    for number, (whom, people) in enumerate((
        (["crew, dale"], 3), (["crew; sailors"], 3), (["crew and dale"], 3), (["Sailors, Pilots"], 1), (["Berg, Una"], 1),
        (["crew", "and", "dale", "--without", "una, dale"], 1), (["crew & dale", "--without", "bo und una"], 1),
    ), 1):  # fmt: skip
        office.run("compose", "--for", *whom, "--subject", "Tide", "--text", "At ten.")
        assert len(office.json("outbox", "show", f"m{number}")["recipients"]) == people, whom
    told = office.run("compose", "--for", "crew, nobody", "--subject", "Tide", "--text", "x", code=2).err
    assert told.startswith("`crew, nobody` is not a list, a contact or an address.")


def test_without_a_book_every_command_says_how_to_make_one(tmp_path: Path) -> None:
    office = Office(tmp_path)
    office.file("a.csv", "Name,E-mail\nAda,ada@kelp.example\n")
    for command in ("list", "find x", "history", "undo", "outbox", "import a.csv", "contact add Ada", "preview m1"):
        assert "barnacle setup --me" in office.run(*shlex.split(command), code=2).err
    assert not office.home.exists()


def test_options_stand_before_or_after_the_command(office: Office) -> None:
    other = str(office.folder / "other.book")
    office.run("--book", other, "setup", "--me", ME)
    office.run("list", "new", "Elsewhere", "--book", other, "--quiet")
    assert office.run("--json", "--book", other, "list").json[0]["title"] == "Elsewhere"
    assert office.json("list") == [] and office.run("list", "new", "Here", "--quiet").out == ""


def test_a_table_fits_the_terminal_and_a_pipe_gets_tabs(crew: Office) -> None:
    wide, narrow = shown(crew, "list show Crew", 120), shown(crew, "list show Crew", 60)
    assert "\t" not in wide and "bo@tidewick.example" in wide
    assert all(len(line) <= 60 for line in narrow.splitlines())
    piped = crew.run("list", "show", "Crew")
    assert piped.out.splitlines()[2] == "Name\tAddress\tSince\tHow" and len(piped.rows) == 4


def test_on_a_terminal_one_picks_among_several_by_number(crew: Office) -> None:
    terminal = spawn(crew, "contact show berg")
    terminal.expect_exact("Number 1 to 2, or Enter for none:")
    assert "Per Berg · berg@kelp.example" in (terminal.before or "")
    terminal.sendline("2")
    terminal.expect(pexpect.EOF)
    assert "Una Berg" in (terminal.before or "")
    terminal = spawn(crew, "contact show berg")
    terminal.expect_exact("or Enter for none:")
    terminal.sendline("")
    terminal.expect_exact("fits 2 contacts")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 2


@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        ("barnacle his", ["history"]),
        ("barnacle list ta", ["take"]),
        ("barnacle list show cr", ["Crew"]),
        ("barnacle contact show b", ["Bo\\ Lund", "Per\\ Berg", "Una\\ Berg"]),
        ("barnacle contact show una", ["Una\\ Berg"]),
        ("barnacle contact show bo@t", ["bo@tidewick.example"]),
        ("barnacle list take Crew p", ["Per\\ Berg"]),
        ("barnacle compose --for cr", ["Crew"]),
        ("barnacle compose --for label:p", ["label:pilot"]),
        ("barnacle label rename pi", ["pilot"]),
        ("barnacle preview m", ["m1"]),
        ("barnacle --book /nowhere list show c", []),
    ],
)
def test_the_shell_completes_commands_titles_names_and_labels(crew: Office, typed: str, offered: list[str]) -> None:
    crew.within("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    asked = {"_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "|", "_ARGCOMPLETE_SHELL": "bash", "COMP_LINE": typed}
    done = subprocess.run(
        ["bash", "-c", f"{PROGRAM} 8>&1 9>/dev/null >/dev/null"],
        env={**crew.environment, **asked, "COMP_POINT": str(len(typed))},
        capture_output=True,
        text=True,
        check=False,
    )
    assert [word.strip() for word in done.stdout.split("|") if word.strip()] == offered, done.stderr


def test_help_topics_are_there(office: Office) -> None:
    assert sorted(TITLES) == sorted(TOPICS)
    for topic in office.json("help")["topics"]:
        assert len(office.run("help", topic).out.splitlines()) > 5
    office.run("help", "weather", code=2)


def test_a_reader_that_goes_away_is_no_error(crew: Office) -> None:
    first = crew.start("find")
    assert first.stdout and first.stderr
    first.stdout.close()
    assert b"Traceback" not in first.stderr.read()
    first.stderr.close()
    assert first.wait(HANGS) == 0


def test_the_tour_does_the_whole_job(tmp_path: Path) -> None:
    office = Office(tmp_path)
    toured = office.run("tour", "--into", "harbour", "--json").json
    assert toured["failures"] == [] and all(s["exit"] == s["expected"] for s in toured["steps"])
    outputs = {s["command"]: s["output"] for s in toured["steps"]}
    assert any("no @" in out for out in outputs.values()) and any("held" in out for out in outputs.values())
    assert "18 accepted" in outputs["barnacle send m1 --resume --yes"]
    office.environment["BARNACLE_HOME"] = toured["folder"]
    assert [one["title"] for one in office.json("list")] == [
        "Night pilots", "Berth holders", "Chandlers and yards", "Ferry crews", "Ferry masters", "Pontoon A", "Pontoon B",
        "Pontoon C", "Pontoon D", "Regulars", "Slipway volunteers", "Trust board", "Winter rota",
    ]  # fmt: skip
    assert "not empty" in office.run("tour", "--into", "harbour", code=2).err


def test_the_quick_tour_ends_with_a_copy_that_shows_nobody_else(tmp_path: Path) -> None:
    out = Office(tmp_path).run("tour", "--into", "harbour", "--quick").out
    assert "To: Maren Holt <maren@tidewick.example>" in out and "Not one of their addresses is in it." in out


def test_a_tour_that_goes_wrong_says_so(tmp_path: Path) -> None:
    office = Office(tmp_path)
    (tmp_path / "sitecustomize.py").write_text(
        "import barnacle.demo.tour as t\nt.STEPS = (t.Step('', 'barnacle list', 1),)\n"
    )
    office.environment["PYTHONPATH"] = str(tmp_path)
    ran = office.run("tour", "--into", "harbour", code=1)
    assert "The tour went wrong: `barnacle list` ended with 2, not 1" in ran.err


def test_a_mistake_of_its_own_is_a_sentence_and_leaves_nothing_half(crew: Office, tmp_path: Path) -> None:
    (tmp_path / "sitecustomize.py").write_text(
        "import barnacle.book.lists as lists\n"
        "def broken(*args, **more): raise KeyError('bo@kelp.example')\n"
        "lists.add_member = lists.add_members = broken\n"
    )
    crew.run("list", "new", "Deck")
    before = crew.everything()
    crew.environment["PYTHONPATH"] = str(tmp_path)
    process = crew.start("contact", "add", "Cy <cy@kelp.example>", "--into", "Deck", "--json")
    out, err = (octets.decode() for octets in process.communicate())
    assert process.returncode in (1, 2) and crew.everything() == before
    assert json.loads(out)["code"] == "mistake" and "Traceback" not in err and "kelp.example" not in err
    assert err.startswith("Barnacle made a mistake (KeyError in sitecustomize.py:2).") and "--debug" in err


def test_words_in_another_encoding_than_the_terminal_is_said_to_have(crew: Office) -> None:
    for typed in (b"Jos\xe9 <jose@kelp.example>", "Zoë <zoe@kelp.example>".encode()):
        crew.run("contact", "add", os.fsdecode(typed))
    crew.environment["LC_ALL"] = "C.UTF-8"
    piped = crew.start("list", "add", "Crew", "-", stdin=subprocess.PIPE)
    assert "Traceback" not in piped.communicate(b"Gus F\xe6r <gus@kelp.example>")[1].decode() and piped.returncode == 0
    assert "Gus Fær" in crew.run("list", "Crew").out
    for typed in (b"jos\xe9", "josé".encode(), "zoë".encode("cp1252")):
        assert "@kelp.example" in crew.run("find", os.fsdecode(typed)).out
    (crew.folder / os.fsdecode(b"M\xe4rz.csv")).write_text("Name,E-mail\nDee,dee@kelp.example\n")
    crew.run("import", os.fsdecode(b"M\xe4rz.csv"))
    assert "dee@kelp.example" in crew.run("find", "dee").out


def parsers(parser: Parser, words: str = "") -> Iterator[tuple[str, Parser]]:
    yield words, parser
    for action in parser._actions:
        if isinstance(action, Verbs):
            for name, inner in action.choices.items():
                yield from parsers(inner, f"{words} {name}".strip())


def test_every_help_begins_with_examples_that_work_and_explains_each_option() -> None:
    whole = make_parser()
    for words, parser in parsers(whole):
        given = examples(words)
        assert 2 <= len(given) <= 3, words
        for example, _ in given:
            with contextlib.suppress(SystemExit):  # of an example that shows help
                called = make_parser(argv := shlex.split(example)[1:])
                called.parse_args(as_meant(argv, called))
        shown = parser.format_help()
        assert shown.index("examples:") < shown.index("usage:") < shown.index("options of every command:"), words
        unexplained = [a.dest for a in parser._actions if not a.help and not isinstance(a, Verbs)]
        assert not unexplained, (words, unexplained)
    assert (ROOT / "docs" / "commands.md").read_text() == commands_page(), (
        "python scripts/commands_page.py makes it anew"
    )


def test_help_and_words_as_people_type_them(crew: Office) -> None:
    assert crew.run("help", "list", "new").out == crew.run("list", "new", "--help").out
    assert "kelp.example" in crew.run("list", "Crew").out and crew.run("list", "crew", "--json").json["title"] == "Crew"
    crew.run("list", "new", "Pilots", "--about", "who brings ships in", "bo", "una")
    assert crew.members("Pilots") == ["Bo Lund", "Una Berg"]
    assert [one["name"] for one in crew.json("find", "--in", "Crew", "lund")] == ["Bo Lund"]
    for command, sentence in (
        ("lits", "Did you mean `barnacle list` (see,"),
        ("list shwo Crew", "Did you mean `barnacle list show` (see who"),
        ("list new X --abuot y", "Did you mean `--about`? `barnacle help list new` shows how"),
        ("help privcy", "Did you mean `barnacle help privacy`?"),
        ("list show Piltos", "Did you mean `Pilots`?"),
        ("contact show 'bo lnud'", "Did you mean `Bo Lund`?"),
        ("compose --for crrew --subject x --text y", "Did you mean `Crew`?"),
        ("undo 3 4", "`4` is one word too many."),
        ("export --out x.csv", "WHAT is missing."),
        ("import x.csv --prefer me", "--prefer cannot be `me`. It can be book, file."),
    ):
        assert sentence in " ".join(crew.run(*shlex.split(command), code=2).err.split()), command
    several = crew.run("contact", "show", "berg", "--json", code=2).json
    assert several["code"] == "ambiguous" and len(several["candidates"]) == 2


def test_what_others_call_it_and_what_is_nearly_right_leads_to_the_command(crew: Office) -> None:
    for command, sentence in (
        (
            "add bo",
            "Did you mean one of these? barnacle contact add add somebody barnacle list add add people to a list",
        ),
        ("contact delete bo", "no person and no verb `delete`. Did you mean `barnacle contact remove` (remove people"),
        ("contact edit bo phone 01632 960001", "Write `--phone '01632 960001'`."),
        ("contact edit bo company Kelp note likes tea", "Write `--org Kelp --note 'likes tea'`."),
        ("contact edit bo bo@mole.example", "Write `--address bo@mole.example`."),
        ("contact edit bo berth=B7", "Write `--set berth=B7`."),
        ("compose for Crew bo subject Hi text Hello", "Write `--for Crew bo --subject Hi --text Hello`."),
        ("contact remove bo from Crew", "To take somebody off a list, write `barnacle list take Crew bo`."),
        ("contact label bo pilots", "Which label? Give --add pilots or --drop pilots."),
        ("list Crew add bo", "The verb stands first: `barnacle list add Crew bo`."),
        ("contact bo edit --phone 1", "The verb stands first: `barnacle contact edit bo --phone 1`."),
        ("outbox send m1", "`send` is a command by itself: `barnacle send m1`."),
        ("list import crew.csv", "`import` is a command by itself: `barnacle import crew.csv`."),
        ("list move bo Crew Crew", "`barnacle list add` puts somebody on the other list, and"),
        ("list clear Crew", "`list pick` chooses anew who is on it;"),
        ("list show Crew bo", "There is no list `Crew bo`. Did you mean `Crew`?"),
        ("list remove Crew bo", "`barnacle list take LIST WHO` takes people off one."),
        ("list -x", "There is no option `-x` here."),
        ("book", "Say what to do: barnacle book check look whether it is sound barnacle book copy"),
        ("undo 5 7", "`7` is one word too many. `barnacle help undo`"),
        ("list new Deck Cy cy@kelp.example", 'stand together in quotation marks: "NAME ADDRESS".'),
        ("compose --bcc Crew", "--for says whom it is for, each in Bcc; --also adds somebody this time."),
        ("compose Crew --each --blind --subject x --text y", "Either --blind or --each can be given, not both."),
        (
            "contact add Gus gus@kelp.example to Crew",
            "write `barnacle contact add 'Gus gus@kelp.example' --into Crew`.",
        ),
        ("contact add Gus to the crew", "write `barnacle contact add Gus --into 'the crew'`."),
        ("import crew.csv to Crew", "To put them on a list, write --into Crew."),
        ("list remove all", "There is no list `all`. `barnacle list` shows your lists;"),
        ("list new", "TITLE is missing."),
        ("undo last", "`barnacle undo` alone undoes the last change;"),
        ("find --where 'on no list'", "`barnacle find --on-no-list` shows who is on no list."),
        ("export Crew --as pdf", "`barnacle report list LIST --out crew.pdf` puts a list on paper."),
        ("preview for bo", "--as WHO shows somebody's copy."),
        (
            "share Crew with una",
            "The hub knows people by their addresses: --with berg@kelp.example, if it is that one.",
        ),
        ("compose --for Crew --personal", "Did you mean `--each`?"),
        ("compose --for Crew --send", "`barnacle send` sends it, by its number."),
        ("compose --for Crew --plus x", "Did you mean `--also`?"),
        ("outbox --list", "`barnacle outbox` alone shows the last of them, --all all. `barnacle help outbox` shows"),
        ("contact note bo late", "`barnacle contact edit WHO --note TEXT` keeps a note on somebody."),
        ("hub person list", "Without a word behind it, all are shown."),
        ("outbox --failed", "`barnacle outbox refused` or `outbox since Monday`."),
        ("text list", "`barnacle text` alone shows all."),
        ("text add Rota Hello", "`barnacle text keep NAME m1` keeps what a message says"),
        ("report opens", "Who opened a message cannot be known: nothing in it tells."),
        ("compose Crew -s Hi", "Did you mean `--subject`?"),
        ("who is on Crew?", "`barnacle list show Crew` shows who is on Crew, since when and by whom."),
        (
            "which lists is bo lund on",
            "`barnacle contact show 'Bo Lund'` shows all of Bo Lund, and which lists they are on.",
        ),
        ("has una accepted", "`barnacle share who LIST` shows who has accepted."),
        ("send m4 now", "`barnacle send m4` sends it at once."),
        ("compose Crew --subject x --text y --invite no.ics", "There is no file no.ics"),
        ("export Crew --as vcf", "--as cannot be `vcf`. Did you mean `vcard`?"),
        ("export Crew --out crew.pdf", "`barnacle report list LIST --out crew.pdf` puts a list on paper."),
        ("export Crew --out no/crew.csv", "no/crew.csv cannot be written: there is no folder no. Nothing was written."),
        ("compose Crew --subject", "Behind --subject stands TEXT: the subject."),
        ("import crew.csv --columns name=Owner", "The column's title stands first: `Owner=name`."),
        ("import crew.csv --columns Owner:name", "A column's use is written TITLE=USE, such as `Owner=name`."),
        ("setup --mail smtp.kelp.example:587", "Did you mean `smtp://smtp.kelp.example:587`?"),
        ("settings pauses [inf]", "The setting mail.pauses cannot be `[inf]`; it should be like `[5, 30, 120]`."),
        ("settings mail.sign_in tidewick", "`tidewick` is not the address of a sign-in. It begins with https://."),
        ("settings hub.ca_file ca.pem", "ca.pem, which cannot be used: No such file or directory."),
        (
            "settings per_hour lots",
            "The setting mail.per_hour cannot be `lots`; it should be a whole number from 0 to 1,000,000,000.",
        ),
        ("report deliveries m4", "`barnacle outbox show m4` shows what became of that message."),
        ("contact merge bo lund", "Name another whom Bo Lund is to be one contact with."),
        ("unshare Crew", "Did you mean `barnacle share stop Crew` (stop sharing a list of yours, for everybody)?"),
        ("share who", "LIST is missing. `barnacle list` shows your lists."),
        ("house remove Crew bo", "`barnacle list take LIST WHO` takes people off it."),
        ("outbox resend m4", "`barnacle compose --like m4` writes it again."),
        ("outbox nonsense", "No message says `nonsense`, is in such a state, or is for a list or a person"),
        ("cancel m6", "`barnacle outbox remove m6` removes it, if it was not sent."),
        ("who got m4", "`barnacle outbox show m4` shows who gets it"),
        ("send m4 to bo", "`barnacle compose --like m4 --for WHO` writes the same to others."),
        ("send m4 --dry-run", "`barnacle preview m1` shows it; --test"),
        ("compose --for Crew --cc bo", "There is no Cc: everybody would see who stands there. --also adds"),
        ("compose --for berg --subject x --text y", "`berg` fits 2 lists or contacts."),
        ("report --svg", "Did you mean `--out`? `barnacle help report` shows"),
        ("setup --country GB", "Did you mean `--region`?"),
        ("compose Crew", "The message needs a subject: add --subject TEXT."),
        ("compose Crew --subject Low tide", "`tide` is one word too many. Write `--subject 'Low tide'`."),
        ("help bcc", "Did you mean `barnacle help compose`?"),
        ("contact add Bo 01632 960001", 'Is `01632 960001` a phone number? Then write --phone "01632 960001".'),
        ("contact add Gus lund@kelp.example", 'with a name in front, write "Gus <lund@kelp.example>".'),
        ("contact add 'Bo <b@kelp.example>' 'Una <u@kelp.example>'", "One person at a time"),
        ("export all people.xlsx", "`--out people.xlsx` writes a file."),
        ("send", "Send which message? None waits; `barnacle compose` writes one."),
        ("send Crew", '`barnacle compose --for "Crew"` writes a message to that list.'),
        ("preview", "The outbox is empty."),
    ):
        assert sentence in " ".join(crew.run(*shlex.split(command), code=2).err.split()), command
    assert crew.run("contact", "bo").out == crew.run("contact", "show", "bo").out
    crew.within("contact", "add", "Keel,", "Dee", "dee@kelp.example")
    crew.within("list", "add", "Crew", "eva rask eva@kelp.example")
    for who in ("Dee Keel <dee@kelp.example>", "eva rask <eva@kelp.example>"):
        assert who in crew.run("export", "all", "--as", "line").out
    # As it was copied from a message.
    copied = "Fay Siel <fay@kelp.example>; Gus Watt gus@kelp.example; Kelp, Hal <hal@kelp.example>, una@kelp.example"
    crew.within("list", "new", "Deck", copied)
    assert crew.members("Deck") == ["Fay Siel", "Gus Watt", "Hal Kelp", "una@kelp.example"]
    crew.within("list", "take", "Deck", "fay@kelp.example, gus@kelp.example")
    assert crew.members("Deck") == ["Hal Kelp", "una@kelp.example"]
    crew.within("compose", "--for", "Crew", "--subject", "Low tide", "--text", "At ten.")
    assert crew.run("preview").out == crew.run("preview", "m1").out
    assert "Did you mean m1, `Low tide`?" in crew.run("send", "low tide", code=2).err
    assert "These wait: m1 (Low tide)." in crew.run("send", code=2).err
    assert crew.run("find", "label:crew", "bo").out == crew.run("find", "--label", "crew", "bo").out
    # What is nearly called like something else is said, and done.
    for command, said in (
        ("find unna", "Did you mean `Una Berg`?"), ("find everybody", "`barnacle find` alone shows everybody."), ("contact edit bo --label crew --set Voice=tenor", "Changed Bo Lund."),
        ("contact edit una --set Vioce=alto", "`Vioce` is a new field. Did you mean `Voice`?"), ("contact label una --add crw", "`crw` is a new label. Did you mean `crew`?"),
        ("contact add Zoe zoe@kelp.example --label craw --set Birthday=2001-02-03", "`craw` is a new label."), ("label crew", "bo@tidewick.example"),
        ("contact edit una --label tenor", "Changed Una Berg.\n"),
    ):  # fmt: skip
        assert said in crew.run(*shlex.split(command)).out, command
    assert "`--set Boat=VALUE`" in crew.run("contact", "edit", "bo", "--Boat", "x", code=2).err
    assert "`barnacle label` shows all labels" in crew.run("label", "show", "nobody", code=2).err
    whole = make_parser()
    for word, ways in meant._table(meant._WAYS).items():
        assert all(whole.purpose(way) for way in ways), word
    options = {command: set(one._option_string_actions) for command, one in parsers(whole)}
    assert {one for some in meant._table(meant._OPTIONS).values() for one in some} <= set().union(*options.values())
    for line in meant._INSTEAD.strip().splitlines():
        commands, tried, instead = line.split(": ", 2)
        for command in commands.split(", "):
            assert not options[command] & {*tried.split(", ")}, line
        for way in re.findall(r"`barnacle ([^`]*)`", instead):
            assert max((one for one in options if way.startswith(one)), key=len), line


def test_completion_is_printed_and_installed(office: Office) -> None:
    office.environment |= {"HOME": str(office.folder), "XDG_DATA_HOME": "", "XDG_CONFIG_HOME": "", "ZDOTDIR": ""}
    for shell, file in (
        ("bash", ".local/share/bash-completion/completions/barnacle"),
        ("fish", ".config/fish/completions/barnacle.fish"),
    ):
        printed = office.run("completion", shell).out
        office.run("completion", shell, "--install")
        assert (office.folder / file).read_text() == printed
    office.file(".zshrc", "autoload -U colors")
    for _ in range(2):
        office.run("completion", "zsh", "--install")
    assert (office.folder / ".zshrc").read_text().splitlines()[0] == "autoload -U colors"
    assert (office.folder / ".zshrc").read_text().count("barnacle completion zsh") == 1
    assert "compdef" in office.run("completion", "zsh").out
    office.environment["SHELL"] = "/bin/tcsh"
    assert "say bash, zsh or fish" in office.run("completion", code=2).err


def test_the_tour_has_chapters(tmp_path: Path) -> None:
    assert tuple(one.name for one in tour.STEPS if isinstance(one, tour.Chapter)) == CHAPTERS
    office = Office(tmp_path)
    said = office.run("tour", "--into", "harbour", "--chapter", "people").out
    assert "import berth-holders.csv" in said and "A retirement party" not in said
    terminal = spawn(office, f"tour --quick --into {tmp_path / 'two'}")
    terminal.expect_exact("Enter for the next chapter (Lists")
    terminal.sendline("q")
    terminal.expect(pexpect.EOF)
    assert "All lists at a glance" not in terminal.before and "That was the whole job" in terminal.before


def test_the_version_stands_in_one_place_and_the_changelog_knows_it() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    assert "version" not in project and importlib.metadata.version("barnacle") == __version__
    assert f"## {__version__}" in (ROOT / "CHANGELOG.md").read_text()


@pytest.mark.parametrize("command", ["list", "find bo", "history", "outbox", "contact show bo@tidewick.example"])
def test_a_command_that_shows_something_loads_nothing_that_takes_long(crew: Office, command: str) -> None:
    ran = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "barnacle", *command.split()],
        env=crew.environment, capture_output=True, text=True, check=True,
    )  # fmt: skip
    loaded = {line.rpartition("|")[2].strip() for line in ran.stderr.splitlines() if line.startswith("import time:")}
    assert "barnacle.cli.main" in loaded
    slow = {
        "typing",
        "dataclasses",
        "email",
        "hashlib",
        "http",
        "httpx",
        "orjson",
        "shutil",
        "subprocess",
        "threading",
        "tomllib",
    }
    assert not loaded & slow and not any(name.startswith("barnacle.core.matching") for name in loaded)


def test_the_core_neither_prints_nor_reads() -> None:
    for path in (ROOT / "src" / "barnacle" / "core").glob("*.py"):
        assert not re.search(r"^\s*(print\(|open\(|import (os|sys|sqlite3|argparse)\b)", path.read_text(), re.M), path


def test_sql_on_a_book_stands_in_its_store_alone() -> None:
    source = ROOT / "src" / "barnacle"
    asking = re.compile(r"\bbook\.db\b|\.execute\(|\bSELECT \w+(?:, |\s+FROM )")
    found = [
        str(path.relative_to(source))
        for folder in ("cli", "jobs", "core", "files", "net", "demo")
        for path in (source / folder).rglob("*.py")
        if asking.search(path.read_text("utf-8"))
    ]
    assert found == ["files/contents/databases.py"], "which searches a database that is attached to a message"
