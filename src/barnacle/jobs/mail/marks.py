"""What the user says of whom mail reaches: an address fails, or works again; and what was taken away before."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Contact, Failing
from barnacle.core.errors import NotFoundError
from barnacle.core.text import listed, people, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact


def mark_failing(desk: Desk, addresses: Sequence[str]) -> list[str]:
    """Mark addresses as failing for good, because the user says so. Returns those that somebody has. Raises
    NotFoundError."""
    done = []
    with desk.open() as book, book.action("returns") as action:
        for text in addresses:
            holders = contacts.by_address(book, check_address(text))
            if not holders:
                raise NotFoundError(f"Nobody in the book has {visible(text, 80)}.")
            for kept in holders:
                spelt = kept.contact.find_address(text) or text
                others = [f for f in kept.contact.failing if address_key(f.address) != address_key(spelt)]
                kept.contact.failing = [*others, Failing(spelt, True, 1, book.running.at, "you said so")]
                contacts.save(book, kept.id, kept.contact)
            done.append(spelt)
        action.title = f"Marked as failing: {listed(done, 3)}"
    return done


def works_again(desk: Desk, who: Sequence[str]) -> list[str]:
    """Forget what delivery reports said of somebody's addresses. Returns the names of those who had such a mark."""
    with desk.open() as book, book.action("returns") as action:
        cleared = []
        for text in who:
            kept = need_contact(desk, book, text)
            if kept.contact.failing:
                kept.contact.failing = []
                contacts.save(book, kept.id, kept.contact)
                cleared.append(kept.contact.title)
        action.title = f"Cleared the failed deliveries of {people(len(cleared))}"
        return cleared


def failing_was_taken_away(book: Book, number: int, key: str, date: str) -> bool:
    """Whether somebody has said that an address of a contact works again, after a report on a message of `date` (ISO
    8601) or a later one."""
    return any(_failed(was, key) >= date and not _failed(became, key) for was, became in contacts.changes(book, number))


def opt_out_was_taken_away(book: Book, number: int, date: str) -> bool:
    """Whether somebody has said that a contact may be written to again, after an opt-out of `date` or a later one."""
    return any(
        was.opt_out is not None and was.opt_out.since >= date and became.opt_out is None
        for was, became in contacts.changes(book, number)
    )


def _failed(contact: Contact, key: str) -> str:
    """When an address last failed; empty where it does not."""
    return next((one.last for one in contact.failing if address_key(one.address) == key), "")
