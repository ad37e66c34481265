"""Delivery reports (RFC 3464, in a multipart/report of RFC 3462): which addresses a message did not reach, and why."""

from __future__ import annotations

import re
from email.message import Message
from typing import NamedTuple

from barnacle.core.addresses import check_address
from barnacle.core.errors import BadAddressError
from barnacle.core.text import tidy


class Undelivered(NamedTuple):
    """A recipient whom a message did not reach: whether for good, and the server's words."""

    address: str
    for_good: bool
    why: str


def undelivered(message: Message) -> list[Undelivered]:
    """What a delivery report says of each recipient; nothing where the message is none, or all went well.

    For good are failures with a status of 5.x.x, or without a status (RFC 3464 section 2.3.4, RFC 3463 section 2).
    A full mailbox (x.2.2) is not for good, whatever the class.
    """
    found: list[Undelivered] = []
    if message.get_content_type() != "multipart/report" and not message.is_multipart():
        return found
    for part in message.walk():
        if part.get_content_type() != "message/delivery-status":
            continue
        blocks = part.get_payload()
        for block in blocks if isinstance(blocks, list) else []:
            one = _recipient(block) if isinstance(block, Message) else None
            if one is not None:
                found.append(one)
    return found


def _recipient(block: Message) -> Undelivered | None:
    action = str(block.get("Action", "")).strip().lower()
    named = block.get("Original-Recipient") or block.get("Final-Recipient")
    if action not in ("failed", "delayed") or named is None:
        return None
    text = str(named).partition(";")[2].strip().strip("<>")
    try:
        address = check_address(text)
    except BadAddressError:
        return None
    match = re.match(r"\s*([245])\.(\d{1,3})\.(\d{1,3})", str(block.get("Status", "")))
    status = match[0].strip() if match else ""
    full = bool(match and match[2] == "2" and match[3] == "2")
    for_good = action == "failed" and not full and (not match or match[1] == "5")
    diagnostic = str(block.get("Diagnostic-Code", "")).partition(";")[2] or ("mailbox full" if full else "")
    return Undelivered(address, for_good, tidy(f"{status} {diagnostic}".strip() or action, 200))
