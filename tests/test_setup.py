"""Setting up on a terminal and by options: the server that the DNS names, the password and where it is kept."""

import os
import socket
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import dns.message
import dns.rdatatype
import dns.rrset
import pexpect
import pytest
import trustme
from conftest import HANGS, PROGRAM, Mail, Office
from servers import imap_server

Serve = Callable[..., Mail]

KEYRING = """
import json, os, keyring.backend
class Kept(keyring.backend.KeyringBackend):
    priority = 5
    path = os.environ["KEPT"]
    def _all(self):
        return json.load(open(self.path)) if os.path.exists(self.path) else {}
    def get_password(self, service, user):
        return self._all().get(f"{service} {user}")
    def set_password(self, service, user, password):
        json.dump({**self._all(), f"{service} {user}": password}, open(self.path, "w"))
"""


@contextmanager
def names(records: dict[tuple[str, str], list[str]]) -> Iterator[str]:
    """A DNS server that knows these records alone, by name and kind; yields its place."""
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    line.bind(("127.0.0.1", 0))

    def answer() -> None:
        while True:
            try:
                asked, whom = line.recvfrom(4096)
            except OSError:
                return
            said = dns.message.make_response(dns.message.from_wire(asked))
            (question,) = said.question
            kind = dns.rdatatype.to_text(question.rdtype)
            known = records.get((question.name.to_text(omit_final_dot=True), kind))
            if known:
                said.answer.append(dns.rrset.from_text_list(question.name, 60, "IN", kind, known))
            line.sendto(said.to_wire(), whom)

    threading.Thread(target=answer, daemon=True).start()
    try:
        yield f"127.0.0.1:{line.getsockname()[1]}"
    finally:
        line.close()


@pytest.fixture
def fresh(tmp_path: Path) -> Office:
    """A place where nothing is set up, that trusts an authority of its own, with a German locale."""
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "ca.pem")
    authority.issue_cert("localhost").private_key_and_cert_chain_pem.write_to_path(tmp_path / "here.pem")
    office = Office(tmp_path)
    office.environment |= {"SSL_CERT_FILE": str(tmp_path / "ca.pem"), "LANG": "de_DE.UTF-8", "LC_ALL": ""}
    return office


@pytest.fixture
def submission(fresh: Office) -> Iterator[int]:
    """A mail server that wants a login over TLS; its port."""
    pem = str(fresh.folder / "here.pem")
    mail = Mail(fresh, "--login", "maren@tidewick.example:flood-gate", "--tls", pem, pem)
    yield int(mail.url.rpartition(":")[2])
    mail.stop()


def dialogue(office: Office, command: list[str], *turns: tuple[str, str]) -> tuple[str, int]:
    """Wait for each text and type an answer; all that stood there, and the exit code."""
    environment = {**office.environment, "TERM": "xterm"}
    terminal = pexpect.spawn(
        str(PROGRAM), command, env=environment, timeout=HANGS, encoding="utf-8", dimensions=(60, 200)
    )
    seen = []
    for awaited, typed in turns:
        terminal.expect_exact(awaited)
        seen.append(terminal.before + awaited)
        if typed == "^C":
            terminal.sendintr()
        else:
            terminal.sendline(typed)
    is_stopped = turns[-1][1] == "^C" and not terminal.expect([pexpect.EOF, pexpect.TIMEOUT], timeout=10)
    if not is_stopped:
        if turns[-1][1] == "^C":  # between a prompt and its read() Python waits on: press again, as people do
            terminal.sendintr()
        terminal.expect(pexpect.EOF)
    terminal.close()
    return "".join([*seen, terminal.before or ""]), int(terminal.exitstatus or 0)


ABOUT = (("Your name:", "Maren Holt"), ("address:", "maren@tidewick.example"), ("Country [DE]", ""))


