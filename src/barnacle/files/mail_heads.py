"""How messages and mailboxes begin (RFC 5322, RFC 4155): to tell them from other files without reading them."""

from __future__ import annotations

import re

_FIELD = (
    rb"(?:From|To|Cc|Bcc|Subject|Date|Received|Return-Path|Message-ID|MIME-Version|Delivered-To|X-[A-Za-z-]{1,60}"
    rb"|Reply-To|Sender|Content-Type|DKIM-Signature|Authentication-Results|Status|Envelope-To):"
)
_MESSAGE = re.compile(rb"(?i)\0*(?:" + _FIELD + rb"[^\n]*\n(?:[ \t][^\n]*\n)*+){2}")
_LINE = re.compile(rb"(?:\A|[\n\0])From [^\n]{0,400}\n")
# The moment that a mailbox's line has, as `asctime` writes it (RFC 4155 appendix A).
_DATED = re.compile(rb"From (?:\S.{0,300}?)?\d{1,2}:\d\d(?::\d\d)?\b.{0,40}\b\d{4}\b")

begins_field = re.compile(rb"(?i)" + _FIELD).match


def is_message(head: bytes) -> bool:
    """Whether a file that begins so is a message."""
    return _MESSAGE.match(head) is not None


def is_mailbox(head: bytes) -> bool:
    """Whether a file that begins so is an mbox file, whatever stands before its first message."""
    return any(begins_field(head, hit.end()) for hit in _LINE.finditer(head))


def begins_message(line: bytes, after_blank: bool, following: bytes) -> bool:
    """Whether a line that begins with `From ` begins a message of a mailbox: it has the moment in it or stands behind a
    blank line, and a field comes next, which behind a moment may be any."""
    if _DATED.match(line):
        return b":" in following.partition(b"\n")[0]
    return after_blank and begins_field(following) is not None
