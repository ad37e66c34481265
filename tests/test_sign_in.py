"""Signing in with one's organisation in place of a password, one's own certificate authority, and one certificate alone."""

from __future__ import annotations

import re
import ssl
import sys
import urllib.parse
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
import trustme
from conftest import HANGS, ME, Mail, Office
from servers import free_port, imap_server, postfix, wait
from test_setup import ABOUT, dialogue

SENDER = "maren%40tidewick.example"
# A browser that somebody uses who says yes to everything.
BROWSER = """
import ssl, sys, urllib.request
urllib.request.urlopen(sys.argv[1], context=ssl._create_unverified_context(), timeout=20).read()
"""


@pytest.fixture
def house(tmp_path: Path) -> Office:
    """An office with a certificate authority of its own, and a browser."""
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "ca.pem")
    authority.issue_cert("localhost", "127.0.0.1").private_key_and_cert_chain_pem.write_to_path(tmp_path / "here.pem")
    office = Office(tmp_path)
    office.file("browser.py", BROWSER)
    office.environment |= {"BROWSER": f"{sys.executable} {tmp_path / 'browser.py'} %s", "BARNACLE_DNS": "127.0.0.1:9"}
    office.run("setup", "--me", ME, "--ca-file", "ca.pem")
    return office


@contextmanager
def sign_in(house: Office, *options: str) -> Iterator[tuple[str, str]]:
    """Somewhere to sign in: its address, and the page that knows the tokens."""
    pem = str(house.folder / "here.pem")
    process = house.start("stand-in", "sign-in", "--port", "0", "--tls", pem, pem, *options)
    assert process.stdout is not None
    try:
        yield tuple(process.stdout.readline().decode().split()[-1] for _ in range(2))  # type: ignore[misc]
    finally:
        process.terminate()
        process.communicate()


def typed(page: str, code: str) -> None:
    """Type a code on the page, as on another device."""
    url = f"{page}?{urllib.parse.urlencode({'code': code})}"
    urllib.request.urlopen(url, context=ssl._create_unverified_context(), timeout=20).read()


def compose(office: Office, *to: str) -> str:
    return str(office.json("compose", "--for", *to, "--subject", "Tides", "--text", "High at six.")["message"])


def test_a_server_that_takes_no_password_says_so_and_one_signs_in_by_the_browser(house: Office) -> None:
    with sign_in(house) as (where, known):
        mail = Mail(house, "--tokens", known)
        url = mail.url.replace("//", f"//{SENDER}@")
        said = house.run("setup", "--mail", url, code=1).out
        assert "does not accept passwords" in said and "--sign-in URL --client ID" in said
        asked = house.run("setup", "--sign-in", where, code=1).out
        assert "client ID" in asked
        said = house.run("setup", "--sign-in", where, "--client", "desk", "--scope", "mail").out
        assert "You are signed in" in said and "It works" in said
        kept = house.home / "mail-passwords.toml"
        assert kept.stat().st_mode & 0o777 == 0o600
        before = kept.read_text()
        secret = re.findall(r'= "(\S+)"', before)[-1]
        assert (
            secret not in (house.home / "barnacle.toml").read_text() + said
            and secret.encode() not in house.book.read_bytes()
        )
        house.run("send", compose(house, "ada@kelp.example"), "--yes")
        assert len(mail.copies("ada@kelp.example")) == 1
        assert kept.read_text() != before, "each renewal gives another one, which is kept"
        # A command may print the token as well; a wrong one is refused in words.
        house.within("settings", "mail.token_command", "echo nothing")
        number = compose(house, "bo@kelp.example")
        err = house.run("send", number, "--yes", code=2).err
        assert "invalid_token" in err and "barnacle setup --sign-in" in err and "Nothing was sent" in err
        house.within("settings", "mail.token_command", "")
        mail.stop()
        # With passwords alone the same says that, too.
        plain = Mail(
            house, "--login", "maren@tidewick.example:flood-gate", "--tls", *[str(house.folder / "here.pem")] * 2
        )
        place = plain.url.replace("127.0.0.1", "localhost").replace("//", f"//{SENDER}@")
        assert "only a password" in house.run("setup", "--mail", place, code=1).out
        plain.stop()


