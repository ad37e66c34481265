"""Two contacts side by side: everything that speaks for and against their being one person, weighed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from math import log
from typing import NamedTuple

from barnacle.core.matching import weights
from barnacle.core.matching.forms import AddressForm, Form, guessed_name, words_of_local
from barnacle.core.matching.naming import NOTHING, RENAMED, USUAL, Comparison, Level, Pairing, compare_names
from barnacle.core.matching.weights import Frequencies

CERTAIN = "certain"
LIKELY = "likely"


class Judgement(NamedTuple):
    """What two contacts are to each other: the odds as a natural logarithm, the verdict (`certain`, `likely` or
    empty), reasons in words, and whether they contradict each other, so that no chain may join them."""

    score: float
    verdict: str
    reasons: tuple[str, ...]
    against: tuple[str, ...]
    contradict: bool = False


class _Point(NamedTuple):
    """Something through which both are reached: the odds that sharing it sets, how many people share it."""

    odds: float
    crowd: int
    kind: str  # address, phone, near (an address but for a slip, or an unusual local part)
    words: str


class _Sum:
    """Evidence as it comes together."""

    def __init__(self) -> None:
        self.score = 0.0
        self.reasons: list[str] = []
        self.against: list[str] = []

    def add(self, weight: float, words: str = "") -> None:
        self.score += weight
        if words:
            (self.reasons if weight >= 0 else self.against).append(words)


class Judge:
    """Judges pairs of one book, whose frequencies it is given."""

    def __init__(self, frequencies: Frequencies) -> None:
        self.frequencies = frequencies
        self._compared: dict[tuple[object, object], Comparison] = {}

    def compare(self, one: Form, other: Form) -> Comparison:
        """What the names have in common; kept, since many pairs have the same names."""
        if not one.name.words or not other.name.words:
            return NOTHING
        key = (one.name, other.name)
        found = self._compared.get(key)
        if found is None:
            if len(self._compared) > 500_000:
                self._compared.clear()
            found = self._compared[key] = compare_names(one.name, other.name, self.frequencies.count)
        return found

    def judge(self, one: Form, other: Form) -> Judgement:
        """Weigh the evidence. The order of the two makes no difference but to the words."""
        names = self.compare(one, other)
        if names.contradiction and not (one.called_after or other.called_after):
            return Judgement(-99.0, "", (), (names.contradiction,), True)
        if names.contradiction:
            names = NOTHING  # a name read from an address is no proof
        known_before = self._known_before(one, other) if names.doubt == RENAMED else None
        if known_before is not None:
            names = known_before
        total = _Sum()
        point = self._point(one, other, names, total)
        if point is None:
            if not names.pairs:
                return Judgement(-99.0, "", (), ())
            total.add(self.frequencies.prior)
            self._names_by_chance(names, total)
        else:
            self._names_at_point(names, point.crowd, total)
        if names.doubt == RENAMED and known_before is not None:
            total.add(weights.RENAMED_AS_ADDRESS, names.doubt)
        elif names.doubt == RENAMED:
            if point is None or point.kind == "phone" or point.crowd > weights.OFFICE:
                return Judgement(-99.0, "", (), ())  # two of one given name in one office
            total.add(weights.RENAMED if names.given > Level.INITIAL else weights.RENAMED_INITIAL, names.doubt)
        elif names.doubt:
            total.add(weights.OTHER_SCRIPT, names.doubt)
        if one.called_after or other.called_after:
            total.add(weights.GUESSED_NAME)
        self._orgs(one, other, point is not None, total)
        self._differing(one, other, point, names, total)
        return self._verdict(total, one, other, names, point)

    def _known_before(self, one: Form, other: Form) -> Comparison | None:
        """Where the family names differ, but an address of one tells the whole name of the other: that changed."""
        for form, its in ((one, other), (other, one)):
            for address in form.addresses:
                guessed = guessed_name(address.local)
                if guessed is not None and set(guessed.words) == set(its.name.words):
                    return compare_names(guessed, its.name, self.frequencies.count)._replace(doubt=RENAMED)
        return None

    def _point(self, one: Form, other: Form, names: Comparison, total: _Sum) -> _Point | None:
        """What the two share to be reached by, the strongest such; its odds, and those of a second, are added."""
        found: list[_Point] = []
        theirs = {a.base for a in other.addresses}
        for address in one.addresses:
            if address.base in theirs:
                crowd = max(self.frequencies.crowd(address.base), weights.ROLE_CROWD if address.role else 1)
                odds = weights.point_odds(weights.SAME_ADDRESS, crowd)
                found.append(_Point(odds, crowd, "address", f"same address {address.base}"))
        for phone in set(one.phones) & set(other.phones):
            crowd = self.frequencies.crowd(phone)
            odds = weights.point_odds(weights.SAME_PHONE, crowd)
            found.append(_Point(odds, crowd, "phone", f"same phone {phone}"))
        if not any(point.kind == "address" for point in found):
            found += self._near_points(one, other, names)
        if not found:
            return None
        first, *rest = sorted(found, key=lambda point: (-point.odds, point.words))
        total.score += first.odds
        total.reasons.append(first.words)
        for kind in sorted({point.kind for point in rest} - {first.kind}):
            total.add(weights.SECOND_POINT, min(point.words for point in rest if point.kind == kind))
        return first

    def _near_points(self, one: Form, other: Form, names: Comparison) -> list[_Point]:
        """Unusual local parts at two domains, and slips in a domain."""
        found = []
        for mine in one.addresses:
            for its in other.addresses:
                if mine.local != its.local or mine.role or len(mine.local) < 3:
                    continue
                others = self.frequencies.locals[mine.local] - 1
                words = " is like ".join(sorted((mine.base, its.base)))
                if self._slip_in_domain(mine, its):
                    found.append(_Point(weights.NEAR_ADDRESS, 1, "near", words))
                elif not _tells_name(mine.local, names) and len(mine.local) > 4 and others <= 3:
                    found.append(_Point(weights.point_odds(weights.RARE_LOCAL, others), max(others, 1), "near", words))
        return found

    def _slip_in_domain(self, one: AddressForm, other: AddressForm) -> bool:
        from rapidfuzz.distance import OSA

        few, many = sorted((self.frequencies.domains[one.domain], self.frequencies.domains[other.domain]))
        if few > 3 or (few > 1 and many < 3 * few):
            return False
        return OSA.distance(one.domain, other.domain, score_cutoff=2) <= min(2, len(one.domain) // 5)

    def _names_at_point(self, names: Comparison, crowd: int, total: _Sum) -> None:
        if names is NOTHING or not names.pairs:
            total.add(weights.IN_HOUSEHOLD[Level.NONE], "" if names.doubt else "nothing in the names contradicts it")
            return
        given = max((p for p in names.pairs if p.given), key=lambda p: p.level, default=None)
        family = max((p for p in names.pairs if not p.given), key=lambda p: p.level, default=None)
        total.score += weights.IN_HOUSEHOLD[given.level if given else Level.NONE]
        if family:
            shared = weights.FAMILY_IN_HOUSEHOLD
            if crowd > weights.OFFICE:
                shared = min(self._by_chance(family), weights.FAMILY_IN_OFFICE)
            total.score += shared if family.level > Level.INITIAL else weights.FAMILY_IN_HOUSEHOLD / 2
        total.reasons[:0] = _name_words(names)

    def _names_by_chance(self, names: Comparison, total: _Sum) -> None:
        for given in (True, False):
            rarest = sorted(self._by_chance(pair) for pair in names.pairs if pair.given is given)
            # The parts of a double name come together: the rarest says nearly all.
            total.score += sum(rarest[-1:]) + weights.FURTHER_GIVEN * len(rarest[1:]) * given
        if not names.complete:
            total.score += weights.INCOMPLETE
        total.reasons[:0] = _name_words(names)

    def _by_chance(self, pair: Pairing) -> float:
        if pair.level == Level.INITIAL:
            return weights.INITIAL
        rarer = min(self.frequencies.rarity(pair.one), self.frequencies.rarity(pair.other))
        return max(rarer - weights.LESS[pair.level], 0.5)

    def _orgs(self, one: Form, other: Form, at_point: bool, total: _Sum) -> None:
        if not one.org or not other.org or one.name.org or other.name.org:
            return
        if one.org == other.org:
            total.add(
                weights.SAME_ORG_AT_POINT if at_point else self.frequencies.org_rarity(one.org), "same organisation"
            )
        elif _near_orgs(one.org, other.org):
            total.add(weights.SAME_ORG_AT_POINT if at_point else weights.NEAR_ORG, "organisations of like names")
        else:
            total.add(weights.OTHER_ORG_AT_POINT if at_point else weights.OTHER_ORG, "other organisation")

    def _differing(self, one: Form, other: Form, point: _Point | None, names: Comparison, total: _Sum) -> None:
        """Addresses and phones that both have, and none in common."""
        bases = {a.base for a in one.addresses}, {a.base for a in other.addresses}
        differ = bases[0] and bases[1] and not bases[0] & bases[1]
        if differ and (point is None or point.kind != "near"):
            self._other_addresses(one, other, point is not None, names, total)
        if one.phones and other.phones and not set(one.phones) & set(other.phones):
            near = any(_near_phones(a, b) for a in one.phones for b in other.phones)
            if near:
                total.add(weights.NEAR_PHONE, "phones that differ by two digits changing places")
            else:
                total.add(weights.OTHER_PHONE, "other phone")

    def _other_addresses(self, one: Form, other: Form, at_point: bool, names: Comparison, total: _Sum) -> None:
        if not at_point and not (one.org and one.org == other.org) and self._two_places(one, other):
            total.add(weights.OTHER_ADDRESS + weights.OTHER_PLACE, "addresses at two organisations")
            return
        locals_ = {a.local for a in one.addresses} & {a.local for a in other.addresses}
        domains = {a.domain for a in one.addresses} & {a.domain for a in other.addresses}
        if any(_tells_name(local, names) for local in locals_):
            total.add(weights.LOCAL_OF_NAME, f"{min(locals_)}@ at both")
            return
        near = any(
            a.domain == b.domain and _near_locals(a.local, b.local) for a in one.addresses for b in other.addresses
        )
        if near:
            total.add(weights.NEAR_LOCAL, "addresses that differ by a letter")
            return
        own = [d for d in domains if self.frequencies.of_few(d)]
        if own and not at_point:
            total.add(weights.OTHER_ADDRESS + weights.OTHER_AT_ONE_DOMAIN, f"other address at {min(own)}")
        else:
            total.add(weights.OTHER_ADDRESS, "other address")

    def _two_places(self, one: Form, other: Form) -> bool:
        """Whether both have an address at an organisation, not the same, told by few having one there."""
        mine, theirs = (
            {a.domain for a in form.addresses if self.frequencies.of_few(a.domain)} for form in (one, other)
        )
        return bool(mine and theirs and not mine & theirs)

    def _verdict(self, total: _Sum, one: Form, other: Form, names: Comparison, point: _Point | None) -> Judgement:
        score = total.score
        may_be_certain = (
            point is not None
            and point.kind != "near"
            and not (names.doubt or one.called_after or other.called_after)
            and self._tells(one, other, names)
        )
        if not may_be_certain:
            score = min(score, weights.CERTAIN - 0.1)
        verdict = CERTAIN if score >= weights.CERTAIN else LIKELY if score >= weights.LIKELY else ""
        return Judgement(score, verdict, tuple(total.reasons), tuple(total.against))

    def _tells(self, one: Form, other: Form, names: Comparison) -> bool:
        """Whether the names say that it is one person: an initial may be the other half of a couple's, and Jack John's
        son where both are usual names. Without a name, an address that tells the other's does."""
        if not names.pairs:
            return any(
                self.frequencies.crowd(address.base) == 1 and _tells_given(address.local, form)
                for address in {*one.addresses} & {*other.addresses}
                for form in (one, other)
            )
        if one.name.org and other.name.org:
            return True
        # Who goes by a middle name may be somebody else of the household.
        begins = {p.one for p in names.pairs}, {p.other for p in names.pairs}
        if one.name.words[0] not in begins[0] or other.name.words[0] not in begins[1]:
            return False
        initials = [p for p in names.pairs if p.level == Level.INITIAL]
        ends = {one.name.words[0], one.name.words[-1], other.name.words[0], other.name.words[-1]}
        if any(p.one in ends or p.other in ends for p in initials):
            return False  # only a middle name may be an initial
        count = self.frequencies.count
        return any(
            p.given
            and p.level >= Level.SLIP
            and not (p.level == Level.LOOSE_FORM and count(p.one) >= USUAL <= count(p.other))
            for p in names.pairs
        )


