"""One's own mailbox: read and left as it is, and the copy of what was sent; later, to oneself first, as somebody else."""

from __future__ import annotations

import contextlib
import email
import imaplib
import os
import re
import shutil
import socket
import sqlite3
import stat
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage

import pytest
from conftest import Mail, Office, told_by
from servers import BELOW_INBOX, imap_server

from barnacle.book import sums
from barnacle.core.moments import in_utc, read_moment
from barnacle.core.moments_meant import moment_meant
from barnacle.net import imap
from barnacle.net.credentials import Credentials
from barnacle.net.server import Server

ME, USER = "maren@tidewick.example", "maren%40tidewick.example"


class Box:
    """A mailbox at a real server, and what another program does with it."""

    def __init__(self, place: str) -> None:
        host, _, port = place.partition(":")
        self.url = f"imap://{USER}@{place}"
        self.other = imaplib.IMAP4(host, int(port))
        self.other.login(ME, "flood-gate")

    def put(self, *messages: str | bytes, folder: str = "INBOX") -> None:
        for one in messages:
            raw = one.encode() if isinstance(one, str) else one
            assert self.other.append(folder, None, None, re.sub(rb"\r?\n", b"\r\n", raw))[0] == "OK"

    def inside(self, folder: str = "INBOX") -> list[tuple[str, EmailMessage]]:
        """Flags and message, for each."""
        self.other.select(folder, readonly=True)
        _, (numbers,) = self.other.search(None, "ALL")
        found = []
        for number in numbers.split():
            _, parts = self.other.fetch(number, "(FLAGS BODY.PEEK[])")
            head, raw = parts[0]
            found.append((head.decode(), email.message_from_bytes(raw, _class=EmailMessage)))
        self.other.unselect()
        return found


@pytest.fixture
def box(crew: Office) -> Iterator[Box]:
    with imap_server() as (place, _):
        one = Box(place)
        crew.environment["BARNACLE_MAIL_PASSWORD"] = "flood-gate"
        crew.within("setup", "--mailbox", one.url)
        yield one
        one.other.logout()


def letter(sender: str, to: str, subject: str, text: str = "Hello.", more: str = "") -> str:
    return (
        f"From: {sender}\nTo: {to}\nSubject: {subject}\nDate: Sat, 28 Nov 2026 10:00:00 +0000\n"
        f"Message-ID: <{abs(hash((sender, to, subject)))}@kelp.example>\n{more}\n{text}\n"
    )


REPORT = """From: Mail Delivery <mailer-daemon@post.tidewick.example>
To: maren@tidewick.example
Subject: Undelivered mail
Content-Type: multipart/report; report-type=delivery-status; boundary=x

--x

It did not work.
--x
Content-Type: message/delivery-status

Reporting-MTA: dns; post.tidewick.example

Final-Recipient: rfc822; {address}
Action: failed
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 no such person here

--x
Content-Type: text/rfc822-headers

{headers}
--x--
"""


def sent_one(crew: Office, mail: Mail) -> tuple[str, str]:
    """A message sent to the crew; its number, and its header as one of them got it."""
    number = crew.json("compose", "--for", "Crew", "--subject", "Slipway", "--text", "Closed.")["message"]
    crew.run("send", number, "--yes")
    (raw,) = mail.copies("bo@tidewick.example")
    return number, raw.decode().partition("\r\n\r\n")[0].replace("\r\n", "\n")


def kept_last(crew: Office, number: int) -> None:
    """Change which message the book takes for the last that was read."""
    with contextlib.closing(sqlite3.connect(crew.book)) as db, db:
        db.execute("UPDATE mailbox_read SET last = ?", (number,))


