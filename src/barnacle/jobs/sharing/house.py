"""House lists, from one's own book: those that one keeps, those that one is on, and what waits for their keepers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

from barnacle.book import shares
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.addresses import Mailbox, address_key, check_address, typed_mailbox
from barnacle.core.errors import AmbiguousError, BadAddressError, NotFoundError, StoppedError, UnclearError
from barnacle.core.text import fold, visible
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import find_list, need_list, people_meant, says_address
from barnacle.jobs.desk.separate_names import one_by_one, put_together
from barnacle.jobs.sharing import connection, offers, sync
from barnacle.jobs.sharing.roles import end_sharing
from barnacle.net.answers import HeldThing, HouseList, HouseMember, Mine, PutOn, Settled
from barnacle.net.hub import Client


@contextmanager
def _hub(desk: Desk) -> Iterator[tuple[Book, Client]]:
    with desk.open() as book, connection.client_of(desk, book) as client:
        yield book, client


def mine(desk: Desk) -> Mine:
    """The house lists that one keeps, and those that one is on. Raises HubError."""
    with _hub(desk) as (_, client):
        return client.ask(Mine, "GET", "api/house")


def find(desk: Desk, words: str) -> list[HouseList]:
    """All house lists that one may know of and that have these words in title or address."""
    with _hub(desk) as (_, client):
        return client.ask(list[HouseList], "POST", "api/house/find", {"words": words})


def open_list(desk: Desk, title: str, name: str, wanted: dict[str, Any]) -> HouseList:
    """Give a list of one's own an address, and these rules. It is shared with nobody by that but
    the hub, if it was not before. Raises NotFoundError, UnclearError, StoppedError."""
    with desk.open() as book, sync.only_one(desk), connection.client_of(desk, book) as client:
        one = need_list(desk, book, title)
        was_shared = shares.of(book, one.id) is not None
        (share,) = offers.shared(book, client, [one], sharing.shared_fields())
    sync.sync(desk)
    with _hub(desk) as (book, client):
        try:
            made = client.ask(HouseList, "POST", f"api/house/{share.remote}", {"at": name, **wanted})
        except StoppedError:
            if not was_shared:
                end_sharing(book, client, share)  # its members have no business at the hub
            raise
        shares.record(book, "house open", f"Opened {made.address} for {made.title}")
    sync.sync(desk)  # the book knows the address from now on
    return made


def rules(desk: Desk, title: str, wanted: dict[str, Any]) -> HouseList:
    """A list with its rules, changed where something is wanted."""
    with _hub(desk) as (book, client):
        one = _need(desk, book, client, title)
        ruled = client.ask(HouseList, "PATCH" if wanted else "GET", f"api/house/{one.id}", wanted or None)
        if wanted:
            shares.record(book, "house rules", f"Changed the rules of {one.address}")
        return ruled


def members(desk: Desk, title: str) -> tuple[HouseList, list[HouseMember]]:
    """Who is on a list."""
    return _on_one(desk, title, lambda client, one: client.ask(list[HouseMember], "GET", f"api/house/{one.id}/members"))


def numbers(desk: Desk, title: str) -> tuple[HouseList, list[dict[str, Any]]]:
    """Postings and copies by month."""
    return _on_one(
        desk, title, lambda client, one: client.ask(list[dict[str, Any]], "GET", f"api/house/{one.id}/numbers")
    )


def put_on(desk: Desk, title: str, who: Sequence[str], invite: bool) -> tuple[HouseList, list[PutOn]]:
    """Put people on a list at once, or invite them. Raises NotFoundError, AmbiguousError, BadAddressError."""
    with _hub(desk) as (book, client):
        one = _need(desk, book, client, title)
        named = [mailbox for text in one_by_one(book, who) for mailbox in _people(desk, book, text)]
        people = list({address_key(m.address): m for m in named}.values())
        doc = {"people": [[m.address, m.name] for m in people]}
        done = client.ask(list[PutOn], "POST", f"api/house/{one.id}/{'invite' if invite else 'add'}", doc)
    return one, done


def _people(desk: Desk, book: Book, text: str) -> list[Mailbox]:
    if says_address(text):
        return [typed_mailbox(text)]
    found = []
    for kept in people_meant(desk, book, [text]):
        address = kept.contact.preferred
        if address is None:
            raise UnclearError(f"{visible(kept.contact.title)} has no address.")
        found.append(Mailbox(kept.contact.called, address))
    if not found:
        raise NotFoundError(f"`{visible(text, 60)}` comes to nobody.")
    return found


def join(desk: Desk, title: str) -> tuple[HouseList, str]:
    """Come onto a list: `on`, or `asked` where a keeper decides."""
    one, told = _on_one(desk, title, lambda client, one: client.ask(dict[str, str], "POST", f"api/house/{one.id}/join"))
    return one, told.get("state", "")


def leave(desk: Desk, title: str) -> HouseList:
    """Leave a list."""
    return _on_one(desk, title, lambda client, one: client.tell("POST", f"api/house/{one.id}/leave"))[0]


def meant(desk: Desk, title: str) -> HouseList:
    """The house list that words mean. Raises NotFoundError, AmbiguousError."""
    with _hub(desk) as (book, client):
        return _need(desk, book, client, title)


def close(desk: Desk, one: HouseList) -> None:
    """End a list's address; the shared list stays."""
    with _hub(desk) as (book, client):
        client.tell("DELETE", f"api/house/{one.id}")
        shares.record(book, "house close", f"Closed {one.address}")


