"""Where things stand."""

from __future__ import annotations

from barnacle.book import contacts, lists, shares
from barnacle.book.shares import Offer
from barnacle.core.typed import TYPE_CHECKING, NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.stale_lists import stale

if TYPE_CHECKING:
    from barnacle.jobs.mail.outbox import Outcome


class Standing(NamedTuple):
    """What `barnacle` alone tells: how much is in the book, the messages that are not done, what colleagues offered at
    the last exchange, and which lists were not brought up to date lately, in sentences."""

    contacts: int
    lists: int
    open_messages: list[Outcome]
    offers: list[Offer]
    stale: list[str]


def standing(desk: Desk) -> Standing | None:
    """Where things stand; None where there is no book yet."""
    if not desk.path.exists():
        return None
    with desk.open() as book:
        totals = contacts.count(book), len(lists.overview(book))
        offers, old = shares.offers(book), stale(book)
    from barnacle.jobs.mail import outbox

    return Standing(*totals, outbox.unfinished(desk), offers, old)