def test_the_mailbox_is_read_and_left_as_it_is(crew: Office, box: Box, serve: Callable[..., Mail]) -> None:
    mail = serve()
    _, headers = sent_one(crew, mail)
    box.put(
        letter("Ada Holm <ada@kelp.example>", ME, "Berths"),
        letter(f"Maren Holt <{ME}>", "cy@gull.example", "Yes"),
        REPORT.format(address="bo@tidewick.example", headers=headers),
        letter("News <news@kelp.example>", ME, "Our offers", "unsubscribe", "List-Id: <news.kelp.example>\n"),
    )
    found = crew.json("gather")
    assert {(one["address"], one["sent"], one["heard"]) for one in found["people"]} == {
        ("ada@kelp.example", 0, 1),
        ("cy@gull.example", 1, 0),
    }
    came = crew.json("returns")
    assert [(one["address"], one["state"]) for one in came["marked"]] == [("bo@tidewick.example", "fails")]
    assert came["messages"] == 4
    assert all(flags.count("\\Seen") == 0 for flags, _ in box.inside()), "nothing is marked as seen"
    # The next time it is only what is new; a folder that is numbered anew is read again, and said.
    again = crew.json("gather")
    assert (again["new"], again["messages"], again["people"]) == (0, 4, found["people"])
    assert crew.json("returns")["messages"] == 0
    # Where the server says that nothing in a folder has changed, it is not even asked what came after the last one.
    kept_last(crew, 1)
    assert crew.json("gather")["new"] == 0
    kept_last(crew, 4)
    box.put(letter("Dot Fly <dot@kelp.example>", ME, "Keys"))
    more = crew.json("gather")
    assert (more["new"], more["messages"], len(more["people"])) == (1, 5, 3)
    anew = crew.json("gather", "--everything")
    assert (anew["new"], anew["messages"], anew["people"]) == (5, 5, more["people"])
    assert crew.json("gather", "--since", "2026-11-29")["messages"] == 0, "by the day that it was written"
    crew.run("book", "mend", "mended.book")
    assert crew.json("gather", "--book", "mended.book")["people"] == more["people"], "nobody is missing for it"
    assert crew.json("gather", "--at-least", "1", "--into", "Regulars")["members"] == 3
    box.other.create("Old")
    box.put(letter("Eve Gull <eve@gull.example>", ME, "Old"), folder="Old")
    assert crew.json("gather", "--folder", "Old")["messages"] == 1
    box.other.delete("Old")
    time.sleep(1.1)  # the server names folders by the second
    box.other.create("Old")
    box.put(letter("Eve Gull <eve@gull.example>", ME, "Old"), folder="Old")
    again = crew.run("gather", "--folder", "Old")
    assert "has numbered Old anew" in again.out and "eve@gull.example" in again.out
    err = crew.run("gather", "--folder", "Nowhere", code=2).err
    assert "no folder Nowhere" in err and "INBOX" in err
    assert "leave the file out" in crew.run("returns", "--watch", str(crew.file("x.mbox", "From x\n")), code=2).err


def test_what_was_dealt_with_is_moved_only_where_one_says_so(
    crew: Office, box: Box, serve: Callable[..., Mail]
) -> None:
    _, headers = sent_one(crew, serve())
    box.put(
        letter("Ada Holm <ada@kelp.example>", ME, "Berths"),
        REPORT.format(address="bo@tidewick.example", headers=headers),
    )
    out = crew.run("returns", "--file-away", "Returned").out
    assert "1 message moved to Returned" in out
    assert [m["Subject"] for _, m in box.inside()] == ["Berths"]
    assert [m["Subject"] for _, m in box.inside("Returned")] == ["Undelivered mail"]


class Between:
    """A line to a mailbox server that takes no message while a folder is open to be read, as some servers do not."""

    def __init__(self, place: str) -> None:
        self.host, _, self.at = place.partition(":")
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            here, _ = self.socket.accept()
            there = socket.create_connection((self.host, int(self.at)))
            threading.Thread(target=self._back, args=[there, here], daemon=True).start()
            threading.Thread(target=self._on, args=[here, there], daemon=True).start()

    def _back(self, there: socket.socket, here: socket.socket) -> None:
        with contextlib.suppress(OSError), here:
            while some := there.recv(1 << 16):
                here.sendall(some)

    def _on(self, here: socket.socket, there: socket.socket) -> None:
        is_open = False
        with contextlib.suppress(OSError), there, here.makefile("rb") as lines:
            for line in lines:
                tag, _, rest = line.partition(b" ")
                if rest.startswith((b"EXAMINE", b"CLOSE")):
                    is_open = rest.startswith(b"EXAMINE")
                if is_open and rest.startswith(b"APPEND"):
                    here.sendall(tag + b" NO Current box is selected READ-ONLY.\r\n")
                else:
                    there.sendall(line)


