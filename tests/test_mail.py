"""Composing and sending over real SMTP: blind, once to each, and what happens when things go wrong."""

from __future__ import annotations

import json
import re
import resource
import signal
import socket
import sqlite3
import subprocess
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy
from pathlib import Path

import pexpect
import pytest
import trustme
from conftest import HANGS, PROGRAM, Mail, Office
from servers import wait

Serve = Callable[..., Mail]


def compose(office: Office, *more: str, code: int | None = 0) -> dict:  # type: ignore[type-arg]
    text = () if "--body" in more else ("--text", "The slipway is closed.")
    given = ("compose", "--for", "Crew", "--subject", "Slipway", *text, *more, "--json")
    return dict(office.within(*given, code=code).json)


def many(office: Office, number: int) -> None:
    rows = "".join(f"Person {n:03},p{n:03}@kelp.example\n" for n in range(number))
    office.file("many.csv", "Name,E-mail\n" + rows)
    office.within("import", "many.csv", "--into", "Crew")


def states(office: Office) -> dict[str, str]:
    return {r["address"]: r["state"] for r in office.told("outbox", "show", "m1")["recipients"]}


def test_a_blind_message_reaches_each_once_and_shows_nobody_else(crew: Office, serve: Serve) -> None:
    mail = serve()
    made = compose(crew)
    assert made.pop("size") > 400
    assert made == {
        "message": "m1",
        "from": "Maren Holt <maren@tidewick.example>",
        "recipients": 2,
        "people": 3,
        "batches": 1,
        "mode": "blind",
        "left_out": [{"name": "Ida Rask", "address": None, "reason": "no address"}],
        "notes": ["Per Berg and Una Berg share berg@kelp.example, so they get one message for both"],
        "warnings": [],
    }
    raw = crew.run("preview", "m1", "--raw").raw
    sent = crew.json("send", "m1", "--yes")
    assert (sent["state"], sent["accepted"], sent["waiting"]) == ("sent", 2, 0)
    assert [(r["address"], r["names"], r["state"], r["code"]) for r in sent["recipients"]] == [
        ("berg@kelp.example", ["Per Berg", "Una Berg"], "accepted", 250),
        ("bo@tidewick.example", ["Bo Lund"], "accepted", 250),
    ]
    assert mail.addresses == {"berg@kelp.example", "bo@tidewick.example"}
    copies = {address: mail.copies(address) for address in mail.addresses}
    assert all(len(c) == 1 for c in copies.values()) and len({c[0] for c in copies.values()}) == 1
    copy = copies["bo@tidewick.example"][0]
    assert copy == crew.run("preview", "m1", "--raw", "--as", "una").raw
    undated = re.compile(rb"\r\nDate: [^\r]*")
    assert undated.sub(b"", copy) == undated.sub(b"", raw)
    read = message_from_bytes(copy, policy=policy.default)
    assert str(read["To"]) == str(read["From"]) == str(read["Reply-To"]) == "Maren Holt <maren@tidewick.example>"
    assert "Bcc" not in read and "Crew" not in copy.decode() and b"@kelp.example" not in copy
    assert read["List-Id"] == "<lists.maren.tidewick.example>", "half of a list's fields is a mark of spam"
    assert str(read["List-Unsubscribe"]).startswith("<mailto:maren@tidewick.example?subject=opt-out%20")
    assert "m1" in crew.run("contact", "show", "per").out and crew.run("list").rows[0][-1] != "never"


