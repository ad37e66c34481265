"""Octets as the texts that they may be."""

from __future__ import annotations

import re
from collections.abc import Iterator

from barnacle.files.encoding import MARKS

_RUN = re.compile(rb"[\t\n\r -~\x80-\xff]{3,}")
_WIDE_RUN = re.compile(rb"(?:[\t\n\r -~\xa0-\xff]\x00|[\x00-\xff][\x01-\x05]){3,}")
_WIDE_RUN_BE = re.compile(rb"(?:\x00[\t\n\r -~\xa0-\xff]|[\x01-\x05][\x00-\xff]){3,}")


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
    """The stretches of text among other octets: in ASCII and what extends it, and in UTF-16."""
    yield "\n".join(run.decode("latin-1") for run in _RUN.findall(data))
    for pattern, codec in ((_WIDE_RUN, "utf-16-le"), (_WIDE_RUN_BE, "utf-16-be")):
        if wide := pattern.findall(data):
            yield "\n".join(run.decode(codec) for run in wide)