def test_folders_are_found_where_all_are_below_inbox_and_nothing_says_what_they_are_for(
    crew: Office, serve: Callable[..., Mail]
) -> None:
    with imap_server(folders=BELOW_INBOX) as (place, _):
        crew.environment["BARNACLE_MAIL_PASSWORD"] = "flood-gate"
        said = crew.within("setup", "--mailbox", f"imap://{USER}@127.0.0.1:{Between(place).port}")
        assert "Drafts go to INBOX.Entwürfe" in said.out
        box = Box(place)
        mail = serve()
        number, headers = sent_one(crew, mail)
        ((_, copy),) = box.inside("INBOX.Verzonden")
        assert copy["Subject"] == "Slipway" and number == "m1"
        draft = ("compose", "--for", "Crew", "--subject", "Rota", "--text", "See below.", "--draft-to", "imap")
        assert "INBOX.Entwürfe" in crew.run(*draft).out
        box.put(REPORT.format(address="bo@tidewick.example", headers=headers))
        crew.run("returns", "--file-away", "Done/2026")
        assert [m["Subject"] for _, m in box.inside("INBOX.Done.2026")] == ["Undelivered mail"]
        assert crew.json("gather", "--folder", "verzonden", "--folder", "INBOX.Verzonden")["messages"] == 1
        assert crew.json("returns", "--folder", "Done/2026")["messages"] == 1
        err = crew.run("gather", "--folder", "Nowhere", code=2).err
        assert "no folder Nowhere. It has INBOX, INBOX.Done" in err
        box.other.logout()


def test_new_mail_is_read_as_it_comes(crew: Office, box: Box, serve: Callable[..., Mail]) -> None:
    _, headers = sent_one(crew, serve())
    with told_by(crew, "returns", "--watch") as hears:
        hears("out", "Waiting for new mail")
        box.put(REPORT.format(address="bo@tidewick.example", headers=headers))
        hears("out", "bo@tidewick.example")
    assert crew.told("contact", "show", "bo@tidewick.example")["failing"]


def test_a_copy_of_what_was_sent_goes_to_the_folder_for_that_once(
    crew: Office, box: Box, serve: Callable[..., Mail]
) -> None:
    mail = serve()
    number, _ = sent_one(crew, mail)
    ((flags, copy),) = box.inside("Gesendet")
    assert "\\Seen" in flags and copy["Bcc"] is None
    (got,) = mail.copies("bo@tidewick.example")
    assert copy["Message-ID"] == email.message_from_bytes(got)["Message-ID"]
    crew.run("send", number, code=None)
    assert len(box.inside("Gesendet")) == 1, "once, however often one sends"
    crew.within("settings", "mail.sent_bcc", "true")
    sent_one_more = crew.json("compose", "--for", "Crew", "--subject", "Second", "--text", "Open.")["message"]
    assert "Gesendet" in crew.run("send", sent_one_more, "--yes").out
    assert "bo@tidewick.example" in box.inside("Gesendet")[1][1]["Bcc"]
    each = crew.json("compose", "--for", "Crew", "--each", "--subject", "Third", "--text", "Dear {given|you}")[
        "message"
    ]
    crew.run("send", each, "--yes")
    assert len(box.inside("Gesendet")) == 3, "of what went to each, one"
    # The mailbox is not there: the sending does not suffer, and it is caught up later.
    crew.within("settings", "mail.mailbox", f"imap://{USER}@127.0.0.1:9")
    late = crew.json("compose", "--for", "Crew", "--subject", "Fourth", "--text", "Late.")["message"]
    done = crew.run("send", late, "--yes")
    assert "No copy is in your folder" in done.out and "tries it again" in done.out
    crew.within("settings", "mail.mailbox", box.url)
    crew.run("returns")
    assert [m["Subject"] for _, m in box.inside("Gesendet")][3:] == ["Fourth"]
    crew.within("settings", "mail.sent_copy", "false")
    none = crew.json("compose", "--for", "Crew", "--subject", "Fifth", "--text", "None.")["message"]
    crew.run("send", none, "--yes")
    assert len(box.inside("Gesendet")) == 4


