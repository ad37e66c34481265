"""What no well-behaved mail server does, and what servers of other hands do."""

from __future__ import annotations

import socket
import sqlite3
import time
from collections.abc import Callable, Iterator

import ldap3
import pytest
from conftest import Office
from faulty import AHEAD, Answer, Faulty
from fuzzing import LDAP_IS_IN, ldap_page

from barnacle.core.errors import DirectoryError, HubError, MailError
from barnacle.net import hub, imap, ldap
from barnacle.net.credentials import Credentials
from barnacle.net.server import Server
from barnacle.net.smtp import Submission


@pytest.fixture
def faulty(crew: Office) -> Iterator[Callable[[dict[str, list[Answer]]], Faulty]]:
    """Starts a faulty server, names it in the settings and composes m1, each of its two addresses a batch."""
    servers: list[Faulty] = []

    def start(script: dict[str, list[Answer]]) -> Faulty:
        server = Faulty(script)
        servers.append(server)
        crew.within("settings", "mail.server", server.url)
        crew.within("settings", "mail.pauses", "[0.05]")
        crew.within("settings", "mail.patience", "0")
        crew.within("settings", "mail.per_message", "1")
        crew.within("compose", "--for", "Crew", "--subject", "Tides", "--text", "Low at ten.")
        return server

    yield start
    for server in servers:
        server.stop()


@pytest.mark.parametrize(
    ("script", "code", "counts"),
    [
        # The server closes the line in the middle of the run; it goes on over a new one.
        ({"RCPT": ["421 closing down", "250 ok"]}, 0, {"accepted": 2}),
        ({"MAIL": ["421 too many connections", "250 ok"]}, 0, {"accepted": 2}),
        ({".": ["421 no disk, going away", "250 kept"]}, 0, {"accepted": 2}),
        ({"MAIL": ["250 ok", None, "250 ok"]}, 0, {"accepted": 2}),
        # Greylisting that ends, and one that does not.
        ({"RCPT": ["451 greylisted", "451 greylisted", "250 ok"]}, 0, {"accepted": 2}),
        ({"RCPT": ["450 greylisted"]}, 1, {"deferred": 2}),
        ({"MAIL": ["451 busy"]}, 1, {"deferred": 1, "waiting": 1}),  # the next one is not even asked about
        # The message itself: refused, deferred, refused before it was sent.
        ({".": ["554 looks like spam", "250 kept"]}, 1, {"accepted": 1, "refused_as_a_message": 1}),
        ({".": ["452 no room"]}, 1, {"deferred": 2}),
        ({"DATA": ["554 no valid recipients"]}, 1, {"refused_as_a_message": 2}),
        ({"DATA": ["451 not now", "354 go on"]}, 0, {"accepted": 2}),
        # Silence and rubbish where an answer should be.
        ({".": [None, "250 kept"]}, 1, {"accepted": 1, "doubtful": 1}),
        ({"DATA": [None, "354 go on"]}, 0, {"accepted": 2}),
        ({".": ["rubbish", "250 kept"]}, 1, {"accepted": 1, "doubtful": 1}),
        # Nobody is refused for good where the message is what the server does not want.
        ({"MAIL": ["553 5.1.8 not your address"]}, 1, {"refused_as_a_message": 2}),
        ({"MAIL": ["534 too big"], "RCPT": [""]}, 1, {"refused_as_a_message": 2}),  # the rest is never answered
        ({"RCPT": ["550 5.7.1 relaying denied"]}, 1, {"refused_as_a_message": 2}),
        ({"RCPT": ["550 no", "550 no"]}, 1, {"refused_as_a_message": 2}),
        ({"RCPT": ["550 no", "250 ok"]}, 1, {"accepted": 1, "refused": 1}),
        ({"RCPT": ["550 5.1.1 no such user"]}, 1, {"refused": 2}),
        ({".": ["552 5.3.4 too large"]}, 1, {"refused_as_a_message": 2}),
        # "Accepted" only where this message was taken after this dot.
        ({"DATA": ["250 kept"]}, 1, {"deferred": 2}),
        ({"DATA": ["354 go on\r\n250 kept"]}, 1, {"deferred": 2}),
        ({"RCPT": ["250 ok\r\n354 go on\r\n250 kept"]}, 1, {"deferred": 2}),
        ({"MAIL": ["250 ok\r\n250 ok"]}, 1, {"deferred": 2}),
        ({".": ["354 go on"]}, 1, {"doubtful": 2}),
        ({".": ["221 bye"]}, 1, {"doubtful": 2}),
        ({".": ["250 kept\r\n554 no, refused"]}, 1, {"doubtful": 2}),
        ({".": ["250 kept\r\n250 kept"]}, 1, {"doubtful": 2}),
        ({"MAIL": ["354 go on"]}, 1, {"deferred": 2}),
        ({"QUIT": ["554 it was spam\r\n221 bye"]}, 1, {"accepted": 1, "doubtful": 1}),
        ({"": ["220 hi\r\n250 ok\r\n250 ok\r\n250 ok\r\n354 go\r\n250 kept"]}, 2, None),
    ],
)
@pytest.mark.parametrize("ahead", [False, True], ids=["one by one", "ahead"])
def test_each_answer_leaves_each_recipient_in_the_right_state(
    crew: Office,
    faulty: Callable[[dict[str, list[Answer]]], Faulty],
    script: dict[str, list[Answer]],
    code: int,
    counts: dict[str, int] | None,
    ahead: bool,
) -> None:
    server = faulty(script | AHEAD if ahead else script)
    sent = crew.json("send", "m1", "--yes", code=code)
    if counts is None:
        assert server.messages == [] and "Nothing was sent" in sent["error"]
        return
    states = ("accepted", "refused", "refused_as_a_message", "deferred", "doubtful", "waiting")
    assert {state: sent[state] for state in states if sent[state]} == counts
    reached = [address for recipients, _ in server.messages for address in recipients]
    got = counts.get("accepted", 0) + counts.get("doubtful", 0)
    assert len(reached) == len(set(reached)) and counts.get("accepted", 0) <= len(reached) <= got, "nobody twice"


