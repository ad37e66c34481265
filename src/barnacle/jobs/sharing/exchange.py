"""The exchange of one shared list's cards with its hub, both ways."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from typing import Any, NamedTuple

from barnacle.book import bulk, contacts, lists, shares
from barnacle.book.shares import Share, SharedMember
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.errors import StoppedError
from barnacle.core.gc_paused import uncollected
from barnacle.core.sharing import ON, READER, Clash, Fields
from barnacle.core.text import count, tidy
from barnacle.core.threeway import merge
from barnacle.files.cards.vcard import read_card
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.people import identify
from barnacle.jobs.sharing import cards
from barnacle.jobs.sharing.first_fetch import MANY, TOGETHER, Newcomers
from barnacle.net.answers import Card
from barnacle.net.hub import ChangedError, Client, GoneError, NoRightError, Outgoing

# How often in a row somebody else may be quicker before this run leaves the rest to the next.
_ROUNDS = 6
# So many cards go out together, of so many characters.
AT_ONCE, _OCTETS = 200, 1_000_000
Tick = Callable[[int, int | None], None]


class OtherFieldsError(Exception):
    """What is shared of the members was changed while the exchange ran: what seems emptied may only be shared no more.
    Nothing was taken in."""


@dataclass(slots=True)
class Exchanged:
    """What an exchange did for one list: how many members came in, went out, and clashed. `ended` says that one's role
    is over, `refused` why something could not go out."""

    title: str
    received: int = 0
    sent: int = 0
    conflicts: int = 0
    ended: bool = False
    refused: str = ""


class Exchange:
    """The exchange of one list's cards."""

    def __init__(self, desk: Desk, book: Book, client: Client, share: Share, result: Exchanged, tick: Tick) -> None:
        self.desk = desk
        self.book = book
        self.client = client
        self.share = share
        self.names = sharing.named(share.fields)
        self.result = result
        self.tick = tick
        self.received: set[int] = set()
        self.sent: set[str] = set()
        self.outgoing: list[SharedMember] = []
        self.fresh = Newcomers(book, share, False)
        self.put_back = False  # the hub, from a backup: what it says may be older than what was agreed

    def run(self) -> None:
        for _ in range(_ROUNDS):
            self._fetch()
            if self.share.role == READER:
                self._as_the_hub_has_it()
                break
            try:
                self._hand_over()
                break
            except ChangedError:
                self.outgoing = []  # somebody was quicker: take that in first
        else:
            self.result.refused = "Others change this list faster than it can be exchanged; the rest goes next time."
        if self.sent:
            # The token stands for what went out too, from now on: a hub that is put back from a backup made before is
            # known by it.
            self._fetch()
        self.result.received = len(self.received)
        self.result.sent = len(self.sent)

    # What changed there

    def _fetch(self) -> None:
        self.put_back = False
        try:
            found, token = self.client.changes(self.share.remote, self.share.token)
            whole = not self.share.token
        except GoneError:
            found, token = self.client.changes(self.share.remote, "")
            whole = True
            self.put_back = self.share.role != READER
            if self.put_back:
                self.share = self.share._replace(action=0)  # whatever was changed here ever is looked at again
        begun = shares.last_action(self.book)
        known_links = {
            name: self._as_shared(link)
            for name, link in shares.links(self.book, self.share.row, [one.name for one in found]).items()
        }
        gone = [one for one in found if one.data is None and one.name in known_links]
        news = [
            one for one in found
            if one.data is not None
            and (one.name not in known_links or known_links[one.name].etag != one.etag)
        ]  # fmt: skip
        # Cards that a hub which was put back from a backup does not know any more were not taken off by anybody: they
        # go there again.
        lost = self._unknown_there({one.name for one in found}) if whole else []
        if news:
            self._hold_to_fields()
        if gone or news or lost:
            with self.book.taking_over(), self.book.action("sync") as action:
                action.facts = True
                self._take_all_in(news, known_links)
                for one in gone:
                    self._taken_off(known_links[one.name])
                for name in lost:
                    shares.drop_link(self.book, self.share.row, name)
                who = count(len(self.received), "member")
                action.title = f"Took in {who} of {self.result.title} from the hub"
                # Where nothing was done here since, what this run changes need not be looked at again.
                self._remember(token, action.id if begun == self.share.action else self.share.action)
        else:
            with self.book.transaction():
                self._remember(token, self.share.action)

    def _hold_to_fields(self) -> None:
        """Raises OtherFieldsError, NoRightError."""
        now_there = next((one for one in self.client.lists() if one.id == self.share.remote), None)
        if now_there is None or now_there.state != "joined":
            raise NoRightError
        if now_there.fields != self.share.fields:
            raise OtherFieldsError

    def _as_shared(self, link: SharedMember) -> SharedMember:
        """What was agreed of the fields that are shared now: one that is no longer was not emptied by anybody."""
        here, there = (sharing.narrowed(side, self.names) for side in (link.here, link.there))
        return link._replace(here=here, there=there)

    def _unknown_there(self, names: set[str]) -> list[str]:
        return [link.name for link in shares.all_links(self.book, self.share.row) if link.name not in names]

    def _remember(self, token: str, action: int) -> None:
        self.share = self.share._replace(token=token, at=now(), action=action)
        shares.save(self.book, self.share)

    def _take_all_in(self, news: list[Card], links: dict[str, SharedMember]) -> None:
        """All cards that are new or were changed there. Many new people at once are written together."""
        with uncollected(), bulk.adding(self.book) if len(news) > MANY else nullcontext():
            self.fresh = Newcomers(self.book, self.share, len(news) > MANY)
            for start in range(0, len(news), TOGETHER):
                some = [(one, read_card(one.data or "")) for one in news[start : start + TOGETHER]]
                self.fresh.ask([card for _, card in some if card is not None])
                for one, card in some:
                    if card is not None:
                        self._take_in(one, card, links.get(one.name))
                self.tick(start + len(some), len(news))
            self.fresh.write()

    def _take_in(self, one: Card, card: Contact, link: SharedMember | None) -> None:
        """A card that is new, or was changed there."""
        there = sharing.fields_of_card(card, self.names)
        if link is None:
            self._new_here(one, card, there)
            return
        self.fresh.met(card)
        kept = contacts.get(self.book, link.contact)
        if kept is None or not lists.is_on(self.book, self.share.row, link.contact):
            if there == link.there:
                self._save(one, link.contact, link.uid, link.here, there)
                return
            # ChangedError there before it was taken off here: it stays, until somebody chooses.
            if kept is None:
                kept = self._again(card)
                here = sharing.fields_of(kept.contact, None, self.names)
                link = link._replace(contact=kept.id, uid=kept.contact.uid, here=here, there=there)
            self._put_on(kept, one, link.here.get("address"))
            self._clash(kept.id, one.name, ON, None, _who(there), True)
        mine = sharing.fields_of(kept.contact, self._used(kept), self.names)
        if self.put_back:
            met, agreed = sharing.meet_again(link.here, link.there, mine, there)
        else:
            met = sharing.meet(link.here, link.there, mine, there)
            agreed, _ = merge(link.there, there, link.here)
        self._apply(kept, mine, met.here)
        self._save(one, link.contact, link.uid, agreed, there)
        for clash in met.clashes:
            self._clash(link.contact, one.name, *clash, met.here.get(clash.field))
        if there != link.there:
            self.received.add(link.contact)

    def _again(self, card: Contact) -> StoredContact:
        """Somebody who is not in the book any more, taken in anew."""
        self.fresh.write()
        fields = sharing.fields_of_card(card, self.names)
        contact = cards.fresh(card, fields, self.fresh.source, self.book.running.at)
        kept = StoredContact(contacts.add(self.book, contact), contact)
        self.fresh.next = kept.id + 1
        return kept

    def _new_here(self, one: Card, card: Contact, there: Fields) -> None:
        """A card that nobody here knew: of somebody in the book, or of a new contact."""
        found = None if self.fresh.is_stranger(card) else identify.find(self.book, card, self.desk.region)[0]
        clashes: list[Clash] = []
        if found is None and self.fresh.together:
            self.received.add(self.fresh.add(one, card, there))
            return
        self.fresh.met(card)
        if found is None:
            kept = self._again(card)
        else:
            kept = found
            mine = sharing.fields_of(kept.contact, self._used(kept), self.names)
            clashes = sharing.differences(mine, there)
            # What one lacks comes in; what differs stays as it is, and waits for a choice.
            filled, _ = merge({}, mine, there)
            self._apply(kept, mine, filled)
        self._put_on(kept, one, there.get("address"))
        here = sharing.fields_of(kept.contact, self._used(kept), self.names)
        self._save(one, kept.id, kept.contact.uid, here, there)
        for clash in clashes:
            self._clash(kept.id, one.name, *clash, clash.mine)
        self.received.add(kept.id)

    def _put_on(self, kept: StoredContact, one: Card, address: str | None = None) -> None:
        own = kept.contact.find_address(address) if address else None
        by = tidy(one.by, 200) or "a colleague"
        on = lists.is_on(self.book, self.share.row, kept.id)
        if not on:
            lists.add_member(
                self.book,
                self.share.row,
                kept.id,
                by,
                own if own != kept.contact.preferred else None,
                one.added or None,
            )

    def _apply(self, kept: StoredContact, old: Fields, new: Fields) -> None:
        """Take changed fields over into a contact of one's own."""
        if old == new:
            return
        address = sharing.put_on_contact(kept.contact, old, new)
        contacts.save(self.book, kept.id, kept.contact)
        if address is not None and lists.is_on(self.book, self.share.row, kept.id):
            lists.choose_address(self.book, self.share.row, kept.id, address)

    def _taken_off(self, link: SharedMember) -> None:
        """A card that somebody took off there."""
        kept = contacts.get(self.book, link.contact)
        shares.drop_link(self.book, self.share.row, link.name)
        if kept is None or not lists.is_on(self.book, self.share.row, link.contact):
            return
        if shares.has_card(self.book, self.share.row, link.contact):
            return  # on the list by another card too
        mine = sharing.fields_of(kept.contact, self._used(kept), self.names)
        lists.take_member(self.book, self.share.row, link.contact, "sync")
        if mine != link.here:
            # ChangedError here before it was taken off there: it stays off, until somebody chooses.
            self._clash(
                link.contact, link.name, ON, sharing.in_text(mine.get("name") or mine.get("address")), None, False
            )
        self.received.add(link.contact)

    def _clash(self, contact: int, name: str, field: str, mine: Any, theirs: Any, holds: Any) -> None:
        shares.add_conflict(self.book, self.share.row, contact, name, field, mine, theirs, holds)
        self.result.conflicts += 1

    def _save(self, one: Card, contact: int, uid: str, here: Fields, there: Fields) -> None:
        shares.save_link(
            self.book, self.share.row, SharedMember(one.name, contact, uid, one.etag, one.data or "", here, there)
        )

    def _used(self, kept: StoredContact) -> str | None:
        return shares.chosen_address(self.book, self.share.row, kept)

    # What changed here

    def _hand_over(self) -> None:
        row = self.share.row
        self._settle_edited()
        last = shares.last_action(self.book)
        gone, new = shares.left(self.book, row), shares.unlinked(self.book, row)
        changed = shares.touched(self.book, row, self.share.action)
        total = len(gone) + len(new) + len(changed)
        done = 0
        for link in gone:
            if not self._follows_merge(link, changed, new):
                self.client.delete(self.share.remote, link.name, link.etag)
                with self.book.transaction():
                    shares.drop_link(self.book, row, link.name)
                self.sent.add(link.name)
            done += 1
            self.tick(done, total)
        for number in new:
            self._send_new(number)
            done += 1
            self.tick(done, total)
        for link in changed:
            self._send_changed(link)
            done += 1
            self.tick(done, total)
        self._send()
        with self.book.transaction():
            self.share = self.share._replace(action=last, at=now())
            shares.save(self.book, self.share)

    def _follows_merge(self, link: SharedMember, changed: list[SharedMember], new: list[int]) -> bool:
        """Whether a card's contact was merged into one that is on the list and has no card: then that has it now."""
        survivor = shares.merged_into(self.book, link.uid)
        if survivor is None or survivor not in new:
            return False
        kept = contacts.get(self.book, survivor)
        assert kept is not None
        moved = link._replace(contact=survivor, uid=kept.contact.uid)
        with self.book.transaction():
            shares.save_link(self.book, self.share.row, moved)
        new.remove(survivor)
        changed.append(moved)
        return True

    def _send_new(self, number: int) -> None:
        kept = contacts.get(self.book, number)
        if kept is None:
            return
        here = sharing.fields_of(kept.contact, self._used(kept), self.names)
        card = Contact(uid=kept.contact.uid)
        name = f"{kept.contact.uid}.vcf" if cards.is_plain(kept.contact.uid) else f"{contacts.new_uids(1)[0]}.vcf"
        text = cards.text_of(card, here, self.names)
        self._goes(name, None, text, number, kept.contact.uid, here, here)

    def _send_changed(self, link: SharedMember) -> None:
        kept = contacts.get(self.book, link.contact)
        card = read_card(link.card)
        if kept is None or card is None:
            return
        link = self._as_shared(link)
        mine = sharing.fields_of(kept.contact, self._used(kept), self.names)
        if mine == link.here:
            return
        met = sharing.meet(link.here, link.there, mine, link.there)
        if met.there == link.there:
            return
        text = cards.text_of(card, met.there, self.names, cards.version_of(link.card))
        self._goes(link.name, link.etag, text, link.contact, link.uid, mine, met.there)

    def _goes(
        self, name: str, etag: str | None, text: str, contact: int, uid: str, here: Fields, there: Fields
    ) -> None:
        """A card goes out, together with others."""
        self.outgoing.append(SharedMember(name, contact, uid, etag or "", text, here, there))
        if len(self.outgoing) >= AT_ONCE or sum(len(one.card) for one in self.outgoing) > _OCTETS:
            self._send()

    def _send(self) -> None:
        """Send what waits to go out, and remember what was taken. What a kill here forgets comes back with the next
        exchange, and changes nothing. Raises ChangedError when somebody else was quicker with one of them."""
        links, self.outgoing = self.outgoing, []
        sent = send(self.book, self.client, self.share, links)
        self.sent |= sent.taken
        self.result.refused = sent.refused or self.result.refused  # one that is not taken costs the others nothing
        if sent.changed:
            raise ChangedError

    def _settle_edited(self) -> None:
        """A later edit of one's own to a field settles a conflict about it."""
        open_ones = shares.conflicts(self.book, self.share.row)
        links = shares.links(self.book, self.share.row, [one.name for one in open_ones])
        for one in open_ones:
            kept, link = contacts.get(self.book, one.contact), links.get(one.name)
            if one.field == ON:
                settled = lists.is_on(self.book, one.row, one.contact) != one.holds
            elif kept is None or link is None:
                settled = True
            else:
                fields = sharing.fields_of(kept.contact, self._used(kept), self.names)
                settled = fields.get(one.field) != link.here.get(one.field)
            if settled:
                with self.book.transaction():
                    shares.settle(self.book, one.number)

    def _as_the_hub_has_it(self) -> None:
        """What a reader's list has otherwise than the hub (an undo can do that) is put right."""
        row = self.share.row
        for link in shares.touched(self.book, row, self.share.action):
            # Who must not be written to is the one thing that a reader tells the others.
            kept = contacts.get(self.book, link.contact)
            if kept is not None and kept.contact.opt_out and not link.there.get("opt_out"):
                mark = {"card": link.name, "since": " ".join(kept.contact.opt_out)}
                self.client.tell("POST", f"api/lists/{self.share.remote}/opt-outs", mark)
                self.sent.add(link.name)
        off, more = shares.left(self.book, row), shares.unlinked(self.book, row)
        if off or more:
            title = f"Put {self.result.title} right: it is shared with you to read"
            with self.book.taking_over(), self.book.action("sync", title) as action:
                action.facts = True
                for number in more:
                    lists.take_member(self.book, row, number, "sync")
                for link in off:
                    card = read_card(link.card)
                    kept = contacts.get(self.book, link.contact) or (self._again(card) if card else None)
                    if kept is not None:
                        one = Card(link.name, link.etag, link.card, self.share.owner, "")
                        self._put_on(kept, one)
                        self._save(one, kept.id, kept.contact.uid, link.here, link.there)
        with self.book.transaction():
            self.share = self.share._replace(action=shares.last_action(self.book))
            shares.save(self.book, self.share)


class Sent(NamedTuple):
    """What became of cards that went out: the names of those taken, why others were not, and whether somebody else was
    quicker with one."""

    taken: set[str]
    refused: str
    changed: bool


def send(book: Book, client: Client, share: Share, links: Sequence[SharedMember]) -> Sent:
    """Send cards, each over the one with its ETag, and keep what was agreed."""
    if not links:
        return Sent(set(), "", False)
    outcomes = client.put(share.remote, [Outgoing(one.name, one.card, one.etag or None) for one in links])
    taken = [
        one._replace(etag=outcome) for one, outcome in zip(links, outcomes, strict=True) if isinstance(outcome, str)
    ]
    with book.transaction():
        shares.save_links(book, share.row, taken)
    refused = [str(outcome) for outcome in outcomes if isinstance(outcome, StoppedError)]
    changed = any(isinstance(outcome, ChangedError) for outcome in outcomes)
    return Sent({one.name for one in taken}, refused[-1] if refused else "", changed)


def _who(fields: Fields) -> str | None:
    return sharing.in_text(fields.get("name") or fields.get("org") or fields.get("address"))