def test_to_oneself_first_changes_nothing(crew: Office, serve: Callable[..., Mail]) -> None:
    mail = serve()
    number = crew.json("compose", "--for", "Crew", "--each", "--subject", "For {given}", "--text", "Dear {given|you},")[
        "message"
    ]
    before = crew.told("outbox", "show", number)
    crew.within("contact", "add", "Cy Dale <cy@pier.example>")
    out = crew.run("send", number, "--test", "--as", "bo@tidewick.example").out
    assert f"{number} itself is as it was" in out
    (raw,) = mail.copies(ME)
    test = email.message_from_bytes(raw)
    assert test["Subject"] == "For Bo" and "Dear Bo," in test.get_payload()
    assert crew.told("outbox", "show", number) == before and mail.addresses == {ME}
    crew.run("send", number, "--test-to", "ida@kelp.example")
    assert len(mail.copies("ida@kelp.example")) == 1
    assert "not among those" in crew.run("send", number, "--test", "--as", "cy@pier.example", code=2).err
    crew.run("send", number, "--yes")
    (real,) = mail.copies("bo@tidewick.example")
    real_one = email.message_from_bytes(real)
    assert real_one["Message-ID"] != test["Message-ID"] and real_one["List-Unsubscribe"] != test["List-Unsubscribe"]
    assert (real_one["Subject"], real_one.get_payload()) == (test["Subject"], test.get_payload())


def test_from_the_office_and_not_from_me(crew: Office, serve: Callable[..., Mail]) -> None:
    mail = serve()
    own = Mail(Office(crew.folder / "office")) if (crew.folder / "office").mkdir() is None else None
    assert own is not None
    crew.run(
        "setup", "--sender", "Harbour Office <office@tidewick.example>", "--mail", own.url, "--signature", "The office"
    )
    crew.within("settings", "mail.signature", "Maren")
    number = crew.json(
        "compose",
        "--for",
        "Crew",
        "--from",
        "office",
        "--reply-to",
        "desk@tidewick.example",
        "--subject",
        "Dues",
        "--text",
        "Please pay.",
    )["message"]
    crew.run("send", number, "--test")
    assert len(own.copies(ME)) == 1 and not own.copies("office@tidewick.example"), "to oneself, not to the office"
    crew.run("send", number, "--yes")
    (raw,) = own.copies("bo@tidewick.example")
    got = email.message_from_bytes(raw)
    assert (got["From"], got["To"]) == ("Harbour Office <office@tidewick.example>",) * 2
    assert got["Reply-To"] == "desk@tidewick.example" and "The office" in got.get_payload() and not mail.addresses
    # Where answers go is seen by everybody: somebody who gets the message does not stand there unasked.
    args = ["compose", "--for", "Crew", "--reply-to", "bo@tidewick.example", "--subject", "x", "--text", "y"]
    assert "bo@tidewick.example" in crew.run(*args, code=2).err
    # A list may have a usual sender; what one says counts more.
    crew.run("list", "sender", "Crew", "Harbour")
    assert "You write to Crew as office" in crew.run("list", "sender", "Crew").out, "to look changes nothing"
    assert crew.told("list", "show", "Crew")["sender"] == "office"
    usual = crew.json("compose", "--for", "Crew", "--subject", "Dues", "--text", "Again.")
    assert "office@" in usual["from"]
    assert ME in crew.json("compose", "--for", "Crew", "--from", "me", "--subject", "x", "--text", "y")["from"]
    crew.run("undo"), crew.run("undo"), crew.run("undo")
    assert crew.told("list", "show", "Crew")["sender"] is None
    crew.run("list", "sender", "Crew", "office")
    assert crew.json("list", "sender", "Crew", "--none")["sender"] is None
    assert (
        "There is no sender nobody"
        in crew.run("compose", "--for", "Crew", "--from", "nobody", "--subject", "x", "--text", "y", code=2).err
    )
    crew.run("setup", "--remove-sender", "office")
    assert "There is no sender office" in crew.run("list", "sender", "Crew", "office", code=2).err
    own.stop()