@pytest.mark.parametrize(
    ("script", "sentence"),
    [
        ({"": ["554 not for you"]}, "turned Barnacle away: 554 not for you. Nothing was sent."),
        ({"": [None]}, "cannot be reached (it closed the connection). Nothing was sent"),
        ({"EHLO": ["502 what?"], "HELO": ["502 what?"]}, "turned Barnacle away: 502 what?. Nothing was sent."),
    ],
)
def test_a_server_that_wants_nothing_of_us_leaves_all_waiting(
    crew: Office, faulty: Callable[[dict[str, list[Answer]]], Faulty], script: dict[str, list[Answer]], sentence: str
) -> None:
    faulty(script)
    ran = crew.run("send", "m1", "--yes", code=2)
    assert sentence in ran.out + ran.err
    assert {r["state"] for r in crew.told("outbox", "show", "m1")["recipients"]} == {"waiting"}
    crew.run("undo", code=None)


@pytest.mark.parametrize(
    ("script", "against"),
    [
        ({"MAIL": ["553 5.1.8 not yours"]}, "553 5.1.8 not yours"),
        ({"RCPT": ["553 5.7.1 Sender address rejected"]}, "553 5.7.1 Sender address rejected"),
        ({"RCPT": ["550 5.1.1 no such user"]}, ""),
        ({"MAIL": ["451 later"]}, ""),
        ({"MAIL": [None]}, ""),
    ],
)
def test_setup_says_where_a_server_lets_one_in_and_takes_no_mail(
    crew: Office, script: dict[str, list[Answer]], against: str
) -> None:
    server = Faulty(script)
    said = crew.run("setup", "--mail", server.url, code=1 if against else 0).out
    assert (f"takes no mail from this address ({against})" in said) if against else "It works" in said
    assert not server.messages and "DATA" not in server.lines
    server.stop()


@pytest.mark.parametrize(
    ("ways", "answer", "said"),
    [
        ("AUTH GSSAPI NTLM", "", "takes no password in a way that Barnacle knows (it offers GSSAPI, NTLM)"),
        ("AUTH CRAM-MD5", "334 abcde", "answers the name maren with what makes no sense"),
        ("auth plain", "535 5.7.8 no", "does not accept the name maren with this password (535 5.7.8 no)"),
    ],
)
def test_setup_says_why_a_password_gets_nobody_in(crew: Office, ways: str, answer: str, said: str) -> None:
    server = Faulty({"EHLO": [f"250-faulty.example\r\n250 {ways}"], "AUTH": [answer]})
    crew.environment["BARNACLE_MAIL_PASSWORD"] = "ebb"
    assert said in crew.run("setup", "--mail", server.url.replace("//", "//maren@"), code=1).out
    server.stop()


