"""Days, people and words as people write them: whatever the form, it is what was meant, or nothing."""

from __future__ import annotations

import shlex
import sqlite3
from contextlib import closing
from datetime import date, datetime, timedelta
from pathlib import Path

import pytest
from conftest import Office
from hypothesis import example, given
from hypothesis import strategies as st

from barnacle.book.wal import uri_of
from barnacle.cli.console.parser import Parser, Verbs
from barnacle.cli.main import make_parser
from barnacle.core.addresses import parse_mailbox, split_pasted
from barnacle.core.errors import BarnacleError, MailError
from barnacle.core.moments import read_day, read_moment
from barnacle.core.names import turned
from barnacle.core.text import as_typed
from barnacle.net import oauth
from barnacle.net.tls import Trust

DAYS = st.dates(date(2020, 1, 1), date(2035, 12, 31))
# Every form with a year means one day, whichever day it is; those without are the nearest such day.
WITH_YEAR = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%d %B %Y", "%d. %b %Y", "%B %d, %Y", "%A %d %B %Y", "%a, %d %b %Y")
WITHOUT = ("%d.%m.", "%d/%m", "%d %B", "%B %d", "%b %dth", "on %d %b")


@given(day=DAYS, today=DAYS, form=st.sampled_from(WITH_YEAR), past=st.booleans())
def test_a_day_with_its_year_is_that_day(day: date, today: date, form: str, past: bool) -> None:
    assert read_day(day.strftime(form), today, past) == day
    assert read_day(f" {day.strftime(form).upper()} ", today, past) == day


@given(today=DAYS, ahead=st.integers(0, 364), form=st.sampled_from(WITHOUT))
@example(today=date(2027, 12, 31), ahead=1, form="%d.%m.")
def test_a_day_without_a_year_is_the_next_one_or_the_last(today: date, ahead: int, form: str) -> None:
    for past in (False, True):
        day = today + timedelta(days=-ahead if past else ahead)
        if (day.month, day.day) != (2, 29):  # of which most years have none
            found = read_day(day.strftime(form), today, past)
            assert found is not None and (found.month, found.day) == (day.month, day.day)
            assert found <= today if past else found >= today
            assert abs((found - today).days) <= 366


@given(today=DAYS, number=st.integers(0, 6), short=st.booleans(), past=st.booleans())
def test_a_day_of_the_week_is_within_a_week(today: date, number: int, short: bool, past: bool) -> None:
    day = today + timedelta(days=-number if past else number)
    said = day.strftime("%A")[: 3 if short else None]
    assert read_day(f"on {said}", today, past) == day
    other = day + timedelta(days=1)
    assert read_day(f"{said} {other:%d %B %Y}", today, past) is None, "a day that is no such day"


@given(
    now=st.datetimes(datetime(2024, 1, 1), datetime(2030, 12, 31)),
    days=st.integers(0, 300), minute=st.integers(0, 1439), form=st.sampled_from((*WITH_YEAR, *WITHOUT)),
    clock=st.sampled_from((" %H:%M", " at %H.%M", ", %H:%M", " %I:%M %p", " %I:%M%p")),
)  # fmt: skip
def test_a_moment_is_the_day_and_the_time_that_were_said(
    now: datetime, days: int, minute: int, form: str, clock: str
) -> None:
    meant = datetime.combine(now.date(), datetime.min.time()) + timedelta(days=days, minutes=minute)
    if (meant.month, meant.day) == (2, 29) and form in WITHOUT:
        return
    assert read_moment(meant.strftime(form + clock), now) == meant


@given(st.text(max_size=80))
@example("in 999 weeks")
@example("mon " * 20)
@example("t" * 60 + "9:99")
def test_what_is_no_time_is_none_and_never_an_error(text: str) -> None:
    read_moment(text, datetime(2026, 12, 1, 9))
    read_day(text, date(2026, 12, 1))


GIVEN, FAMILY = ("Una", "Bo", "Jörg", "Anne-Marie", "Þóra"), ("Keel", "Lund", "O'Brine", "van der Siel", "Fjällgren")
ASIDES = ("", " (treasurer)", " [deck]", ' "Didi"', " (née Ebb)")


@given(
    people=st.lists(st.tuples(*map(st.sampled_from, (GIVEN, FAMILY, ASIDES))), min_size=1, max_size=6),
    form=st.sampled_from(("{name} <{address}>", "{name}: {address}", "{name}\t{address}", "{name} {address}", "{name} - {address}")),
    between=st.sampled_from(("\n", "; ", ";", "\r\n", "\n\n• ")),
)  # fmt: skip
def test_pasted_people_come_out_as_they_were_written(
    people: list[tuple[str, str, str]], form: str, between: str
) -> None:
    meant = [(f"{one} {family}{aside}", f"p{n}@kelp.example") for n, (one, family, aside) in enumerate(people)]
    text = between.join(form.format(name=name, address=address) for name, address in meant)
    assert [tuple(parse_mailbox(piece)) for piece in split_pasted(text)] == meant