def test_texts_that_come_back_every_month(crew: Office) -> None:
    first = crew.json(
        "compose", "--for", "Crew", "--each", "--subject", "Rota", "--text", "Dear {given|you},\nthe rota."
    )["message"]
    crew.run("text", "keep", "Monthly rota", first)
    again = crew.json("compose", "--for", "Crew", "--use", "monthly", "--each")["message"]
    shown = crew.told("preview", again)
    assert shown["headers"]["Subject"] == "Rota" and "the rota." in shown["text"]
    other = crew.json("compose", "--for", "Crew", "--use", "Monthly rota", "--subject", "December")["message"]
    assert crew.told("preview", other)["headers"]["Subject"] == "December"
    assert [one["name"] for one in crew.told("text")] == ["Monthly rota"]
    crew.run("text", "remove", "Monthly rota")
    assert (
        crew.told("text") == [] and "There is no text" in crew.run("compose", "--for", "Crew", "--use", "x", code=2).err
    )
    crew.run("undo")
    assert crew.told("text", "show", "Monthly rota")["subject"] == "Rota"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Friday 07:30", "2026-12-04 07:30"),
        ("fri 7.30", "2026-12-04 07:30"),
        ("sunday 9:00", "2026-12-06 09:00"),
        ("Sunday 23:00", "2026-11-29 23:00"),
        ("tomorrow 6 pm", "2026-11-30 18:00"),
        ("07:30", "2026-11-30 07:30"),
        ("23:59", "2026-11-29 23:59"),
        ("2026-12-24 at 12:00 am", "2026-12-24 00:00"),
        ("24.12. 18:00", "2026-12-24 18:00"),
        ("sat 9:00", "2026-12-05 09:00"),
        ("24 Oct at 18:00", "2027-10-24 18:00"),
        ("12/24/2026 6pm", "2026-12-24 18:00"),
        ("4/12/2026, 18:00", "2026-12-04 18:00"),
        ("Dec 24th at 9am", "2026-12-24 09:00"),
        ("1 March 8:00", "2027-03-01 08:00"),
        ("Friday 4 December 9:00", "2026-12-04 09:00"),
        ("2026-12-24T18:00", "2026-12-24 18:00"),
        ("in an hour", "2026-11-29 21:00"),
        ("this friday noon", "2026-12-04 12:00"),
        ("9am friday", "2026-12-04 09:00"),
        ("18:00 on 24 Dec", "2026-12-24 18:00"),
        ("friday 18h30", "2026-12-04 18:30"),
        ("18h 30 December", "2026-12-30 18:00"),
        ("4.12. 8 Uhr", "2026-12-04 08:00"),
        ("friday 18 Uhr 30", "2026-12-04 18:30"),
        ("in half an hour", "2026-11-29 20:30"),
        ("tomorrow morning at 9", "2026-11-30 09:00"),
        ("tonight 9", "2026-11-29 21:00"),
        ("Friday evening at 7:30", "2026-12-04 19:30"),
        ("friday night at 1", None),
        ("tomorrow evening 12:30", None),
        ("friday morning 14:00", None),
        ("Monday 4 December 9:00", None),
        ("24/12/26 18:00", None),
        ("next friday 9:00", None),
        ("today 25:00", None),
        ("Friday", None),
        ("7", None),
        ("13 pm", None),
        ("2026-02-30 08:00", None),
        ("fr 8:00", None),
        ("soon 8:00", None),
    ],
)
def test_moments_as_people_say_them(text: str, expected: str | None) -> None:
    at = read_moment(text, datetime(2026, 11, 29, 20, 0))
    assert (at and f"{at:%Y-%m-%d %H:%M}") == expected


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("friday", "At what time on Friday 4 December 2026? Write it like `friday 07:30`."),
        ("tomorrow morning", "At what time on Monday 30 November 2026? Write it like `tomorrow 07:30`."),
        ("first thing monday", "At what time on Monday 30 November 2026? Write it like `monday 07:30`."),
        ("9am next friday", "`next friday` may be either: write `4 December 9am` or `11 December 9am`."),
        ("next sunday", "`next sunday` may be either: write `6 December 07:30` or `13 December 07:30`."),
        ("friday at 3", "3 in the morning or later in the day? Write `friday 03:00` or `friday 15:00`."),
        ("18", "Write it with minutes: `18:00`."),
        ("tomorow 9am", "Did you mean `tomorrow 9am`?"),
        (
            "2026-12-05 09:00 CET",
            "Times are those of this computer's clock: write `2026-12-05 09:00`, without a time zone.",
        ),
        (
            "2026-12-05T09:00+01:00",
            "Times are those of this computer's clock: write `2026-12-05T09:00`, without a time zone.",
        ),
        ("friday 0830", "Write it like `friday 08:30`."),
        ("31 november 8:00", "There is no 31 November. Write a day that there is, like `30 November 18:00`."),
        ("yesterday", "Saturday 28 November 2026 is over. Write a time to come, like `tomorrow 07:30`."),
        ("Now", "Without --at it is sent at once."),
        ("soon", "`soon` is not a time. Write it like `Friday 07:30`, `tomorrow 18:00` or `2026-12-04 07:30`."),
    ],
)
def test_a_time_that_is_none_is_asked_about(text: str, told: str) -> None:
    now = datetime(2026, 11, 29, 20, 0)
    assert read_moment(text, now) is None and moment_meant(text, now) == told
    for better in re.findall("`(.*?)`", told):
        assert better == text.lower() or better.startswith("next") or read_moment(better, now), better


