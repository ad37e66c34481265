"""Conditions of requests (RFC 9110 section 13): entity tags, compared strongly or weakly."""

from __future__ import annotations

import re

_TAG = re.compile(r'\s*(W/)?("[\x21\x23-\x7e\x80-\xff]*")\s*(?:,|$)')


def names(header: str, etag: str | None, weakly: bool = False) -> bool:
    """Whether a list of entity tags, or `*`, names what has this tag; None for what is not there. Compared strongly, a
    tag that says it is weak names nothing (section 8.8.3.2)."""
    if header.strip() == "*":
        return etag is not None
    place = 0
    while found := _TAG.match(header, place):
        if found[2] == f'"{etag}"' and (weakly or not found[1]):
            return True
        place = found.end()
        if place >= len(header):
            break
    # Some programs leave the quotes out.
    return etag is not None and header.strip() == etag