def in_words(reasons: Iterable[str], against: Sequence[str]) -> str:
    """What speaks for it and what against, in one sentence."""
    return "; ".join(reasons) + (f"; but {'; '.join(against)}" if against else "")


def bits(score: float) -> float:
    """A score as people may read it: how many times over the odds double that it is one person."""
    return round(score / log(2), 1)


def _name_words(names: Comparison) -> list[str]:
    """What the names have in common, in words."""
    if all(p.level == Level.SAME for p in names.pairs) and not names.doubt:
        if names.complete:
            return ["same name, the other way round" if names.turned else "same name"]
        return [f"{' '.join(_cap(p.one) for p in names.pairs)} in both names"]
    said = []
    for pair in names.pairs:
        longer, shorter = sorted((_cap(pair.one), _cap(pair.other)), key=lambda w: (-len(w), w))
        if pair.level == Level.SAME:
            said.append(f"same {'given' if pair.given else 'family'} name")
        elif pair.level in (Level.FORM, Level.LOOSE_FORM):
            said.append(f"{shorter} is short for {longer}" if len(shorter) < len(longer) else f"{shorter} is {longer}")
        elif pair.level in (Level.SLIP, Level.NEAR):
            said.append(f"{_cap(pair.one)} and {_cap(pair.other)} differ by a letter")
        elif len(longer) > 1:
            said.append(f"{shorter}. may be {longer}")
        else:
            said.append(f"both {longer}.")
    return said


