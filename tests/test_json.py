"""The keys that other programs read: what each command's one JSON value holds."""

from __future__ import annotations

import shlex
from typing import Any

import pytest
from conftest import ME, Mail, Office

CONTACT = {"uid", "name", "addresses", "phones", "org", "labels", "lists", "notes"}
MESSAGE = {
    "message", "subject", "mode", "state", "accepted", "refused", "deferred", "doubtful", "waiting", "recipients"
}  # fmt: skip


def keys(value: Any) -> set[str]:
    return set(value[0] if isinstance(value, list) else value)


@pytest.mark.parametrize(
    ("command", "expected"),
    [
        ("find bo", CONTACT),
        ("contact show bo", CONTACT),
        ("list", {"title", "members", "reachable", "kind", "pinned"}),
        ("list show Crew", {"title", "about", "members"}),
        ("history", {"number", "at", "command", "title", "state"}),
        ("outbox", MESSAGE),
        ("outbox show m1", MESSAGE),
        ("preview m1", {"message", "headers", "text", "raw"}),
        ("compose --for Crew --subject x --text y", {"message", "recipients", "people", "batches", "mode", "left_out"}),
        ("import more.csv", {"rows", "added", "updated", "unchanged", "joined", "review", "refused", "columns"}),
        ("import more.csv --plan", {"rows", "added", "updated", "unchanged", "joined", "review", "refused", "columns"}),
        ("label", {"label", "people"}),
        ("settings mail.per_message", {"mail.per_message"}),
        ("undo", {"undone"}),
        ("", {"contacts", "lists", "open_messages"}),
    ],
)
def test_a_command_prints_one_json_value_with_its_keys(crew: Office, command: str, expected: set[str]) -> None:
    crew.within("compose", "--for", "Crew", "--subject", "Tides", "--text", "Low at ten.")
    crew.file("more.csv", "Name,E-mail\nCy Dale,cy@kelp.example\n")
    ran = crew.run(*shlex.split(command), "--json")
    assert ran.err == "" and ran.out.count("\n") == 1
    assert expected <= keys(ran.json)


def test_the_parts_of_the_values_have_their_keys_too(crew: Office, serve: object) -> None:
    serve("--refuse", "bo@*")  # type: ignore[operator]
    crew.within("contact", "edit", "bo", "--phone", "mobile:07700 900111")
    bo = crew.json("find", "bo")[0]
    assert bo["addresses"][1] == {"address": "bo@kelp.example", "kind": "home", "preferred": False}
    assert bo["phones"] == [{"number": "07700 900111", "kind": "mobile"}] and bo["lists"] == ["Crew"]
    assert {"uid", "name", "address", "since", "by"} <= keys(crew.json("list", "show", "Crew")["members"])
    made = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    assert keys(made["left_out"]) == {"name", "address", "reason"} and made["mode"] == "blind"
    sent = crew.json("send", made["message"], "--yes", code=1)
    assert sent == crew.json("outbox", "show", made["message"]) and keys(sent) >= MESSAGE
    assert keys(sent["recipients"]) == {"address", "names", "state", "code", "reply"}
    crew.file("bad.csv", "Name,E-mail\nCy,cy@kelp\nDee,dee@kelp.example\n")
    assert keys(crew.json("import", "bad.csv", code=1)["refused"]) >= {"row", "column", "value", "reason"}


def test_held_and_empty_are_values_too(crew: Office) -> None:
    held = crew.json("compose", "--for", "ida", "--subject", "x", "--text", "y", code=2)
    assert held["error"].startswith("Nobody would get this message")
    assert crew.json("find", "nobody at all") == [] and crew.json("outbox")[0]["state"] == "held"


def test_an_unsent_message_tells_its_recipients_as_waiting(crew: Office) -> None:
    crew.within("compose", "--for", "Crew", "--subject", "x", "--text", "y")
    shown = crew.json("outbox", "show", "m1")
    assert [(r["address"], r["state"], r["code"]) for r in shown["recipients"]] == [
        ("bo@tidewick.example", "waiting", None),
        ("berg@kelp.example", "waiting", None),
    ]
    assert shown["waiting"] == 2 and shown["state"] == "waiting"


def test_setup_again_changes_only_what_is_named(office: Office) -> None:
    first = office.json("setup", "--me", "Idris Vane <idris@tidewick.example>", "--region", "no")
    again = office.json("setup", "--mail", "smtps://idris@mail.tidewick.example", code=1)
    assert first["new"] is False and again["me"] == "Idris Vane <idris@tidewick.example>" and again["region"] == "NO"
    assert again["mail"] == "smtps://idris@mail.tidewick.example"
    office.run("undo")
    office.run("undo")
    assert office.json("setup")["me"] == ME


def test_the_stand_in_says_where_it_listens_first(office: Office) -> None:
    mail = Mail(office)
    host, port = mail.url.removeprefix("smtp://").split(":")
    assert host == "127.0.0.1" and int(port) > 0
    taken = office.run("stand-in", "mail", "--port", port, code=2)
    assert "in use" in taken.err
    mail.stop()
