"""Every command that writes: done, taken back, done again; and refused without a trace."""

from __future__ import annotations

import shlex
import sqlite3
from typing import Any

import pytest
from conftest import Office

from barnacle.book.sums import row_sum

# Each changes something in the book that `prepared` gives.
COMMANDS = [
    "contact add 'Cy Dale <cy@kelp.example>' --phone 01632960001 --label new --into Crew --into Fresh",
    "contact add 'Bo Lund <bo@tidewick.example>' --org Ebb",
    "contact edit bo --name 'Bo Lundgren' --address work:bo@ebb.example --drop-address bo@kelp.example",
    "contact remove bo ida",
    "contact label una per --add sailor",
    "contact label bo --drop pilot",
    "contact prefer bo bo@kelp.example",
    "contact prefer bo bo@tidewick.example --in Home",
    "contact optout una --why moved",
    "contact merge una per",
    "contact merge bo una",
    "label rename pilot helmsman",
    "label remove pilot",
    "list new Fresh una 'Cy Dale <cy@kelp.example>' --about new",
    "list new Kelp --where 'domain is kelp.example or in Home'",
    "list add Home una 'Cy Dale <cy@kelp.example>'",
    "list add Home 'Baker <baker@pier.example>' --list-only",
    "list add Home Crew label:pilot find:berg",
    "list take Crew bo una",
    "list take Pilots bo",
    "list rename Home House",
    "list about Home 'for the weekend'",
    "list pin Home",
    "list copy Pilots Copied",
    "list rule Pilots 'label is pilot or in Home'",
    "list rule Pilots --none",
    "list remove Home --yes",
    "list remove Crew --with-contacts --yes",
    "list remove Pilots --yes",
    "import more.csv --into Crew --label imported",
    "import more.csv --list-by Name --prefer file --keep-columns form",
    "list new Thread --from-message back",
    "gather back --at-least 1 --into Home",
    "returns back",
    "compose --for Crew --subject x --text y",
    "settings mail.per_message 7",
    "setup --me 'Idris Vane <idris@tidewick.example>' --region NO",
    "duplicates merge --certain",
    "duplicates apart bo una ida",
]


@pytest.fixture
def prepared(crew: Office) -> Office:
    """The crew, with a list that uses another address and one that follows a rule."""
    dee = ("Dee Fay <dee@pier.example>", "Dee Fay <dee+x@pier.example>")
    crew.within("list", "new", "Home", "bo@kelp.example", "ida", *dee)
    crew.within("list", "new", "Pilots", "--where", "label is pilot")
    crew.file(
        "more.csv", "Name,E-mail,Phone\nEve Rask,eve@kelp.example,01632 960002\nBo Lund,bo@kelp.example,999 111\n"
    )
    crew.file("back", BACK)
    return crew


BACK = """From x Mon Jan  5 10:00:00 2026
From: Eve Rask <eve@kelp.example>
To: maren@tidewick.example, Bo <bo@kelp.example>
Date: Mon, 5 Jan 2026 10:00:00 +0000

Hello

From x Mon Jan  5 10:00:00 2026
From: Una Berg <berg@kelp.example>
To: maren@tidewick.example
Subject: opt-out
Date: Mon, 5 Jan 2026 10:00:00 +0000

"""


def state(office: Office) -> Any:
    """All that the book holds, by its own commands and by its tables, but for the history and the running numbers."""
    db = sqlite3.connect(office.book)
    ignored = ("action", "journal", "sqlite_sequence", "contact_text", "past_mail")
    tables = [
        name
        for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
        if not name.startswith(ignored)
    ]
    rows = {table: sorted(map(repr, db.execute(f"SELECT * FROM {table}"))) for table in tables}
    db.execute("CREATE VIRTUAL TABLE temp.letters USING fts5vocab('main', 'contact_text', 'row')")
    rows["search"] = sorted(map(repr, db.execute("SELECT term, doc FROM letters")))
    db.close()
    # When a rule brought somebody in is told anew when that comes back.
    rows["rule_member"] = [row.rsplit(",", 1)[0] for row in rows["rule_member"]]
    return rows, office.everything()


