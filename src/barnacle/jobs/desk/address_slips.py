"""Addresses whose domain is likely a slip of the pen, as far as the book can tell."""

from __future__ import annotations

from collections.abc import Iterable

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.core.text import visible
from barnacle.core.usual_domains import UsualDomains


def told(book: Book, addresses: Iterable[str]) -> list[str]:
    """A question for each address at a domain that is nearly that of many others."""
    if not (wanted := list(addresses)):
        return []
    domains = UsualDomains(contacts.domains(book))
    said = []
    for address in wanted:
        domain = address.rpartition("@")[2].lower()
        if meant := domains.meant_by(domain):
            said.append(f"Is {visible(address)} mistyped? {domains.counts[meant]:,} others have {visible(meant)}.")
    return said
