"""What a terminal shows: nothing broken at 80 and 60 columns, colours as asked for, pipes, logs, outputs that fail."""

import re
import shlex
import subprocess

import pexpect
import pytest
from argparse_manpage.manpage import Manpage
from conftest import HANGS, PROGRAM, Office, Ran
from hypothesis import given
from hypothesis import strategies as st
from wcwidth import wcswidth

from barnacle.cli.console.table import fitted, wrap
from barnacle.cli.main import COMMANDS, make_parser

LONG = "dagny.fairweather-lindahl@harbour-office.example"


def shown(office: Office, *command: str, columns: int = 80, **more: str) -> str:
    environment = {**office.environment, "TERM": "xterm", "COLUMNS": str(columns), "LINES": "60", **more}
    terminal = pexpect.spawn(
        str(PROGRAM), list(command), env=environment, timeout=HANGS, encoding="utf-8", dimensions=(60, columns)
    )
    terminal.expect(pexpect.EOF)
    return str(terminal.before).replace("\r", "")


CELL = st.one_of(
    st.from_regex(r"[a-zåø]{1,12}( [a-zåø]{1,12}){0,5}", fullmatch=True),
    st.from_regex(r"[a-z]{1,20}@[a-z]{1,20}\.example", fullmatch=True),
    st.sampled_from(["", "12", "today\u00a013:11", "漢字 の 名前", "barnacle list take Crew bo --yes --book x.book"]),
)


@given(
    rows=st.integers(1, 5).flatmap(lambda n: st.lists(st.lists(CELL, min_size=n, max_size=n), min_size=1, max_size=6)),
    width=st.integers(40, 100),
)
def test_a_table_fits_and_breaks_no_address(rows: list[list[str]], width: int) -> None:
    columns = [f"Column {n}" for n in range(len(rows[0]))]
    lines = fitted(columns, rows, width, (), {})
    for cell in (cell for row in rows for cell in row if "@" in cell):
        assert any(cell in line for line in lines), "in one piece"
    if any("today\u00a013:11" in row for row in rows):
        assert any("today 13:11" in line for line in lines)
    whole = max(wcswidth(word) for row in rows for cell in row for word in cell.split() or [""])
    assert all(wcswidth(line) <= max(width, whole + len("Column 1: ") + 8) for line in lines), lines


def test_a_command_is_cut_outside_quotes_alone() -> None:
    text = "barnacle compose --for 'A --b list' --subject \"x --y z\" --text '--'"
    done = "\n".join(wrap(text, 30))
    read = shlex.split(done.replace("\\\n", ""))  # as a shell reads it
    assert done.count("\n") > 1 and read == shlex.split(text)


@given(st.from_regex(r"[a-z`@. -]{0,120}", fullmatch=True), st.integers(10, 60))
def test_wrapping_loses_nothing(text: str, width: int) -> None:
    assert "".join(wrap(text, width)).replace(" ", "").replace("\\", "") == text.replace(" ", "")


@pytest.mark.parametrize("columns", [60, 80])
def test_addresses_and_commands_stay_whole_on_a_narrow_terminal(crew: Office, columns: int) -> None:
    crew.within(
        "contact", "add", f"Dagny Fairweather-Lindahl <{LONG}>", "--into", "Crew", "--org", "The Tidewick Harbour Trust"
    )
    crew.within("list", "rule", "Crew", "domain is harbour-office.example or org has Harbour")
    for command in (
        ("list", "Crew"),
        ("find", "dagny"),
        ("contact", "show", "dagny"),
        ("check", "Crew"),
        ("list",),
        ("history",),
    ):
        out = shown(crew, *command, columns=columns)
        assert all(wcswidth(line) <= columns for line in out.splitlines()), (command, out)
        assert LONG in out or command in (("list",), ("history",), ("check", "Crew"))
    listed = shown(crew, "list", "Crew", columns=columns)
    assert listed.replace("\n", " ").count("harbour-office.example or org") == 1, "the rule is said once"
    assert not re.search(r"[0-9a-f]{8}-[0-9a-f]{4}-", shown(crew, "contact", "show", "dagny"))
    checked = shown(crew, "check", "Crew", columns=columns)
    commands = re.findall(r"^    (barnacle .*(?:\\\n.*)*)$", checked, re.MULTILINE)
    assert commands
    for command in commands:  # each can be copied into a shell as it stands
        done = subprocess.run(
            ["bash", "-c", f"barnacle() {{ printf '%s\\n' \"$@\"; }}; {command}"],
            capture_output=True,
            text=True,
            check=True,
        )
        assert done.stdout.splitlines()[0] in ("contact", "list") and not done.stderr


def test_colours_are_given_as_asked_for(crew: Office) -> None:
    for wish, coloured in (
        ({}, True), ({"NO_COLOR": "1"}, False), ({"CLICOLOR": "0"}, False), ({"TERM": "dumb"}, False),
        ({"TERM": "dumb", "FORCE_COLOR": "1"}, True), ({"NO_COLOR": "1", "FORCE_COLOR": "1"}, False),
    ):  # fmt: skip
        assert ("\x1b[1mList" in shown(crew, "list", **wish)) is coloured, wish
    assert "\x1b" not in crew.run("list").out