@pytest.mark.parametrize("to_nobody", ["503 no valid recipients", "354 go on"])
def test_a_message_for_nobody_is_not_handed_over_and_data_not_said_for_the_next_before_it_is_known(
    crew: Office, faulty: Callable[[dict[str, list[Answer]]], Faulty], to_nobody: str
) -> None:
    server = faulty({"RCPT": ["550 5.1.1 no such user", "250 ok"], "DATA": [to_nobody, "354 go on"], **AHEAD})
    sent = crew.json("send", "m1", "--yes", code=1)
    assert (sent["accepted"], sent["refused"]) == (1, 1)
    assert [recipients for recipients, _ in server.messages] == [["berg@kelp.example"]]
    said = [line.partition(" ")[0] for line in server.lines if not line.startswith(("EHLO", "QUIT", "RSET"))]
    assert said == ["MAIL", "RCPT", "DATA"] * 2


def test_what_a_server_says_cannot_steer_the_terminal(
    crew: Office, faulty: Callable[[dict[str, list[Answer]]], Faulty]
) -> None:
    faulty({"RCPT": ["550-\x1b[31mred\x07\r\n550 \u202eeman \x9b2J" + "x" * 900]})
    ran = crew.run("send", "m1", "--yes", code=1)
    shown = crew.run("outbox", "show", "m1")
    for text in (ran.out, shown.out):
        assert not set("\x1b\x07\x9b\u202e") & set(text) and "550" in text
    assert max(len(r["reply"]) for r in crew.told("outbox", "show", "m1")["recipients"]) <= 300


def test_the_envelope_is_all_that_names_recipients(
    crew: Office, faulty: Callable[[dict[str, list[Answer]]], Faulty]
) -> None:
    server = faulty({})
    crew.run("send", "m1", "--yes")
    spoken = [line for line in server.lines if line.startswith(("MAIL", "RCPT", "EHLO"))]
    assert spoken[0] == "EHLO [127.0.0.1]"
    assert [line for line in spoken if line.startswith("RCPT")] == [
        "RCPT TO:<bo@tidewick.example>",
        "RCPT TO:<berg@kelp.example>",
    ]
    assert all(line.startswith("MAIL FROM:<maren@tidewick.example> SIZE=") for line in spoken if "MAIL" in line)
    for recipients, content in server.messages:
        assert not any(address.encode() in content for address in ("bo@tidewick.example", "berg@kelp.example"))
        assert len(recipients) == 1


def test_a_book_that_cannot_be_written_stops_the_sender_before_the_dot(
    crew: Office, faulty: Callable[[dict[str, list[Answer]]], Faulty]
) -> None:
    server = faulty({})
    held = sqlite3.connect(crew.book, isolation_level=None, check_same_thread=False)
    answer = server._answer

    def lock_the_book(line: str) -> Answer:
        if line == "DATA" and not held.in_transaction:
            held.execute("BEGIN IMMEDIATE")
        return answer(line)

    server._answer = lock_the_book  # type: ignore[method-assign]
    ran = crew.run("send", "m1", "--yes", code=1)
    assert "Another Barnacle command is writing to this book, so that" in ran.out and "2 waiting" in ran.out
    assert server.messages == [] and "doubtful" not in ran.out
    held.execute("ROLLBACK")
    held.close()
    server._answer = answer  # type: ignore[method-assign]
    assert {r["state"] for r in crew.told("outbox", "show", "m1")["recipients"]} == {"waiting"}
    assert crew.json("send", "m1", "--resume", "--yes")["accepted"] == 2


def test_lines_that_are_lost_between_others_that_hold_do_not_end_the_run(crew: Office) -> None:
    server = Faulty({"DATA": [*[None, "354 go on"] * 6, "354 go on"]})
    crew.file("many.csv", "Name,E-mail\n" + "".join(f"Mate Nr{n},m{n:02}@kelp.example\n" for n in range(12)))
    crew.within("import", "many.csv", "--into", "Many")
    for key, value in (("server", server.url), ("pauses", "[]"), ("patience", "0"), ("per_message", "1")):
        crew.within("settings", f"mail.{key}", value)
    crew.within("compose", "--for", "Many", "--subject", "Tides", "--text", "Low at ten.")
    sent = crew.json("send", "m1", "--yes", code=1)
    assert (sent["trouble"], sent["accepted"], sent["deferred"]) == (None, 6, 6)
    server.stop()


@pytest.mark.parametrize("enough", ["452 4.5.3 Too many messages sent", "421 too many messages in this connection"])
def test_a_server_that_takes_so_many_messages_over_one_line_gets_the_rest_over_new_ones(
    crew: Office, enough: str
) -> None:
    server = Faulty({}, a_line=3, enough=enough)
    crew.file("many.csv", "Name,E-mail\n" + "".join(f"Mate Nr{n},m{n:02}@kelp.example\n" for n in range(8)))
    crew.within("import", "many.csv", "--into", "Many")
    for key, value in (("server", server.url), ("pauses", "[]"), ("patience", "0")):
        crew.within("settings", f"mail.{key}", value)
    crew.within("compose", "--for", "Many", "--each", "--subject", "Tides", "--text", "Dear {given}: low at ten.")
    assert crew.json("send", "m1", "--yes")["accepted"] == 8
    assert sorted(one for (one,), _ in server.messages) == [f"m{n:02}@kelp.example" for n in range(8)]
    assert sum(line.startswith("EHLO") for line in server.lines) == 3
    server.stop()


