"""A hub that takes mail, and everybody around it: writers whom the mail server vouches for, or not, and mailboxes."""

from __future__ import annotations

import email
import email.policy
import re
import smtplib
import time
from collections.abc import Iterator
from contextlib import contextmanager
from email.message import EmailMessage
from email.utils import make_msgid
from typing import Any

import httpx
from conftest import Mail, Office
from hubs import Person, RunningHub
from servers import wait

TRUSTED = "mx.tidewick.example"
OWN, OFFICIAL = "own.tidewick.example", "lists.tidewick.example"
# Nothing proves the writer; the mail server knows who handed it in; the writer's domain says so.
FORGED, HANDED_IN = "", f"Authentication-Results: {TRUSTED}; auth=pass\r\n"


def vouched(domain: str) -> str:
    return f"Authentication-Results: {TRUSTED}; dmarc=pass header.from={domain}\r\n"


def posting(sender: str, to: str, text: str = "The tide table.\r\n", head: str = HANDED_IN, **fields: str) -> bytes:
    """A posting as the mail server hands it over."""
    lines = {"From": sender, "To": to, "Subject": "Tides", "Message-ID": make_msgid(domain="kelp.example"), **fields}
    named = "".join(f"{name.replace('_', '-')}: {value}\r\n" for name, value in lines.items())
    return f"{head}{named}\r\n{text}".encode()


class House:
    """A hub with mail; what is passed on comes to Maildirs."""

    def __init__(self, office: Office, mail: Mail, where: list[str], *options: str) -> None:
        self.office = office
        self.mail = mail
        self.hub = RunningHub(
            office, where, "--lmtp", "127.0.0.1:0", "--mail", mail.url, "--own-domain", OWN, "--list-domain", OFFICIAL,
            "--house-domain", "tidewick.example", "--trust-results", TRUSTED,
            "--public-url", "https://lists.tidewick.example/", *options,
        )  # fmt: skip

    def hand_over(self, raw: bytes, *to: str, sender: str = "somebody@kelp.example") -> list[tuple[int, str]]:
        """The answers for each recipient (RFC 2033)."""
        with smtplib.LMTP("127.0.0.1", self.hub.lmtp) as line:
            line.ehlo_or_helo_if_needed()
            assert line.mail(sender)[0] == 250
            answers = {one: line.rcpt(one) for one in to}
            good = [one for one, (code, _) in answers.items() if code == 250]
            if good:
                # The library's own way reads one answer alone.
                assert line.docmd("DATA")[0] == 354
                line.send(re.sub(rb"(?m)^\.", b"..", raw) + (b"" if raw.endswith(b"\r\n") else b"\r\n") + b".\r\n")
                for one in good:
                    answers[one] = line.getreply()
        return [(code, said.decode()) for code, said in answers.values()]

    def post(self, sender: str, to: str, **more: Any) -> tuple[int, str]:
        """One posting; its answer."""
        (answer,) = self.hand_over(posting(sender, to, **more), to)
        return answer

    def come(self, address: str, number: int = 1) -> list[bytes]:
        """The messages in a mailbox once there are so many."""
        wait(lambda: len(self.mail.copies(address)) >= number, lambda: f"{address}: {self.mail.copies(address)}", 60)
        return self.mail.copies(address)

    def last(self, address: str, number: int = 1) -> EmailMessage:
        """The last of them, read."""
        return read(self.come(address, number)[-1])

    def quiet(self) -> None:
        """Once nothing waits to be passed on."""
        where = self.hub.where

        def done() -> bool:
            return not any(one["waiting"] for one in self.office.told("hub", "queue", *where))

        wait(done, lambda: str(self.office.told("hub", "queue", *where)), 60)

    def open(self, keeper: Person, title: str, at: str, *members: str, **rules: Any) -> str:
        """A house list of somebody's with these members; the shared list's id."""
        made = keeper.new_list(title)
        for number, one in enumerate(members):
            name = one.partition("@")[0].title()
            data = f"BEGIN:VCARD\r\nVERSION:4.0\r\nUID:u{number}\r\nFN:{name}\r\nEMAIL:{one}\r\nEND:VCARD\r\n"
            keeper.put(made, f"u{number}", data=data)
        keeper.ask("POST", f"api/house/{made}", 201, json={"at": at, **rules})
        return made

    def page(self, method: str, path: str) -> httpx.Response:
        """A page of the hub, by the path of a link."""
        return httpx.request(method, self.hub.url + path, timeout=60)


def read(raw: bytes) -> EmailMessage:
    found = email.message_from_bytes(raw, policy=email.policy.default)
    assert isinstance(found, EmailMessage)
    return found


def link(message: EmailMessage, verb: str) -> str:
    """The path of the link in a message of the hub's, or in its header."""
    text = f"{message['List-Unsubscribe'] or ''} {message.get_content() if not message.is_multipart() else ''}"
    found = re.search(rf"https://lists\.tidewick\.example/(house/{verb}/[0-9a-f]{{32}})", text.replace("\n", ""))
    assert found, text
    return found[1]


@contextmanager
def house_in(office: Office, where: list[str], *options: str) -> Iterator[House]:
    mail = Mail(office)
    house = House(office, mail, where, *options)
    try:
        yield house
    finally:
        if house.hub.process.poll() is None:
            house.hub.stop()
        mail.stop()


def settled(seconds: float = 1.0) -> None:
    """Time for what must not come."""
    time.sleep(seconds)