def test_this_message_alone_leaves_out_adds_and_combines(crew: Office, serve: Serve) -> None:
    mail = serve()
    crew.within("list", "new", "Home", "bo@kelp.example", "Cy Dale <cy@kelp.example>")
    before = crew.everything()
    made = crew.json(
        "compose",
        "--for",
        "Home",
        "Crew",
        "label:pilot",
        "--without",
        "una",
        "--also",
        "Kit <kit@pier.example>",
        "--subject",
        "Party",
        "--text",
        "Friday at six.",
        "--copy-me",
    )
    assert [(o["name"], o["reason"]) for o in made["left_out"]] == [
        ("Ida Rask", "no address"),
        ("Una Berg", "left out this time"),
        ("Per Berg", "left out this time, at an address of Una Berg"),
    ]
    assert made["notes"] == ["`una` is Una Berg"]
    crew.run("send", "m1", "--yes")
    assert mail.addresses == {"bo@kelp.example", "cy@kelp.example", "kit@pier.example", "maren@tidewick.example"}
    assert crew.everything()[0] == before[0] and crew.members("Crew") == [m["name"] for m in before[2][0]["members"]]
    mistaken = crew.json("compose", "--for", "Home", "--without", "per", "--subject", "x", "--text", "y")
    assert mistaken["notes"] == ["`per` is Per Berg", "Per Berg was not among the recipients anyway"]
    one = crew.json("compose", "--for", "Home", "--within", "Crew", "--subject", "x", "--text", "y")
    assert one["recipients"] == 1 and one["left_out"][0]["reason"] == "not on Crew"
    # As it is said; of several of that name, the one who would get it is left out.
    crew.within("contact", "add", "Cy Berg <cyb@kelp.example>")
    for said in (
        ("Home", "and", "Crew", "except", "cy"),
        ("Home and Crew without cy",),
        ("Home", "Crew", "ohne", "cy"),
    ):
        made = crew.json("compose", *said, "--subject", "x", "--text", "y")
        out = {o["name"] for o in made["left_out"] if o["reason"] == "left out this time"}
        assert (made["recipients"], out) == (2, {"Cy Dale"}), said
    crew.within("list", "new", "But not", "una")
    for said in (("Home", "But not", "Crew"), ("Home,", "But", "not,", "Crew")):
        assert crew.json("compose", *said, "--subject", "x", "--text", "y")["recipients"] == 3, said
    # Two lists whose titles together are a name are two lists.
    for title in ("Una", "Berg"):
        crew.within("list", "new", title, "cy@kelp.example")
    assert crew.json("compose", "Una", "Berg", "--subject", "x", "--text", "y")["recipients"] == 1
    assert crew.json("compose", "Bo", "Lund", "--subject", "x", "--text", "y")["people"] == 1


def test_the_outbox_is_asked_for_a_state_a_list_somebody_a_word_or_a_day(crew: Office, serve: Serve) -> None:
    serve("--refuse", "berg@*")
    compose(crew)
    crew.run("send", "m1", "--yes", code=1)
    crew.within("list", "new", "Tide watch", "cy@kelp.example")
    crew.within("compose", "bo", "--subject", "Rota", "--text", "At ten, by the tide.")
    crew.within("compose", "--for", "label:pilot", "cy@kelp.example", "--subject", "Thanks", "--text", "For all.")
    for asked, numbers, about in (
        ("refused", "m1", "1 message refused for somebody:"),
        ("waiting", "m2 m3", "2 messages not sent to everybody yet:"),
        ("sent", "m1", "1 message accepted for somebody:"),
        ("due", "", "No messages with a time to be sent."),
        ("crew", "m1", "1 message for Crew:"),
        ("tide", "m2", "1 message with `tide` in the subject or text:"),
        ("Bo Lund", "m1 m2 m3", "3 messages to Bo Lund:"),
        ("cy@kelp.example", "m3", "1 message to cy@kelp.example:"),
        ("Tide watch", "", "No messages for Tide watch."),
        ("since yesterday", "m1 m2 m3", "3 messages since "),
        ("find rota --since 2026-01-01", "m2", "1 message with `rota` in the subject or text since Thursday 1 January"),
    ):
        assert [one["message"] for one in crew.told("outbox", *asked.split())] == numbers.split(), asked
        assert crew.run("outbox", *asked.split()).out.startswith(about), asked
    lines = crew.run("outbox", "show", "m1").out.splitlines()
    assert "refused" in lines[3] and "accepted" in lines[4], "what went wrong stands first"


def test_what_is_shown_before_sending(crew: Office) -> None:
    compose(crew)
    shown = crew.run("preview", "m1", "--as", "bo").out
    assert "m1 as Bo Lund will see it, at bo@tidewick.example" in shown
    assert "  To        Maren Holt <maren@tidewick.example>" in shown
    assert "Bo Lund sees nobody else: the other 1 address" in shown
    assert "Ida Rask does not get m1: no address." in crew.run("preview", "m1", "--as", "ida", code=2).err
    assert crew.json("preview", "m1")["text"].strip() == "The slipway is closed."


