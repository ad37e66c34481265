"""What is shared of each member."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import shares
from barnacle.core import sharing
from barnacle.core.errors import StoppedError
from barnacle.core.text import listed, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import cards, connection, sync
from barnacle.jobs.sharing.going_out import GoingOut
from barnacle.jobs.sharing.roles import need_share
from barnacle.jobs.sharing.shared_list import Exchanged, SharedList, Tick
from barnacle.net.hub import NoRightError

# How often somebody may be quicker while fields are taken off the cards.
_ROUNDS = 4


def set_fields(
    desk: Desk,
    title: str,
    more: Sequence[str] = (),
    less: Sequence[str] = (),
    tick: Tick = lambda done, total: None,
) -> tuple[str, list[str]]:
    """Share more fields of the members from now on, or fewer; owners only. What is shared no more, and all of `less`,
    is taken off the cards at the hub; whoever has fetched it keeps it. Returns the list's title and the fields that are
    shared, which is all that is done where none are named. Raises StoppedError."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            before = next((one.fields for one in client.lists() if one.id == share.remote), share.fields)
            fields = sharing.named({*before, *more} - set(less))
            if not more and not less:
                return one.title, fields
            # First this: from now on nobody takes a field that is missing for one that was emptied.
            client.tell("PATCH", f"api/lists/{share.remote}", {"fields": fields})
        shares.record(book, "share fields", f"{one.title} shares {listed(fields, 9)} of its members")
    gone = sorted({*less, *before} - set(fields))
    for _ in range(_ROUNDS):
        if not gone:
            return one.title, fields
        sync.sync(desk, tick=tick)
        if _taken_off(desk, one.title, gone):
            return one.title, fields
    raise StoppedError(
        f"Others are changing {visible(one.title)} right now, so {listed(gone, 9)} could not be removed from its "
        "cards. Try again in a moment."
    )


def _taken_off(desk: Desk, title: str, gone: Sequence[str]) -> bool:
    """Take fields off the cards at the hub. Says whether nobody was quicker with one of them. Raises StoppedError."""
    with desk.open() as book, sync.only_one(desk), connection.client_of(desk, book) as client:
        one, share = need_share(desk, book, title)
        fewer = []
        for link in shares.all_links(book, share.row):
            text = cards.without(link.card, gone)
            if text is not None:
                here, there = (
                    {k: v for k, v in side.items() if not sharing.is_named(k, gone)} for side in (link.here, link.there)
                )
                fewer.append(link._replace(card=text, here=here, there=there))
        on = SharedList(desk, book, client, share, Exchanged(one.title), lambda done, total: None)
        out = GoingOut(on)
        try:
            out.send_these(fewer)
        except NoRightError:
            raise StoppedError(f"You may no longer change {visible(one.title)} at the hub.") from None
        if on.result.refused:
            raise StoppedError(on.result.refused)
        return not out.overtaken
