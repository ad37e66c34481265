"""The exchange of one shared list's cards with its hub, both ways."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, lists, shares
from barnacle.book.shares import SharedMember
from barnacle.core.errors import HubError
from barnacle.core.sharing import READER
from barnacle.core.text import count
from barnacle.jobs.sharing import cards
from barnacle.jobs.sharing.coming_in import ComingIn
from barnacle.jobs.sharing.going_out import GoingOut
from barnacle.jobs.sharing.shared_list import SharedList
from barnacle.net.answers import Card
from barnacle.net.hub import GoneError, NoRightError

# How often in a row somebody else may be quicker before this run leaves the rest to the next.
_ROUNDS = 6


class OtherFieldsError(Exception):
    """What is shared of the members was changed while the exchange ran: what seems emptied may only be shared no more.
    Nothing was added."""


class Exchange:
    """The exchange of one list's cards, step by step: so that those of many lists travel together."""

    def __init__(self, on: SharedList, news: bool = True) -> None:
        """`news` says that something may have changed there."""
        self.on = on
        self.book = on.book
        self.client = on.client
        self.news = news
        self.out = GoingOut(on)
        self.rounds = 0

    @property
    def remote(self) -> str:
        return self.on.share.remote

    def begin(self) -> None:
        """Take in what changed there, and make ready what changed here. Raises HubError, StoppedError, NoRightError,
        OtherFieldsError."""
        self.rounds += 1
        if self.news or self.rounds > 1:
            self.fetch()
        if self.on.share.role == READER:
            self._as_the_hub_has_it()
        else:
            self.out.make_ready()

    def went(self, outcomes: Sequence[str | Exception]) -> bool:
        """What became of the cards that were ready. Says whether that was all; else somebody was quicker with one, and
        the exchange begins again."""
        if self.out.went(outcomes):
            self.out.done()
            return True
        if self.rounds >= _ROUNDS:
            self.on.result.refused = "Others are changing this list right now; the rest goes next time."
            return True
        return False

    # What changed there

    def fetch(self) -> None:
        """Take in what changed there."""
        share = self.on.share
        put_back = False
        try:
            found, token = self.client.changes(share.remote, share.token)
            whole = not share.token
        except GoneError:
            self.on.share = share = share._replace(token="")
            try:
                found, token = self.client.changes(share.remote, "")
            except GoneError:
                raise HubError("The hub's answer about this list makes no sense.") from None
            whole = True
            put_back = share.role != READER
            if put_back:
                self.on.share = share = share._replace(action=0)  # whatever was changed here ever is looked at again
        begun = shares.last_action(self.book)
        known_links = {
            name: self.on.as_shared(link)
            for name, link in shares.links(self.book, share.row, [one.name for one in found]).items()
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
                coming = ComingIn(self.on, put_back)
                coming.take_all_in(news, known_links)
                for one in gone:
                    coming.taken_off(known_links[one.name])
                for link in lost:
                    shares.save_link(self.book, self.on.row, link._replace(etag=""))
                self.on.recount()
                who = count(self.on.result.received, "member")
                action.title = f"Received {who} of {self.on.result.title} from the hub"
                # Where nothing was done here since, what this run changes need not be looked at again.
                self.on.remember(token, action.id if begun == share.action else share.action)
        elif token != share.token or share.at == "":
            with self.book.transaction():
                self.on.remember(token, share.action)

    def _hold_to_fields(self) -> None:
        """Raises OtherFieldsError, NoRightError."""
        now_there = next((one for one in self.client.lists_by_now() if one.id == self.on.share.remote), None)
        if now_there is None or now_there.state != "joined":
            raise NoRightError
        if now_there.fields != self.on.share.fields:
            raise OtherFieldsError

    def _unknown_there(self, names: set[str]) -> list[SharedMember]:
        return [link for link in shares.all_links(self.book, self.on.row) if link.name not in names]

    # Where one may only read

    def _as_the_hub_has_it(self) -> None:
        """What a reader's list has otherwise than the hub (an undo can do that) is put right."""
        row = self.on.row
        for link in shares.touched(self.book, row, self.on.share.action):
            # Who must not be written to is the one thing that a reader tells the others.
            kept = contacts.get(self.book, link.contact)
            if kept is not None and kept.contact.opt_out and not link.there.get("opt_out"):
                mark = {"card": link.name, "since": " ".join(kept.contact.opt_out)}
                self.client.tell("POST", f"api/lists/{self.on.share.remote}/opt-outs", mark)
                self.out.sent.add(link.name)
                self.on.result.sent = len(self.out.sent)
        off, more = shares.left(self.book, row), shares.unlinked(self.book, row)
        if off or more:
            title = f"Restored {self.on.result.title}: it is shared with you to read only"
            with self.book.taking_over(), self.book.action("sync", title) as action:
                action.facts = True
                for number in more:
                    lists.take_member(self.book, row, number, "sync")
                    self._taken_back(number, "off")
                for link in off:
                    self._on_again(link)
        with self.book.transaction():
            self.on.share = self.on.share._replace(action=shares.last_action(self.book))
            shares.save(self.book, self.on.share)

    def _taken_back(self, number: int, where: str) -> None:
        if (kept := contacts.get(self.book, number)) is not None:
            self.on.result.taken_back.append(f"{kept.contact.title} is {where} it again")

    def _on_again(self, link: SharedMember) -> None:
        coming = ComingIn(self.on, False)
        read = cards.read(link.card, link.name)
        kept = contacts.get(self.book, link.contact)
        if kept is None and read is not None:
            kept = coming.again(read, read.fields(self.on.names, link.there))
        if kept is not None:
            coming.put_on(kept, Card(link.name, link.etag, link.card, self.on.share.owner, ""))
            self.on.save(link._replace(contact=kept.id, uid=kept.contact.uid))
            self._taken_back(kept.id, "on")
