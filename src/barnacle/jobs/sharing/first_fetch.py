"""People whom a first exchange brings in, many at once."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from operator import itemgetter

from barnacle.book import bulk, contacts, lists, shares
from barnacle.book.bulk import Rows
from barnacle.book.shares import Share, SharedMember
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.sharing import Fields
from barnacle.core.text import fold, tidy
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.sharing.cards import ReadCard, fresh
from barnacle.net.answers import Card

if TYPE_CHECKING:
    from barnacle.jobs.imports.fast_rows import Gathered, PlainRows


# What is shared of most people, and can go the short way.
_PLAIN = frozenset(("name", "address", "phones", "org"))
# From so many new cards on, people are written together, and so many at once.
MANY, TOGETHER = 200, 1000


class Newcomers:
    """New people of a first exchange, who are written many at once (`together`); else this holds nobody."""

    def __init__(self, book: Book, share: Share, together: bool) -> None:
        self.book = book
        self.share = share
        self.together = together
        self.next = bulk.first_number(book)
        self.source = f"shared list {share.title}"
        self.familiar: set[str] = set()  # uids and addresses that somebody in the book may have
        self.plain: dict[str, PlainRows | None] = {}  # by the kind of their phone
        self._forget()

    def _forget(self) -> None:
        self.rows = Rows()
        self.gathered: Gathered | None = None
        self.uids: dict[int, str] = {}
        self.members: list[tuple[int, str, str]] = []
        self.links: list[SharedMember] = []
        self.keys: set[str] = set()

    def ask(self, cards: Sequence[Contact]) -> None:
        """Ask the book once about all that come next. Whoever is not written yet is written first."""
        if self.together:
            self.write()
            self.familiar = contacts.familiar(self.book, [key for card in cards for key in _keys(card)])

    def met(self, card: Contact) -> None:
        """Somebody in the book may have this card's uid and addresses now."""
        self.familiar.update(_keys(card))

    def is_stranger(self, card: Contact) -> bool:
        """Whether nobody has this card's uid or one of its addresses, of those that were asked about. Whoever may be
        the same and is not written yet is written."""
        keys = _keys(card)
        if not self.keys.isdisjoint(keys):
            self.write()
        return self.together and bool(card.addresses) and self.familiar.isdisjoint(keys)

    def add(self, one: Card, read: ReadCard, there: Fields) -> int:
        """Somebody new. Returns the number that the contact will have."""
        card = read.contact
        at = self.book.running.at
        number, self.next = self.next, self.next + 1
        uid = self.uids[number] = card.uid or contacts.new_uids(1)[0]
        here = there
        if not self._plainly(number, there):
            contact = fresh(card, there, self.source, at)
            contact.uid = uid
            here = sharing.fields_of(contact, None, sharing.named(self.share.fields))
            self.rows.add(number, contact)
        self.members.append((number, one.added or at, tidy(one.by, 200) or "a colleague"))
        since, facts = self.book.running.id, (read.problems, one.last_by, one.changed)
        self.links.append(
            SharedMember(one.name, number, uid, one.etag, one.data or "", here, there, True, since, "", *facts)
        )
        self.keys.update(_keys(card), (uid,))
        return number

    def _plainly(self, number: int, there: Fields) -> bool:
        """Add somebody of whom nothing unusual is shared, by the short way of imports; False for others."""
        if not there.keys() <= _PLAIN or len(phones := there.get("phones", [["", ""]])) > 1:
            return False
        [(phone, kind)] = phones
        plain = self._plain_rows(kind)
        line = "\n".join((there.get("name", ""), there.get("address", ""), phone, there.get("org", "")))
        rows = plain.take_apart([line]) if plain else []
        shapes = plain.shapes(rows) if plain and not rows[0][-1] else [None]
        if not all(shapes):
            return False
        if self.gathered is None:
            from barnacle.jobs.imports.fast_rows import Gathered

            self.gathered = Gathered()
        self.gathered.add(shapes, [number], rows)
        return True

    def _plain_rows(self, kind: str) -> PlainRows | None:
        if kind not in self.plain:
            from barnacle.files.tables.columns import Columns, Use
            from barnacle.jobs.imports.fast_rows import PlainRows, Stamp

            uses: list[Use | None] = [Use("name"), Use("address"), Use("phone", kind=kind), Use("org")]
            stamp = Stamp(self.source, self.book.running.at, ())
            self.plain[kind] = PlainRows.of(Columns([""] * len(uses), uses, 0), "\n", stamp)
        return self.plain[kind]

    def write(self) -> None:
        """Write whoever has come in since."""
        if self.links:
            if self.gathered:
                self.gathered.into(self.rows)
                self.rows.people.identify([self.uids[number] for number in self.rows.people.numbers])
            self.rows.stamp = fold(self.source), self.book.running.at
            self.rows.places.sort()
            bulk.write(self.book, self.rows)
            for (at, by), some in groupby(self.members, itemgetter(1, 2)):
                lists.add_members(self.book, self.share.row, [number for number, *_ in some], at, by)
            shares.save_links(self.book, self.share.row, self.links)
            self.familiar |= self.keys
            self._forget()


def _keys(contact: Contact) -> list[str]:
    return [contact.uid, *contact.address_keys(), *([] if contact.addresses else [f"name {fold(contact.called)}"])]
