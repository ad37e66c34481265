"""Recipients of a message that was sent, as somebody to write to again: `m1`, `m1:refused`."""

from __future__ import annotations

from collections.abc import Iterator

from barnacle.book import contacts, outbox
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.mail.delivery import State
from barnacle.core.references import SentRef
from barnacle.core.text import listed, visible


def understand(book: Book, number: str, state: str) -> SentRef:
    """The recipients of a message by its number, or those of them who are in a state. Raises NotFoundError,
    UnclearError for a state that there is not."""
    message = outbox.get(book, number)
    if not outbox.people_of(book, message.id):
        raise NotFoundError(f"{message.number} has not been sent, so it has no recipients yet.")
    known = [s.value for s in State if s is not State.SENDING]
    if state and state not in known:
        raise UnclearError(
            f"`{visible(state, 30)}` is not a recipient's state; states are {listed(known, len(known))}."
        )
    if state and not outbox.addresses_in(book, message.id, [State(state)]):
        raise NotFoundError(
            f"Nobody of {message.number} is {state}. `barnacle outbox show {message.number}` shows all."
        )
    return SentRef(message.id, state)


def of(book: Book, ref: SentRef) -> Iterator[tuple[StoredContact | None, str, str]]:
    """Each with the contact that it was sent to, if there is one still, the address that it went to, and why."""
    inside = outbox.addresses_in(book, ref.message, [State(ref.state)]) if ref.state else None
    reason = f"got m{ref.message}" if not ref.state else f"{ref.state} for m{ref.message}"
    for address, number in outbox.people_of(book, ref.message, inside):
        yield contacts.get(book, number) if number is not None else None, address, reason
