"""What changed in the book, sent to the hub."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence

from barnacle.book import contacts, share_conflicts, shares
from barnacle.book.share_conflicts import Open
from barnacle.book.shares import SENT, SharedMember, Trace
from barnacle.book.store import now
from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.errors import BarnacleError, HubError, StoppedError
from barnacle.core.sharing import ON, Fields
from barnacle.core.text import visible
from barnacle.jobs.sharing import cards
from barnacle.jobs.sharing.shared_list import SharedList, who
from barnacle.net.hub import ChangedError, Client, Outcomes, Outgoing, TooMuchError

# So many cards go out together, of so many octets: a common proxy takes no more than a megabyte.
AT_ONCE, OCTETS = 200, 900_000


class GoingOut:
    """Own changes of one list on their way out. `sent` are the names of the cards that the hub has taken, `waiting`
    those that are ready to go, `gone` those of them that are taken off."""

    def __init__(self, on: SharedList) -> None:
        self.on = on
        self.book = on.book
        self.sent: set[str] = set()
        self.waiting: list[SharedMember] = []
        self.gone: set[str] = set()
        self.octets = 0
        self.last = 0
        self.overtaken = False
        self.refused: list[str] = []

    def make_ready(self) -> None:
        """Everything that was changed here since. What is more than goes together is sent at once."""
        row = self.on.row
        self.waiting, self.gone, self.octets, self.overtaken = [], set(), 0, False
        self._settle()
        self.last = shares.last_action(self.book)
        gone, new = shares.left(self.book, row), shares.unlinked(self.book, row)
        changed = shares.touched(self.book, row, self.on.share.action)
        off = [link for link in gone if not self._follows_merge(link, changed, new)]
        names = {link.name for link in off}
        lost = [link for link in shares.unsent(self.book, row) if link.name not in names]
        steps = [
            *((self._take_off, one) for one in off),
            *((self._send_again, one) for one in lost),
            *((self._send_new, one) for one in new),
            *((self._send_changed, one) for one in changed if one.etag and one.name not in names),
        ]
        for done, (step, one) in enumerate(steps, 1):
            step(one)  # type: ignore[operator]
            self.on.tick(done, len(steps))

    def done(self) -> None:
        """Everything has gone out that could."""
        with self.book.transaction():
            # What was refused is looked at again.
            action = self.on.share.action if self.refused else self.last
            self.on.share = self.on.share._replace(action=action, at=now())
            shares.save(self.book, self.on.share)

    def _settle(self) -> None:
        """A later edit of one's own to a field settles a conflict about it, and so does what makes both sides say the
        same."""
        open_ones = share_conflicts.every(self.book, self.on.row)
        links = shares.links(self.book, self.on.row, [one.name for one in open_ones])
        for one in open_ones:
            link = links.get(one.name)
            if self._is_settled(one, link):
                with self.book.transaction():
                    share_conflicts.settle(self.book, one.number)
                    if link is not None and link.own and one.field != ON:
                        # What an edit chose goes out, also where it was here before they said otherwise.
                        self.on.save(link._replace(here=sharing.as_agreed(link.here, link.there, one.field)))

    def _is_settled(self, one: Open, link: SharedMember | None) -> bool:
        kept = contacts.get(self.book, one.contact)
        if one.field == ON:
            return not isinstance(one.holds, dict) and self.on.is_on(one.contact) != one.holds
        if kept is None:
            return True
        mine = self.on.fields(kept)
        if isinstance(one.holds, dict):  # merged since: from now on it is this
            with self.book.transaction():
                share_conflicts.known_now(self.book, one.number, mine.get(one.field))
            return False
        if isinstance(one.theirs, list) and sharing.told_otherwise({}, mine, {one.field: one.theirs}):
            return False  # something that they have is still not here
        edited = mine.get(one.field) != one.holds
        if link is None or self.on.may_change(link):  # while a card is gone, the conflict waits
            return edited and not (link is None and one.field == "address")
        taken = not (sharing.told_otherwise({}, mine, {one.field: one.theirs}) if one.theirs else mine.get(one.field))
        return (edited and link.own) or (taken and one.mine == mine.get(one.field))

    def _take_off(self, link: SharedMember) -> None:
        if link.etag:
            self.gone.add(link.name)
            self._goes(link)
        else:
            with self.book.transaction():
                shares.drop_link(self.book, self.on.row, link.name)

    def _send_again(self, link: SharedMember) -> None:
        self._send_changed(link, again=True)

    def _follows_merge(self, link: SharedMember, changed: list[SharedMember], new: list[int]) -> bool:
        """Whether a card's contact was merged into one that is on the list and has no card: then that has it now."""
        survivor = shares.merged_into(self.book, link.uid)
        if survivor is None or survivor not in new:
            return False
        kept = contacts.need(self.book, survivor)
        moved = link._replace(contact=survivor, uid=kept.uid)
        with self.book.transaction():
            self.on.save(moved)
        new.remove(survivor)
        changed.append(moved)
        return True

    def _send_new(self, number: int) -> None:
        kept = contacts.get(self.book, number)
        if kept is None:
            return
        here = self.on.fields(kept)
        uid = kept.contact.uid
        name = f"{uid if cards.is_plain(uid) else contacts.new_uids(1)[0]}.vcf"
        text = cards.text_of(Contact(uid=uid), here, self.on.names)
        since = shares.last_action(self.book)
        self._goes(SharedMember(name, number, uid, "", text, here, here, True, since))

    def _send_changed(self, link: SharedMember, again: bool = False) -> None:
        kept = contacts.get(self.book, link.contact)
        read = cards.read(link.card, link.name)
        if kept is None or read is None:
            return
        link = self.on.as_shared(link)
        mine = self.on.fields(kept)
        if mine == link.here and not again:
            return
        told = self._undisputed(link, mine) if link.own else self._only_met(link, mine)
        met = sharing.meet(link.here, link.there, told, link.there)
        if met.there == link.there and not again:  # both say the same by now
            with self.book.transaction():
                here = sharing.agreeing(link.here, told, link.there) if link.own else mine
                self.on.save(link._replace(here=here))
            return
        text = cards.text_of(read.contact, met.there, self.on.names, cards.version_of(link.card), link.there)
        self._goes(link._replace(card=text, here=told if link.own else mine, there=met.there))

    def _undisputed(self, link: SharedMember, mine: Fields) -> Fields:
        """What goes out of one's own: where the list may not change the contact and says something else, that waits for
        a choice on both sides."""
        asked = {one.field for one in share_conflicts.every(self.book, self.on.row) if one.contact == link.contact}
        if not asked or self.on.may_change(link):
            return mine
        rest = {name: value for name, value in mine.items() if name not in asked}
        return rest | {name: link.here[name] for name in asked if name in link.here}

    def _only_met(self, link: SharedMember, mine: Fields) -> Fields:
        """What goes out of somebody who has only met the list: that they must not be written to, and nothing else. A
        text that was changed and says something else than the card is asked about."""
        changed = sharing.differing(link.here, mine)
        if changed - {"opt_out"}:
            self.on.result.stayed.append(who(mine) or link.name)
        with self.book.transaction():
            for clash in sharing.differences(mine, link.there):
                if clash.field in changed:
                    self.on.ask(link.contact, link.name, clash, clash.mine)
        return sharing.of_one_met(link.here, mine)

    def _goes(self, link: SharedMember) -> None:
        """A card goes out, together with others."""
        octets = _octets_of(link)
        if self.waiting and (len(self.waiting) >= AT_ONCE or self.octets + octets > OCTETS):
            self._send()
        self.waiting.append(link)
        self.octets += octets

    def send_these(self, links: Iterable[SharedMember]) -> None:
        """Send some cards as they are. Raises NoRightError, HubError."""
        for link in links:
            self._goes(link)
        if self.waiting:
            self._send()

    def _send(self) -> None:
        outcome = send(self.on.client, {self.on.share.remote: self})[self.on.share.remote]
        if isinstance(outcome, Exception):
            raise outcome
        self.went(outcome)

    def outgoing(self) -> list[Outgoing]:
        """What is ready to go, and written down: should the answer not be heard, it is known for one's own when it
        comes back."""
        traces = [
            Trace(one.name, one.contact, SENT, one.own, one.since, one.here, one.there, {})
            for one in self.waiting if one.name not in self.gone
        ]  # fmt: skip
        with self.book.transaction():
            shares.save_traces(self.book, self.on.row, traces)
        return [
            Outgoing(one.name, None if one.name in self.gone else one.card, one.etag or None) for one in self.waiting
        ]

    def went(self, outcomes: Sequence[str | Exception]) -> bool:
        """Remember what became of the cards that were ready. Says whether nobody was quicker with one of them."""
        links, self.waiting, self.octets = self.waiting, [], 0
        pairs = list(zip(links, outcomes, strict=True))
        taken = [one._replace(etag=outcome) for one, outcome in pairs if isinstance(outcome, str)]
        with self.book.transaction():
            for one in taken:
                if one.name in self.gone:
                    shares.drop_link(self.book, self.on.row, one.name)
                    kept = contacts.get(self.book, one.contact)
                    if kept is not None:
                        self.on.is_off(one, self.on.fields(kept))
            there = [one for one in taken if one.name not in self.gone]
            shares.save_links(self.book, self.on.row, there)
            shares.is_on_again(self.book, self.on.row, [one.contact for one in there])
            shares.drop_traces(self.book, self.on.row, SENT, [one.name for one in links])
        self.sent |= {one.name for one in taken}
        self.on.result.sent = len(self.sent)
        failed = [(one, outcome) for one, outcome in pairs if isinstance(outcome, BarnacleError)]
        self.refused += [f"{visible(who(one.there) or one.name)}: {outcome}" for one, outcome in failed]
        if self.refused:  # one that is not taken costs the others nothing
            more = f" (and {len(self.refused) - 1} more)" if len(self.refused) > 1 else ""
            self.on.result.refused = f"{self.refused[0]}{more}"
        self.overtaken |= any(isinstance(outcome, ChangedError) for outcome in outcomes)
        return not self.overtaken


