"""Sharing lists: offering, accepting, roles, leaving; and conflicts that somebody must look at."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import Any, NamedTuple
from urllib.parse import quote

from barnacle.book import contacts, lists, shares
from barnacle.book.lists import ContactList
from barnacle.book.shares import Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import NotFound, Stopped, Unclear
from barnacle.core.sharing import ON
from barnacle.core.text import fold, listed, visible
from barnacle.jobs import exchange, hubs, sharedcards, syncing
from barnacle.jobs.desk import Desk
from barnacle.jobs.exchange import AT_ONCE, Exchanged, Tick
from barnacle.net.hub import Client, NoRight

# How often somebody may be quicker while fields are taken off the cards.
_ROUNDS = 4


class Offered(NamedTuple):
    """What an offer came to: the lists, to whom, who could not be offered them and why, and the message that tells."""

    titles: list[str]
    to: list[str]
    refused: list[tuple[str, str]]
    exchanged: list[Exchanged]
    message: str | None


def offer(
    desk: Desk, titles: Sequence[str], to: Sequence[str], role: str, fields: list[str], tell: bool, tick: Tick
) -> Offered:
    """Offer lists to people of the hub. A list that is not shared yet is, and goes there at once.

    Raises NotFound, Ambiguous, BadAddress, HubError.
    """
    people = list(dict.fromkeys(check_address(one) for one in to))
    refused: list[tuple[str, str]] = []
    with desk.open() as book, syncing.only_one(desk), hubs.client_of(desk, book) as client:
        wanted = [desk.need_list(book, title) for title in titles]
        for one in wanted:
            old = shares.of(book, one.id)
            share = old or _begin(book, client, one, fields)
            failed = []
            for address in people:
                try:
                    client.tell("PUT", _person(share, address), {"role": role})
                except Stopped as error:
                    failed.append((address, str(error)))
            refused += failed
            if old is None and len(failed) == len(people):
                _end(book, client, share)  # shared with nobody, its members have no business at the hub
    exchanged = [one for one in syncing.sync(desk, tick=tick) if one.title in {w.title for w in wanted}]
    unreached = {address for address, _ in refused}
    reached = [address for address in people if address not in unreached]
    message = _tell(desk, [one.title for one in wanted], reached, role) if tell and reached else None
    return Offered([one.title for one in wanted], reached, list(dict.fromkeys(refused)), exchanged, message)


def _begin(book: Book, client: Client, one: ContactList, fields: list[str]) -> Share:
    hub = shares.connection(book)
    assert hub is not None
    made = client.make("api/lists", {"title": one.title, "fields": fields}, "id")
    share = Share(one.id, made, one.title, hub.address, sharing.OWNER, fields, "", "", 0, [])
    with book.transaction():
        shares.save(book, share)
    return share


def _tell(desk: Desk, titles: list[str], to: list[str], role: str) -> str:
    """A message to those who were offered something, in one's own outbox."""
    from barnacle.jobs import composing  # slow to load, and seldom wanted here

    them = f"the list {titles[0]}" if len(titles) == 1 else f"the lists {listed(titles, len(titles))}"
    text = (
        f"I share {them} with you; you may {sharing.MAY[role]}.\n\n"
        "In Barnacle: `barnacle share waiting` shows it, `barnacle share accept LIST` fetches it.\n"
    )
    done = composing.compose(desk, composing.Wish(wanted=to, subject="A list for you", text=text))
    return done.message.number


def waiting(desk: Desk) -> list[dict[str, Any]]:
    """What one is offered and has not answered."""
    with desk.open() as book, hubs.client_of(desk, book) as client:
        return [one for one in client.lists() if one["state"] == "offered"]


def answer(desk: Desk, title: str, giver: str | None, accept: bool, tick: Tick) -> Exchanged:
    """Accept an offer and fetch the list, or decline it. Raises NotFound, Stopped."""
    with desk.open() as book, syncing.only_one(desk), hubs.client_of(desk, book) as client:
        offers = [one for one in client.lists() if one["state"] == "offered"]
        if giver is not None:
            offers = [one for one in offers if address_key(one["from"]) == address_key(giver)]
        key = fold(title)
        fitting = [one for one in offers if fold(one["title"]) == key] or [
            one for one in offers if fold(one["title"]).startswith(key)
        ]
        found = desk.pick("offer", title, fitting, lambda one: f"{visible(one['title'])} from {visible(one['from'])}")
        if found is None:
            raise NotFound(f"Nobody offers you a list `{visible(title, 60)}`. `barnacle share waiting` shows offers.")
        client.tell("POST", f"api/lists/{found['id']}/{'accept' if accept else 'decline'}")
        if not accept:
            return Exchanged(str(found["title"]))
        joined = (one for one in client.lists() if one["id"] == found["id"] and one["state"] == "joined")
        remote = next(joined, None)
        if remote is None:
            raise Stopped(f"{visible(found['title'])} was taken back just now by whoever offered it.")
        return syncing.first(desk, book, client, remote, tick)


