"""The same person twice in the book: found, looked at, merged, or kept apart."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

from barnacle.book import contacts, lists, verdicts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.contact import Contact
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.gc_paused import uncollected
from barnacle.core.matching.grouping import Group, group_forms
from barnacle.core.matching.judging import CERTAIN, Judge, Judgement
from barnacle.core.matching.weights import Frequencies
from barnacle.core.matching.wording import bits
from barnacle.core.merging import ComparedRow, side_by_side
from barnacle.core.phones import phone_key
from barnacle.core.text import count, listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.files.worker import in_two
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact, need_list
from barnacle.jobs.desk.separate_names import one_by_one
from barnacle.jobs.people.compared import Compared, compared
from barnacle.jobs.people.merge import Merged, make_one

Tick = Callable[[int, int | None], None]


class Pair(NamedTuple):
    """Two contacts held to be one person, by uid, with the reasons in words; `later` where somebody put it off."""

    one: str
    other: str
    verdict: str
    reasons: tuple[str, ...]
    against: tuple[str, ...]
    later: bool = False


class Duplicates(NamedTuple):
    """Contacts held to be one person: the verdict, how many times over the odds double in favour of that, and the
    pairs that hold the group together, the strongest first."""

    contacts: list[Contact]
    verdict: str
    score: float
    pairs: list[Pair]

    @property
    def reasons(self) -> list[str]:
        """What speaks for it, each thing once."""
        return list(dict.fromkeys(reason for pair in self.pairs for reason in pair.reasons))

    @property
    def against(self) -> list[str]:
        """What speaks against it, each thing once."""
        return list(dict.fromkeys(reason for pair in self.pairs for reason in pair.against))


def find(desk: Desk, in_list: str | None = None, tick: Tick = lambda done, total: None) -> list[Duplicates]:
    """The groups of the book, the surest first; with `in_list` those with somebody on that list. Raises
    NotFoundError."""
    with desk.open() as book:
        inside = lists.numbers_on(book, need_list(desk, book, in_list).id) if in_list is not None else None
        later = verdicts.said(book, verdicts.LATER)
        everybody = compared(book, desk.region, tick)
        groups = _fitting(_groups(book, everybody, tick), everybody, inside)
        held = everybody.held(book, {place for group in groups for place in group.members})
    return [_told(group, held, later) for group in groups if held.keys() >= {*group.members}]


def _groups(book: Book, everybody: Compared, tick: Tick) -> list[Group]:
    with uncollected():
        return group_forms(everybody.forms, verdicts.said(book, verdicts.APART), tick, in_parts=in_two)


def _fitting(groups: Iterable[Group], everybody: Compared, inside: Collection[int] | None) -> list[Group]:
    """The groups with somebody `inside`, by number."""
    return [g for g in groups if inside is None or any(everybody.numbers[n] in inside for n in g.members)]


def pairs_among(
    book: Book, some: Collection[str], region: str, tick: Callable[[int, int], None] = lambda done, total: None
) -> list[tuple[Contact, Contact, Judgement]]:
    """Pairs among some contacts, named by their uids, that are held to be one person, weighed as in the whole book."""
    if len(some) < 2:
        return []
    everybody = compared(book, region, tick)
    places = [place for place, one in enumerate(everybody.forms) if one.uid in some]
    with uncollected():
        judge = Judge(Frequencies(everybody.forms))
        forms = [everybody.forms[place] for place in places]
        groups = group_forms(forms, verdicts.said(book, verdicts.APART), tick, judge, in_two)
    links = {frozenset((link.one, link.other)): link for group in groups for link in group.links}
    held = everybody.held(book, {places[n] for pair in links for n in pair})
    pairs = [(held.get(places[link.one]), held.get(places[link.other]), link.judgement) for link in links.values()]
    return [(one.contact, other.contact, judgement) for one, other, judgement in pairs if one and other]


def _told(group: Group, held: Mapping[int, StoredContact], later: Collection[frozenset[str]]) -> Duplicates:
    pairs = []
    for link in group.links:
        one, other = held[link.one].contact.uid, held[link.other].contact.uid
        judgement = link.judgement
        pairs.append(
            Pair(one, other, judgement.verdict, judgement.reasons, judgement.against, frozenset((one, other)) in later)
        )
    members = [held[n].contact for n in group.members]
    return Duplicates(members, group.verdict, bits(group.score), pairs)


def queue(groups: Sequence[Duplicates]) -> list[Pair]:
    """The pairs to be looked at one after the other, each once: surest first, those put off last."""
    pairs: dict[frozenset[str], Pair] = {}
    for group in groups:
        for pair in group.pairs:
            pairs.setdefault(frozenset((pair.one, pair.other)), pair)
    return sorted(pairs.values(), key=lambda pair: pair.later)


class Sides(NamedTuple):
    """Two contacts as they are now, and the rows that show them side by side."""

    left: Contact
    right: Contact
    rows: list[ComparedRow]


def look(desk: Desk, one: str, other: str, theirs: Collection[str] | None = None) -> Sides | None:
    """Two contacts, by uid, side by side, and what they would be together with the choice `theirs`; None where nothing
    is left to decide: they are one contact by now, or said to be apart, or one is gone."""
    with desk.open() as book:
        kept = _both(book, one, other)
        if kept is None or frozenset(k.contact.uid for k in kept) in verdicts.said(book, verdicts.APART):
            return None
        left, right = kept
        on = tuple([each[0].title for each in lists.memberships(book, k.id)] for k in kept)
        rows = side_by_side(
            left.contact, right.contact, theirs, lambda number: phone_key(number, desk.region), (on[0], on[1])
        )
        return Sides(left.contact, right.contact, rows)


def _both(book: Book, one: str, other: str) -> tuple[StoredContact, StoredContact] | None:
    """Both contacts, the one that is longer known first; None where they are one by now, or one is gone."""
    found = [kept for kept in (contacts.by_uid(book, one), contacts.by_uid(book, other)) if kept is not None]
    if len(found) < 2 or found[0].id == found[1].id:
        return None
    left, right = _longest_known_first(found)
    return left, right


def merge_pair(desk: Desk, seen: Sides, theirs: Collection[str] | None) -> Merged | None:
    """Make one contact of two that somebody has seen; None, and nothing changed, where one of them has changed
    since."""
    with desk.open() as book, book.action("duplicates review") as action:
        kept = _both(book, seen.left.uid, seen.right.uid)
        if kept is None or any(str(k.contact) != str(was) for k, was in zip(kept, seen[:2], strict=True)):
            return None
        merged = make_one(desk, book, list(kept), theirs)
        action.title = f"Merged two contacts: {merged.name}"
        return merged


def merge_certain(
    desk: Desk, in_list: str | None = None, tick: Tick = lambda done, total: None
) -> tuple[list[Merged], int]:
    """Merge all groups that are certain, as one action. Returns what was merged, and how many groups are left to be
    looked at.

    Each pass may bring new certainty (an address that was two contacts' is one's now), so it goes on until there is
    none.
    """
    with desk.open() as book, book.action("duplicates merge") as action:
        target = need_list(desk, book, in_list) if in_list is not None else None
        done: dict[str, Merged] = {}
        while True:
            inside = lists.numbers_on(book, target.id) if target else None
            everybody = compared(book, desk.region, tick)
            fitting = _fitting(_groups(book, everybody, tick), everybody, inside)
            sure = [g for g in fitting if g.verdict == CERTAIN]
            if not sure:
                break
            held = everybody.held(book, {place for group in sure for place in group.members})
            for group in sure:
                merged = make_one(desk, book, _longest_known_first(held[n] for n in group.members), None)
                before = [done.pop(everybody.forms[n].uid, None) for n in group.members]
                more = [one for one in before if one is not None]
                number = merged.number + sum(one.number - 1 for one in more)
                done[merged.uid] = merged._replace(
                    number=number, notes=[note for one in more for note in one.notes] + merged.notes
                )
        gone = sum(one.number - 1 for one in done.values())
        action.title = (
            f"Merged duplicates: {count(gone, 'contact')} fewer, now {listed([m.name for m in done.values()], 3)}"
        )
        return list(done.values()), len(fitting)


def _longest_known_first(members: Iterable[StoredContact]) -> list[StoredContact]:
    return sorted(members, key=lambda kept: (kept.contact.added, kept.id))


def set_apart(desk: Desk, who: Sequence[str]) -> list[str]:
    """Remember that these are different people, each from each; they are not asked about again. Returns their names."""
    with desk.open() as book, book.action("duplicates apart") as action:
        kept = _different(desk, book, who)
        for number, one in enumerate(kept):
            for other in kept[number + 1 :]:
                verdicts.say(book, one.contact.uid, other.contact.uid, verdicts.APART)
        names = [one.contact.title for one in kept]
        action.title = f"{listed(names)} are different people"
        return names


def put_off(desk: Desk, one: str, other: str) -> None:
    """Remember to ask about two contacts, by uid, after all others."""
    with desk.open() as book, book.action("duplicates review") as action:
        verdicts.say(book, one, other, verdicts.LATER)
        action.title = "Left a likely duplicate for later"


def forget(desk: Desk, who: Sequence[str]) -> list[str]:
    """Forget that these are different people. Returns their names; raises NotFoundError where nobody had said so."""
    with desk.open() as book, book.action("duplicates apart") as action:
        kept = _different(desk, book, who)
        names = [one.contact.title for one in kept]
        pairs = [(a.contact.uid, b.contact.uid) for n, a in enumerate(kept) for b in kept[n + 1 :]]
        forgotten = [verdicts.forget(book, one, other) for one, other in pairs]
        if not any(forgotten):
            raise NotFoundError(f"{visible(listed(names))} had not been kept apart. Nothing was changed.")
        action.title = f"{listed(names)} may be one person again"
        return names


def _different(desk: Desk, book: Book, who: Sequence[str]) -> list[StoredContact]:
    kept = list({one.id: one for one in (need_contact(desk, book, text) for text in one_by_one(book, who))}.values())
    if len(kept) < 2:
        raise UnclearError("Name two different contacts, by their addresses for instance; `barnacle find` shows them.")
    return kept


def apart(desk: Desk) -> list[tuple[Contact, Contact, str]]:
    """Who was said to be different people, and since when (ISO 8601); pairs of which one is gone are left out."""
    with desk.open() as book:
        result = []
        for uids, since in verdicts.said(book, verdicts.APART).items():
            found = [contacts.by_uid(book, uid) for uid in sorted(uids)]
            if found[0] and found[1]:
                result.append((found[0].contact, found[1].contact, since))
        return result
