"""From pairs to groups: who of a book is one person, the surest first."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence, Set
from itertools import combinations

from barnacle.core.contact import Contact
from barnacle.core.gc_paused import uncollected
from barnacle.core.in_parts import InParts, alone
from barnacle.core.matching.forms import Form, form
from barnacle.core.matching.judging import CERTAIN, LIKELY, Judge, Judgement
from barnacle.core.matching.name_forms import NameForm
from barnacle.core.matching.weights import CERTAIN_FROM, Frequencies
from barnacle.core.typed import NamedTuple

# Two matches for one contact that contradict each other and are as near as that: nobody can tell which it is.
_RIVALS = 1.7
_MOST_IN_GROUP = 200
# So few are all compared.
_ALL_PAIRS = 60
# Of fewer the work is done before a second process is under way.
_WORTH_PARTS = 5_000


class PairLink(NamedTuple):
    """Two contacts, by their places, that are held to be one person."""

    one: int
    other: int
    judgement: Judgement


class Group(NamedTuple):
    """Contacts, by their places, held to be one person: the verdict of the weakest link that is needed to hold them
    together, and the links, the strongest first."""

    members: tuple[int, ...]
    verdict: str
    links: tuple[PairLink, ...]

    @property
    def score(self) -> float:
        """The odds of the weakest link that is needed."""
        return self.links[-1].judgement.score


def find_groups(
    contacts: Iterable[Contact],
    region: str,
    apart: Collection[frozenset[str]] = (),
    tick: Callable[[int, int], None] = lambda done, total: None,
    in_parts: InParts = alone,
) -> list[Group]:
    """Groups of contacts that are one person, the surest first; members are places in `contacts`.

    `apart` holds pairs of uids that somebody said are two people; `region` (ISO 3166) is where phone numbers without a
    country code are read. Certain groups come on their own; a likely group may contain the members of a certain one.
    The order of the contacts makes no difference to who is with whom.
    """
    with uncollected():
        return group_forms([form(contact, region) for contact in contacts], apart, tick, in_parts=in_parts)


def group_forms(
    forms: Sequence[Form],
    apart: Collection[frozenset[str]] = (),
    tick: Callable[[int, int], None] = lambda done, total: None,
    judge: Judge | None = None,
    in_parts: InParts = alone,
) -> list[Group]:
    """Like `find_groups`, of comparable forms. `judge` knows how frequent things are, where these are only a part."""
    if len(forms) < 2:
        return []
    judge = judge or Judge(Frequencies(forms))
    links = find_links(forms, judge, apart, tick, in_parts=in_parts)
    certain = _Clusters(forms, judge, apart)
    for link in links:
        if link.judgement.verdict == CERTAIN:
            certain.join(link)
    groups = certain.groups(CERTAIN)
    likely = certain.going_on()
    for link in links:
        if link.judgement.verdict == LIKELY:
            likely.join(link)
    groups += [g for g in likely.groups(LIKELY) if g.links[-1].judgement.verdict == LIKELY]
    return sorted(groups, key=lambda g: (-g.score, [forms[n].uid for n in g.members]))


def find_links(
    forms: Sequence[Form],
    judge: Judge,
    apart: Collection[frozenset[str]] = (),
    tick: Callable[[int, int], None] = lambda done, total: None,
    among: Set[int] | None = None,
    in_parts: InParts = alone,
) -> list[PairLink]:
    """Every pair that is likely or certain, the strongest first. `among` are places of which each pair has one; else it
    is any two. `tick` is told how far the search is, of 100."""
    links = _links(forms, judge, apart, tick, among, in_parts if len(forms) >= _WORTH_PARTS else alone)
    if among is None:
        return _doubted(links, forms, judge, apart)
    # Whoever one of them certainly is may be somebody else as well, so that nothing is certain.
    known = {place for link in links if link.judgement.verdict == CERTAIN for place in link[:2]}.difference(among)
    others = _links(forms, judge, apart, lambda done, total: None, known, alone) if known else []
    pairs = {link[:2] for link in links}
    both = [*links, *(link for link in others if link[:2] not in pairs)]
    return [link for link in _doubted(both, forms, judge, apart) if link.one in among or link.other in among]


def _links(
    forms: Sequence[Form],
    judge: Judge,
    apart: Collection[frozenset[str]],
    tick: Callable[[int, int], None],
    among: Set[int] | None,
    in_parts: InParts,
) -> list[PairLink]:
    if len(forms) <= _ALL_PAIRS:
        pairs = [pair for pair in combinations(range(len(forms)), 2) if among is None or not among.isdisjoint(pair)]
    else:
        from barnacle.core.matching.candidates import candidates

        # Half of the time goes into finding the pairs.
        pairs = candidates(forms, lambda done, total: tick(50 * done // total, 100), among, in_parts)

    def part(which: int, parts: int) -> list[PairLink]:
        links = []
        mine = pairs[which::parts]
        for number, (one, other) in enumerate(mine):
            if which == 0 and number % 2_000 == 0:
                tick(50 + 50 * number // len(mine), 100)
            if apart and frozenset((forms[one].uid, forms[other].uid)) in apart:
                continue
            judgement = judge.judge(forms[one], forms[other])
            if judgement.verdict:
                links.append(PairLink(one, other, judgement))
        return links

    links: list[PairLink] = in_parts(part)
    links.sort(key=lambda k: (-k.judgement.score, *sorted((forms[k.one].uid, forms[k.other].uid))))
    return links


def _doubted(
    links: list[PairLink], forms: Sequence[Form], judge: Judge, apart: Collection[frozenset[str]]
) -> list[PairLink]:
    """Links that are not certain any more where a contact fits two others who contradict each other."""
    by_place: dict[int, list[PairLink]] = {}
    for link in links:
        by_place.setdefault(link.one, []).append(link)
        by_place.setdefault(link.other, []).append(link)
    result = []
    for link in links:
        if link.judgement.verdict == CERTAIN and any(
            _rivals(link, rival, shared, forms, judge, apart)
            for shared in (link.one, link.other)
            for rival in by_place[shared][:_MOST_IN_GROUP]
        ):
            lower = link.judgement._replace(
                score=min(link.judgement.score, CERTAIN_FROM - 0.1),
                verdict=LIKELY,
                against=(*link.judgement.against, "it may equally be somebody you have kept apart from this one"),
            )
            link = link._replace(judgement=lower)
        result.append(link)
    return sorted(result, key=lambda k: -k.judgement.score)


def _rivals(
    link: PairLink, rival: PairLink, shared: int, forms: Sequence[Form], judge: Judge, apart: Collection[frozenset[str]]
) -> bool:
    if rival is link or rival.judgement.score < link.judgement.score - _RIVALS:
        return False
    one = link.other if link.one == shared else link.one
    other = rival.other if rival.one == shared else rival.one
    return one != other and _contradict(forms[one], forms[other], judge, apart)


def _contradict(one: Form, other: Form, judge: Judge, apart: Collection[frozenset[str]]) -> bool:
    if apart and frozenset((one.uid, other.uid)) in apart:
        return True
    if one.called_after or other.called_after:
        return False
    return bool(judge.names(one, other).contradiction)


class _Clusters:
    """Contacts joined link by link, never two who contradict each other."""

    def __init__(self, forms: Sequence[Form], judge: Judge, apart: Collection[frozenset[str]]) -> None:
        self._forms, self._judge, self._apart = forms, judge, apart
        self._of: dict[int, int] = {}
        self._members: dict[int, list[int]] = {}
        self._links: dict[int, list[PairLink]] = {}

    def going_on(self) -> _Clusters:
        """A copy in which further links are made."""
        copy = _Clusters(self._forms, self._judge, self._apart)
        copy._of = dict(self._of)
        copy._members = {k: list(v) for k, v in self._members.items()}
        copy._links = {k: list(v) for k, v in self._links.items()}
        return copy

    def join(self, link: PairLink) -> None:
        """Join two clusters where nobody in the one contradicts anybody in the other."""
        one, other = self._cluster(link.one), self._cluster(link.other)
        if one == other:
            return
        mine, theirs = self._members[one], self._members[other]
        if len(mine) + len(theirs) > _MOST_IN_GROUP and not _one_name(mine, theirs, self._forms):
            return
        # Many have the same name: one of each is enough, unless somebody said of some that they are apart.
        checked = {(a, b) if self._apart else (self._called(a), self._called(b)): (a, b) for a in mine for b in theirs}
        if any(_contradict(self._forms[a], self._forms[b], self._judge, self._apart) for a, b in checked.values()):
            return
        if len(mine) < len(theirs):
            one, other, mine, theirs = other, one, theirs, mine
        mine += theirs
        self._links[one] = self._links[one] + [link] + self._links[other]
        for place in theirs:
            self._of[place] = one
        del self._members[other], self._links[other]

    def _called(self, place: int) -> tuple[NameForm, bool]:
        """A name, and whether it is only what the address says: that contradicts nobody."""
        return self._forms[place].name, self._forms[place].called_after

    def _cluster(self, place: int) -> int:
        if place not in self._of:
            self._of[place] = place
            self._members[place] = [place]
            self._links[place] = []
        return self._of[place]

    def groups(self, verdict: str) -> list[Group]:
        """The clusters of two and more."""
        return [
            Group(
                tuple(sorted(members, key=lambda place: self._forms[place].uid)),
                verdict,
                tuple(sorted(self._links[number], key=lambda k: -k.judgement.score)),
            )
            for number, members in self._members.items()
            if len(members) > 1
        ]


def _one_name(mine: Sequence[int], theirs: Sequence[int], forms: Sequence[Form]) -> bool:
    return len({forms[place].name for place in (*mine, *theirs)}) == 1
