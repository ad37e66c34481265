"""The identifier of a list in the header of its mail (List-Id, RFC 2919)."""

from __future__ import annotations

from barnacle.core.addresses import ascii_domain
from barnacle.core.patterns import pattern

_LAST = pattern(r"<([^<>]*)>\s*$")


def list_id(value: str) -> str:
    """The identifier in a List-Id (section 3)."""
    found = _LAST.search(value)
    return (found[1] if found else value).strip().lower()


def id_of(address: str) -> str:
    """The identifier of a house list: of its address."""
    local, _, domain = address.lower().rpartition("@")
    return f"{local}.{ascii_domain(domain)}"


def id_of_lists(owner: str) -> str:
    """The identifier of what somebody with an address writes to lists of their own, whichever: their titles are told to
    nobody."""
    return f"lists.{id_of(owner)}"
