"""How lists of the book are shared, for looking at them: asks no hub."""

from __future__ import annotations

from barnacle.book import contacts, share_conflicts, shares
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.sharing import Sharer
from barnacle.core.typed import NamedTuple


class Told(NamedTuple):
    """How a list is shared, for people to read. `giver` offered it; `changed` says of contacts, by their numbers, who
    changed their card last, and when."""

    role: str
    people: list[Sharer]
    at: str
    waiting: int
    conflicts: int
    giver: str
    changed: dict[int, tuple[str, str]]
    house: tuple[str, ...] = ()


def told(book: Book, row: int) -> Told | None:
    """How a list is shared, with whom, since when nothing was exchanged, and how many changes wait to go out."""
    share = shares.of(book, row)
    if share is None:
        return None
    open_ones = len(share_conflicts.every(book, row))
    return Told(
        share.role,
        share.people,
        share.at,
        waiting(book, share),
        open_ones,
        share.giver,
        shares.changed(book, row),
        tuple(share.house),
    )


def waiting(book: Book, share: Share) -> int:
    """How many changes to a list wait to go out to those who share it."""
    if share.role == sharing.READER:
        return 0
    names = sharing.named(share.fields)
    changed = 0
    for link in shares.touched(book, share.row, share.action):
        kept = contacts.get(book, link.contact)
        if kept is not None:
            address = shares.chosen_address(book, share.row, kept)
            mine, agreed = sharing.fields_of(kept.contact, address, names), sharing.narrowed(link.here, names)
            changed += (mine if link.own else sharing.of_one_met(agreed, mine)) != agreed
    return len(shares.left(book, share.row)) + len(shares.unlinked(book, share.row)) + changed


def roles(book: Book) -> dict[int, str]:
    """One's role in each shared list, and with how many others it is shared, in words."""
    result = {}
    for share in shares.every(book):
        joined = sum(one.state == "joined" for one in share.people)
        others = f", with {joined - 1} more" if joined > 1 else ""
        result[share.row] = f"{share.role}{others}"
    return result