def who(desk: Desk, title: str) -> tuple[str, list[dict[str, Any]]]:
    """The list's title, and everybody who has a role in it or is offered one."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with hubs.client_of(desk, book) as client:
            people = client.people(share.remote)
        with book.transaction():
            shares.save(book, share._replace(people=people))
        return one.title, people


def set_role(desk: Desk, title: str, address: str, role: str) -> str:
    """Give somebody another role. Returns the list's title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with hubs.client_of(desk, book) as client:
            known = {address_key(p["address"]) for p in client.people(share.remote) if p["state"] != "declined"}
            if address_key(address) not in known:
                raise NotFound(f"{visible(address)} has no role in {visible(one.title)}. `share offer` offers one.")
            client.tell("PUT", _person(share, address), {"role": role})
        return one.title


def end(desk: Desk, title: str, address: str) -> str:
    """End somebody's role, or withdraw an offer. Returns the list's title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with hubs.client_of(desk, book) as client:
            client.tell("DELETE", _person(share, address))
        return one.title


def leave(desk: Desk, title: str) -> str:
    """Leave a list that others share: what is here stays as a private copy. Returns its title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        hub = shares.connection(book)
        assert hub is not None
        with hubs.client_of(desk, book) as client:
            client.tell("DELETE", _person(share, hub.address))
        with book.transaction():
            shares.forget(book, share.row)
        return one.title


def stop(desk: Desk, title: str) -> str:
    """Stop sharing a list: it is gone from the hub, and a private copy for everybody. Returns its title."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with hubs.client_of(desk, book) as client:
            _end(book, client, share)
        return one.title


def _end(book: Book, client: Client, share: Share) -> None:
    client.tell("DELETE", f"api/lists/{share.remote}")
    with book.transaction():
        shares.forget(book, share.row)


def set_fields(
    desk: Desk, title: str, fields: list[str], less: Sequence[str] = (), tick: Tick = lambda done, total: None
) -> str:
    """Share other fields of the members from now on. Owners only. What is shared no more, and all of `less`, is taken
    off the cards at the hub; whoever has fetched it keeps it. Returns the list's title. Raises Stopped."""
    with desk.open() as book:
        one, share = need_share(desk, book, title)
        with hubs.client_of(desk, book) as client:
            before = [one.get("fields", ()) for one in client.lists() if one["id"] == share.remote]
            # First this: from now on nobody takes a field that is missing for one that was emptied.
            client.tell("PATCH", f"api/lists/{share.remote}", {"fields": fields})
    gone = sorted({*less, *chain(*before)} - set(fields))
    for _ in range(_ROUNDS):
        if not gone:
            return one.title
        syncing.sync(desk, tick=tick)
        if _taken_off(desk, one.title, gone):
            return one.title
    raise Stopped(
        f"Others change {visible(one.title)} faster than {listed(gone, 9)} can be taken off its cards at the hub. "
        "Say it again in a moment."
    )


def _taken_off(desk: Desk, title: str, gone: Sequence[str]) -> bool:
    """Take fields off the cards at the hub. Says whether nobody was quicker with one of them. Raises Stopped."""
    with desk.open() as book, syncing.only_one(desk), hubs.client_of(desk, book) as client:
        one, share = need_share(desk, book, title)
        fewer = []
        for link in shares.all_links(book, share.row):
            text = sharedcards.without(link.card, gone)
            if text is not None:
                here, there = ({k: v for k, v in side.items() if k not in gone} for side in (link.here, link.there))
                fewer.append(link._replace(card=text, here=here, there=there))
        try:
            sent = [exchange.send(book, client, share, fewer[k : k + AT_ONCE]) for k in range(0, len(fewer), AT_ONCE)]
        except NoRight:
            raise Stopped(f"You may not change {visible(one.title)} at the hub any more.") from None
        if refused := next((part.refused for part in sent if part.refused), ""):
            raise Stopped(refused)
        return not any(part.changed for part in sent)


def need_share(desk: Desk, book: Book, title: str) -> tuple[ContactList, Share]:
    """A shared list. Raises NotFound, Stopped for one that is not shared."""
    one = desk.need_list(book, title)
    share = shares.of(book, one.id)
    if share is None:
        raise Stopped(f"{visible(one.title)} is not shared. `barnacle share offer` shares it.")
    return one, share


def _person(share: Share, address: str) -> str:
    return f"api/lists/{share.remote}/people/{quote(address, safe='')}"


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
    whom it is about. Raises NotFound."""
    if keep not in ("mine", "theirs"):
        raise Unclear("Keep `mine` or `theirs`.")
    with desk.open() as book:
        one = next((c for c in shares.conflicts(book) if c.number == number), None)
        share = shares.of(book, one.row) if one else None
        kept = contacts.get(book, one.contact) if one else None
        if one is None or share is None or kept is None:
            raise NotFound(f"There is no conflict {number}. `barnacle share conflicts` shows them.")
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