@given(people=st.lists(st.tuples(*map(st.sampled_from, (GIVEN, FAMILY))), min_size=1, max_size=6), last=st.booleans())
def test_people_between_commas_come_out_as_they_were_written(people: list[tuple[str, str]], last: bool) -> None:
    meant = [(f"{one} {family}", f"p{n}@kelp.example") for n, (one, family) in enumerate(people)]
    written = [f"{family}, {one}" for one, family in people] if last else [name for name, _ in meant]
    text = ", ".join(f"{name} <{address}>" for name, (_, address) in zip(written, meant, strict=True))
    assert [(turned(one.name), one.address) for one in map(parse_mailbox, split_pasted(text))] == meant


@given(st.text("abcäöüéñß€ß ", min_size=1, max_size=30), st.sampled_from(("utf-8", "cp1252")))
def test_a_word_in_another_encoding_is_read_as_it_was_meant(text: str, encoding: str) -> None:
    octets = text.encode(encoding)
    if encoding == "cp1252":
        try:
            octets.decode("utf-8")
        except UnicodeDecodeError:
            pass
        else:
            return  # these octets are text in both
    assert as_typed(octets.decode("ascii", "surrogateescape")) == text
    assert as_typed(text) == text


@pytest.mark.parametrize("name", ["a b", "50%41", "what?", "#1", "é漢", "it's", 'say "x"', "a&b=c", "\udce9"])
def test_a_book_stands_in_a_folder_of_any_name(tmp_path: Path, name: str) -> None:
    folder = tmp_path / name
    folder.mkdir()
    office = Office(folder)
    office.run("setup", "--me", "Maren Holt <maren@tidewick.example>")
    office.run("contact", "add", "Bo <bo@kelp.example>")
    assert "bo@kelp.example" in office.run("find", "bo").out
    office.run("book", "copy", "copy.book")
    with closing(sqlite3.connect(uri_of(folder / "copy.book", "mode=ro"), uri=True)) as db:
        assert db.execute("SELECT count(*) FROM contact").fetchone() == (1,)
        with pytest.raises(sqlite3.OperationalError):
            db.execute("DELETE FROM contact")
    assert sorted(one.name for one in folder.iterdir()) == ["copy.book", "home"]


ODD = (
    None,
    "",
    0,
    -1,
    1.5,
    "x",
    "1e999",
    True,
    [],
    ["a"],
    {},
    {"a": 1},
    10**40,
    "3600",
    float("inf"),
    "\ud800",
    "a b",
    "é",
)


@pytest.mark.parametrize(
    "key", ["access_token", "token_type", "expires_in", "expires_at", "refresh_token", "scope", "error"]
)
def test_a_sign_in_that_says_something_odd_gives_a_token_or_a_sentence(
    key: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    ways = oauth.Endpoints("https://kelp.example/token")
    with oauth.SignIn("https://kelp.example", oauth.Program("ebb"), Trust(), ways) as one:
        for value in ODD:
            says = {"access_token": "t", "token_type": "Bearer", "expires_in": 3600, key: value}
            monkeypatch.setattr(one, "_answer", lambda *args, says=says: (200, says))
            try:
                come = one.renewed("r")
            except MailError as error:
                assert "kelp.example" in str(error)
            else:
                assert come.access.isascii() and come.access.isprintable() and 0 < come.until < 1e11, value


def every(parser: Parser, words: str = "") -> list[tuple[str, Parser]]:
    found = [(words, parser)]
    for action in parser._actions:
        if isinstance(action, Verbs):
            for name, inner in action.choices.items():
                found += every(inner, f"{words} {name}".strip())
    return found


@pytest.mark.parametrize(
    "option", ["--all", "--csv", "--to", "--format", "--list", "--name", "--loud", "-z", "--=x", "--ä"]
)
def test_an_option_that_no_command_has_is_answered_with_its_help(option: str) -> None:
    asked = 0
    for words, parser in every(make_parser()):
        if option in parser._option_string_actions or not words:
            continue
        given = [*shlex.split(words), option]
        with pytest.raises((BarnacleError, SystemExit)) as caught:
            make_parser(given).parse_args(given)
        if isinstance(caught.value, BarnacleError):
            asked += "There is no option" in str(caught.value) and f"`barnacle help {words}`" in str(caught.value)
    assert asked > 35, "most commands say so of themselves; others ask first for what they need"
