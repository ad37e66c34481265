"""What changed at the hub, taken into the book."""

from __future__ import annotations

from contextlib import nullcontext

from barnacle.book import bulk, contacts, lists, share_conflicts, shares
from barnacle.book.shares import SENT, SharedMember, Trace
from barnacle.book.stored_contact import StoredContact
from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.gc_paused import uncollected
from barnacle.core.matching.naming import contradicts
from barnacle.core.sharing import ON, Clash, Fields
from barnacle.core.text import tidy
from barnacle.core.threeway import merge
from barnacle.jobs.people import identify
from barnacle.jobs.sharing import cards
from barnacle.jobs.sharing.cards import ReadCard
from barnacle.jobs.sharing.first_fetch import MANY, TOGETHER, Newcomers
from barnacle.jobs.sharing.shared_list import SharedList, who
from barnacle.net.answers import Card


class ComingIn:
    """One answer about changes of a list, taken over. `put_back` says that it comes from a hub which was put back from
    a backup, and may be older than what was agreed."""

    def __init__(self, on: SharedList, put_back: bool) -> None:
        self.on = on
        self.book = on.book
        self.put_back = put_back
        self.sent: dict[str, Trace] = {}
        self.fresh = Newcomers(on.book, on.share, False)

    def take_all_in(self, news: list[Card], links: dict[str, SharedMember]) -> None:
        """All cards that are new or were changed there. Many new people at once are written together."""
        together = len(news) > MANY
        self.sent = shares.sent(self.book, self.on.row, [one.name for one in news])
        with uncollected(), bulk.adding(self.book) if together else nullcontext():
            self.fresh = Newcomers(self.book, self.on.share, together)
            for start in range(0, len(news), TOGETHER):
                some = [(one, cards.read(one.data or "", one.name)) for one in news[start : start + TOGETHER]]
                self.fresh.ask([read.contact for _, read in some if read is not None])
                for one, read in some:
                    if read is None:
                        self.on.result.unreadable.append(f"{one.name}: a group; Barnacle's lists have people")
                        continue
                    link = links.get(one.name) or self._on_its_way(one)
                    self._problems(read, link)
                    if link is not None:
                        self._changed(one, read, link)
                    else:
                        self._new(one, read)
                self.on.tick(start + len(some), len(news))
            self.fresh.write()
        shares.drop_traces(self.book, self.on.row, SENT, self.sent)

    def _on_its_way(self, one: Card) -> SharedMember | None:
        """A card that went out from here, and the answer was never heard."""
        trace = self.sent.get(one.name)
        if trace is None:
            return None
        kept = contacts.get(self.book, trace.contact)
        uid = kept.contact.uid if kept else ""
        sides = trace.here, trace.there
        return SharedMember(one.name, trace.contact, uid, "", "", *sides, trace.own, trace.since)

    def _problems(self, read: ReadCard, link: SharedMember | None) -> None:
        if link is None or list(link.problems) != read.problems:
            self.on.result.unreadable += [f"{read.contact.title}: {problem}" for problem in read.problems]

    # Cards that are known

    def _changed(self, one: Card, read: ReadCard, link: SharedMember) -> None:
        self.fresh.met(read.contact)
        there = read.fields(self.on.names, link.there)
        trace = self.sent.get(one.name)
        own_word = trace is not None and there == trace.there
        if trace is not None and own_word:
            link = link._replace(here=trace.here, there=trace.there)
        kept = contacts.get(self.book, link.contact)
        if kept is None and (survivor := self._merged(link)) is not None:
            self._into_survivor(one, read, link, there, survivor)
            return
        if kept is None or not self.on.is_on(link.contact):
            if own_word:
                self._save(one, read, link, link.here, there)  # it was taken off after that; that goes out
                return
            kept, link = self._stays(one, read, link, there, kept)
        mine = self.on.fields(kept)
        if not self.on.may_change(link):
            for name in link.there.keys() - there.keys():  # it says that no more
                share_conflicts.take_back(self.book, self.on.row, link.name, name)
                if name == "opt_out" and (out := mine.get(name)):  # else it would stay here, and nobody would know
                    self.on.ask(link.contact, one.name, Clash(name, out, None), out)
            for clash in sharing.told_otherwise(link.there, mine, there):
                self.on.ask(link.contact, one.name, clash, mine.get(clash.field))
            self._save(one, read, link, sharing.agreeing(link.here, mine, there), there)
            return
        if self.put_back:
            met, agreed = sharing.meet_again(link.here, link.there, mine, there)
        else:
            met = sharing.meet(link.here, link.there, mine, there)
            agreed, _ = merge(link.there, there, link.here)
            if any(clash.field == "opt_out" for clash in met.clashes):
                agreed["opt_out"] = met.here.get("opt_out", "")  # waits for a choice
        for clash in met.clashes:
            self.on.ask(link.contact, one.name, clash, met.here.get(clash.field))
        self.on.apply(kept, mine, met.here)
        self._save(one, read, link, agreed, there)
        if there != link.there:
            self.on.result.changed.add(link.contact)

    def _stays(
        self, one: Card, read: ReadCard, link: SharedMember, there: Fields, kept: StoredContact | None
    ) -> tuple[StoredContact, SharedMember]:
        """Somebody who was changed there before being taken off here: he stays, until somebody chooses."""
        if kept is None:
            kept = self.again(read, there)
            here = sharing.fields_of(kept.contact, None, self.on.names)
            link = link._replace(contact=kept.id, uid=kept.contact.uid, here=here, there=there, own=True)
        self.put_on(kept, one, link.here.get("address"))
        self.on.ask(kept.id, one.name, Clash(ON, None, who(there)), True)
        return kept, link

    def _merged(self, link: SharedMember) -> StoredContact | None:
        """The member into whom a card's contact was merged here."""
        number = shares.merged_into(self.book, link.uid)
        return contacts.get(self.book, number) if number is not None and self.on.is_on(number) else None

    def _into_survivor(
        self, one: Card, read: ReadCard, link: SharedMember, there: Fields, survivor: StoredContact
    ) -> None:
        """What was changed there of a card whose contact was merged here: the survivor has it, and the card goes."""
        mine = self.on.fields(survivor)
        came = {name: value for name, value in there.items() if value != link.there.get(name)}
        met = sharing.meet({}, {}, mine, came)
        kept_apart = {clash.field: mine[clash.field] for clash in met.clashes if clash.field in mine}
        for clash in met.clashes:
            self.on.ask(survivor.id, "", clash, mine.get(clash.field))  # of a card that goes
        self.on.apply(survivor, mine, {**met.here, **kept_apart})
        self._save(one, read, link, link.here, there)
        self.on.look_again = True
        self.on.result.changed.add(survivor.id)

    # Cards that are new here

    def _new(self, one: Card, read: ReadCard) -> None:
        """A card that nobody here knew: of somebody in the book, or of a new contact."""
        card, there = read.contact, read.fields(self.on.names)
        found = None if self.fresh.is_stranger(card) else self._known(card)
        if found is None and self.fresh.together:
            self.on.result.came.add(self.fresh.add(one, read, there))
            return
        self.fresh.met(card)
        if found is None:
            kept = self.again(read, there)
            self.put_on(kept, one, there.get("address"))
            self._link(one, read, kept, self.on.fields(kept), there)
            self.on.result.came.add(kept.id)
            return
        self._meets(one, read, found, there)

    def _known(self, card: Contact) -> StoredContact | None:
        """Who in the book a card is of. A uid is no secret: under another name, and at another address, it is somebody
        else's."""
        found = identify.find(self.book, card, self.on.desk.region)[0]
        if found is not None and contradicts(found.contact.called, card.called):
            ours, theirs = set(found.contact.address_keys()), set(card.address_keys())
            if ours and theirs and ours.isdisjoint(theirs) and not self._was_on(found.id):
                return identify.by_address(self.book, card)[0]
        return found

    def _was_on(self, contact: int) -> bool:
        return shares.was_on(self.book, self.on.row, contact) is not None or self.on.is_on(contact)

    def _meets(self, one: Card, read: ReadCard, kept: StoredContact, there: Fields) -> None:
        """A card that turns out to be of somebody in the book. Whoever was put on the list here too, or was on it
        before, goes on from there; anybody else has only met it, and stays as he is."""
        mine = self.on.fields(kept)
        others = shares.links_of(self.book, self.on.row, kept.id)
        left = shares.was_on(self.book, self.on.row, kept.id)
        on = self.on.is_on(kept.id)
        private: set[str]
        agreed: tuple[Fields, Fields]
        if on and others:
            first = self.on.as_shared(others[0])
            own, private = first.own, sharing.differing(first.here, first.there)
            several = {name for name in private if isinstance(mine.get(name, []), list)}
            apart = {
                name: [v for v in first.here.get(name, []) if v not in first.there.get(name, [])] for name in several
            }
            agreed = {name: values for name, values in apart.items() if values}, {}
            private -= several
        elif on:
            own, private, agreed = True, set(), (left.there, left.there) if left else ({}, {})
        elif left is not None:
            own, private = left.own, sharing.differing(left.mine, mine)
            several = {name for name in private if isinstance(mine.get(name, left.mine.get(name)), list)}
            # Of several values each stands for itself: what has joined since is one's own, what came before goes on.
            sides = ({name: side[name] for name in several if name in side} for side in (left.mine, left.here, mine))
            agreed = {**left.here, **merge(*sides)[0]}, left.there
            private -= several
        else:
            own, private, agreed = False, {*mine, *there}, ({}, {})
        private -= {"opt_out"}  # who must not be written to is nobody's secret
        if not read.withdraws:  # a card without a mark takes none back
            agreed = tuple({k: v for k, v in side.items() if k != "opt_out"} for side in agreed)  # type: ignore[assignment]
        self.on.look_again |= on and bool(others)
        narrowed = sharing.narrowed(agreed[0], self.on.names), sharing.narrowed(agreed[1], self.on.names)
        base_here, base_there = sharing.base_of(narrowed, mine, there, private)
        shares.is_on_again(self.book, self.on.row, [kept.id])
        self.put_on(kept, one, there.get("address"))
        if own and not shares.follows_another(self.book, self.on.row, kept.id, None):
            met = sharing.meet(base_here, base_there, mine, there)
            clashes = met.clashes + [c for c in sharing.differences(mine, there) if c.field in private]
            # What is one's own, and what was agreed: of what is private, what one lacks comes in, and the rest stays.
            filled, _ = merge({}, *({name: side[name] for name in private if name in side} for side in (mine, there)))
            here = {**met.here, **filled}
            for clash in clashes:
                self.on.ask(kept.id, one.name, clash, here.get(clash.field))
            self.on.apply(kept, mine, here)
            self._link(one, read, kept, {**merge(base_there, there, base_here)[0], **filled}, there, own)
            self.on.result.came.add(kept.id)
            return
        # Of one's own, what the card has nothing of goes out; where it says something else, somebody must choose.
        here = {name: mine[name] for name in mine if name in there and isinstance(mine[name], str)} if own else mine
        self._link(one, read, kept, here, there, own)
        for clash in sharing.told_otherwise({}, mine, there):
            self.on.ask(kept.id, one.name, clash, mine.get(clash.field))
        self.on.result.came.add(kept.id)
        if not own:
            self.on.result.met.add(kept.id)

    def _link(
        self, one: Card, read: ReadCard, kept: StoredContact, here: Fields, there: Fields, own: bool = True
    ) -> None:
        since = self.book.running.id
        link = SharedMember(one.name, kept.id, kept.contact.uid, one.etag, one.data or "", here, there, own, since)
        self.on.look_again |= own and self.on.fields(kept) != here
        self.on.save(link._replace(problems=read.problems, last_by=one.last_by, last_at=one.changed))

    def again(self, read: ReadCard, fields: Fields) -> StoredContact:
        """Somebody who is not in the book, or not any more, taken in."""
        self.fresh.write()
        contact = cards.fresh(read.contact, fields, self.fresh.source, self.book.running.at)
        if contact.uid and contacts.by_uid(self.book, contact.uid) is not None:
            contact.uid = ""  # of somebody else here
        kept = StoredContact(contacts.add(self.book, contact), contact)
        self.fresh.next = kept.id + 1
        return kept

    def put_on(self, kept: StoredContact, one: Card, address: str | None = None) -> None:
        """Put somebody on the list as the hub has it."""
        own = kept.contact.find_address(address) if address else None
        if not self.on.is_on(kept.id):
            own = own if own != kept.contact.preferred else None
            by = tidy(one.by, 200) or "a colleague"
            lists.add_member(self.book, self.on.row, kept.id, by, own, one.added or None)

    def _save(self, one: Card, read: ReadCard, link: SharedMember, here: Fields, there: Fields) -> None:
        new = link._replace(etag=one.etag, card=one.data or "", here=here, there=there, problems=read.problems)
        self.on.save(new._replace(last_by=one.last_by, last_at=one.changed))

    # Cards that are gone

    def taken_off(self, link: SharedMember) -> None:
        """A card that somebody took off there. What was agreed of it is remembered, should it come again."""
        kept = contacts.get(self.book, link.contact)
        shares.drop_link(self.book, self.on.row, link.name)
        self.on.held_changed |= bool(link.held)
        if kept is None or not self.on.is_on(link.contact):
            return
        if shares.links_of(self.book, self.on.row, link.contact):
            return  # on the list by another card too
        mine = self.on.fields(kept)
        self.on.is_off(link, mine)
        lists.take_member(self.book, self.on.row, link.contact, "sync")
        open_ones = share_conflicts.every(self.book, self.on.row)
        waiting = any(one.contact == link.contact and one.field != ON for one in open_ones)
        if link.own and (waiting or mine != self.on.as_shared(link).here):
            # Changed here before it was taken off there: it stays off, until somebody chooses.
            clash = Clash(ON, sharing.in_text(mine.get("name") or mine.get("address")), None)
            self.on.ask(link.contact, link.name, clash, False)
        self.on.result.off.add(link.contact)