def test_a_new_user_is_asked_for_everything_and_can_write_at_once(fresh: Office, submission: int) -> None:
    named = {
        ("_submission._tcp.tidewick.example", "SRV"): ["20 1 1 slow.example.", f"10 1 {submission} localhost."],
        ("_submissions._tcp.tidewick.example", "SRV"): ["0 0 0 ."],
    }
    with names(named) as place:
        fresh.environment["BARNACLE_DNS"] = place
        said, code = dialogue(
            fresh,
            ["setup"],
            ("Your name:", "Maren Holt"),
            ("address:", "maren@tidewick"),
            ("there is no ending such as .example after", "maren@tidewick.example"),
            ("Country [DE]", "<"),
            ("address [maren@tidewick.example]", ""),
            ("Country [DE]", "Britain"),
            (f"Mail server [smtp://localhost:{submission}]", ""),
            ("User name there [maren@tidewick.example]", ""),
            ("Password of maren@tidewick.example:", "ebb"),
            ("does not accept the name", "flood-gate"),
            ("Mailbox [none]", ""),
            ("Number [1]", "3"),
        )
    assert code == 0 and "flood-gate" not in said and "ebb" not in said
    assert "named by tidewick.example, but not part of it" in said and "It works: the connection is encrypted" in said
    assert fresh.told("settings")["me.region"] == "GB"
    assert fresh.told("settings")["mail.server"] == f"smtp://maren%40tidewick.example@localhost:{submission}"
    kept = fresh.home / "mail-passwords.toml"
    assert kept.stat().st_mode & 0o777 == 0o600 and "flood-gate" in kept.read_text()
    assert "flood-gate" not in (fresh.home / "barnacle.toml").read_text()
    assert b"flood-gate" not in fresh.book.read_bytes()
    fresh.within("compose", "--for", "bo@kelp.example", "--subject", "Tides", "--text", "Low at ten.")
    assert fresh.json("send", "m1", "--yes")["accepted"] == 1
    kept.chmod(0o644)
    fresh.within("compose", "--for", "bo@kelp.example", "--subject", "Tides", "--text", "Low at ten.")
    assert "Others can read your passwords" in fresh.run("send", "m2", "--yes", code=2).err


def test_stopping_at_any_question_keeps_nothing(fresh: Office, submission: int) -> None:
    turns = (
        *ABOUT,
        ("Mail server [none]", f"localhost:{submission}"),
        ("User name there", ""),
        ("Password of", "flood-gate"),
        ("Mailbox [none]", ""),
        ("Number [1]", ""),
    )
    with names({}) as place:
        fresh.environment["BARNACLE_DNS"] = place
        for number, (awaited, _) in enumerate(turns):
            said, code = dialogue(fresh, ["setup"], *turns[:number], (awaited, "^C"))
            assert code == 2 and "Stopped" in said and not fresh.home.exists(), awaited
        said, code = dialogue(fresh, ["setup"], *turns)
    assert code == 0 and "It works" in said, "a name alone is tried both ways"
    assert fresh.told("settings")["mail.server"] == f"smtp://maren%40tidewick.example@localhost:{submission}"
    assert sorted(p.name for p in fresh.home.iterdir()) == ["barnacle.book", "barnacle.toml"], "kept nowhere"
    fresh.within("compose", "--for", "bo@kelp.example", "--subject", "Tides", "--text", "Low at ten.")
    said, code = dialogue(
        fresh, ["send", "m1"], ("Send it now?", "y"), ("Password of maren@tidewick.example at localhost:", "flood-gate")
    )
    assert code == 0 and "flood-gate" not in said and fresh.told("outbox")[0]["state"] == "sent"


def test_a_server_that_is_away_is_kept_and_said(fresh: Office, submission: int) -> None:
    pem = str(fresh.folder / "here.pem")
    gone = Mail(fresh, "--tls", pem, pem)
    gone.stop()
    url = gone.url.replace("127.0.0.1", "localhost")
    said, code = dialogue(
        fresh, ["setup"], *ABOUT, ("Mail server", url), ("User name there", "maren"), ("Password of maren", "ebb"),
        ("Enter goes on all the same", ""), ("Mailbox", "none"), ("Number", ""),
    )  # fmt: skip
    assert code == 1 and "Saved, but the mail server did not work" in said
    kept = fresh.run("setup", "--mail", url, code=1).out
    assert "Saved, but it did not work when it was tried" in kept and fresh.told("settings")["mail.server"] == url
    assert fresh.json("setup", "--mail", url, code=1)["server"]["trouble"]
    again = (("Your name [Maren Holt]", ""), ("address [maren@tidewick.example]", ""), ("Country [DE]", ""))
    said, code = dialogue(fresh, ["setup"], *again, ("Mail server [smtp", "none"), ("Mailbox [none]", ""))
    assert code == 0 and fresh.told("settings")["mail.server"] == "" and "name your mail server" in said


