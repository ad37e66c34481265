"""Messages to each by itself and open ones, what goes along, limits, and handing over to one's own mail program."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from email import message_from_bytes, policy
from email.message import EmailMessage
from urllib.parse import parse_qs, unquote, urlsplit

import pytest
from conftest import Mail, Office
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.mail import merge_fields
from barnacle.core.mail.delivery import allowance, done_by, pace_of
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.plan import Run
from barnacle.jobs.mail.send import send

Serve = Callable[..., Mail]


def compose(office: Office, *more: str, code: int | None = 0) -> dict:  # type: ignore[type-arg]
    basic = [
        v
        for flag, value in (("--for", "Crew"), ("--subject", "Slipway"), ("--text", "Closed on Friday."))
        if flag not in more and not (flag == "--text" and "--body" in more)
        for v in (flag, value)
    ]
    return dict(office.within("compose", *basic, *more, "--json", code=code).json)


def read(raw: bytes) -> EmailMessage:
    message = message_from_bytes(raw, policy=policy.default)
    assert isinstance(message, EmailMessage)
    return message


def text_of(message: EmailMessage, kind: str = "plain") -> str:
    part = message.get_body((kind,))
    assert part is not None
    return str(part.get_content()).replace("\r\n", "\n")


def test_each_gets_a_message_of_their_own_with_the_fields_filled_in(crew: Office, serve: Serve) -> None:
    mail = serve()
    crew.within("contact", "edit", "bo", "--org", "Ebb Yard")
    made = compose(
        crew,
        "--each",
        "--subject",
        "For {given|you}",
        "--text",
        "Dear {given|neighbour},\nbraces {{stay}, {org|your boat} too.\nYours at {address}",
    )
    assert (made["mode"], made["recipients"], made["batches"]) == ("each", 2, 2)
    previewed = crew.run("preview", "m1", "--raw", "--as", "bo").raw
    assert crew.json("send", "m1", "--yes")["accepted"] == 2
    (to_bo,), (to_both,) = mail.copies("bo@tidewick.example"), mail.copies("berg@kelp.example")
    undated = re.compile(rb"\r\nDate: [^\r]*")
    assert undated.sub(b"", previewed) == undated.sub(b"", to_bo)
    bo, both = read(to_bo), read(to_both)
    assert (bo["To"], bo["Subject"]) == ("Bo Lund <bo@tidewick.example>", "For Bo")
    assert text_of(bo) == "Dear Bo,\nbraces {stay}, Ebb Yard too.\nYours at bo@tidewick.example\n"
    assert both["Subject"] == "For Per and Una" and "Dear Per and Una,\nbraces {stay}, your boat too." in text_of(both)
    assert bo["Message-ID"] != both["Message-ID"] and b"kelp.example" not in to_bo and b"bo@" not in to_both
    ways_out = [re.search("opt-out%20([0-9a-f]{16})", str(one["List-Unsubscribe"]))[1] for one in (bo, both)]  # type: ignore[index]
    assert ways_out[0] != ways_out[1]
    crew.file(
        "asked.mbox",
        f"From x Mon Jan  5 10:00:00 2026\nFrom: bo.at.sea@gull.example\nTo: maren@tidewick.example\nSubject: Re: opt-out {ways_out[0]}\nDate: Mon, 5 Jan 2026 10:00:00 +0000\n\n",
    )
    marked = crew.json("returns", "asked.mbox")["marked"]
    assert [(m["name"], m["state"]) for m in marked] == [("Bo Lund", "opted out")], (
        "told by the token, from another address"
    )


def test_fields_that_are_unknown_or_empty_stop_everything_before_the_first_is_sent(crew: Office, serve: Serve) -> None:
    mail = serve()
    stopped = compose(crew, "--each", "--text", "Dear {given},\nat {orgg}", code=2)
    assert "There is no field `{orgg}` (in the text, line 2)" in stopped["error"] and "held" in stopped["error"]
    crew.run("send", "m1", "--yes", code=2)
    mended = crew.json("outbox", "edit", "m1", "--text", "Dear {given}, at {org}", code=2)
    assert "`{org}` is empty for 2 people: Bo Lund, Per Berg and Una Berg" in mended["error"].replace(
        "Bo Lund and Per Berg and Una Berg", "Bo Lund, Per Berg and Una Berg"
    )
    assert mail.addresses == set() and crew.told("outbox")[0]["state"] == "held"
    assert crew.json("outbox", "edit", "m1", "--text", "Dear {given}, at {org|your yard}")["recipients"] == 2
    assert crew.told("outbox")[0]["state"] == "waiting"
    crew.within("contact", "edit", "bo", "--org", "c/o berg@kelp.example")
    assert "would show berg@kelp.example" in crew.run("send", "m1", "--yes", code=2).err and mail.addresses == set()
    assert "would show" in compose(crew, "--each", "--text", "Ask bo@kelp.example", code=2)["error"]
    assert compose(crew, "--text", "In other modes {braces} are plain.")["mode"] == "blind"


@pytest.mark.parametrize(
    ("written", "field"),
    [
        ("[Name]", "name"), ("[First name]", "given"), ("<<First_Name>>", "given"), ("«Vorname»", "given"),
        ("%name%", "name"), ("{{given}}", "given"), ("[nom de famille]", "family"), ("[insert date]", ""),
        ("[TBC]", ""), ("[Your company]", "org"), ("\\[Name\\]", "name"),
    ],
)  # fmt: skip
def test_a_place_left_open_is_said_before_the_message_goes(crew: Office, written: str, field: str) -> None:
    shown = written.replace("\\", "")
    for how in ("--each", "--blind"):
        out = crew.run("compose", "--for", "Crew", how, "--subject", "x", "--text", f"Dear all,\ndear {written}").out
        would = "not be filled in" if shown[0] == "{" and how == "--each" else "be sent as it is"
        assert f"`{shown}` (in the text, line 2) would {would}." in out
        each = f"`{{{field}}}` is filled in" if how == "--each" else f"`{{{field}}}` and --each, which fills it in"
        assert (each in out) if field else ("filled in for" not in out and "fills it in" not in out)


def test_what_stands_in_brackets_for_another_reason_is_no_place_left_open(crew: Office) -> None:
    text = "See [1], [sic], [the page](https://kelp.example/), <una@kelp.example>, <https://kelp.example/>, {braces}, 5% to 7% a day."
    assert "would" not in crew.run("compose", "--for", "Crew", "--subject", "[Crew] x", "--text", text).out
    out = crew.run(
        "compose", "--for", "Crew", "--subject", "Dear [Name]", "--text", "[date] [time] [place] [day] [name]"
    ).out
    assert "`[Name]` (in the subject)" in out and "2 more such places in the text." in out


def test_what_was_sent_a_moment_ago_is_not_sent_again_unnoticed(crew: Office, serve: Serve) -> None:
    serve()
    compose(crew, "--text", "Low at ten.")
    crew.run("send", "m1", "--yes")
    told = re.compile(r"m1, with the same subject and text, was accepted for (.*?) on \w+ \d+ \w+ \d{4}\.")
    first, more = ("compose", "--for", "Crew", "--subject"), ("--text", "Low at ten.")
    subject = crew.told("outbox")[0]["subject"]
    assert told.search(crew.run(*first, subject, *more).out)[1] == "all of them"  # type: ignore[index]
    assert told.search(crew.run("send", "m2", "--yes").out)[1] == "all of them"  # type: ignore[index]
    wider = crew.run(*first, subject, *more, "--also", "ada@harbour.example").out
    assert "for 2 of these 3 addresses on" in wider and wider.index("m2, with") < wider.index("m1, with")
    for other in ((*first, "Tides", *more), (*first, subject, "--text", "Low at eleven.")):
        assert "with the same" not in crew.run(*other).out
    assert "with the same" not in crew.run("compose", "--for", "ada@harbour.example", "--subject", subject, *more).out


def test_an_open_message_is_a_decision_with_a_number(crew: Office, serve: Serve) -> None:
    mail = serve()
    compose(crew, "--open", "--without", "bo")
    assert crew.json("preview", "m1")["sees_others"] and "OPEN" in crew.run("send", "m1", "--yes").out
    (copy,) = mail.copies("berg@kelp.example")
    assert read(copy)["To"] == "Per Berg and Una Berg <berg@kelp.example>"
    assert (
        "would show bo@kelp.example"
        in compose(crew, "--open", "--without", "bo", "--text", "Not bo@kelp.example", code=2)["error"]
    )
    crew.file("many.csv", "Name,E-mail\n" + "".join(f"Mate Nr{n},p{n:02}@kelp.example\n" for n in range(25)))
    crew.within("import", "many.csv", "--into", "Everyone")
    asked = compose(crew, "--for", "Everyone", "--open", code=2)["error"]
    assert "25 people would see each other's 25 addresses" in asked and "--open-to 25" in asked
    number = crew.told("outbox")[-1]["message"]
    crew.run("send", number, "--yes", code=2)
    crew.run("send", number, "--yes", "--open-to", "24", code=2)
    assert crew.json("send", number, "--yes", "--open-to", "25")["accepted"] == 25
    (copy,) = mail.copies("p07@kelp.example")
    assert len(read(copy)["To"].addresses) == 25
    assert compose(crew, "--for", "Everyone", "--open", "--open-to", "25")["batches"] == 1
    crew.within("settings", "mail.per_hour", "24")
    assert (
        "your settings allow at once (24)"
        in compose(crew, "--for", "Everyone", "--open", "--open-to", "25", code=2)["error"]
    )
    crew.within("settings", "mail.per_hour", "0")
    crew.within("settings", "mail.per_message", "20")
    assert (
        "An open message cannot be split"
        in compose(crew, "--for", "Everyone", "--open", "--open-to", "25", code=2)["error"]
    )


def test_markdown_and_files_go_along_and_are_searched_too(crew: Office, serve: Serve) -> None:
    mail = serve("--most-bytes", "60000")
    crew.file("notice.md", "# Slipway\n\n*Closed* on <b>Friday</b>, see [the plan](https://tidewick.example/plan).\n")
    (crew.folder / "Plan für Ada.bin").write_bytes(bytes(range(256)) * 20)
    crew.file("times.txt", "Friday 8 to 12\n")
    crew.within("settings", "mail.signature", "Maren Holt\\nTidewick")
    compose(crew, "--body", "notice.md", "--attach", "Plan für Ada.bin", "times.txt", code=2)
    assert "Plan für Ada.bin (of an unknown kind)" in crew.run("send", "m1", "--yes", code=2).err
    assert "could not be searched (of an unknown kind)" in crew.run("preview", "m1").out
    assert "times.txt, 1 kB: searched" in crew.run("preview", "m1").out
    first, again = (crew.run("preview", "m1", "--raw").raw for _ in range(2))
    assert first == again, "boundaries and all"
    crew.run("send", "m1", "--yes", "--allow-file", "Plan für Ada.bin")
    got = read(mail.copies("bo@tidewick.example")[0])
    assert text_of(got).startswith("# Slipway\n\n*Closed*") and text_of(got).endswith("\n-- \nMaren Holt\nTidewick\n")
    page = text_of(got, "html")
    assert "<h1>Slipway</h1>" in page and "<em>Closed</em>" in page and "&lt;b&gt;" in page and "<b>" not in page
    files = {one.get_filename(): one.get_payload(decode=True) for one in got.iter_attachments()}
    assert files == {"Plan für Ada.bin": bytes(range(256)) * 20, "times.txt": b"Friday 8 to 12\n"}
    crew.file("crew.txt", "Ask BO@kelp.example\n")
    assert "the text of crew.txt" in compose(crew, "--attach", "crew.txt", code=2)["error"]
    (crew.folder / "bo@kelp.example.pdf").write_bytes(b"%PDF")
    assert "the name of bo@kelp.example.pdf" in compose(crew, "--attach", "bo@kelp.example.pdf", code=2)["error"]
    assert "There is no file gone.pdf in" in compose(crew, "--attach", "gone.pdf", code=2)["error"]
    (crew.folder / "big.bin").write_bytes(b"x" * 70_000)
    big = compose(crew, "--attach", "big.bin")
    assert big["size"] > 90_000 and "accepts 60 kB at most" in crew.run("send", big["message"], "--yes", code=2).err


def test_a_name_in_markdown_is_a_name(crew: Office) -> None:
    crew.within("contact", "edit", "bo", "--name", "*Bo* <Lund>")
    compose(crew, "--each", "--markdown", "--text", "Dear {name},")
    raw = read(crew.run("preview", "m1", "--raw", "--as", "bo@tidewick.example").raw)
    assert "Dear *Bo* &lt;Lund&gt;," in text_of(raw, "html") and "Dear *Bo* <Lund>," in text_of(raw)


def test_limits_per_hour_and_day_hold_over_runs_and_say_when_to_go_on(crew: Office, serve: Serve) -> None:
    mail = serve()
    crew.file("many.csv", "Name,E-mail\n" + "".join(f"Mate Nr{n},p{n:02}@kelp.example\n" for n in range(7)))
    crew.run("import", "many.csv", "--into", "Everyone")
    crew.within("settings", "mail.per_hour", "5")
    compose(crew, "--for", "Everyone")
    first = crew.run("send", "m1", "--yes", code=1)
    assert "allow 5 addresses now; 2 must wait" in first.out and "Your limit of 5 an hour has been reached" in first.out
    assert re.search(
        r"blind, finishing at about \d\d:\d\d\..*--wait now, finishing at about (\w+ )?\d\d:\d\d\.",
        first.out,
        re.DOTALL,
    )
    assert len(mail.addresses) == 5
    assert "you can send more after" in crew.run("send", "m1", "--resume", "--yes", code=1).out
    compose(crew, "--for", "Everyone", "--each")
    assert "Nothing was sent" in crew.run("send", "m2", "--yes", code=2).err, "the limit is over all messages"
    crew.within("settings", "mail.per_hour", "0")
    crew.within("settings", "mail.per_day", "6")
    assert crew.json("send", "m1", "--resume", "--yes", code=1)["waiting"] == 1
    crew.within("settings", "mail.per_day", "0")
    assert crew.json("send", "m1", "--resume", "--yes")["state"] == "sent" and len(mail.copies("p03@kelp.example")) == 1


def test_at_a_limit_a_run_that_may_wait_goes_on_when_it_may(crew: Office, serve: Serve) -> None:
    """With a clock that the sender sets forward by sleeping."""
    mail, slept = serve(), []
    crew.file("many.csv", "Name,E-mail\n" + "".join(f"Mate Nr{n},p{n}@kelp.example\n" for n in range(4)))
    crew.within("import", "many.csv", "--into", "Everyone")
    crew.within("settings", "mail.per_hour", "2")
    compose(crew, "--for", "Everyone")

    run = Run(wait=True, confirm=lambda plan: True, sleep=slept.append, today=lambda: time.time() + sum(slept))
    done = send(Desk(home=crew.home), "m1", run)
    assert done.counts == {"accepted": 4} and len(mail.addresses) == 4
    assert 3_000 < sum(slept) < 4_200, "two an hour"


@given(st.lists(st.floats(0, 200_000), max_size=40), st.integers(0, 20), st.integers(0, 30))
def test_an_allowance_never_lets_a_window_hold_more_than_its_limit(
    moments: list[float], per_hour: int, per_day: int
) -> None:
    now = 150_000.0
    number, more_at = allowance(now, sorted(moments), per_hour, per_day)
    if number is None:
        assert not per_hour and not per_day
        return
    after = [min(m, now) for m in moments] + [now] * number
    for most, seconds in ((per_hour, 3600), (per_day, 86_400)):
        before = sum(now - seconds < min(m, now) for m in moments)
        assert not most or sum(now - seconds < m for m in after) <= max(most, before)
    if number == 0:
        assert more_at is not None and more_at > now
        next_at = done_by(now, sorted(moments), 1, per_hour, per_day, 0.0)
        assert next_at == pytest.approx(more_at), "the next to go is the one that the limit names"
        later = allowance(more_at + 0.001, sorted(m for m in moments if m <= now), per_hour, per_day)
        assert later.number is None or later.number > 0 or any(m > now for m in moments)


def test_of_two_limits_the_later_one_counts() -> None:
    assert allowance(100_000.0, [99_000.0, 99_500.0], 2, 2) == (0, 99_000.0 + 86_400)
    assert allowance(100_000.0, [99_000.0, 99_500.0], 2, 0) == (0, 99_000.0 + 3_600)
    assert allowance(100_000.0, [20_000.0, 99_500.0], 0, 2) == (0, 20_000.0 + 86_400)


def test_an_open_message_is_not_split_at_a_limit(crew: Office, serve: Serve) -> None:
    mail = serve()
    crew.within("contact", "edit", "Ida Rask", "--address", "ida@kelp.example")
    crew.within("settings", "mail.per_hour", "4")
    compose(crew, "--for", "ida@kelp.example", "bo@tidewick.example")
    crew.within("send", "m1", "--yes")
    compose(crew, "--open")
    paused = crew.json("send", "m2", "--yes", code=1)
    assert "limit of 4 an hour has been reached" in paused["paused"] and paused["waiting"] == 3
    assert mail.addresses == {"ida@kelp.example", "bo@tidewick.example"}
    assert [len(mail.copies(address)) for address in mail.addresses] == [1, 1]


def test_how_long_a_run_takes_is_told_from_the_last_one_and_the_limits() -> None:
    assert pace_of([0.0, 1.0]) == 0.1, "too few to tell"
    assert pace_of([float(n) for n in range(20)] + [5000.0 + n for n in range(20)]) == 1.0, "the pause does not count"
    assert done_by(1000.0, [], 100, 0, 0, 0.5) == 1050.0
    assert done_by(1000.0, [900.0], 10, 5, 0, 0.0) == 8100.0, "four now, the fifth at 4500, four at 4600, and the tenth"
    assert done_by(1000.0, [900.0] * 5, 1, 5, 0, 0.0) == 4500.0 and done_by(0.0, [], 21, 10, 20, 0.0) == 86_400.0


def test_a_message_like_another_changed_removed_and_explained(crew: Office, serve: Serve) -> None:
    serve()
    compose(crew, "--without", "bo")
    again = crew.json("compose", "--like", "m1", "--subject", "Again")
    assert again["recipients"] == 1 and "nobody has joined or left since" in again["notes"][-1]
    shown = crew.json("preview", "m2")
    assert shown["headers"]["Subject"] == "Again" and shown["text"] == "Closed on Friday.\n"
    assert "get m2 at berg@kelp.example, from: Crew" in crew.run("preview", "m2", "--why", "una").out
    crew.within("list", "new", "Pilots", "--where", "label is pilot")
    crew.within("contact", "prefer", "bo", "bo@kelp.example", "--in", "Pilots")
    crew.within("compose", "--for", "Pilots", "--subject", "x", "--text", "y")
    assert "Pilots, by its rule; address chosen for this list" in crew.run("preview", "m3", "--why", "bo").out
    crew.run("outbox", "remove", "m3")
    before = crew.told("outbox")
    assert crew.json("outbox", "edit", "m2", "--for", "Crew", "--without", "una", "--each")["mode"] == "each"
    crew.run("undo")
    assert crew.told("outbox") == before
    crew.run("outbox", "remove", "m2")
    assert len(crew.told("outbox")) == 1
    crew.run("undo")
    assert crew.told("outbox") == before
    crew.within("outbox", "edit", "m1", "--also", "ada@harbour.example")
    assert (
        crew.told("outbox", "show", "m1")["accepted"] == 0 and len(crew.told("outbox", "show", "m1")["recipients"]) == 2
    )
    crew.within("outbox", "edit", "m1", "--for", "una")
    assert [r["address"] for r in crew.told("outbox", "show", "m1")["recipients"]] == ["berg@kelp.example"], "no --also"
    crew.run("send", "m1", "--yes")
    crew.within("contact", "add", "Nils <nils@kelp.example>", "--label", "new")
    like = crew.json("compose", "--like", "m1", "--for", "una", "nils@kelp.example")
    like = crew.json("compose", "--like", like["message"])
    crew.within("contact", "edit", "nils", "--drop-address", "nils@kelp.example", "--address", "nils@gull.example")
    assert "--like m1" in crew.run("outbox", "edit", "m1", "--text", "x", code=2).err
    before = crew.told("outbox")
    assert "Nothing was removed." in crew.run("outbox", "remove", like["message"], "m1", code=2).err
    assert crew.told("outbox") == before
    crew.run("outbox", "remove", like["message"], "m2")
    assert len(crew.told("outbox")) == len(before) - 2
    crew.run("undo")
    assert crew.told("outbox") == before
    for wrong in (("--subject", "x", "--text", "y"), ("--for", "Crew", "--text", "y")):
        crew.run("compose", *wrong, code=2)


ENTRY = """BEGIN:VCALENDAR\r
VERSION:2.0\r
PRODID:-//Tidewick//Harbour//EN\r
METHOD:REQUEST\r
BEGIN:VEVENT\r
UID:slipway-2026-11-27@tidewick.example\r
DTSTART:20261127T080000Z\r
SUMMARY:Slipway closed while the crane is looked at by the people of the yard a\r
 nd of the trust\r