def set_due(office: Office, number: str, at: str) -> None:
    with contextlib.closing(sqlite3.connect(office.book)) as db, db:
        sums.teach(db)
        db.execute("UPDATE message SET doc = json_set(doc, '$.due', ?) WHERE id = ?", (at, number[1:]))
        sums.renew(db, "message", int(number[1:]))


def test_later_and_what_is_due_is_sent_once(crew: Office, serve: Callable[..., Mail]) -> None:
    mail = serve()
    numbers = [
        crew.json("compose", "--for", "Crew", "--subject", f"No {n}", "--text", "Hi.")["message"] for n in range(3)
    ]
    soon = datetime.now(UTC) + timedelta(hours=2)
    for number in numbers:
        kept = crew.run("send", number, "--at", f"{soon:%Y-%m-%d %H:%M}", "--yes").out
        assert ", is kept for " in kept and "`barnacle send --due`, run then, sends it" in kept
    for shown in (crew.run("outbox"), crew.run(), crew.run("outbox", "show", numbers[0])):
        assert ", due " in shown.out and "overdue" not in shown.out
    set_due(crew, numbers[1], "2026-11-01T08:00:00Z")
    for shown in (crew.run("outbox"), crew.run(), crew.run("outbox", "show", numbers[1])):
        assert "waiting, overdue since 2026-11-01" in shown.out
    assert f"Next: {numbers[1]} is overdue" in crew.run().out
    assert (
        "1 message overdue:" in crew.run("outbox", "late").out
        and "3 messages with a time" in crew.run("outbox", "due").out
    )
    set_due(crew, numbers[1], in_utc(soon))
    assert "Nothing is due" in crew.run("send", "--due").out and not mail.addresses
    crew.run("send", numbers[0], "--at", "never")
    crew.within("outbox", "edit", numbers[1], "--subject", "Another")
    assert crew.told("outbox", "show", numbers[1])["due"] is None, "what was changed is to be looked at anew"
    assert "is over" in crew.run("send", numbers[1], "--at", "2020-01-01 10:00", "--yes", code=2).err
    assert "is not a time" in crew.run("send", numbers[1], "--at", "soonish", "--yes", code=2).err
    set_due(crew, numbers[2], in_utc(datetime.now(UTC) - timedelta(minutes=1)))  # the time has come
    done = crew.json("send", "--due")
    assert [one["message"] for one in done["sent"]] == [numbers[2]] and len(mail.copies("bo@tidewick.example")) == 1
    assert crew.json("send", "--due") == {"sent": [], "too_late": []}
    # What is over a day late is not sent without a look.
    crew.run("send", numbers[1], "--at", "tomorrow 8:00", "--yes")
    set_due(crew, numbers[1], "2026-11-01T08:00:00Z")
    late = crew.run("send", "--due", code=1)
    assert crew.json("send", "--due", code=1) == {"sent": [], "too_late": [numbers[1]]}, (
        "one value, whatever went wrong"
    )
    assert "over a day ago" in late.err and len(mail.copies("bo@tidewick.example")) == 1