def test_a_terminal_that_only_prints_gets_a_numbered_list(crew: Office) -> None:
    terminal = pexpect.spawn(
        str(PROGRAM),
        ["list", "pick", "Crew"],
        env={**crew.environment, "TERM": "dumb"},
        timeout=HANGS,
        encoding="utf-8",
    )
    for typed, awaited in (("9", "not a number between 1 and 4"), ("1,3-4", "[ ] Bo Lund"), ("", "Took Bo Lund")):
        terminal.expect_exact("Enter to save, q to cancel:")
        terminal.sendline(typed)
        terminal.expect_exact(awaited)
    terminal.expect(pexpect.EOF)
    assert crew.members("Crew") == ["Ida Rask"]


def test_a_dash_is_standard_input_or_output_wherever_a_file_goes(crew: Office) -> None:
    crew.run("import", "-", "--into", "Piped", stdin="Ada Quill <ada@quill.example>\n")
    out = crew.run("export", "Piped", "--as", "csv", "--out", "-")
    assert "ada@quill.example" in out.out and "written to standard output" in out.err and "written" not in out.out
    argv = [str(PROGRAM), "export", "Piped", "--as", "xlsx", "--out", "-"]
    assert subprocess.run(argv, env=crew.environment, capture_output=True, check=True).stdout.startswith(b"PK")
    draft = crew.run("compose", "--for", "Piped", "--subject", "x", "--text", "y", "--draft-to", "-")
    assert draft.out.startswith("Bcc: ada@quill.example") and "has the message" in draft.err
    both = crew.json("compose", "--for", "Piped", "--subject", "x", "--text", "y", "--draft-to", "-", code=2)
    assert "one standard output" in both["error"]
    crew.run("contact", "optout", "--from", "-", stdin="ada@quill.example\n")
    assert crew.told("contact", "show", "ada quill")["opted_out"]
    crew.run(
        "list",
        "new",
        "Named",
        "--from-message",
        "-",
        stdin="From: bo@tidewick.example\nTo: ada@quill.example\n\nHello\n",
    )
    assert sorted(crew.members("Named")) == ["Ada Quill", "Bo Lund"]
    assert "one standard output" in crew.json("export", "Piped", "--as", "csv", "--out", "-", code=2)["error"]


def test_an_unknown_setting_is_told(crew: Office) -> None:
    settings = crew.home / "barnacle.toml"
    settings.write_text(settings.read_text() + '\n[mail]\nper_houre = 5\n[columns]\nform = "A=name"\n')
    told = crew.run("settings").err
    assert "`mail.per_houre` that Barnacle does not know. Did you mean `mail.per_hour`?" in told and "form" not in told
    assert "Did you mean `mail.per_hour`?" in crew.run("settings", "mail.perhour", code=2).err


def test_a_log_for_a_bug_report_names_nobody(crew: Office) -> None:
    crew.within("settings", "mail.server", "smtp://maren@127.0.0.1:9")
    crew.run("contact", "add", "Zelda Quill <zelda@quill.example>", "--debug")
    crew.run("contact", "show", "zelda@quill.example", "--debug")
    crew.run("contact", "show", "berg", "--debug", code=2)
    crew.run("compose", "--for", "zelda", "--subject", "Secret plans", "--text", "x", "--debug")
    crew.run("send", "m1", "--yes", "--debug", code=2)
    log = crew.folder / "barnacle-debug.log"
    text = log.read_text()
    assert (
        "contact show" in text and "ambiguous" in text and "ended after" in text and log.stat().st_mode & 0o777 == 0o600
    )
    for word in ("zelda", "quill", "Zelda", "Secret", "berg", "maren"):
        assert word not in text, word
    crew.environment["BARNACLE_LOG"] = str(crew.folder / "nowhere" / "x.log")
    assert "cannot be written" in crew.run("list", code=2).err


@pytest.mark.parametrize(
    ("redirect", "code", "said"),
    [(">&-", 0, ""), (">/dev/full", 1, "could not be written"), ("2>&-", 0, ""), (">&- 2>&-", 0, ""), ("<&-", 0, "")],
)
def test_an_output_that_is_closed_or_full_is_no_crash(crew: Office, redirect: str, code: int, said: str) -> None:
    for command in ("list", "list --json", "find bo", *(["--help"] if "full" not in redirect else [])):
        done = subprocess.run(
            ["bash", "-c", f"{PROGRAM} {command} {redirect}"], env=crew.environment, capture_output=True, check=False
        )
        Ran([command], done.returncode, done.stdout, done.stderr, code)
        assert said in done.stderr.decode()
    odd = subprocess.run(
        [str(PROGRAM).encode(), b"find", b"\xff\xfe"], env=crew.environment, capture_output=True, check=False
    )
    Ran(["find"], odd.returncode, odd.stdout, odd.stderr, 0)


def test_a_man_page_can_be_made_of_all_commands() -> None:
    page = str(Manpage(make_parser(), format="pretty"))
    assert "OPTIONS OF EVERY COMMAND" in page
    assert all("\\fI\\,{}".format(name.replace("-", "\\-")) in page for name, _ in COMMANDS)