ATTENDEE;CN=Una:mailto:berg@kelp.example\r
ORGANIZER:mailto:somebody@else.example\r
END:VEVENT\r
END:VCALENDAR\r
"""


def entry_of(raw: bytes) -> tuple[str, str]:
    part = read(raw).get_body(("calendar",)) or next(
        p for p in read(raw).walk() if p.get_content_type() == "text/calendar"
    )
    return str(part["Content-Type"].params["method"]), re.sub("\n ", "", text_of_part(part))


def text_of_part(part: object) -> str:
    return str(part.get_content()).replace("\r\n", "\n")  # type: ignore[attr-defined]


def test_a_calendar_entry_names_nobody_or_exactly_that_one(crew: Office, serve: Serve) -> None:
    mail = serve()
    crew.file("closed.ics", ENTRY)
    compose(crew, "--invite", "closed.ics")
    crew.run("send", "m1", "--yes")
    method, entry = entry_of(mail.copies("bo@tidewick.example")[0])
    assert method == "PUBLISH" and "METHOD:PUBLISH" in entry and "ATTENDEE" not in entry
    assert (
        'ORGANIZER;CN="Maren Holt":mailto:maren@tidewick.example' in entry and "of the yard and of the trust" in entry
    )
    compose(crew, "--invite", "closed.ics", "--each")
    crew.run("send", "m2", "--yes")
    method, entry = entry_of(mail.copies("bo@tidewick.example")[1])
    assert method == "REQUEST" and entry.count("ATTENDEE") == 1
    assert 'ATTENDEE;CN="Bo Lund";PARTSTAT=NEEDS-ACTION;RSVP=TRUE:mailto:bo@tidewick.example' in entry
    assert all(
        len(line.encode()) <= 75
        for line in text_of_part(
            next(
                p for p in read(mail.copies("bo@tidewick.example")[1]).walk() if p.get_content_type() == "text/calendar"
            )
        ).split("\n")
    )
    crew.file("told.ics", ENTRY.replace("SUMMARY:Slipway", "SUMMARY:Ask berg@kelp.example"))
    assert "would show berg@kelp.example" in compose(crew, "--invite", "told.ics", code=2)["error"]
    for broken in (
        "",
        "BEGIN:VCALENDAR\nEND:VCALENDAR\n",
        ENTRY.replace("UID", "X-UID"),
        ENTRY.replace("Slipway", "Slip\x07way"),
    ):
        crew.file("broken.ics", broken)
        assert "broken.ics" in compose(crew, "--invite", "broken.ics", code=2)["error"]


def test_an_entry_that_is_taken_back_or_answered_keeps_its_meaning(crew: Office) -> None:
    crew.file(
        "back.ics", ENTRY.replace("METHOD:REQUEST", "METHOD:CANCEL").replace("SUMMARY", "STATUS:CANCELLED\r\nSUMMARY")
    )
    compose(crew, "--invite", "back.ics")
    method, entry = entry_of(crew.run("preview", "m1", "--raw").raw)
    assert method == "CANCEL" and "METHOD:CANCEL" in entry and "STATUS:CANCELLED" in entry and "X-BARNACLE" not in entry
    shown = crew.run("preview", "m1").out
    assert "2026-11-27 08:00 UTC (cancels the entry)" in " ".join(shown.split())
    answer = ENTRY.replace("METHOD:REQUEST", "METHOD:REPLY").replace("ATTENDEE;CN=Una", "ATTENDEE;PARTSTAT=DECLINED")
    crew.file("answer.ics", answer)
    compose(crew, "--invite", "answer.ics")
    method, entry = entry_of(crew.run("preview", "m2", "--raw").raw)
    assert method == "REPLY" and "ORGANIZER:mailto:somebody@else.example" in entry
    assert 'ATTENDEE;CN="Maren Holt";PARTSTAT=DECLINED:mailto:maren@tidewick.example' in entry and "berg@" not in entry
    crew.file("counter.ics", ENTRY.replace("METHOD:REQUEST", "METHOD:COUNTER"))
    assert "between two people" in compose(crew, "--invite", "counter.ics", code=2)["error"]


def test_setup_tries_the_server_and_says_what_it_offers(crew: Office, serve: Serve) -> None:
    mail = serve("--most-bytes", "33000000", "--most-recipients", "100")
    tried = crew.run("setup", "--mail", mail.url).out
    says = "messages up to 33 MB; at most 100 recipients at a time; 8BITMIME and SMTPUTF8."
    assert f"It works: the connection is not encrypted; {says}" in " ".join(tried.split())
    told = crew.json("setup", "--mail", mail.url)["server"]
    assert (
        told["smtputf8"]
        and told["most_octets"] == 33_000_000
        and told["most_recipients"] == 100
        and not told["trouble"]
    )
    mail.stop()
    kept = crew.json("setup", "--mail", mail.url, code=1)
    assert "nothing answers there" in kept["server"]["trouble"] and kept["mail"] == mail.url


def test_who_was_refused_can_be_made_a_list(crew: Office, serve: Serve) -> None:
    serve("--refuse", "bo@*")
    compose(crew)
    crew.run("send", "m1", "--yes", code=1)
    crew.within("list", "new", "To be called", "m1:refused")
    assert crew.members("To be called") == ["Bo Lund"]
    assert "Nobody of m1 is deferred" in crew.run("list", "add", "To be called", "m1:deferred", code=2).err
    assert "is not a recipient's state" in crew.run("list", "add", "To be called", "m1:lost", code=2).err


def test_a_text_is_written_in_the_editor_and_never_lost(crew: Office) -> None:
    crew.environment["EDITOR"] = "sed -i '1s/^/Dear all,/'"
    assert crew.json("compose", "--for", "Crew", "--subject", "Tides")["message"] == "m1"
    assert crew.json("preview", "m1")["text"] == "Dear all,\n"
    crew.environment["EDITOR"] = "true"
    assert "no text" in crew.run("compose", "--for", "Crew", "--subject", "Tides", code=2).err
    crew.environment["EDITOR"] = "false"
    kept = crew.run("compose", "--for", "Crew", "--subject", "Tides", code=2).err
    assert "Nothing was composed; your text is in" in " ".join(kept.split())


def test_a_draft_and_a_link_are_for_ones_own_mail_program(crew: Office, serve: Serve) -> None:
    mail = serve()
    made = compose(crew, "--draft-to", "draft.eml")
    path = crew.folder / "draft.eml"
    draft = read(path.read_bytes())
    hidden = [a.addr_spec for a in draft["Bcc"].addresses]
    assert sorted(hidden) == ["berg@kelp.example", "bo@tidewick.example"] and made["recipients"] == 2
    assert path.stat().st_mode & 0o777 == 0o600 and text_of(draft) == "Closed on Friday.\n"
    assert crew.told("outbox")[0]["state"] == "handed over"
    assert "handed over to your mail program" in crew.run("send", "m1", "--yes", code=2).err and mail.addresses == set()
    crew.run("undo")
    assert crew.told("outbox") == [], "one command, one change"
    link = urlsplit(compose(crew, "--mail-link", "--text", "Rose & Crown\nat 6?")["link"])
    asked = parse_qs(link.query)
    assert unquote(link.path) == "maren@tidewick.example" and asked["body"] == ["Rose & Crown\r\nat 6?"]
    assert set(asked["bcc"][0].split(",")) == {"bo@tidewick.example", "berg@kelp.example"} and asked["subject"] == [
        "Slipway"
    ]
    assert "cut off links after 2,000" in compose(crew, "--mail-link", "--text", "long " * 500, code=2)["error"]
    assert crew.told("outbox")[-1]["state"] == "waiting", "too long for a link, and not lost"
    assert "goes to each separately" in compose(crew, "--each", "--draft-to", "x.eml", code=2)["error"]


@pytest.mark.parametrize(
    ("text", "filled"),
    [("{given}", "Bo"), ("{ GIVEN |x}", "Bo"), ("{job|sailor}", "sailor"), ("{{given}", "{given}"), ("a } b {", "a } b {"), ("{job|}", "")],
)  # fmt: skip
def test_fields_are_filled_in(text: str, filled: str) -> None:
    cut = merge_fields.pieces(text)
    assert merge_fields.fill(cut, {"given": "Bo"}) == filled and merge_fields.missing(cut, {"given": "Bo"}) == []


def test_who_got_a_message_is_written_to_again_but_at_no_address_that_was_taken_off(crew: Office, serve: Serve) -> None:
    serve()
    crew.within("compose", "--for", "bo@kelp.example", "--subject", "x", "--text", "y")
    crew.within("send", "m1", "--yes")
    assert crew.json("compose", "--for", "m1:accepted", "--subject", "Again", "--text", "y")["recipients"] == 1
    assert crew.told("outbox", "show", "m2")["recipients"][0]["address"] == "bo@kelp.example"
    crew.within("contact", "edit", "bo", "--drop-address", "bo@kelp.example")
    assert crew.told("outbox", "show", "m2")["recipients"][0]["address"] == "bo@tidewick.example"
    added = crew.run("list", "new", "Got it", "m1")
    assert "bo@kelp.example" not in added.out and crew.members("Got it") == ["Bo Lund"]
