"""Where things stand."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from barnacle.book import contacts, lists
from barnacle.core.mail.delivery import MessageState
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.mail.outbox import Outcome


class Standing(NamedTuple):
    """What `barnacle` alone tells: how much is in the book, and the messages that are not done."""

    contacts: int
    lists: int
    open_messages: list[Outcome]


def standing(desk: Desk) -> Standing | None:
    """Where things stand; None where there is no book yet."""
    if not desk.path.exists():
        return None
    from barnacle.jobs.mail import outbox

    with desk.open() as book:
        totals = contacts.count(book), len(lists.overview(book))
    return Standing(
        *totals, [o for o in outbox.every(desk) if o.state not in (MessageState.SENT, MessageState.REFUSED)]
    )
