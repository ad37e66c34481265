"""What a mail server's answer is about: a mailbox, the message as such, or only the moment (RFC 5321, RFC 3463)."""

from __future__ import annotations

import re
from enum import StrEnum

_ENHANCED = re.compile(r"\s*[245]\.(\d{1,3})\.(\d{1,3})\b")
_TOO_MANY = re.compile(
    r"too many (?:recipients|rcpt|addresses)|recipients? (?:limit|count)|max\w* (?:number of )?recipients|"
    r"limit of \d+ recipients|recipients? (?:\w+ )?(?:exceed|per message)|more recipients than",
    re.IGNORECASE,
)
_SPACE = re.compile(r"storage|space|full|quota", re.IGNORECASE)


class About(StrEnum):
    """What an answer is about."""

    TAKEN = "taken"
    MAILBOX = "mailbox"  # this one, for good
    MAYBE = "maybe"  # this mailbox, if the server takes others
    MESSAGE = "message"  # not the address: sender, size, content, policy, a full mailbox
    LATER = "later"
    TOO_MANY = "too many"  # recipients in this transaction
    NONSENSE = "nonsense"  # no answer to what was said


def enhanced(reply: str) -> tuple[int, int] | None:
    """Subject and detail of an enhanced status code (RFC 3463 section 2) at the beginning of a reply."""
    found = _ENHANCED.match(reply)
    return (int(found[1]), int(found[2])) if found else None


def too_many(code: int, reply: str) -> bool:
    """Whether a refusal says that there are too many recipients: RFC 5321 section 4.5.3.1.10 has 452 for that, RFC 3463
    section 3.6 x.5.3; servers say 552 and 554 too, in words."""
    status = enhanced(reply)
    if code != 452 and code < 500:  # the other codes for now are those of a rate: too many in an hour
        return status == (5, 3) and code >= 400
    if status == (5, 3) or _TOO_MANY.search(reply):
        return True
    return code == 452 and status is None and not _SPACE.search(reply)


def of_recipient(code: int, reply: str, others_taken: int) -> About:
    """What an answer to RCPT says, where `others_taken` were taken before it in the same transaction."""
    if code in (250, 251, 252):
        return About.TAKEN
    if not 400 <= code < 600:
        return About.NONSENSE
    if too_many(code, reply):
        return About.TOO_MANY if others_taken else About.LATER if code < 500 else About.MESSAGE
    if code < 500:
        return About.LATER
    status = enhanced(reply)
    if status is None:
        return About.MAYBE if code in (550, 551, 553) else About.MESSAGE
    # x.1.7 and x.1.8 are the sender's address.
    mailbox = (status[0] == 1 and status[1] not in (7, 8)) or status == (2, 1)
    return About.MAILBOX if mailbox else About.MESSAGE


def of_message(code: int, reply: str, recipients: int) -> About:
    """What an answer to MAIL, to DATA or to the final dot says of a message to so many."""
    if not 400 <= code < 600:
        return About.NONSENSE
    if recipients > 1 and too_many(code, reply):
        return About.TOO_MANY
    return About.LATER if code < 500 else About.MESSAGE
