"""The exchange with a hub: what changed there comes in, what changed here goes out, and nothing is lost between."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from itertools import chain, count
from urllib.parse import quote

from barnacle.book import contacts, lists, shares
from barnacle.book.shares import Offer, Share
from barnacle.book.store import Book
from barnacle.core import sharing
from barnacle.core.errors import HubError, SignedOutError, StoppedError
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import connection
from barnacle.jobs.sharing.exchange import Exchange, OtherFieldsError
from barnacle.jobs.sharing.going_out import OCTETS, send
from barnacle.jobs.sharing.shared_list import Exchanged, SharedList, Tick, fields_on
from barnacle.net.answers import HubList
from barnacle.net.hub import Client, NoRightError, Outcomes, TooMuchError, UnreachedError

# How often in a row roles or fields may change under an exchange before this run leaves the rest to the next.
_ROUNDS = 3
# How many lists' changes are asked for together: an answer has room for so many.
_AT_A_TIME = 100


class Synced(NamedTuple):
    """What an exchange of everything did: list by list, and what colleagues offer that is not answered yet."""

    lists: list[Exchanged]
    offered: list[HubList]


def sync(desk: Desk, drop_ended: bool = False, tick: Tick = lambda done, total: None) -> Synced:
    """Exchange every shared list with the hub. Safe to break off at any point and to do twice. The trouble of one list
    is that list's; where nobody answers any more, those that are left say so.

    Raises HubError where the hub cannot be reached or does not let us in.
    """
    with desk.open() as book, only_one(desk), connection.client_of(desk, book) as client:
        every = client.lists()
        there = {one.id: one for one in every if one.state == "joined"}
        offered = [one for one in every if one.state == "offered"]
        run = _Run(desk, book, client, drop_ended, tick)
        for share in shares.every(book):
            run.one(share, there.pop(share.remote, None))
        # What was accepted elsewhere, or in a run that broke off, is fetched too.
        for one in there.values():
            run.new(one)
        run.go()
        with book.transaction():
            shares.exchanged(book, run.quiet)
            shares.keep_offers(book, [Offer(one.title, one.giver, one.role, one.since) for one in offered])
        return Synced(run.results, offered)


@contextmanager
def only_one(desk: Desk) -> Iterator[None]:
    """The right to exchange, one run at a time; the system frees the lock however the run ends. Raises StoppedError."""
    from filelock import FileLock, Timeout

    try:
        with FileLock(f"{desk.path}.sync", timeout=5, mode=0o600):
            yield
    except Timeout:
        raise StoppedError("Another `barnacle sync` is using this book. Let it finish.") from None


def first(desk: Desk, book: Book, client: Client, remote: HubList, tick: Tick) -> Exchanged:
    """Fetch a list that was just accepted into a new list of one's own. Raises HubError."""
    run = _Run(desk, book, client, False, tick)
    run.new(remote)
    run.go()
    [result] = run.results
    return result