def test_what_lets_me_in_is_shown_to_no_server_but_mine(house: Office) -> None:
    mine = Mail(house)
    house.run("setup", "--mail", mine.url)
    house.within("settings", "mail.token_command", "touch shown-a-token")
    house.within("settings", "mail.password_command", "touch shown-a-password")
    house.environment["BARNACLE_MAIL_PASSWORD"] = "mine-alone"
    pem = str(house.folder / "here.pem")
    office = Mail(house, "--login", "office@tidewick.example:ebb", "--tls", pem, pem)
    url = office.url.replace("127.0.0.1", "localhost").replace("//", "//office%40tidewick.example@")
    house.file("ebb", "ebb\n")
    add = ["setup", "--sender", "Office <office@tidewick.example>", "--mail", url]
    assert "asks for the password of office@tidewick.example" in house.run(*add, code=1).out
    assert "It works" in house.run(*add, "--password-from", "ebb", "--keep", "file").out
    message = ["--from", "office", "--for", "ada@kelp.example", "--subject", "Dues", "--text", "Please pay."]
    house.run("send", str(house.json("compose", *message)["message"]), "--yes")
    assert len(office.copies("ada@kelp.example")) == 1 and not list(house.folder.glob("**/shown-*"))
    office.stop()
    mine.stop()


def test_a_code_on_another_device_and_what_can_go_wrong_with_it(house: Office) -> None:
    with sign_in(house, "--seconds", "1") as (where, known):
        mail = Mail(house, "--tokens", known, "--drop", "before")  # so that it must sign in again in the middle
        house.run("setup", "--mail", mail.url.replace("//", f"//{SENDER}@"), code=1)
        process = house.start("setup", "--sign-in", where, "--client", "desk", "--device")
        assert process.stdout is not None
        said = process.stdout.readline().decode()
        page, code = re.findall(r"Open (\S+) on any device, and type\s+this\s+code\s+there:\s+(\w+)", said)[0]
        typed(page, code)
        _, err = process.communicate(timeout=HANGS)
        assert process.returncode == 0, err
        # A token that has ended meanwhile, in the middle of sending too, is renewed before anybody notices.
        house.run("send", compose(house, "ada@kelp.example"), "--yes")
        assert len(mail.copies("ada@kelp.example")) == 1
        mail.stop()
    with sign_in(house, "--deny") as (where, _):
        for by in ([], ["--device"]):
            out = house.run("setup", "--sign-in", where, "--client", "desk", *by, code=1).out
            assert "did not allow it" in out
    out = house.run("setup", "--sign-in", where, "--client", "desk", code=1).out
    assert "cannot be reached to sign in" in out
    with sign_in(house, "--code-seconds", "1") as (where, _):
        out = house.run("setup", "--sign-in", where, "--client", "desk", "--device", code=1).out
        assert "Nobody typed the code in time" in out
    assert "It begins with https://" in house.run("setup", "--sign-in", "http://login.example", code=2).err


def test_what_was_renewed_once_is_not_renewed_for_ever(house: Office) -> None:
    with sign_in(house, "--no-renewal") as (where, known):
        mail = Mail(house, "--tokens", known)
        house.run("setup", "--mail", mail.url.replace("//", f"//{SENDER}@"), code=1)
        # Signing in works; what renews that is refused when it is needed.
        house.run("setup", "--sign-in", where, "--client", "desk", code=1)
        err = house.run("send", compose(house, "ada@kelp.example"), "--yes", code=2).err
        assert "does not hold any more" in err and "`barnacle setup --sign-in`" in err and "Nothing" in err
        mail.stop()


def test_real_servers_take_the_same_token_for_mail_and_mailbox(house: Office) -> None:
    with sign_in(house) as (where, known):
        port = free_port()
        sasl = {
            "smtpd_sasl_auth_enable": "yes",
            "smtpd_sasl_type": "dovecot",
            "smtpd_sasl_path": f"inet:127.0.0.1:{port}",
            "smtpd_recipient_restrictions": "permit_sasl_authenticated, reject",
            "mynetworks": "192.0.2.0/24",
        }
        with (
            imap_server(tokens=known, sasl_port=port) as (place, boxes),
            postfix(["ada@kelp.example"], **sasl) as (url, mail),
        ):
            mailbox = f"imap://{SENDER}@{place}"
            out = house.run("setup", "--mail", url.replace("//", f"//{SENDER}@"), "--mailbox", mailbox, code=1).out
            assert out.count("does not accept passwords") == 2
            out = house.run("setup", "--sign-in", where, "--client", "desk").out
            assert "Drafts go to Entwürfe there" in out and "It works" in out
            house.run("send", compose(house, "ada@kelp.example"), "--yes")
            wait(lambda: any((mail / "ada@kelp.example" / "new").glob("*")), lambda: "nothing came")
            house.run(
                "compose", "--for", "ada@kelp.example", "--subject", "Later", "--text", "Soon.", "--draft-to", "imap"
            )
            assert any((boxes / "maren@tidewick.example").rglob("cur/*")), "the draft is there"