def without_times(value: Any) -> Any:
    """The state without moments, which differ when something is done again."""
    if isinstance(value, dict):
        return {k: without_times(v) for k, v in value.items() if k not in ("since", "written", "added")}
    if isinstance(value, list | tuple):
        return [without_times(one) for one in value]
    return value


@pytest.mark.parametrize("command", COMMANDS)
def test_a_change_is_taken_back_whole_and_can_be_brought_back(prepared: Office, command: str) -> None:
    before = state(prepared)
    prepared.run(*shlex.split(command))
    after = state(prepared)
    assert without_times(after) != without_times(before), "the command changed nothing"
    prepared.run("undo")
    _same(state(prepared), before)
    prepared.run("undo", str(prepared.told("history")[0]["number"]))
    _same(state(prepared), after)


def _same(one: Any, other: Any) -> None:
    """What the program tells is the same, and so are the tables, but that a card's JSON may be in another order."""
    assert without_times(one[1]) == without_times(other[1])
    counted = ("contact", "message")
    for table in one[0]:
        assert one[0][table] == other[0][table] if table not in counted else len(one[0][table]) == len(other[0][table])


REFUSED = [
    "contact add 'Cy <cy@kelp>'",
    "contact add Cy --into 'a\x1bb'",
    "contact edit nobody --org x",
    "contact edit bo --org Ebb --drop-address no@kelp.example",
    "contact remove bo nobody",
    "contact label bo nobody --add x",
    "contact prefer bo no@kelp.example",
    "contact optout nobody",
    "contact merge bo bo",
    "duplicates apart bo",
    "duplicates apart bo una --forget",
    "duplicates merge --certain --in Nowhere",
    "label rename none x",
    "list new Crew",
    "list new Fresh bo nobody",
    "list new Fresh --where 'label is'",
    "list add Crew 'Cy <cy@kelp.example>' 'Dee <dee@kelp>'",
    "list take Crew bo 'nobody here'",
    "list rename Home Crew",
    "list copy Home Crew",
    "list rule Pilots 'in Pilots'",
    "list rule Home --none",
    "list remove Nowhere --yes",
    "import gone.csv --into Fresh",
    "compose --for Crew nobody --subject x --text y",
    "compose --for Crew --subject x --text 'a\x07b'",
    "settings mail.per_message none",
    "setup --me idris.example",
    "undo 99",
]


def test_what_is_refused_leaves_no_trace_at_all(prepared: Office) -> None:
    before, history = state(prepared), prepared.told("history")
    for command in REFUSED:
        assert prepared.run(*shlex.split(command), code=2).err.strip(), command
        assert state(prepared)[0] == before[0], command
    assert prepared.told("history") == history and state(prepared) == before


def test_a_chain_of_changes_comes_back_in_turn(prepared: Office) -> None:
    states = [state(prepared)]
    chain = [COMMANDS[n] for n in (0, 2, 8, 14, 19, 9, 27)]
    for command in chain:
        prepared.run(*shlex.split(command))
        states.append(state(prepared))
    for earlier in reversed(states[:-1]):
        prepared.run("undo")
        assert without_times(state(prepared)[1]) == without_times(earlier[1])


def test_an_opt_out_that_changed_since_is_not_taken_back_by_halves(prepared: Office) -> None:
    """As a list that is merged by element it became one that says neither when nor why."""
    prepared.run("contact", "optout", "una", "--why", "moved")
    number = str(prepared.told("history")[0]["number"])
    db = sqlite3.connect(prepared.book)
    db.execute("DROP TRIGGER contact_changed")  # another moment, as an exchange brings it
    db.create_function("row_sum", -1, row_sum, deterministic=True)
    db.execute('UPDATE contact SET card = replace(card, \'"opt_out":["2\', \'"opt_out":["1\') WHERE opted_out')
    db.execute("UPDATE contact SET sum = row_sum(uid, card)")
    db.commit()
    db.close()
    before = state(prepared)
    assert "what it changed has changed again since" in prepared.run("undo", number, code=2).err
    assert state(prepared) == before
    prepared.run("contact", "edit", "una", "--org", "Ebb")
    prepared.run("book", "check")