class _Run:
    """The exchange of some lists, step by step together: what changed of all of them is asked for at once, and what
    goes out of several travels at once."""

    def __init__(self, desk: Desk, book: Book, client: Client, drop_ended: bool, tick: Tick) -> None:
        self.desk = desk
        self.book = book
        self.client = client
        self.drop_ended = drop_ended
        self.tick = tick
        self.results: list[Exchanged] = []
        self.open: list[tuple[Share, HubList, Exchanged]] = []
        self.quiet: list[int] = []
        self.tried: dict[int, int] = {}
        self.unreached: UnreachedError | None = None

    def one(self, share: Share, remote: HubList | None) -> None:
        """A list that is shared already."""
        here = lists.get(self.book, share.row)
        if here is None:
            _left_here(self.book, self.client, share, remote)
            return
        result = Exchanged(here.title)
        self.results.append(result)
        if remote is None:
            _ended(self.book, share, result, self.drop_ended)
        elif self._is_quiet(share, remote, here.title):
            self.quiet.append(share.row)
        else:
            self.open.append((share, remote, result))

    def new(self, remote: HubList) -> None:
        """A list that was accepted, and is not in the book yet."""
        owned = f"{remote.title} ({remote.owner})"
        titles = chain((remote.title, owned), (f"{owned} {number}" for number in count(2)))
        title = next(one for one in titles if lists.by_exact_title(self.book, one) is None)
        with self.book.action("share accept", f"Accepted {title}") as action:
            made = lists.new(self.book, title, f"shared by {remote.owner}")
            facts = (title, remote.owner, remote.role, list(remote.fields))
            share = Share(made.id, remote.id, *facts, "", "", action.id, [], giver=remote.giver)
            shares.save(self.book, share)
        result = Exchanged(title)
        self.results.append(result)
        self.open.append((share, remote, result))

    def _is_quiet(self, share: Share, remote: HubList, title: str) -> bool:
        """Whether a list is as it was on both sides."""
        was = (share.token, share.people_mark, share.role, share.fields, share.owner, list(share.house))
        by_now = (remote.token, remote.people, remote.role, remote.fields, remote.owner, remote.house)
        if was != by_now or not remote.token:
            return False
        if title != share.title or remote.title not in (share.title, _bare(share.title, share.owner)):
            return False
        return not shares.has_news(self.book, share)

    def go(self) -> None:
        """Exchange them all."""
        while self.open:
            some, self.open = self.open[:_AT_A_TIME], self.open[_AT_A_TIME:]
            with self._all_of(some):
                tokens = {share.remote: share.token for share, remote, _ in some if share.token != remote.token}
                people = [share.remote for share, remote, _ in some if share.people_mark != remote.people]
                self.client.foresee(tokens, people)
            self._exchange([one for one in (self._begun(*each) for each in some) if one is not None])
        done = self.quiet or any(one.received or one.sent or one.ended for one in self.results)
        if self.unreached is not None and not done:
            raise self.unreached

    def _exchange(self, begun: list[Exchange]) -> None:
        """Send what is ready, and begin again with those of which somebody was quicker."""
        while begun:
            ready = [one for one in begun if one.out.waiting]
            idle = [one for one in begun if not one.out.waiting]
            again = [one for one in idle if not self._went(one, [])]
            for group in _that_travel_together(ready):
                outcomes: Mapping[str, Outcomes | Exception] = {}
                with self._all_of([(one.on.share, None, one.on.result) for one in group]):
                    outcomes = send(self.client, {one.remote: one.out for one in group})
                again += [one for one in group if not self._went(one, outcomes.get(one.remote))]
            done = [one for one in begun if one.out.sent and one not in again]
            # The token stands for what went out too, from now on: a hub that is put back from a backup made before is
            # known by it.
            with self._all_of([]):
                self.client.foresee({one.remote: one.on.share.token for one in done}, [])
            for one in done:
                self._safely(one.on.result, one.fetch)
            begun = [one for one in again if self._safely(one.on.result, one.begin)]

    def _went(self, one: Exchange, outcomes: Outcomes | Exception | None) -> bool:
        """What became of a list's cards; False where its exchange begins again."""
        if outcomes is None:
            return True
        if isinstance(outcomes, Exception):
            self._trouble(one.on, outcomes)
            return True
        if one.on.share.role == sharing.READER:
            return True
        return one.went(outcomes)

    def _begun(self, share: Share, remote: HubList, result: Exchanged) -> Exchange | None:
        """A list whose changes have come in, and whose own are ready to go; None where it is over."""
        made: list[Exchange] = []

        def begin() -> None:
            now_shared = _as_there(self.book, self.client, share, remote, result.title, result)
            on = SharedList(self.desk, self.book, self.client, now_shared, result, self.tick)
            made.append(Exchange(on, not now_shared.token or now_shared.token != remote.token))
            made[0].begin()

        return made[0] if self._safely(result, begin, share) else None

    def _safely(self, result: Exchanged, step: Callable[[], None], share: Share | None = None) -> bool:
        """Do something for one list: its trouble is its own."""
        if self.unreached is not None:
            result.refused = result.refused or str(self.unreached)
            return False
        try:
            step()
        except UnreachedError as error:
            self.unreached = error
            result.refused = str(error)
        except SignedOutError:
            raise
        except (NoRightError, OtherFieldsError):
            if share is not None:
                self._otherwise(share, result)
            else:
                result.refused = "Your role in this list has just been changed; the rest goes next time."
        except (HubError, StoppedError) as error:
            result.refused = str(error)
        else:
            return True
        return False

    def _trouble(self, on: SharedList, error: Exception) -> None:
        def again() -> None:
            raise error

        self._safely(on.result, again, on.share)

    def _otherwise(self, share: Share, result: Exchanged) -> None:
        """Roles or fields have changed under an exchange: it begins again with those of now, or is over."""
        self.tried[share.row] = self.tried.get(share.row, 0) + 1
        remote: list[HubList | None] = []
        if not self._safely(result, lambda: remote.append(_still_there(self.client, share))):
            return
        now_shared = shares.of(self.book, share.row) or share
        if remote[0] is None:
            _ended(self.book, now_shared, result, self.drop_ended)
        elif self.tried[share.row] < _ROUNDS:
            self.open.append((now_shared, remote[0], result))
        else:
            result.refused = "Somebody is changing what this list shares, or with whom; the rest goes next time."

    @contextmanager
    def _all_of(self, some: Sequence[tuple[Share, HubList | None, Exchanged]]) -> Iterator[None]:
        """Something that is asked for several lists at once: where that fails, each has its say when it is asked for by
        itself, unless nobody answers."""
        if self.unreached is not None:
            yield
            return
        try:
            yield
        except UnreachedError as error:
            self.unreached = error
            for _, _, result in some:
                result.refused = str(error)
        except SignedOutError:
            raise
        except (HubError, TooMuchError):
            pass


def _that_travel_together(some: list[Exchange]) -> Iterator[list[Exchange]]:
    """Lists whose cards are no more together than one alone may have."""
    group: list[Exchange] = []
    octets = 0
    for one in some:
        if group and octets + one.out.octets > OCTETS:
            yield group
            group, octets = [], 0
        group.append(one)
        octets += one.out.octets
    if group:
        yield group


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
    with book.action("sync", f"{result.title} is no longer shared") as action:
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
            with book.taking_over(), book.action("sync", f"{title} is now called {agreed}"):
                one = lists.get(book, share.row)
                assert one is not None
                lists.change(book, one._replace(title=agreed))
            result.title = agreed
    people, mark = share.people, share.people_mark
    if not remote.people or remote.people != mark:
        people, mark = client.people(share.remote), remote.people
    if share.at and share.role != remote.role:
        result.role = remote.role
    old, fields = share, list(remote.fields)
    share = share._replace(
        role=remote.role, fields=fields, owner=remote.owner, title=agreed, people=people, people_mark=mark,
        house=remote.house,
    )  # fmt: skip
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
            mine = fields_on(book, share.row, kept, names)
            fresh = {name: value for name, value in mine.items() if name not in link.here}
            shares.save_link(book, share.row, link._replace(here={**link.here, **fresh}))
    return share.action


def _bare(title: str, owner: str) -> str:
    return title.removesuffix(f" ({owner})")
