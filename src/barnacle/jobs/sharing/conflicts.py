"""What both sides changed, and which to keep."""

from __future__ import annotations

from typing import Any

from barnacle.book import contacts, lists, shares
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.sharing import ON
from barnacle.jobs.desk.desk import Desk


def conflicts(desk: Desk) -> list[dict[str, Any]]:
    """What both sides changed, and nobody has settled yet."""
    with desk.open() as book:
        result = []
        for one in shares.conflicts(book):
            kept, on = contacts.get(book, one.contact), lists.get(book, one.row)
            name = kept.contact.title if kept else one.mine or one.theirs
            result.append(
                {"number": one.number, "list": on.title if on else "", "name": name, "field": one.field,
                 "mine": sharing.in_text(one.mine), "theirs": sharing.in_text(one.theirs)}
            )  # fmt: skip
        return result


def settle(desk: Desk, keep: str, number: int) -> str:
    """Settle a conflict: keep one's own value, which goes out at the next exchange, or the hub's. Returns the name of
    whom it is about. Raises NotFoundError."""
    if keep not in ("mine", "theirs"):
        raise UnclearError("Keep `mine` or `theirs`.")
    with desk.open() as book:
        one = next((c for c in shares.conflicts(book) if c.number == number), None)
        share = shares.of(book, one.row) if one else None
        kept = contacts.get(book, one.contact) if one else None
        if one is None or share is None or kept is None:
            raise NotFoundError(f"There is no conflict {number}. `barnacle share conflicts` shows them.")
        value = one.mine if keep == "mine" else one.theirs
        with book.action("share conflicts", f"Kept {keep} of {kept.contact.title}: {one.field}") as action:
            action.facts = True
            if one.field == ON:
                if value is None:
                    lists.take_member(book, one.row, one.contact, "share conflicts")
                else:
                    lists.add_member(book, one.row, one.contact, "share conflicts")
            else:
                address = sharing.put_on_contact(kept.contact, _only(one.field, one.holds), _only(one.field, value))
                contacts.save(book, kept.id, kept.contact)
                if address is not None:
                    with book.taking_over():  # a reader too may take the hub's
                        lists.choose_address(book, one.row, kept.id, address)
                _agree(book, share, one.name, one.field)
            shares.settle(book, number)
        return kept.contact.title


def _only(field: str, value: Any) -> dict[str, Any]:
    return {field: value} if value else {}


def _agree(book: Book, share: Share, name: str, field: str) -> None:
    """From now on what is here counts as a change of one's own wherever it is not what the hub has."""
    link = shares.links(book, share.row, [name]).get(name)
    if link is not None:
        here = {key: value for key, value in link.here.items() if key != field} | _only(field, link.there.get(field))
        shares.save_link(book, share.row, link._replace(here=here))
        shares.save(book, share._replace(action=0))  # it may have been here all along, changed by no action since
