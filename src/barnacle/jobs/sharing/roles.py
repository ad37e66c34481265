"""Who may do what with a shared list, leaving it, and ending it."""

from __future__ import annotations

from urllib.parse import quote

from barnacle.book import shares
from barnacle.book.lists import ContactList
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.errors import AmbiguousError, NotFoundError, StoppedError
from barnacle.core.sharing import Sharer
from barnacle.core.text import visible, words
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list
from barnacle.jobs.sharing import connection
from barnacle.net.answers import Happened
from barnacle.net.hub import Client


def who(desk: Desk, title: str) -> tuple[str, list[Sharer]]:
    """The list's title, and everybody who has a role in it or is offered one."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            people = client.people(share.remote)
        with book.transaction():
            shares.save(book, share._replace(people=people))
        return one.title, people


def history(desk: Desk, title: str) -> tuple[str, list[Happened]]:
    """The list's title, and see who added, changed or took off whom, the latest first."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            return one.title, client.history(share.remote)


def set_role(desk: Desk, title: str, who: str, role: str) -> tuple[str, str]:
    """Give somebody another role. Returns the list's title and the address. Raises NotFoundError, AmbiguousError."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            address = _sharer(client, share, who)
            client.tell("PUT", person_path(share, address), {"role": role})
        shares.record(book, "share role", f"Made {address} {role} of {one.title}")
        return one.title, address


def end(desk: Desk, title: str, who: str) -> tuple[str, str]:
    """End somebody's role, or withdraw an offer. Returns the list's title and the address. Raises as `set_role`."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            address = _sharer(client, share, who)
            client.tell("DELETE", person_path(share, address))
        shares.record(book, "share end", f"Ended sharing {one.title} with {address}")
        return one.title, address


def _sharer(client: Client, share: Share, who: str) -> str:
    """The address of somebody who has a role in a list or is offered one, by that or by words of the name."""
    people = [one for one in client.people(share.remote) if one.state != "declined"]
    wanted = words(who)
    found = [one for one in people if address_key(one.address) == address_key(who)] or [
        one for one in people if "@" not in who and all(_has(word, one) for word in wanted)
    ]
    if len(found) == 1:
        return found[0].address
    if found:
        lines = [f"{visible(one.name)} · {one.address}" for one in found]
        raise AmbiguousError(f"`{visible(who, 60)}` fits {len(found)} people. Give the address:", lines)
    raise NotFoundError(f"{visible(who)} has no role in {visible(share.title)}. `barnacle share offer` offers one.")


def _has(word: str, one: Sharer) -> bool:
    return any(its.startswith(word) for its in words(f"{one.name} {one.address}"))


def meant(desk: Desk, title: str) -> str:
    """The title of the shared list that words mean. Raises as `need_share`."""
    with desk.open() as book:
        return need_share(desk, book, title)[0].title


def leave(desk: Desk, title: str) -> str:
    """Leave a list that others share: what is here stays as a private copy. Returns its title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        hub = shares.connection(book)
        assert hub is not None
        with connection.client_of(desk, book) as client:
            client.tell("DELETE", person_path(share, hub.address))
        with book.transaction():
            shares.forget(book, share.row)
        shares.record(book, "share leave", f"Left {one.title}")
        return one.title


def stop(desk: Desk, title: str) -> str:
    """Stop sharing a list: it is gone from the hub, and a private copy for everybody. Returns its title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with connection.client_of(desk, book) as client:
            end_sharing(book, client, share)
        shares.record(book, "share stop", f"Stopped sharing {one.title}")
        return one.title


def end_sharing(book: Book, client: Client, share: Share) -> None:
    client.tell("DELETE", f"api/lists/{share.remote}")
    with book.transaction():
        shares.forget(book, share.row)


def need_share(desk: Desk, book: Book, title: str) -> tuple[ContactList, Share]:
    """A shared list. Raises NotFoundError, StoppedError for one that is not shared."""
    one = need_list(desk, book, title)
    share = shares.of(book, one.id)
    if share is None:
        raise StoppedError(f"{visible(one.title)} is not shared. `barnacle share offer` shares it.")
    return one, share


def person_path(share: Share, address: str) -> str:
    return f"api/lists/{share.remote}/people/{quote(address, safe='')}"
