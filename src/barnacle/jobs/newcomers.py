"""People whom a first exchange brings in, many at once."""

from __future__ import annotations

from barnacle.book import bulk, contacts, lists, shares
from barnacle.book.bulk import Rows
from barnacle.book.shares import Link, Share
from barnacle.book.store import Book
from barnacle.core.contact import Contact
from barnacle.core.sharing import Fields
from barnacle.core.text import fold, tidy
from barnacle.net.hub import Card

# From so many new cards on, people are written together.
MANY = 200


class Newcomers:
    """New people of a first exchange, who are written many at once (`together`); else this holds nobody."""

    def __init__(self, book: Book, share: Share, together: bool) -> None:
        self.book = book
        self.share = share
        self.together = together
        self.next = bulk.first_number(book)
        self._forget()

    def _forget(self) -> None:
        self.rows = Rows()
        self.members: list[tuple[int, int, str, str]] = []
        self.links: list[Link] = []
        self.keys: set[str] = set()

    def may_be(self, card: Contact) -> bool:
        """Whether somebody who was not written yet has this uid, name or one of these addresses."""
        return bool(self.keys) and not self.keys.isdisjoint(_keys(card))

    def add(self, contact: Contact, one: Card, here: Fields, there: Fields) -> int:
        """Somebody new. Returns the number that the contact will have."""
        contact.uid = contact.uid or contacts.new_uids(1)[0]
        number, self.next = self.next, self.next + 1
        self.rows.add(number, contact)
        by = tidy(one.by, 200) or "a colleague"
        self.members.append((self.share.row, number, one.added or self.book.current_at, by))
        self.links.append(Link(one.name, number, contact.uid, one.etag, one.data or "", here, there))
        self.keys.update(_keys(contact))
        if len(self.links) >= MANY:
            self.write()
        return number

    def write(self) -> None:
        """Write whoever has come in since."""
        if self.links:
            bulk.write(self.book, self.rows)
            lists.add_members(self.book, self.members)
            shares.save_links(self.book, self.share.row, self.links)
            self._forget()


def _keys(contact: Contact) -> list[str]:
    return [contact.uid, *contact.address_keys(), *([] if contact.addresses else [f"name {fold(contact.called)}"])]