def test_a_timer_is_set_after_a_yes(crew: Office) -> None:
    programs = crew.folder / "bin"
    programs.mkdir()
    for name, script in {
        "crontab": 'if [ "$1" = -l ]; then cat "$HOME/tab" 2>/dev/null; else cat >"$HOME/tab"; fi',
        "systemctl": "exit 1",
    }.items():
        path = programs / name
        path.write_text(f"#!/bin/sh\n{script}\n")
        path.chmod(path.stat().st_mode | stat.S_IXUSR)
    crew.environment |= {"PATH": f"{programs}:{os.environ['PATH']}", "HOME": str(crew.folder)}
    crew.file("tab", "0 5 * * * something\n")
    assert "Nothing was changed" in crew.run("send", "--timer", code=2).err
    for _ in range(2):
        crew.run("send", "--timer", "--yes")
    lines = (crew.folder / "tab").read_text().splitlines()
    before = (programs / "crontab").read_text()
    (programs / "crontab").write_text(
        '#!/bin/sh\n[ "$1" = -l ] && { echo "disk error" >&2; exit 1; }; cat >"$HOME/tab"\n'
    )
    assert "disk error" in crew.run("send", "--timer", "--yes", code=2).err, "what cannot be read is not written over"
    assert (crew.folder / "tab").read_text().splitlines() == lines
    (programs / "crontab").write_text(before)
    assert lines[0] == "0 5 * * * something" and len(lines) == 2 and lines[1].endswith("send --due --quiet")
    (programs / "systemctl").write_text('#!/bin/sh\necho "$@" >>"$HOME/asked"\n')
    crew.environment["XDG_CONFIG_HOME"] = str(crew.folder / "config")
    crew.run("send", "--timer", "--yes")
    unit = (crew.folder / "config/systemd/user/barnacle-send.service").read_text()
    assert "send --due --quiet" in unit and f"BARNACLE_HOME={crew.home}" in unit
    assert "enable --now barnacle-send.timer" in (crew.folder / "asked").read_text()
    # Whoever has a message wait is told whether anything looks for it.
    crew.run("compose", "--for", "Crew", "--subject", "Tides", "--text", "Low at ten.")
    crew.run("setup", "--mail", "smtp://127.0.0.1:1", code=None)
    later = ("send", "m1", "--at", "tomorrow 8:00", "--yes")
    assert "looks every five minutes for what is due, while it is on and you are signed in." in crew.run(*later).out
    (programs / "systemctl").write_text('#!/bin/sh\n[ "$2" != is-enabled ]\n')
    assert "`barnacle send --due`, run then, sends it" in crew.run(*later).out, "switched off since"
    (programs / "systemctl").write_text("#!/bin/sh\nexit 1\n")
    assert "looks every five minutes for what is due, while it is on." in crew.run(*later).out
    crew.environment["BARNACLE_HOME"] = str(shutil.copytree(crew.home, crew.folder / "another"))
    assert "`barnacle send --due`, run then, sends it" in crew.run(*later).out, "of another book"


def test_a_strange_mailbox_costs_a_sentence(crew: Office, talker: Callable[[Callable[..., None]], int]) -> None:
    crew.environment["BARNACLE_MAIL_PASSWORD"] = "x"

    def server(answers: dict[bytes, bytes]) -> Callable[..., None]:
        def talk(line: object) -> None:
            file = line.makefile("rwb")  # type: ignore[attr-defined]
            file.write(b"* OK [CAPABILITY IMAP4rev1] here\r\n")
            file.flush()
            for said in file:
                tag, _, rest = said.rstrip().partition(b" ")
                for word, answer in answers.items():
                    if word in rest.upper():
                        file.write(answer)
                        break
                file.write(tag + b" OK done\r\n")
                file.flush()

        return talk

    for space in (b'(("INBOX.")) NIL NIL', b"5", b"NIL", b'(("a" "b" "c"))', b'(("" NIL)) NIL NIL'):
        strange = {b"NAMESPACE": b"* NAMESPACE " + space + b"\r\n", b"LIST": b"* LIST () 5 Keys\r\n* LIST () NIL 7\r\n"}
        port = talker(server({b"CAPABILITY": b"* CAPABILITY IMAP4rev1 NAMESPACE\r\n", **strange}))
        with imap.Mailbox(Server("127.0.0.1", port, False, "maren", "imap"), Credentials(lambda: "x")) as box:
            assert (box.folders(), box.in_full("a/b"), box.in_full("keys")) == (["7", "Keys"], "a/b", "Keys")
    inside = b"* 5 EXISTS\r\n* OK [UIDVALIDITY 1] x\r\n* OK [UIDNEXT 6] x\r\n"
    capable = b"* CAPABILITY IMAP4rev1\r\n"
    for answers, word in (
        ({b"FETCH": b"* 1 FETCH (UID 1 BODY[HEADER.FIELDS (FROM)] {99999999999}\r\n"}, "too long"),
        ({b"FETCH": b"* 1 FETCH (UID 1 BODY[" + b"x" * (2 << 20) + b"\r\n"}, "does not end"),
        ({b"FETCH": b"* 1 FETCH nonsense((\r\n"}, "broke off"),
        ({b"EXAMINE": b"* BYE gone\r\n"}, "broke off"),
    ):
        port = talker(server({**answers, b"EXAMINE": answers.get(b"EXAMINE", inside), b"CAPABILITY": capable}))
        crew.within("settings", "mail.mailbox", f"imap://{USER}@127.0.0.1:{port}")
        err = crew.run("gather", code=2).err
        assert word in err or "broke off" in err, err
