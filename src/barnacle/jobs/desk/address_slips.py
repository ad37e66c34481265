"""Addresses whose domain is likely a slip of the pen, as far as the book can tell."""

from __future__ import annotations

from collections.abc import Iterable

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.core.text import visible

# So many domains are looked at, the most frequent ones.
_MOST = 200


def told(book: Book, addresses: Iterable[str]) -> list[str]:
    """A question for each address at a domain that is nearly that of many others."""
    if not (wanted := list(addresses)):
        return []
    from barnacle.core.checks import meant_domain  # not needed to look at somebody, and slow to load

    counts = contacts.domains(book)
    frequent = dict(sorted(counts.items(), key=lambda one: -one[1])[:_MOST])
    said = []
    for address in wanted:
        domain = address.rpartition("@")[2].lower()
        if meant := meant_domain(domain, counts.get(domain, 1), frequent):
            said.append(f"Is {visible(address)} mistyped? {counts[meant]:,} others have {visible(meant)}.")
    return said