def test_years_of_messages_are_not_all_shown_and_none_that_waits_is_left_out(crew: Office, serve: Serve) -> None:
    serve()
    crew.within("compose", "--for", "bo", "--subject", "Waits", "--text", "At ten.")
    for number in range(2, 33):
        crew.within("compose", "--for", "bo", "--subject", f"Week {number}", "--text", f"Tide {number}.")
        crew.within("send", f"m{number}", "--yes")
    shown = crew.run("outbox")
    assert [row[0] for row in shown.rows[:31]] == ["m1", *(f"m{n}" for n in range(3, 33))]
    end = "The last 30 of 32 messages, and 1 older one not sent to everybody; --all shows them all."
    assert end in " ".join(shown.out.split())
    assert "m2\tWeek 2\t" in crew.run("outbox", "--all").out and len(crew.told("outbox")) == 32
    found = crew.run("outbox", "sent")
    assert found.out.startswith("31 messages accepted for somebody:") and "m2\t" not in found.out
    assert "The last 30 of 31; --all shows them all." in found.out
    assert "m2\t" in crew.run("outbox", "sent", "--all").out and len(crew.told("outbox", "sent")) == 31
    bo = crew.run("contact", "show", "bo").out
    assert "m23\t" in bo and "m22\t" not in bo and len(crew.told("contact", "show", "bo")["sent"]) == 31
    assert "The last 10 of 31 messages; `barnacle outbox bo@tidewick.example --all` shows them all." in bo
    assert len(crew.told("outbox", "bo@tidewick.example", "--all")) == 32


@pytest.mark.parametrize("text", ["Swap with berg@kelp.example", "mailto:BO%40kelp.example", "bo&#64;tidewick.example"])
def test_a_members_address_stops_the_message(crew: Office, serve: Serve, text: str) -> None:
    mail = serve()
    crew.file("note.txt", f"Hello.\n{text}\n")
    stopped = crew.run("compose", "--for", "Crew", "--subject", "Rota", "--body", "note.txt", code=2)
    assert "m1 would show" in stopped.err and "in the text" in stopped.err and "held" in stopped.err
    assert crew.told("outbox")[0]["state"] == "held"
    crew.run("send", "m1", "--yes", code=2)
    assert mail.addresses == set()
    address = re.search(r"--allow-mention (\S+)`", stopped.err)
    assert address
    crew.run("send", "m1", "--yes", "--allow-mention", address.group(1))
    assert len(mail.addresses) == 2


def test_the_mention_of_somebody_left_out_or_of_another_address_counts_too(crew: Office) -> None:
    for text, more in (("not una: berg@kelp.example", ("--without", "una", "per")), ("or bo@kelp.example", ())):
        crew.run("compose", "--for", "Crew", "--subject", "x", "--text", text, *more, code=2)
    allowed = compose(crew, "--allow-mention", "bo@kelp.example", "--body", str(crew.file("b.txt", "bo@kelp.example")))
    assert allowed["recipients"] == 2
    own = compose(crew, "--body", str(crew.file("c.txt", "Write to maren@tidewick.example")))
    assert own["recipients"] == 2


def test_only_people_who_opted_out_are_nobody(crew: Office) -> None:
    for who in ("Una Berg", "Bo Lund"):
        crew.within("contact", "optout", who, "--why", "moved away")
    held = compose(crew, code=2)
    assert "Nobody would get this message" in held["error"] and "opted out (moved away)" in held["error"]
    assert crew.told("outbox")[0]["state"] == "held"


def test_nobody_left_holds_the_message_and_keeps_the_text(crew: Office) -> None:
    ran = crew.run("compose", "--for", "ida", "--subject", "x", "--text", "hello", code=2)
    assert ran.err.startswith("Nobody would get this message: Ida Rask (no address).") and "m1" in ran.err
    assert "hello" in str(sqlite3.connect(crew.book).execute("SELECT doc FROM message").fetchall())


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (("--subject", "a\nBcc: x@y.example"), "The subject has a line break at place 2."),
        (("--subject", "a\x1b[2J"), "The subject has a character that cannot be shown at place 2."),
        (("--subject", "a\u2028b"), "The subject has a line break at place 2."),
        (("--subject", ""), "The message needs a subject"),
        (("--subject", "x", "--also", "kit@pier"), "`kit@pier` is not an address"),
        (("--subject", "x", "--without", "nobody"), "`nobody` is not a list, a contact or an address."),
        (("--subject", "x", "--for", "label:none"), "Nobody has the label `none`. Labels in use: pilot."),
        (("--subject", "x", "--within", "Other"), "There is no list `Other`."),
    ],
)
def test_what_cannot_be_is_told_and_nothing_is_kept(crew: Office, arguments: tuple[str, ...], sentence: str) -> None:
    ran = crew.run("compose", "--for", "Crew", "--text", "y", *arguments, code=2)
    assert ran.err.startswith(sentence) and crew.told("outbox") == []


