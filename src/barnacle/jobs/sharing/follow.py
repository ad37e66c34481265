"""Having people of one's own follow a list that has met them."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, share_conflicts, shares
from barnacle.core import sharing
from barnacle.core.text import listed
from barnacle.core.threeway import merge
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact
from barnacle.jobs.sharing.roles import need_share
from barnacle.jobs.sharing.shared_list import fields_on


class Followed(NamedTuple):
    """The list's title, the names of those who follow it from now on, and of those of them who follow another first."""

    title: str
    names: list[str]
    elsewhere: list[str]


def follow(desk: Desk, title: str, who: Sequence[str]) -> Followed:
    """Have contacts follow a shared list which has only met them (or some of them): what they lack comes in from its
    cards, what differs stays a question, and each later change goes both ways. Raises NotFoundError, StoppedError."""
    names: list[str] = []
    elsewhere: list[str] = []
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        chosen = {need_contact(desk, book, text).id for text in who}
        shared = sharing.named(share.fields)
        with book.action("share follow") as action, book.taking_over():
            action.facts = True
            for link in shares.all_links(book, share.row):
                kept = contacts.get(book, link.contact)
                if link.own or kept is None or (chosen and link.contact not in chosen):
                    continue
                mine, there = fields_on(book, share.row, kept, shared), sharing.narrowed(link.there, shared)
                filled, _ = merge({}, mine, there)
                since = action.id
                first = not shares.follows_another(book, share.row, kept.id, since)
                if first and filled != mine:
                    sharing.put_on_contact(kept.contact, mine, filled)
                    contacts.save(book, kept.id, kept.contact)
                    mine = fields_on(book, share.row, kept, shared)
                shares.save_link(book, share.row, link._replace(here=mine, own=True, since=since, held=""))
                for clash in share_conflicts.every(book, share.row):
                    theirs = {clash.field: there[clash.field]} if clash.field in there else {}
                    if clash.contact == kept.id and not sharing.told_otherwise({}, mine, theirs):
                        share_conflicts.settle(book, clash.number)
                names.append(kept.contact.title)
                if not first:
                    elsewhere.append(kept.contact.title)
            action.title = f"{listed(names, 3) or 'Nobody'} follows {one.title}"
    return Followed(one.title, names, elsewhere)
