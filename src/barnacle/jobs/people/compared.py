"""The whole book in comparable forms, without holding its contacts: those of a large book take more memory than all the
comparing."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.gc_paused import uncollected
from barnacle.core.matching.forms import Form, form
from barnacle.core.typed import NamedTuple

# After how many people that were read it is told how far one is.
_TOLD_EVERY = 1000


class Compared(NamedTuple):
    """Everybody by name: the number in the book, and the comparable form, each at the same place."""

    numbers: list[int]
    forms: list[Form]

    def held(self, book: Book, places: Iterable[int]) -> dict[int, StoredContact]:
        """The contacts at some places, as far as they are in the book still."""
        wanted = {self.numbers[place]: place for place in places}
        return {wanted[kept.id]: kept for kept in contacts.search(book, "", wanted.keys())}


def compared(book: Book, region: str, tick: Callable[[int, int], None] = lambda done, total: None) -> Compared:
    """Everybody in the book; `region` (ISO 3166) is where phone numbers without a country code are read. `tick` is told
    how many were read, and of how many."""
    number = contacts.count(book)
    result = Compared([], [])
    with uncollected():
        for kept in contacts.everybody(book):
            if len(result.numbers) % _TOLD_EVERY == 0:
                tick(len(result.numbers), number)
            result.numbers.append(kept.id)
            result.forms.append(form(kept.contact, region))
    return result
