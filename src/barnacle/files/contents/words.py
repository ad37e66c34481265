"""Octets as the texts that they may be."""

from __future__ import annotations

import re
from collections.abc import Iterator

from barnacle.files.encoding import MARKS

_RUN = re.compile(rb"[\t\n\r -~\x80-\xff]{3,}")
_WIDE_RUN = re.compile(rb"(?:[\t\n\r -~\xa0-\xff]\x00|[\x00-\xff][\x01-\x05]){3,}")
_WIDE_RUN_BE = re.compile(rb"(?:\x00[\t\n\r -~\xa0-\xff]|[\x01-\x05][\x00-\xff]){3,}")
# Stretches that are shorter than this are words if they are letters and nothing else.
_SHORTEST = 6
_ASCII_RUN = re.compile(rb"[\t\n\r -~]{%d,}" % _SHORTEST)
# In ISO 8859 and the charsets of Windows: letters beyond ASCII, mostly; and the rest.
_LETTERS_BEYOND, _OTHERS_BEYOND = bytes(range(0xC0, 0x100)), bytes(range(0x80, 0xC0))
# An address among octets that are no text: what stands behind its @, and what before it, read backwards.
_DOMAIN = re.compile(rb"@(?:[A-Za-z0-9\x80-\xff-]{1,63}\.)+[A-Za-z0-9\x80-\xff-]{2,63}")
_LOCAL_PART = re.compile(rb"[!-~\x80-\xff]{1,64}")


def as_text(data: bytes, charset: str | None = None) -> str:
    """Octets as text: by their mark, else by how zeros stand in them, else in the charset that is said, else UTF-8,
    else octet for octet (ISO 8859-1), in which every ASCII address stands as it is."""
    for mark, codec, _ in MARKS:
        if data.startswith(mark):
            return data.decode(codec, "replace")
    head = data[:400]
    if head.count(0) > len(head) // 8:
        zeros = [head[place::4].count(0) for place in range(4)]
        quarter = len(head) // 4
        if min(zeros[2:]) > quarter * 0.95:
            return data.decode("utf-32-le", "replace")
        if min(zeros[:2]) > quarter * 0.95:
            return data.decode("utf-32-be", "replace")
        even, odd = zeros[0] + zeros[2], zeros[1] + zeros[3]
        if max(even, odd) > 8 * min(even, odd):
            return data.decode("utf-16-le" if odd > even else "utf-16-be", "replace")
    for named in (charset, "utf-8"):
        try:
            return data.decode(named or "utf-8")
        except (LookupError, UnicodeError, ValueError):
            continue
    return data.decode("latin-1")


def is_text(data: bytes) -> bool:
    """Whether a file is one of text, in an encoding that `as_text` knows."""
    if not data or any(data.startswith(mark) for mark, _, _ in MARKS):
        return True
    sample = data[:65536] + data[-4096:]
    if sample.count(0):
        wide = as_text(data[:65536])
        odd = sum(c in "\0\ufffd" or (c < " " and c not in "\t\n\r\f") for c in wide)
        return odd < len(wide) * 0.01
    return sum(octet < 32 and octet not in b"\t\n\r\f\x1b\x0b\x08" for octet in sample) <= len(sample) * 0.002


def runs(data: bytes) -> Iterator[str]:
    """The stretches of text among other octets: in ASCII and what extends it, and in UTF-16. Of what is none, such as a
    picture among them, little is left: all of it would be read in dozens of ways."""
    yield "\n".join(run.decode("latin-1") for run in _likely(data))
    for pattern, codec in ((_WIDE_RUN, "utf-16-le"), (_WIDE_RUN_BE, "utf-16-be")):
        if wide := pattern.findall(data):
            yield "\n".join(run.decode(codec) for run in wide)
    yield addresses_in(data)


def _likely(data: bytes) -> Iterator[bytes]:
    for run in _RUN.findall(data):
        if _is_words(run):
            yield run
        elif len(run) >= _SHORTEST:
            yield from _ASCII_RUN.findall(run)


def _is_words(run: bytes) -> bool:
    """Whether octets that could be text are likely to be. Octets at random are half beyond ASCII, and half of these no
    letters in the common charsets; of words in ASCII few are beyond it, in another alphabet most are."""
    if run.isascii():
        return len(run) >= _SHORTEST or run.isalpha()
    letters = len(run) - len(run.translate(None, _LETTERS_BEYOND))
    others = len(run) - len(run.translate(None, _OTHERS_BEYOND))
    if len(run) < _SHORTEST:
        return not others and run.translate(None, _LETTERS_BEYOND).isalpha()
    if others * 10 <= len(run) and not len(run) * 0.3 < letters < len(run) * 0.6:
        return True
    try:
        return bool(run.decode())
    except UnicodeError:
        return False


def addresses_in(data: bytes) -> str:
    """What may be addresses among octets of any kind."""
    found: set[bytes] = set()
    for form in (data, data.replace(b"\0", b"")):  # in UTF-16, too
        for domain in _DOMAIN.finditer(form):
            at = domain.start()
            if before := _LOCAL_PART.match(form[max(0, at - 64) : at][::-1]):
                found.add(before.group()[::-1] + domain.group())
    return "\n".join(as_text(one) for one in sorted(found))