def test_the_keyring_keeps_a_password_for_the_server_and_another_for_the_mailbox(
    fresh: Office, submission: int
) -> None:
    (fresh.folder / "kept_ring.py").write_text(KEYRING)
    kept = fresh.folder / "ring.json"
    fresh.environment |= {
        "PYTHONPATH": str(fresh.folder), "PYTHON_KEYRING_BACKEND": "kept_ring.Kept", "KEPT": str(kept),
    }  # fmt: skip
    with names({}) as place, imap_server(fresh.folder / "here.pem") as (box, _):
        fresh.environment["BARNACLE_DNS"] = place
        me = ("--me", "Maren Holt <maren@tidewick.example>", "--region", "DE")
        url = f"smtp://maren%40tidewick.example@localhost:{submission}"
        said, code = dialogue(
            fresh, ["setup", *me, "--mail", url], ("Password of maren@tidewick.example at", "flood-gate")
        )
        assert code == 0 and "You will be asked for the password each time" in said and not kept.exists()
        fresh.within("settings", "mail.server", "")
        fresh.within("settings", "mail.password_command", "echo stale")
        port = box.rpartition(":")[2]
        said, code = dialogue(
            fresh, ["setup"], ("Your name", ""), ("address", ""), ("Country", ""),
            ("Mail server [none]", f"smtp://localhost:{submission}"),
            ("User name there [maren@tidewick.example]", ""), ("Password of", "flood-gate"),
            ("Mailbox [none]", f"imap://localhost:{port}"), ("User name there", "maren"), ("Number [1]", ""),
        )  # fmt: skip
        assert code == 0 and "drafts will go to Entwürfe" in said and "Your password is in your keyring" in said
        assert fresh.told("settings")["mail.password_command"] == "", "what is stale comes first no more"
        assert kept.read_text().count("flood-gate") == 2 and "barnacle-mail maren@localhost" in kept.read_text()
        fresh.run("compose", "--for", "bo@kelp.example", "--subject", "Tides", "--text", "x", "--draft-to", "imap")
        assert fresh.told("outbox")[0]["state"] == "handed over"
        fresh.environment["BARNACLE_MAILBOX_PASSWORD"] = "ebb"
        wrong = fresh.run(
            "compose", "--for", "bo@kelp.example", "--subject", "x", "--text", "x", "--draft-to", "imap", code=2
        )
        assert "does not accept the name maren" in wrong.err


def test_a_script_sets_up_all_of_it_by_options(fresh: Office, submission: int) -> None:
    with names({("_submission._tcp.tidewick.example", "SRV"): [f"0 0 {submission} localhost."]}) as place:
        fresh.environment["BARNACLE_DNS"] = place
        me = ("--me", "Maren Holt <maren@tidewick.example>", "--region", "gb")
        ran = fresh.run("setup", *me, "--find", "--password-from", "-", "--keep", "file", stdin="flood-gate\n")
    assert "The mail server is localhost" in ran.out and "No mailbox was found for tidewick.example" in ran.out
    assert "It works" in ran.out
    fresh.run("setup", "--password-command", "echo flood-gate")
    assert (fresh.home / "mail-passwords.toml").exists() and "echo" in fresh.told("settings")["mail.password_command"]
    refused = fresh.run("setup", "--password-from", "-", "--keep", "file", stdin="ebb\n", code=1)
    assert fresh.told("settings")["mail.password_command"] == "", "it would come before what is kept now"
    kept = fresh.home / "mail-passwords.toml"
    kept.write_text("# mine\n" + kept.read_text().replace("ebb", "flood-gate") + '"other@kelp.example" = "x"\n')
    fresh.within("compose", "--for", "bo@kelp.example", "--subject", "Tides", "--text", "Low at ten.")
    assert fresh.json("send", "m1", "--yes")["accepted"] == 1
    fresh.run("setup", "--password-from", "-", "--keep", "file", stdin="flood-gate\n")
    assert kept.read_text().startswith("# mine") and "other@kelp.example" in kept.read_text()
    kept.write_text("broken = = toml")
    assert "cannot be read" in fresh.run("setup", "--password-from", "-", "--keep", "file", stdin="x\n", code=1).out
    assert "Saved, but it did not work" in refused.out and "ebb" not in refused.out
    assert "Give both" in fresh.run("setup", "--keep", "file", code=2).err
    assert "no password on the first line" in fresh.run("setup", "--password-from", "-", stdin="\n", code=2).err


