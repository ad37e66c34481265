"""The exchange with a hub: what changed there comes in, what changed here goes out, and nothing is lost between."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from urllib.parse import quote

from barnacle.book import contacts, lists, shares
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.errors import StoppedError
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import connection
from barnacle.jobs.sharing.exchange import Exchange, Exchanged, OtherFieldsError, Tick
from barnacle.net.answers import HubList
from barnacle.net.hub import Client, NoRightError

# How often in a row roles or fields may change under an exchange before this run leaves the rest to the next.
_ROUNDS = 3


def sync(desk: Desk, drop_ended: bool = False, tick: Tick = lambda done, total: None) -> list[Exchanged]:
    """Exchange every shared list with the hub. Safe to break off at any point and to do twice.

    Raises HubError where the hub cannot be reached or does not let us in.
    """
    with desk.open() as book, only_one(desk), connection.client_of(desk, book) as client:
        there = {one.id: one for one in client.lists() if one.state == "joined"}
        every = shares.every(book)
        done = [_list(desk, book, client, share, there.get(share.remote), drop_ended, tick) for share in every]
        # What was accepted elsewhere, or in a run that broke off, is fetched too.
        here = {share.remote for share in every}
        return done + [first(desk, book, client, one, tick) for made, one in there.items() if made not in here]


@contextmanager
def only_one(desk: Desk) -> Iterator[None]:
    """The right to exchange, one run at a time; the system frees the lock however the run ends. Raises StoppedError."""
    from filelock import FileLock, Timeout

    try:
        with FileLock(f"{desk.path}.sync", timeout=5, mode=0o600):
            yield
    except Timeout:
        raise StoppedError("Another `barnacle sync` is at work on this book. Let it finish.") from None


def first(desk: Desk, book: Book, client: Client, remote: HubList, tick: Tick) -> Exchanged:
    """Fetch a list that was just accepted into a new list of one's own."""
    title = remote.title
    if lists.by_exact_title(book, title) is not None:
        title = f"{title} ({remote.owner})"
    with book.action("share accept", f"Accepted {title}") as action:
        made = lists.new(book, title, f"shared by {remote.owner}")
        facts = (title, remote.owner, remote.role, list(remote.fields))
        share = Share(made.id, remote.id, *facts, "", "", action.id, [])
        shares.save(book, share)
    return _list(desk, book, client, share, remote, False, tick)


def _list(
    desk: Desk, book: Book, client: Client, share: Share, remote: HubList | None, drop_ended: bool, tick: Tick
) -> Exchanged:
    here = lists.get(book, share.row)
    result = Exchanged(here.title if here else share.title)
    if here is None:
        _left_here(book, client, share, remote)
        return result
    if remote is None:
        return _ended(book, share, result, drop_ended)
    for _ in range(_ROUNDS):
        share = _as_there(book, client, share, remote, result.title, result)
        try:
            Exchange(desk, book, client, share, result, tick).run()
            return result
        except (NoRightError, OtherFieldsError):
            remote = _still_there(client, share)
            if remote is None:
                return _ended(book, share, result, drop_ended)
            share = shares.of(book, share.row) or share
    result.refused = "What is shared of this list, or with whom, is being changed; the rest goes next time."
    return result


def _still_there(client: Client, share: Share) -> HubList | None:
    every = client.lists()
    return next((one for one in every if one.id == share.remote and one.state == "joined"), None)


def _left_here(book: Book, client: Client, share: Share, remote: HubList | None) -> None:
    """A joined list that was removed here is left there."""
    hub = shares.connection(book)
    assert hub is not None
    if remote is not None:
        try:
            client.tell("DELETE", f"api/lists/{share.remote}/people/{quote(hub.address, safe='')}")
        except StoppedError:
            return  # its last owner: the list stays there until it is stopped
    with book.transaction():
        shares.forget(book, share.row)


def _ended(book: Book, share: Share, result: Exchanged, drop: bool) -> Exchanged:
    """The role has ended: what is here is a private copy from now on, or goes."""
    result.ended = True
    with book.action("sync", f"{result.title} is shared no more") as action:
        action.facts = True
        shares.forget(book, share.row)
        if drop:
            lists.remove(book, share.row)
    return result


def _as_there(book: Book, client: Client, share: Share, remote: HubList, title: str, result: Exchanged) -> Share:
    """Bring role, fields and title together: a title that an owner changed here goes there, else theirs comes here."""
    there = remote.title
    agreed = share.title
    if remote.role == sharing.OWNER and title not in (agreed, there) and there == _bare(agreed, share.owner):
        client.tell("PATCH", f"api/lists/{share.remote}", {"title": title})
        agreed = title
    elif there not in (agreed, _bare(agreed, share.owner)):
        agreed = there if lists.by_exact_title(book, there) is None else f"{there} ({remote.owner})"
        if agreed != title and lists.by_exact_title(book, agreed) is None:
            with book.taking_over(), book.action("sync", f"{title} is called {agreed} now"):
                one = lists.get(book, share.row)
                assert one is not None
                lists.change(book, one._replace(title=agreed))
            result.title = agreed
    people = client.people(share.remote)
    old, fields = share, list(remote.fields)
    share = share._replace(role=remote.role, fields=fields, owner=remote.owner, title=agreed, people=people)
    with book.transaction():
        if fields != old.fields:
            share = share._replace(action=_other_fields(book, share))
        shares.save(book, share)
    return share


def _other_fields(book: Book, share: Share) -> int:
    """Other fields of the members are shared from now on. An owner, who decided that, hands over what there is of them;
    for everybody else what they have of them stays their own until they change it. Returns from which action on one's
    changes are looked at."""
    if share.role == sharing.OWNER:
        return 0
    names = sharing.named(share.fields)
    for link in shares.all_links(book, share.row):
        kept = contacts.get(book, link.contact)
        if kept is not None:
            used = shares.chosen_address(book, share.row, kept)
            mine = sharing.fields_of(kept.contact, used, names)
            fresh = {name: value for name, value in mine.items() if name not in link.here}
            shares.save_link(book, share.row, link._replace(here={**link.here, **fresh}))
    return share.action


def _bare(title: str, owner: str) -> str:
    return title.removesuffix(f" ({owner})")