def test_text_from_a_file_must_be_text(crew: Office) -> None:
    for name, content, sentence in (
        ("a.txt", b"\x00\x01\x02\x03\x04" * 30, "is not a text file"),
        ("b.txt", b"one\ntwo\x1b[2J\n" + b"three\n" * 20, "in line 2"),
        ("c.txt", b" \n", "The message has no text."),
    ):
        crew.file(name, content)
        assert sentence in crew.run("compose", "--for", "Crew", "--subject", "x", "--body", name, code=2).err
    for name, sentence in (
        ("no.txt", "The words themselves go in --text."),
        ("x.rtf", "is a letter in RTF, which is not read. A message is text"),
    ):
        crew.file("x.rtf", "{\\rtf1 Low tide}")
        assert sentence in crew.run("compose", "--for", "Crew", "--subject", "x", "--body", name, code=2).err
    for number, (codec, label) in enumerate((("cp1252", "Windows-1252"), ("utf-16", "UTF-16"), ("utf-8", "")), 1):
        crew.file("d.txt", ("Tschüß – bis Freitag\n" + "the slipway\n" * 9).encode(codec))
        made = crew.run("compose", "--for", "Crew", "--subject", "x", "--body", "d.txt")
        assert crew.told("preview", f"m{number}")["text"].startswith("Tschüß – bis Freitag\n") and label in made.out
    assert "--body d.txt reads it" in crew.run("compose", "Crew", "--subject", "x", "--text", "d.txt", code=2).err
    # A sentence too long for the name of a file is none, as words of a message or as somebody's name.
    long = "Слип закрыт в пятницу. " * 8
    assert crew.run("compose", "Crew", "--subject", "x", "--text", long).err == ""
    assert "is not a list, a contact" in crew.run("compose", "--for", long, "--subject", "x", "--text", "y", code=2).err
    assert "cannot be read" in crew.run("compose", "Crew", "--subject", "x", "--body", long, code=2).err
    piped = crew.start(
        "compose", "--for", "Crew", "--subject", "=?utf-8?q?x?= as it is", "--body", "-", stdin=subprocess.PIPE
    )
    piped.communicate("Grüße von der Schleuse\n".encode(), timeout=HANGS)
    shown = crew.told("preview", "m5")
    assert shown["text"] == "Grüße von der Schleuse\n" and shown["headers"]["Subject"] == "=?utf-8?q?x?= as it is"


def test_send_asks_and_a_script_must_say_yes(crew: Office, serve: Serve) -> None:
    mail = serve()
    compose(crew)
    assert "Nothing was sent. In a script, confirm with --yes." in crew.run("send", "m1", code=2).err
    for answer, code in (("n", 2), ("y", 0)):
        terminal = pexpect.spawn(str(PROGRAM), ["send", "m1"], env={**crew.environment, "TERM": "xterm"}, timeout=HANGS)
        terminal.expect_exact("Send it now? [y/N]")
        assert mail.addresses == set()
        terminal.sendline(answer)
        terminal.expect(pexpect.EOF)
        terminal.close()
        assert terminal.exitstatus == code
    assert len(mail.addresses) == 2


def test_a_text_that_speaks_of_an_attachment_is_asked_about(crew: Office, serve: Serve) -> None:
    mail = serve()
    compose(crew, "--text", "The plan is attached.")
    terminal = pexpect.spawn(str(PROGRAM), ["send", "m1"], env={**crew.environment, "TERM": "xterm"}, timeout=HANGS)
    terminal.expect_exact("but has none. Send it anyway? [y/N]")
    terminal.sendline("n")
    terminal.expect_exact("Nothing was sent.")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert mail.addresses == set() and crew.told("outbox", "show", "m1")["state"] == "waiting"