@pytest.mark.parametrize(
    ("command", "said"),
    [
        ("no-such-program", "was not found"),
        ("sh -c 'echo \"keyring is locked\" >&2; exit 3'", "failed (exit 3): keyring is locked"),
        ("printf 'ebb", "a quote that is not closed"),
        ("true", "printed nothing"),
        ("printf '\\377'", "printed something that is not text"),
        ("/", "cannot be run"),
    ],
)
def test_a_password_command_that_does_not_work_is_said(office: Office, command: str, said: str) -> None:
    office.within("settings", "mail.server", "smtp://maren@localhost:9")
    office.within("settings", "mail.mailbox", "imap://maren@localhost:9")
    office.within("settings", "mail.password_command", command)
    from barnacle.core.errors import MailError
    from barnacle.jobs.desk.desk import Desk
    from barnacle.jobs.desk.passwords import mail_password
    from barnacle.jobs.mail.servers import mail_server

    desk = Desk(home=office.home)
    with pytest.raises(MailError, match=said.replace("(", "\\(").replace(")", "\\)")):
        mail_password(desk, mail_server(desk))


def test_what_the_dns_says_is_not_believed_blindly(fresh: Office) -> None:
    """A server that offers no encryption gets no password, and odd records are passed over."""
    named: dict[tuple[str, str], list[str]] = {
        ("_submissions._tcp.tidewick.example", "SRV"): [r"0 0 25 a\032b.example.", r"0 0 25 \027[2J.example."],
        ("_imaps._tcp.tidewick.example", "SRV"): [f"{n} 0 1 h{n}.example." for n in range(30, 0, -1)],
    }
    found: Any = None
    with names(named) as place:
        fresh.environment["BARNACLE_DNS"] = place
        os.environ["BARNACLE_DNS"] = place
        try:
            from barnacle.net.mail_hosts import find_mailbox, find_submission

            assert find_submission("tidewick.example") is None
            found = find_mailbox("tidewick.example")
        finally:
            del os.environ["BARNACLE_DNS"]
        assert found is not None and found.named and found.server.port == 1
    fresh.environment["BARNACLE_DNS"] = "elsewhere"
    ran = fresh.run("setup", "--me", "Maren Holt <maren@tidewick.example>", "--find", code=2)
    assert "write it as 192.0.2.53:53" in ran.err and not fresh.home.exists() and sys.platform != "win32"


def test_a_name_that_many_domains_use_is_a_guess_and_said_to_be_one(monkeypatch: pytest.MonkeyPatch) -> None:
    from barnacle.jobs.mail import accounts
    from barnacle.net import mail_hosts

    with (
        socket.create_server(("127.0.0.1", 0)) as line,
        names({("mail.tidewick.example", "A"): ["127.0.0.1"]}) as place,
    ):
        monkeypatch.setenv("BARNACLE_DNS", place)
        port = line.getsockname()[1]
        monkeypatch.setattr(mail_hosts, "SUBMISSION_PORTS", ((1, True), (port, False)))
        found = accounts.find_server("maren@tidewick.example")
        assert found is not None and found.how == "a guess: there is a server of that name"
        assert found.server.url == f"smtp://maren%40tidewick.example@mail.tidewick.example:{port}"
        assert accounts.find_server("maren@kelp.example") is None


def test_the_country_of_phones_is_understood_as_people_say_it(office: Office) -> None:
    office.run("contact", "add", "Bo Reede <bo@kelp.example>", "--phone", "07700 900123")
    for said, letters in (
        ("UK", "GB"), ("uk", "GB"), ("Germany", "DE"), ("+353", "IE"), ("Bosnia", "BA"), ("St. Lucia", "LC"), ("United Kingdom", "GB"),
    ):  # fmt: skip
        office.run("setup", "--region", said)
        assert office.told("settings", "region") == {"me.region": letters}
    assert "Bo Reede" in office.run("find", "+44 7700 900123").out
    for wrong, answer in (
        ("XX", "Give two letters"), ("Germny", "Did you mean Germany?"), ("Korea", "KP or KR"), ("Antarctica", "no country whose phone"),
    ):  # fmt: skip
        assert answer in office.run("setup", "--region", wrong, code=2).err
        assert answer in office.run("settings", "me.region", wrong, code=2).err
    assert office.told("settings", "region") == {"me.region": "GB"}
    kept = office.home / "barnacle.toml"
    kept.write_text(kept.read_text().replace('region = "GB"', 'region = "UK"'))
    assert "Bo Reede" in office.run("find", "+44 7700 900123").out
    kept.write_text(kept.read_text().replace('region = "UK"', 'region = "Britain"'))
    assert "me.region cannot be `Britain`" in office.run("find", "+44 7700 900123", code=2).err
