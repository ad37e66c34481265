"""What a mail server and a mail program do with a house list: handing a posting to a hub, and pressing the way out."""

from __future__ import annotations

import re
import smtplib
import time
import urllib.error
import urllib.request
from email import message_from_bytes, policy
from email.message import EmailMessage
from email.utils import formatdate, make_msgid, parseaddr
from pathlib import Path

_SECONDS = 20.0


def hand_over(place: str, sender: str, to: str, subject: str, text: str, trusted: str) -> tuple[int, str]:
    """Hand a posting over by LMTP (RFC 2033) at `lmtp://HOST:PORT`; `trusted` is the name under which the mail server
    vouches for the writer (RFC 8601), or empty. The hub's answer. Raises OSError."""
    host, _, port = place.removeprefix("lmtp://").rpartition(":")
    message = EmailMessage(policy=policy.SMTP)
    if trusted:
        message["Authentication-Results"] = f"{trusted}; auth=pass smtp.auth={parseaddr(sender)[1]}"
    message["From"], message["To"], message["Subject"] = sender, to, subject
    message["Date"], message["Message-ID"] = formatdate(usegmt=True), make_msgid(domain="tidewick.example")
    message.set_content(text)
    with smtplib.LMTP(host.strip("[]"), int(port), timeout=_SECONDS) as line:
        line.ehlo_or_helo_if_needed()
        for said in (line.mail(parseaddr(sender)[1]), line.rcpt(to)):
            if said[0] != 250:
                return said[0], said[1].decode("utf-8", "replace")
        code, reply = line.data(bytes(message))
    return code, reply.decode("utf-8", "replace")


def press_way_out(mailbox: Path) -> tuple[str, str]:
    """Take the way out of the newest message in a Maildir that has a link for that, as mail programs do with one click
    (RFC 8058); where nothing has come yet, wait for it. The link, and the heading of the page that answered. Raises
    OSError, ValueError where there is none."""
    end = time.monotonic() + _SECONDS
    while True:
        for path in sorted((mailbox / "new").glob("*"), reverse=True):
            message = message_from_bytes(path.read_bytes(), policy=policy.default)
            found = re.search(r"<(https?://[^<>\s]+)>", re.sub(r"\s", "", str(message["List-Unsubscribe"] or "")))
            if found:
                return found[1], _pressed(found[1])
        if time.monotonic() > end:
            raise ValueError(f"no message in {mailbox} has a way out")
        time.sleep(0.2)


def _pressed(url: str) -> str:
    request = urllib.request.Request(url, b"List-Unsubscribe=One-Click", method="POST")
    with urllib.request.urlopen(request, timeout=_SECONDS) as answer:
        page = answer.read(100_000).decode("utf-8", "replace")
    heading = re.search(r"<h1>(.*?)</h1>", page, re.DOTALL)
    return heading[1].strip() if heading else ""