def test_one_refused_address_costs_nobody_else_their_mail(crew: Office, serve: Serve) -> None:
    mail = serve("--refuse", "berg@*")
    compose(crew)
    sent = crew.json("send", "m1", "--yes", code=1)
    assert (sent["accepted"], sent["refused"], sent["state"]) == (1, 1, "sent")
    assert sent["recipients"][0]["code"] == 550 and "no mailbox" in sent["recipients"][0]["reply"]
    again = crew.run("send", "m1", "--resume", "--yes", code=1)
    assert "There is nothing left to send of m1: 1 accepted, 1 refused." in again.out
    assert crew.run("send", "m1", "--yes", code=1) and len(mail.copies("bo@tidewick.example")) == 1


def test_deferred_ones_are_tried_again_in_the_run_and_by_resume(crew: Office, serve: Serve) -> None:
    mail = serve("--defer", "berg@*", "--defer-times", "3")
    compose(crew)
    first = crew.json("send", "m1", "--yes", code=1)
    assert (first["state"], first["deferred"]) == ("sent in part", 1)
    told = crew.run("send", "m1", "--yes", code=2)
    assert "was begun before (sent in part): 1 accepted, 1 deferred. `barnacle send m1 --resume` continues" in told.err
    crew.within("settings", "mail.pauses", "[0.1, 0.1]")
    last = crew.json("send", "m1", "--resume", "--yes")
    assert last["accepted"] == 2 and [len(mail.copies(a)) for a in sorted(mail.addresses)] == [1, 1]


def test_who_opted_out_since_the_first_try_gets_nothing(crew: Office, serve: Serve) -> None:
    mail = serve("--defer", "bo@*", "--defer-times", "1")
    compose(crew)
    crew.run("send", "m1", "--yes", code=1)
    crew.within("contact", "optout", "bo", "--why", "asked on the quay")
    resumed = crew.run("send", "m1", "--resume", "--yes")
    assert "opted out since sending began" in resumed.out and mail.addresses == {"berg@kelp.example"}
    assert {r["address"]: r["state"] for r in crew.told("outbox", "show", "m1")["recipients"]} == {
        "berg@kelp.example": "accepted"
    }


def test_who_opted_out_meanwhile_gets_nothing_though_doubtful_ones_are_tried_again(crew: Office, serve: Serve) -> None:
    mail = serve("--drop", "after", "--drop-times", "2")
    crew.within("settings", "mail.per_message", "1")
    compose(crew)
    assert crew.json("send", "m1", "--yes", code=1)["doubtful"] == 2
    crew.within("contact", "optout", "bo", "--why", "asked on the quay")
    again = crew.run("send", "m1", "--retry-doubtful", "--yes")
    assert "opted out since sending began" in again.out
    assert {address: len(mail.copies(address)) for address in mail.addresses} == {
        "berg@kelp.example": 2, "bo@tidewick.example": 1,
    }  # fmt: skip


def test_lines_lost_now_and_then_do_not_end_the_run(office: Office, serve: Serve) -> None:
    serve("--drop", "before", "--drop-times", "3")
    many(office, 4)
    office.within("settings", "mail.per_message", "1")
    compose(office)
    first = office.json("send", "m1", "--yes", code=1)
    assert first["trouble"] is None and (first["deferred"], first["accepted"]) == (3, 1), "three in a row are not four"


def test_batches_keep_to_the_setting_and_to_what_the_server_takes(office: Office, serve: Serve) -> None:
    mail = serve("--most-recipients", "7")
    many(office, 45)
    office.within("settings", "mail.per_message", "20")
    assert compose(office)["batches"] == 3
    assert office.json("send", "m1", "--yes")["accepted"] == 45
    assert {len(mail.copies(a)) for a in mail.addresses} == {1} and len(mail.addresses) == 45


@pytest.mark.parametrize(("when", "kept", "state"), [("before", 0, "deferred"), ("after", 1, "doubtful")])
def test_a_line_that_breaks_at_the_dot(crew: Office, serve: Serve, when: str, kept: int, state: str) -> None:
    mail = serve("--drop", when)
    crew.within("settings", "mail.per_message", "1")
    compose(crew)
    sent = crew.json("send", "m1", "--yes", code=1)
    assert (sent["accepted"], sent[state]) == (1, 1), "the rest goes on over a new line"
    open_one = next(r for r in sent["recipients"] if r["state"] == state)
    assert len(mail.copies(open_one["address"])) == kept and open_one["code"] is None
    if state == "deferred":
        assert crew.json("send", "m1", "--resume", "--yes")["accepted"] == 2
        assert len(mail.copies(open_one["address"])) == 1
    else:
        assert "There is nothing left to send" in crew.run("send", "m1", "--resume", "--yes", code=1).out
        assert crew.json("send", "m1", "--retry-doubtful", "--yes")["accepted"] == 2
        first, second = mail.copies(open_one["address"])
        assert first == second