def _octets_of(link: SharedMember) -> int:
    """How long a card is on its way, with what stands around it."""
    return len(json.dumps(link.card, ensure_ascii=False).encode()) + 200


def send(client: Client, lists: Mapping[str, GoingOut]) -> dict[str, Outcomes | Exception]:
    """Send what is ready of some lists, by their ids at the hub, and say for each what became of its cards, or of the
    list. Where so much is too much for what stands between, less goes at once."""
    return _send(client, {remote: out.outgoing() for remote, out in lists.items()})


def _send(client: Client, some: Mapping[str, list[Outgoing]]) -> dict[str, Outcomes | Exception]:
    try:
        return client.put(some)
    except TooMuchError as error:
        if len(some) > 1:
            names = list(some)
            halves = names[: len(names) // 2], names[len(names) // 2 :]
            return {k: v for half in halves for k, v in _send(client, {name: some[name] for name in half}).items()}
        [(remote, its)] = some.items()
        if len(its) < 2:
            return {remote: [StoppedError(str(error)) for _ in its]}
        half = len(its) // 2
        done: Outcomes = []
        for part in (its[:half], its[half:]):
            outcome = _send(client, {remote: part})[remote]
            done += [HubError(str(outcome))] * len(part) if isinstance(outcome, Exception) else outcome
        return {remote: done}