def test_ones_own_authority_and_one_certificate_alone(house: Office, tmp_path: Path) -> None:
    pem = str(tmp_path / "here.pem")
    mail = Mail(house, "--login", "maren@tidewick.example:flood-gate", "--tls", pem, pem)
    url = mail.url.replace("127.0.0.1", "localhost").replace("//", f"//{SENDER}@")
    house.environment["BARNACLE_MAIL_PASSWORD"] = "flood-gate"
    assert "It works: the connection is encrypted" in house.run("setup", "--mail", url).out
    out = house.run("setup", "--pin", code=2).err
    assert "proves that it is localhost" in out, "where there is a chain, nothing is pinned"
    house.within("settings", "mail.ca_file", "")
    out = house.run("setup", "--mail", url, code=1).out
    assert "mail.ca_file" in out and "--pin" in out
    said = house.run("setup", "--pin", code=2)
    fingerprint = re.findall(r"(?:[0-9A-F]{2}:){31}[0-9A-F]{2}", said.out + said.err)[0]
    assert "another certificate" in house.run("setup", "--pin", "00" * 32, code=2).err
    assert "It works" in house.run("setup", "--pin", fingerprint).out
    assert "Trusted already" in house.run("setup", "--pin", code=2).err
    # The mailbox has a certificate of its own.
    trustme.CA().issue_cert("localhost").private_key_and_cert_chain_pem.write_to_path(tmp_path / "box.pem")
    with imap_server(tmp_path / "box.pem") as (place, _):
        box = f"imap://{SENDER}@{place.replace('127.0.0.1', 'localhost')}"
        assert "--pin" in house.run("setup", "--mailbox", box, code=1).out
        said = house.run("setup", "--pin", code=2).out
        (second,) = re.findall(r"(?:[0-9A-F]{2}:){31}[0-9A-F]{2}", said)
        assert second != fingerprint and "mailbox" not in house.run("setup", "--pin", second).err
        house.within("settings", "mail.pinned", "[]")
        said = house.run("setup", "--pin", code=2).out
        assert fingerprint in said and second in said
        one = house.run("setup", "--pin", fingerprint, code=1).out
        assert f"shows another certificate, {second}. It is not trusted" in one
        house.run("setup", "--pin", second)
        house.within("settings", "mail.mailbox", "")
    mail.stop()
    # Another certificate at that place is not believed.
    other = trustme.CA().issue_cert("localhost")
    other.private_key_and_cert_chain_pem.write_to_path(tmp_path / "other.pem")
    port = url.rpartition(":")[2]
    again = str(tmp_path / "other.pem")
    process = house.start("stand-in", "mail", "--port", port, "--login", "a:b", "--tls", again, again)
    with suppress(Exception):
        assert process.stdout is not None and process.stdout.readline()
    err = house.run("send", compose(house, "ada@kelp.example"), "--yes", code=2).err
    assert "another certificate than the one that you said to trust" in err
    house.within("settings", "mail.pinned", "[]")
    nothing = house.file("empty.pem", "nothing")
    for command in (("settings", "mail.ca_file", "empty.pem"), ("setup", "--ca-file", "empty.pem")):
        assert "it holds no certificate" in house.run(*command, code=2).err
    house.within("settings", "mail.ca_file", "ca.pem")
    kept = house.told("settings", "mail.ca_file")["mail.ca_file"]
    assert kept == str(house.folder / "ca.pem"), "from whatever folder it is used"
    (house.folder / "ca.pem").write_bytes(nothing.read_bytes())
    assert "it holds no certificate" in house.run("send", "m1", "--yes", code=2).err
    process.terminate()
    process.communicate()


def test_who_is_asked_for_everything_is_asked_to_sign_in(house: Office) -> None:
    (house.home / "barnacle.toml").write_text(f'[mail]\nca_file = "{house.folder / "ca.pem"}"\n')
    with sign_in(house) as (where, known):
        mail = Mail(house, "--tokens", known)
        said, code = dialogue(
            house,
            ["setup"],
            *ABOUT[:2],
            ("Country", ""),
            ("Mail server", mail.url.replace("127.0.0.1", "localhost")),
            ("User name there", ""),
            ("Address of the sign-in", "nowhere"),
            ("begins with https://", where),
            ("Client ID", "desk"),
            ("Scope", ""),
            ("Mailbox", "none"),
        )
        assert code == 0 and "takes no password" in said and "You are signed in" in said, said
        house.run("send", compose(house, "ada@kelp.example"), "--yes")
        assert len(mail.copies("ada@kelp.example")) == 1
        mail.stop()