def test_a_server_that_always_drops_the_line_ends_the_run(office: Office, serve: Serve) -> None:
    serve("--drop", "before", "--drop-times", "99")
    many(office, 12)
    office.within("settings", "mail.per_message", "1")
    compose(office)
    sent = office.json("send", "m1", "--yes", code=1)
    assert "kept breaking" in sent["trouble"] and sent["waiting"] + sent["deferred"] == 12


def test_a_killed_sender_leaves_doubt_and_never_sends_twice_by_itself(office: Office, serve: Serve) -> None:
    mail = serve("--slow", "4")
    many(office, 6)
    office.within("settings", "mail.per_message", "2")
    compose(office)
    sender = office.start("send", "m1", "--yes")
    book = sqlite3.connect(office.book)
    begun = "SELECT 1 FROM delivery WHERE state = 'sending'"
    wait(lambda: book.execute(begun).fetchone() is not None, lambda: f"not begun, {sender.poll()}")
    other = office.run("send", "m1", "--resume", "--yes", code=2)
    assert other.err.startswith("Another `barnacle send` is using this book.")
    assert "is using this book" in office.run("outbox", "edit", "m1", "--text", "x", code=2).err, (
        "not from under the sender"
    )
    assert "sending" in states(office).values(), "while a sender is at work its recipients are not doubtful"
    sender.kill()
    sender.communicate()
    assert sorted(states(office).values()) == ["doubtful"] * 2 + ["waiting"] * 4
    assert "sent in part" in office.run("outbox").out
    resumed = office.json("send", "m1", "--resume", "--yes", code=1)
    assert (resumed["accepted"], resumed["doubtful"]) == (4, 2)
    doubtful = {a for a, s in states(office).items() if s == "doubtful"}
    assert all(len(mail.copies(a)) == 1 for a in mail.addresses - doubtful)
    book.close()


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_stopped_by_a_key_or_the_system_it_says_what_was_done(office: Office, serve: Serve, number: int) -> None:
    mail = serve("--slow", "0.5")
    many(office, 12)
    office.within("settings", "mail.per_message", "2")
    compose(office)
    sender = office.start("send", "m1", "--yes", "--json")
    with closing(sqlite3.connect(office.book)) as book:
        some = "SELECT count(*) FROM delivery WHERE state = 'accepted'"
        wait(lambda: book.execute(some).fetchone()[0] >= 4, lambda: f"not begun, {sender.poll()}")
    sender.send_signal(number)
    out, err = sender.communicate(timeout=HANGS)
    told = json.loads(out)
    assert sender.returncode == 1 and not err and told["trouble"] == "Stopped before the end."
    assert 4 <= told["accepted"] < 12 and told["accepted"] + told["doubtful"] + told["waiting"] == 12
    assert f"to {told['accepted']} of 12 people" in office.run("history").out
    rest = office.json("send", "m1", "--resume", "--retry-doubtful", "--yes")
    assert rest["accepted"] == 12 and all(mail.copies(f"p{n:03}@kelp.example") for n in range(12))


def test_the_answer_is_on_disk_before_the_next_batch(office: Office, serve: Serve) -> None:
    serve("--slow", "0.4")
    many(office, 3)
    office.within("settings", "mail.per_message", "1")
    compose(office)
    sender = office.start("send", "m1", "--yes")
    book, seen = sqlite3.connect(office.book), set()
    while sender.poll() is None:
        seen.add(tuple(r[0] for r in book.execute("SELECT state FROM delivery ORDER BY address")))
    sender.communicate()
    book.close()
    assert not any(row.count("sending") > 1 for row in seen)
    assert ("accepted", "sending", "waiting") in seen and ("accepted", "accepted", "sending") in seen


def test_no_server_refuses_or_is_not_there(crew: Office) -> None:
    compose(crew)
    assert "doesn't know your mail server yet" in crew.run("send", "m1", "--yes", code=2).err
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    crew.within("setup", "--mail", f"smtp://127.0.0.1:{port}", code=1)
    gone = crew.run("send", "m1", "--yes", code=2)
    assert f"The mail server 127.0.0.1:{port} cannot be reached (nothing answers there). Nothing was sent" in gone.err
    assert set(states(crew).values()) == {"waiting"} and crew.told("outbox")[0]["state"] == "waiting"
    for url in ("http://x.example", "smtp://", "smtp://a:b@x.example", "smtp://x.example:99999", "mail"):
        assert crew.run("setup", "--mail", url, code=2).err