def drips(line: socket.socket) -> None:
    while True:
        line.sendall(b"2")
        time.sleep(0.1)


def endless_line(line: socket.socket) -> None:
    while True:
        line.sendall(b"220-" * 4096)


def endless_answer(line: socket.socket) -> None:
    while True:
        line.sendall(b"220-still greeting\r\n" * 100)


def endless_list(line: socket.socket) -> None:
    while True:
        line.sendall(b"* OK still here\r\n" * 100)


def then(begin: bytes, more: Callable[[socket.socket], None]) -> Callable[[socket.socket], None]:
    def talk(line: socket.socket) -> None:
        line.sendall(begin)
        more(line)

    talk.__name__ = f"{more.__name__}_later"
    return talk


ENDLESS = [drips, endless_line, endless_answer, then(b"220 hello\r\n", drips), then(b"220 hello\r\n", endless_answer)]


@pytest.mark.parametrize("talk", ENDLESS, ids=lambda one: one.__name__)
def test_a_mail_server_without_end_is_left(talker: Callable[..., int], talk: Callable[[socket.socket], None]) -> None:
    with pytest.raises(MailError, match=r"does not end|no answer in time|turned Barnacle away|was not asked for"):
        Submission(Server("127.0.0.1", talker(talk), False), Credentials(lambda: None), seconds=0.6)


@pytest.mark.parametrize(
    "talk",
    [drips, endless_line, then(b"* OK hello {999999999}\r\n", endless_line), then(b"* OK hello\r\n", endless_list)],
    ids=["drips", "line", "literal", "answer"],
)
def test_a_mailbox_without_end_is_left(
    talker: Callable[..., int], talk: Callable[[socket.socket], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(imap, "READ_SECONDS", 0.8)
    monkeypatch.setattr(imap, "WHOLE_SECONDS", 1.0)
    with pytest.raises(MailError, match=r"does not end|no answer in time|too long"):
        imap.Drafts(Server("127.0.0.1", talker(talk), False, "maren"), Credentials(lambda: "ebb"))


def pages_of_nobody(line: socket.socket) -> None:
    for number in range(1, 120):
        line.recv(10_000)
        line.sendall(LDAP_IS_IN if number == 1 else ldap_page(number, b"more"))


def endless_entry(line: socket.socket) -> None:
    line.sendall(b"\x30\x84\x7f\xff\xff\xff")
    endless_line(line)


@pytest.mark.parametrize("talk", [drips, endless_entry, then(LDAP_IS_IN, drips), then(LDAP_IS_IN, endless_entry)])
def test_a_directory_without_end_is_left(
    talker: Callable[..., int], talk: Callable[[socket.socket], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(ldap3.Server, "_message_counter", 0)
    monkeypatch.setattr(ldap, "_WHOLE_SECONDS", 1.0)
    monkeypatch.setattr(ldap, "_ALL", 1 << 20)
    place = ldap.read_place(f"ldap://127.0.0.1:{talker(talk)}/dc=kelp,dc=example")
    with (
        pytest.raises(DirectoryError, match=r"does not end|no answer in time"),
        ldap.Directory(place, "", lambda: None, "") as directory,
    ):
        directory.search("(cn=*)", ["cn"], 50)


def test_a_directory_that_gives_one_empty_page_after_another_is_left(
    talker: Callable[..., int], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(ldap3.Server, "_message_counter", 0)
    place = ldap.read_place(f"ldap://127.0.0.1:{talker(pages_of_nobody)}/dc=kelp,dc=example")
    with ldap.Directory(place, "", lambda: None, "") as directory:
        found = directory.search("(cn=*)", ["cn"], 50)
    assert not found.entries and "one empty page after another" in found.more


@pytest.mark.parametrize(
    "begin", [b"", b"HTTP/1.1 200 OK\r\nX-Slow: ", b"HTTP/1.1 200 OK\r\nContent-Length: 90\r\n\r\n"]
)
def test_a_hub_that_drips_is_left(talker: Callable[..., int], begin: bytes, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hub, "_WHOLE_SECONDS", 1.0)
    with hub.Client(f"http://127.0.0.1:{talker(then(begin, drips))}/") as client, pytest.raises(HubError):
        client.lists()
