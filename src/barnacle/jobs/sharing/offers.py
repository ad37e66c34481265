"""Offering lists to colleagues, and answering offers."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import lists, shares
from barnacle.book.lists import ContactList
from barnacle.book.shares import Offer, Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import NotFoundError, StoppedError, UnclearError
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import find_contact, need_list
from barnacle.jobs.desk.separate_names import called
from barnacle.jobs.sharing import connection, sync
from barnacle.jobs.sharing.roles import end_sharing, person_path
from barnacle.jobs.sharing.shared_list import Exchanged, Tick
from barnacle.net.answers import HubList
from barnacle.net.hub import Client, Wish


class Offered(NamedTuple):
    """What an offer came to: the lists, to whom, who could not be offered them and why, and the message that tells."""

    titles: list[str]
    to: list[str]
    refused: list[tuple[str, str]]
    exchanged: list[Exchanged]
    message: str | None


def _at_the_hub(desk: Desk, text: str) -> str:
    """The address of a colleague. Raises BadAddressError, or UnclearError for a name in the book: somebody's address
    there may be another than the one that the hub knows."""
    if "@" not in text:
        with desk.open() as book:
            known = find_contact(desk, book, text)
        if known is not None and known.contact.preferred:
            raise UnclearError(
                f"`{visible(text, 60)}` is {visible(known.contact.title, 60)} in your book. The hub knows people by "
                f"their addresses: --with {known.contact.preferred}, if it is that one."
            )
    return check_address(text)


def parted(desk: Desk, names: Sequence[str]) -> tuple[list[str], list[str]]:
    """Names of lists, and behind them those of people who are called so in the book, as no list is."""
    with desk.open() as book:
        people = [bool(called(book, one)) and not lists.by_title(book, one) for one in names]
    first = next((n for n, is_person in enumerate(people) if n and is_person), len(names))
    return [*names[:first]], [*names[first:]]


def offer(
    desk: Desk, titles: Sequence[str], to: Sequence[str], role: str, fields: list[str], tell: bool, tick: Tick
) -> Offered:
    """Offer lists to people of the hub. A list that is not shared yet is, and goes there at once.

    Raises NotFoundError, AmbiguousError, UnclearError, BadAddressError, HubError.
    """
    people = list(dict.fromkeys(_at_the_hub(desk, one) for one in to))
    refused: list[tuple[str, str]] = []
    with desk.open() as book, sync.only_one(desk), connection.client_of(desk, book) as client:
        wanted = list({one.id: one for one in (need_list(desk, book, title) for title in titles)}.values())
        before = {one.id for one in wanted if shares.of(book, one.id) is not None}
        every = shared(book, client, wanted, fields)
        wishes: list[tuple[Share, str]] = []
        kept: dict[int, list[tuple[str, str]]] = {share.row: [] for share in every}
        for share in every:
            joined = _joined(client, share) if share.row in before else {}
            for address in people:
                if has := joined.get(address_key(address)):
                    kept[share.row].append((address, _has_already(share, address, has)))
                else:
                    wishes.append((share, address))
        told = client.each([Wish("PUT", person_path(share, address), {"role": role}) for share, address in wishes])
        for (share, address), why in zip(wishes, told, strict=True):
            kept[share.row] += [(address, why)] if why else []
        for share in every:
            failed = kept[share.row]
            refused += failed
            if share.row not in before and len(failed) == len(people):
                end_sharing(book, client, share)  # shared with nobody, its members have no business at the hub
            elif new := [a for s, a in wishes if s is share and a not in dict(failed)]:
                shares.record(book, "share offer", f"Offered {share.title} to {listed(new)} as {role}")
    exchanged = [one for one in sync.sync(desk, tick=tick).lists if one.title in {w.title for w in wanted}]
    offered = {address for (_, address), why in zip(wishes, told, strict=True) if not why}
    reached = [address for address in people if address in offered]
    message = _tell(desk, [one.title for one in wanted], reached, role) if tell and reached else None
    return Offered([one.title for one in wanted], reached, list(dict.fromkeys(refused)), exchanged, message)


def _joined(client: Client, share: Share) -> dict[str, str]:
    """The roles of those who share a list already, by their addresses: to offer it to them again would change these."""
    return {address_key(one.address): one.role for one in client.people(share.remote) if one.state == "joined"}


def _has_already(share: Share, address: str, role: str) -> str:
    import shlex  # only where somebody has a role already: it costs start-up time

    how = f"`barnacle share role {shlex.quote(visible(share.title, 60))} {shlex.quote(address)} ROLE` changes that."
    return f"is {role} of {visible(share.title, 60)} already. {how}"


def shared(book: Book, client: Client, wanted: Sequence[ContactList], fields: list[str]) -> list[Share]:
    """How the lists are shared; those that are not yet, are from now on. Raises StoppedError, HubError."""
    hub = shares.connection(book)
    assert hub is not None
    known = {one.id: shares.of(book, one.id) for one in wanted}
    fresh = [one for one in wanted if known[one.id] is None]
    made = client.make_each([Wish("POST", "api/lists", {"title": one.title, "fields": fields}) for one in fresh], "id")
    with book.transaction():
        for one, remote in zip(fresh, made, strict=True):
            share = Share(one.id, remote, one.title, hub.address, sharing.OWNER, fields, "", "", 0, [])
            shares.save(book, share)
            known[one.id] = share
    return [share for share in known.values() if share is not None]


def _tell(desk: Desk, titles: list[str], to: list[str], role: str) -> str:
    """A message to those who were offered something, in one's own outbox."""
    from barnacle.jobs.mail import compose

    them = f"the list {titles[0]}" if len(titles) == 1 else f"the lists {listed(titles, len(titles))}"
    text = (
        f"I share {them} with you; you may {sharing.MAY[role]}.\n\n"
        "In Barnacle: `barnacle share waiting` shows it, `barnacle share accept LIST` fetches it.\n"
    )
    done = compose.compose(desk, compose.Wish(wanted=to, subject="A list for you", text=text))
    return done.message.number