def addresses_of(desk: Desk, titles: Sequence[str]) -> list[str]:
    """The addresses that lists of one's book have, as far as the hub said when they were exchanged last. Raises
    NotFoundError, AmbiguousError, StoppedError."""
    with desk.open() as book:
        named = one_by_one(book, put_together(book, titles))
        return [_address_of(book, need_list(desk, book, title)) for title in named]


def _address_of(book: Book, one: ContactList) -> str:
    share = shares.of(book, one.id)
    if share is None or not share.house:
        raise StoppedError(
            f"{visible(one.title)} has no address of its own, as far as your book knows. `barnacle house open` gives "
            "it one; `barnacle sync` asks the hub again."
        )
    return share.house[0]


def held(desk: Desk, title: str | None) -> list[HeldThing]:
    """What waits on one's lists, or on one."""
    with _hub(desk) as (book, client):
        path = "api/house/held" if title is None else f"api/house/{_need(desk, book, client, title).id}/held"
        return client.ask(list[HeldThing], "GET", path)


def settle(desk: Desk, held_numbers: Sequence[int], yes: bool, why: str) -> list[Settled]:
    """Let through what is held, or not."""
    with _hub(desk) as (_, client):
        doc = {"numbers": list(dict.fromkeys(held_numbers)), "yes": yes, "why": why}
        return client.ask(list[Settled], "POST", "api/house/held", doc)


def _on_one(desk: Desk, title: str, do: Callable[[Client, HouseList], Any]) -> tuple[HouseList, Any]:
    with _hub(desk) as (book, client):
        one = _need(desk, book, client, title)
        return one, do(client, one)


def _need(desk: Desk, book: Book, client: Client, text: str) -> HouseList:
    """The house list meant by its address, its title or a part of that. One's own lists come first, then all that one
    may know of. Raises NotFoundError, AmbiguousError."""
    mine = client.ask(Mine, "GET", "api/house")
    own = list({one.id: one for one in (*mine.keep, *mine.on)}.values())
    for known in (own, client.ask(list[HouseList], "POST", "api/house/find", {"words": ""})):
        if found := _meant(desk, known, text):
            return found
    local = find_list(desk, book, text)
    if local is not None:
        share = shares.of(book, local.id)
        ours = [one for one in own if share is not None and one.id == share.remote]
        if ours:
            return ours[0]
        raise NotFoundError(
            f"{visible(local.title)} has no address of its own. "
            f"`barnacle house open {visible(local.title)} --at NAME` gives it one."
        )
    raise NotFoundError(
        f"There is no house list `{visible(text, 60)}`. `barnacle house` shows yours, "
        "`barnacle house find` all that you may see."
    )


def _meant(desk: Desk, known: Sequence[HouseList], text: str) -> HouseList | None:
    address = _key(text)
    key = fold(text)
    ways: tuple[Callable[[HouseList], bool], ...] = (
        lambda one: bool(address) and address_key(one.address) == address,
        lambda one: fold(one.title) == key,
        lambda one: fold(one.title).startswith(key) or one.address.partition("@")[0] == key,
        lambda one: key in fold(one.title),
    )
    for way in ways:
        found = [one for one in known if way(one)]
        if len(found) > 1:
            lines = [visible(f"{one.address}  {one.title}") for one in found]
            raise AmbiguousError(f"`{visible(text, 60)}` fits several lists. Name the address of one:", lines)
        if found:
            return found[0]
    return None


def _key(text: str) -> str:
    try:
        return address_key(check_address(text))
    except BadAddressError:
        return ""
