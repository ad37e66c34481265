"""What both sides changed, and which to keep."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, lists, share_conflicts, shares
from barnacle.book.share_conflicts import Open
from barnacle.book.shares import Share, SharedMember
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.sharing import ON
from barnacle.core.text import listed
from barnacle.core.threeway import merge
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing.shared_list import fields_on


def conflicts(desk: Desk) -> list[dict[str, Any]]:
    """What both sides changed, and nobody has settled yet."""
    with desk.open() as book:
        result = []
        for one in share_conflicts.every(book):
            kept, on = contacts.get(book, one.contact), lists.get(book, one.row)
            name = kept.contact.title if kept else one.mine or one.theirs
            result.append(
                {"number": one.number, "list": on.title if on else "", "name": name,
                 "field": one.field.removeprefix(sharing.OWN),
                 "mine": sharing.in_text(one.mine), "theirs": sharing.in_text(one.theirs)}
            )  # fmt: skip
        return result


def settle(desk: Desk, keep: str, numbers: Sequence[int] | None) -> list[tuple[int, str]]:
    """Settle conflicts, or all of them: keep one's own value, which goes out at the next exchange where the contact
    follows the list, or the hub's. Returns their numbers, each with the name of whom it is about. Raises
    NotFoundError."""
    if keep not in ("mine", "theirs"):
        raise UnclearError("Keep `mine` or `theirs`.")
    with desk.open() as book:
        every = {one.number: one for one in share_conflicts.every(book)}
        for number in numbers or ():
            if number not in every:
                raise NotFoundError(f"There is no conflict {number}. `barnacle share conflicts` shows them.")
        wanted = [every[number] for number in dict.fromkeys(every if numbers is None else numbers)]
        done = []
        with book.action("share conflicts") as action:
            action.facts = True
            for one in wanted:
                name = _settle(book, one, keep)
                if name is not None:
                    done.append((one.number, name))
                share_conflicts.settle(book, one.number)
            told = [f"{name}: {every[number].field}" for number, name in done]
            action.title = f"Kept {keep} of {listed(told, 3)}"
        return done


def _settle(book: Book, one: Open, keep: str) -> str | None:
    """Settle one. Returns whom it is about, None for somebody who is gone."""
    share, kept = shares.of(book, one.row), contacts.get(book, one.contact)
    if share is None or kept is None:
        return None
    value = one.mine if keep == "mine" else one.theirs
    if one.field == ON:
        if value is None:
            lists.take_member(book, one.row, one.contact, "share conflicts")
        else:
            lists.add_member(book, one.row, one.contact, "share conflicts")
        return kept.contact.title
    holds = one.mine if isinstance(one.holds, dict) else one.holds
    if isinstance(value, list):  # what has joined since stays
        now = fields_on(book, one.row, kept, sharing.named(share.fields)).get(one.field, [])
        sides = ({one.field: side} if side else {} for side in (holds, now, value))
        holds, value = now, merge(*sides)[0].get(one.field)
    address = sharing.put_on_contact(kept.contact, _only(one.field, holds), _only(one.field, value))
    contacts.save(book, kept.id, kept.contact)
    if address is not None:
        with book.taking_over():  # a reader too may take the hub's
            lists.choose_address(book, one.row, kept.id, address)
    links = shares.links_of(book, one.row, one.contact)
    link = next((link for link in links if link.name == one.name), next(iter(links), None))
    off = shares.was_on(book, one.row, one.contact)
    if link is None and off is not None:  # chosen for this list: no private change
        mine = {key: item for key, item in off.mine.items() if key != one.field} | _only(one.field, value)
        shares.save_traces(book, one.row, [off._replace(mine=mine)])
    if link is not None and link.own:
        _agree(book, share, link, one.field)
    elif link is not None and keep == "theirs":
        # It says the same on both sides now: nothing of one's own is handed on by it.
        here = {key: item for key, item in link.here.items() if key != one.field} | _only(one.field, value)
        shares.save_link(book, share.row, link._replace(here=here))
    return kept.contact.title


def _only(field: str, value: Any) -> dict[str, Any]:
    return {field: value} if value else {}


def _agree(book: Book, share: Share, link: SharedMember, field: str) -> None:
    """From now on what is here counts as a change of one's own wherever it is not what the hub has."""
    shares.save_link(book, share.row, link._replace(here=sharing.as_agreed(link.here, link.there, field)))
    shares.save(book, share._replace(action=0))  # it may have been here all along, changed by no action since