def test_who_came_went_or_was_removed_since_composing(crew: Office, serve: Serve) -> None:
    mail = serve()
    compose(crew)
    crew.within("list", "take", "Crew", "bo")
    crew.within("list", "add", "Crew", "Cy Dale <cy@kelp.example>")
    ran = crew.run("send", "m1", "--yes")
    assert (
        "Added since it was composed: cy@kelp.example." in ran.out
        and "Gone since it was composed: bo@tidewick.example." in ran.out
    )
    assert mail.addresses == {"berg@kelp.example", "cy@kelp.example"}
    compose(crew)
    crew.within("list", "remove", "Crew", "--yes")
    assert "The list Crew, which the message is for, has been removed." in crew.run("send", "m2", "--yes", code=2).err


def test_what_was_sent_cannot_be_undone_and_says_so(crew: Office, serve: Serve) -> None:
    serve()
    compose(crew)
    crew.run("undo")
    assert crew.told("outbox") == []
    assert compose(crew)["message"] == "m2", "a number is not used twice"
    crew.run("send", "m2", "--yes")
    numbers = [e["number"] for e in crew.told("history")]
    assert "the message has gone out" in crew.run("undo", code=2).err
    assert "m2 has been sent, and that cannot be undone." in crew.run("undo", str(numbers[1]), code=2).err
    assert crew.told("outbox")[0]["state"] == "sent"


def test_starttls_certificates_are_checked_and_the_password_kept_safe(crew: Office, serve: Serve) -> None:
    authority = trustme.CA()
    yesterday = datetime.now(UTC) - timedelta(days=1)
    for host, file, until in (
        ("127.0.0.1", "good", None),
        ("other.example", "bad", None),
        ("127.0.0.1", "old", yesterday),
    ):
        certificate = authority.issue_cert(host, not_after=until)
        certificate.private_key_and_cert_chain_pem.write_to_path(crew.folder / f"{file}.pem")
    authority.cert_pem.write_to_path(crew.folder / "ca.pem")
    compose(crew)
    options = ("--login", "maren:flood-gate", "--tls")
    good = serve(*options, str(crew.folder / "good.pem"), str(crew.folder / "good.pem"))
    crew.within("setup", "--mail", good.url.replace("//", "//maren@"), code=1)
    assert "could not prove that it is 127.0.0.1" in crew.run("send", "m1", "--yes", code=2).err
    crew.environment["SSL_CERT_FILE"] = str(crew.folder / "ca.pem")
    assert "asks for the password of maren" in crew.run("send", "m1", "--yes", code=2).err
    crew.environment["BARNACLE_MAIL_PASSWORD"] = "ebb"
    wrong = crew.run("send", "m1", "--yes", code=2)
    assert "does not accept the name maren with this password" in wrong.err and "ebb" not in wrong.err
    crew.environment["BARNACLE_MAIL_PASSWORD"] = "flood-gate"
    assert crew.json("send", "m1", "--yes")["accepted"] == 2
    compose(crew)
    bad = serve("--tls", str(crew.folder / "bad.pem"), str(crew.folder / "bad.pem"))
    assert "certificate is not valid for '127.0.0.1'" in crew.run("send", "m2", "--yes", code=2).err
    serve("--tls", str(crew.folder / "old.pem"), str(crew.folder / "old.pem"))
    assert "certificate has expired" in crew.run("send", "m2", "--yes", code=2).err
    assert all(b"flood-gate" not in path.read_bytes() for path in crew.home.iterdir())
    assert bad.addresses == good.addresses


def test_letters_outside_ascii_go_where_the_server_can_take_them(office: Office, serve: Serve) -> None:
    for who in ("Jörg <jörg@kelp.example>", "Ada <ada@bücher.example>"):
        office.within("contact", "add", who, "--into", "Crew")
    mail = serve("--no-smtputf8")
    compose(office)
    sent = office.json("send", "m1", "--yes", code=1)
    by_address = {r["address"]: (r["state"], r["code"]) for r in sent["recipients"]}
    assert by_address == {"ada@bücher.example": ("accepted", 250), "jörg@kelp.example": ("refused as a message", None)}
    assert mail.addresses == {"ada@xn--bcher-kva.example"}
    mail = serve()
    compose(office)
    assert office.json("send", "m2", "--yes")["accepted"] == 2 and "jörg@kelp.example" in mail.addresses


