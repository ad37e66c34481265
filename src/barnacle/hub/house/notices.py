"""What the hub itself writes about house lists: to members, keepers, whoever asked. In plain words, one matter each.

Each says that a program wrote it (RFC 3834), so that no other program answers.
"""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import formatdate, make_msgid

from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple
from barnacle.hub.house.rows import House

_POLICY = SMTP.clone(max_line_length=78)
# So many things of a kind are named in one message.
_TOGETHER = 30


class Letter(NamedTuple):
    """A message: what it is about, and its paragraphs."""

    subject: str
    paragraphs: Sequence[str]


def written(house: House, to: str, letter: Letter, answer: str = "") -> bytes:
    """A message of the list to somebody, as it goes out; `answer` is where a plain answer leads, which the return
    address of notices does not."""
    message = EmailMessage(policy=_POLICY)
    local, _, domain = house.request.rpartition("@")
    message["From"] = Address(tidy(f"{house.title}, list of the house", 120), local, domain)
    to_local, _, to_domain = to.rpartition("@")
    message["To"] = Address("", to_local, to_domain)
    if answer:
        answer_local, _, answer_domain = answer.rpartition("@")
        message["Reply-To"] = Address("", answer_local, answer_domain)
    message["Subject"] = tidy(letter.subject, 200)
    message["Date"] = formatdate(usegmt=True)
    message["Message-ID"] = make_msgid(domain=domain)
    message["Auto-Submitted"] = "auto-generated"
    message["Precedence"] = "bulk"
    message.set_content(
        "\n\n".join(_wrapped(one) for one in letter.paragraphs) + "\n", charset="utf-8", cte="quoted-printable"
    )
    return bytes(message)


def _wrapped(text: str) -> str:
    lines = text.split("\n")
    return "\n".join(
        textwrap.fill(line, 72, break_long_words=False, break_on_hyphens=False) if len(line) > 72 else line
        for line in lines
    )


def _about(house: House) -> str:
    kind = "an official list of the house" if house.official else f"a list that {house.opener} opened"
    return f"{house.title} is {kind}. Its address is {house.address}."


def _some(lines: Sequence[str]) -> str:
    more = [f"and {len(lines) - _TOGETHER:,} more"] if len(lines) > _TOGETHER else []
    return "\n".join([*lines[:_TOGETHER], *more])


def _press(link: str) -> str:
    return f"Open this page and press the button:\n\n  {link}\n\nor answer this message with the one word yes."


def invitation(house: House, by: str, link: str) -> Letter:
    return Letter(
        f"{house.title}: do you want to be on this list?",
        [
            f"{by} invites you to the list {house.title}.",
            _about(house),
            f"You get nothing from it unless you say yes, within 14 days. {_press(link)}",
            "If you do not want to be on it, do nothing.",
        ],
    )


def was_put_on(house: House, by: str, link: str) -> Letter:
    return Letter(
        f"{house.title}: you are on this list now",
        [
            f"{by} has put you on the list {house.title}. What is written to it reaches you from now on.",
            _about(house),
            f"If you do not want that, this page takes you off, without a password and at any time:\n\n  {link}",
        ],
    )


def confirm(house: House, verb: str, link: str) -> Letter:
    wish = "be on" if verb == "join" else "leave"
    return Letter(
        f"{house.title}: please confirm",
        [
            f"Somebody, probably you, wrote to us that you want to {wish} the list {house.title}.",
            f"If that is so, say yes within 14 days. {_press(link)}",
            "If it was not you, do nothing: then nothing happens.",
        ],
    )


def welcome(house: House, link: str) -> Letter:
    return Letter(
        f"{house.title}: you are on this list now",
        [
            f"You are on the list {house.title} now. What is written to it reaches you.",
            _about(house),
            f"This page takes you off again, without a password and at any time:\n\n  {link}",
        ],
    )


def not_let_on(house: House, why: str) -> Letter:
    return Letter(
        f"{house.title}: you were not put on this list",
        [f"Its keepers did not put you on the list {house.title}.", *([f"They say: {why}"] if why else [])],
    )


def waits(house: House, lines: Sequence[str]) -> Letter:
    return Letter(
        f"{house.title}: {len(lines)} {'thing waits' if len(lines) == 1 else 'things wait'} for you",
        [
            f"As a keeper of {house.title} you are asked about the following.",
            _some(lines),
            "`barnacle house held` shows them all, `barnacle house let NUMBER` lets one through, "
            "`barnacle house refuse NUMBER` does not. What nobody settles within 14 days is deleted.",
            "You get this message once an hour at most, for as long as something new comes.",
        ],
    )


def not_passed_on(house: House, subject: str, why: str) -> Letter:
    return Letter(
        f"{house.title}: your message was not passed on",
        [
            f"Your message `{subject or '(without a subject)'}` to {house.address} was not passed on to the list.",
            why,
        ],
    )


def paused(house: House, lines: Sequence[str]) -> Letter:
    return Letter(
        f"{house.title}: mail to {len(lines)} {'member' if len(lines) == 1 else 'members'} comes back",
        [
            f"Mail to these members of {house.title} comes back. Behind each stands what the mail server says.",
            _some(lines),
            "Nothing more is sent there, but for one question in a month. If you know a better address, take this one "
            "off the list and put the other one on: `barnacle house members` shows it as paused. `barnacle house add` "
            "with the same address takes it up again.",
        ],
    )


def still_there(house: House, link: str) -> Letter:
    return Letter(
        f"{house.title}: does mail reach you again?",
        [
            f"You are on the list {house.title}, and mail to you came back, so nothing more was sent to you.",
            f"If you read this, it works again. {_press(link)}",
            "If you want nothing more from this list, do nothing.",
        ],
    )


def how_to(house: House, rules: Sequence[str]) -> Letter:
    return Letter(
        f"{house.title}: what you can do by mail",
        [
            _about(house),
            f"Write to {house.request} with one of these words as the subject:",
            "  join    to be on the list\n  leave   to be on it no more\n  help    for this message",
            "You are sent a message with a link first, so that nobody else can do it in your name.",
            "\n".join(rules),
        ],
    )