def _cap(word: str) -> str:
    return word[:1].upper() + word[1:]


def _tells_name(local: str, names: Comparison) -> bool:
    """Whether a local part is made of the name that both have: one of its words in it, or their initials."""
    if any(c.isdigit() for c in local):
        return False
    have = {w for p in names.pairs for w in (p.one, p.other)}
    words = words_of_local(local)
    initials = bool(words) and all(any(h.startswith(w) for h in have) for w in words)
    return initials or any(w in local for w in have if len(w) > 2)


def _tells_given(local: str, form: Form) -> bool:
    words = words_of_local(local)
    return any(len(w) > 2 and w in words for w in form.name.words[: form.name.given])


def _near_locals(one: str, other: str) -> bool:
    from rapidfuzz.distance import OSA

    digits = "".join(filter(str.isdigit, one)), "".join(filter(str.isdigit, other))
    return digits[0] == digits[1] and min(len(one), len(other)) >= 5 and OSA.distance(one, other, score_cutoff=1) <= 1


def _near_phones(one: str, other: str) -> bool:
    """Whether two numbers differ by two digits changing places. One digit changed is the next desk's number."""
    return len(one) == len(other) and one != other and sorted(one) == sorted(other) and _swapped(one, other)


def _swapped(one: str, other: str) -> bool:
    at = [n for n, (a, b) in enumerate(zip(one, other, strict=True)) if a != b]
    return len(at) == 2 and at[1] == at[0] + 1


def _near_orgs(one: str, other: str) -> bool:
    from rapidfuzz.distance import OSA

    mine, theirs = one.split(), other.split()
    shorter, longer = sorted((mine, theirs), key=len)
    if shorter == longer[: len(shorter)] and len(shorter[0]) > 3:
        return True
    if "".join(w[0] for w in longer) == "".join(shorter) and len(longer) > 1:
        return True
    return min(len(one), len(other)) >= 6 and OSA.distance(one, other, score_cutoff=2) <= 2