def test_a_message_that_the_server_finds_too_large_is_not_begun(crew: Office, serve: Serve) -> None:
    serve("--most-bytes", "2000")
    crew.file("long.txt", "All hands to the slipway.\n" * 400)
    compose(crew, "--body", "long.txt")
    stopped = crew.run("send", "m1", "--yes", code=2)
    assert "accepts 2 kB at most. Nothing was sent." in stopped.err
    assert crew.told("outbox", "show", "m1")["state"] == "waiting"


def test_a_disk_that_is_full_stops_the_sender_and_loses_nothing(office: Office, serve: Serve) -> None:
    """At whichever byte the book can no longer grow: whoever was accepted is known or doubtful, and nobody gets it twice."""
    mail = serve()
    many(office, 120)
    office.within("settings", "mail.per_message", "1")
    compose(office)
    end = (office.home / "barnacle.book").stat().st_size

    def full() -> None:
        # SIGXFSZ is ignored by Python: the write fails as on a full disk.
        resource.setrlimit(resource.RLIMIT_FSIZE, (end + 150_000, end + 150_000))

    process = office.start("send", "m1", "--yes", preexec_fn=full)
    told = "".join(piece.decode() for piece in process.communicate(timeout=HANGS))
    assert process.returncode == 1 and "disk" in told.lower() and "could not be written down" in told, told
    assert "Nothing was changed" not in told and re.search(
        r"sent in part\. \d+ accepted, (1 doubtful, )?\d+ waiting", told
    )
    first = {a: len(mail.copies(a)) for a in mail.addresses}
    now = states(office)
    assert first and all(now[a] in ("accepted", "doubtful") for a in first)
    rest = office.json("send", "m1", "--resume", "--yes", code=None)
    assert rest["accepted"] + rest["doubtful"] == 120 and max(len(mail.copies(a)) for a in mail.addresses) == 1


def test_a_clock_that_was_set_back_lifts_no_limit(crew: Office, serve: Serve) -> None:
    serve()
    crew.within("settings", "mail.per_hour", "2")
    compose(crew)
    crew.run("send", "m1", "--yes")
    book = sqlite3.connect(crew.book)
    book.execute("UPDATE delivery SET tried = strftime('%Y-%m-%dT%H:%M:%SZ', 'now', '+3 days')")
    book.commit()
    book.close()
    compose(crew)
    assert "Your limit of 2 an hour has been reached" in crew.run("send", "m2", "--yes", code=2).err


def test_a_book_in_use_by_another_stops_the_sender_before_anything_is_sent(crew: Office, serve: Serve) -> None:
    mail = serve()
    compose(crew)
    held = sqlite3.connect(crew.book, isolation_level=None)
    held.execute("BEGIN IMMEDIATE")
    ran = crew.run("send", "m1", "--yes", code=2)
    assert "Another Barnacle command is writing" in ran.err and mail.addresses == set()
    held.close()
    assert crew.json("send", "m1", "--yes")["accepted"] == 2


def test_dots_long_lines_and_from_lines_arrive_as_written(crew: Office, serve: Serve) -> None:
    mail = serve()
    body = ".\n..two\nFrom here\n" + "long " * 400 + "\n\nTschüß – ☂\n\n"
    compose(crew, "--body", str(crew.file("body.txt", body)))
    crew.run("send", "m1", "--yes")
    read = message_from_bytes(mail.copies("bo@tidewick.example")[0], policy=policy.default)
    assert read.get_content().replace("\r\n", "\n") == body


def test_the_stand_in_keeps_to_its_folder(office: Office, serve: Serve) -> None:
    import smtplib

    mail = serve()
    host, port = mail.url.removeprefix("smtp://").split(":")
    with smtplib.SMTP(host, int(port)) as smtp:
        smtp.sendmail("a@kelp.example", ["../../evil@kelp.example", "..@kelp.example"], b"Subject: x\r\n\r\nhi\r\n")
    assert not list(Path(office.folder).glob("evil*")) and len(mail.addresses) == 2
    assert all("/" not in a and not a.startswith(".") for a in mail.addresses)