def waiting(desk: Desk) -> list[HubList]:
    """What one is offered and has not answered."""
    with desk.open() as book, connection.client_of(desk, book) as client:
        return [one for one in client.lists() if one.state == "offered"]


def answer(desk: Desk, title: str, giver: str | None, accept: bool, tick: Tick) -> Exchanged:
    """Accept an offer and fetch the list, or decline it; without a title, the only one that there is. Raises
    NotFoundError, UnclearError where there are several, StoppedError."""
    with desk.open() as book, sync.only_one(desk), connection.client_of(desk, book) as client:
        offers = every = [one for one in client.lists() if one.state == "offered"]
        if giver is not None:
            offers = [one for one in offers if address_key(one.giver) == address_key(giver)]
        if not title and len(offers) > 1:
            some = listed([f"{visible(one.title, 60)} from {visible(one.giver, 60)}" for one in offers])
            raise UnclearError(f"Which? You are offered {some}.")
        key = fold(title)
        fitting = [one for one in offers if fold(one.title) == key] or [
            one for one in offers if fold(one.title).startswith(key)
        ]
        found = desk.pick("offer", title, fitting, lambda one: f"{visible(one.title)} from {visible(one.giver)}")
        if found is None and not title:
            raise NotFoundError("You have no offers.")
        if found is None:
            raise NotFoundError(
                f"Nobody has offered you a list `{visible(title, 60)}`. `barnacle share waiting` shows offers."
            )
        client.tell("POST", f"api/lists/{found.id}/{'accept' if accept else 'decline'}")
        with book.transaction():
            shares.keep_offers(book, [Offer(o.title, o.giver, o.role, o.since) for o in every if o is not found])
        if not accept:
            return Exchanged(found.title)
        joined = (one for one in client.lists() if one.id == found.id and one.state == "joined")
        remote = next(joined, None)
        if remote is None:
            raise StoppedError(f"{visible(found.title)} has just been withdrawn.")
        return sync.first(desk, book, client, remote, tick)
