"""Two contacts side by side: everything that speaks for and against their being one person, weighed."""

from __future__ import annotations

from math import log

from barnacle.core.matching.address_hints import BIRTH_YEAR, hints
from barnacle.core.matching.closeness import (
    near_orgs,
    near_phones,
    near_words,
    nothing_in_common,
    one_digit_apart,
    tells_name,
)
from barnacle.core.matching.forms import AddressForm, Form, guessed_name, joined_names, whole_names
from barnacle.core.matching.naming import NOTHING, RENAMED, SCRIPTS, Comparison, Pairing, compare_names
from barnacle.core.matching.own_evidence import own_evidence, proved, tell
from barnacle.core.matching.points import LIKE_AN_ADDRESS, MOST_CROWDED, WEIGHED_AS, Point, points
from barnacle.core.matching.short_forms import known_given_names
from barnacle.core.matching.spelling import USUAL, Level, compare_words, latin
from barnacle.core.matching.weights import CERTAIN_FROM, LIKELY_FROM, WEIGHTS, Frequencies
from barnacle.core.matching.wording import capital, said_of_names
from barnacle.core.phones import is_mobile
from barnacle.core.typed import NamedTuple

_OF_MANY = ("office", "local")
# How many answers about names, and about words, are kept.
_MOST_KEPT = 100_000
_SLIPPED = (Level.BEGINS, Level.FAR, Level.NEAR, Level.SLIP, Level.SOUND)

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


class _Sum:
    """Evidence as it comes together. `seen` is kept for whoever fits the weights."""

    __slots__ = ("against", "reasons", "score", "seen")

    def __init__(self) -> None:
        self.score = 0.0
        self.reasons: list[str] = []
        self.against: list[str] = []
        self.seen: list[tuple[str, float]] | None = None

    def add(self, evidence: str, words: str = "", times: float = 1.0) -> None:
        weight = WEIGHTS[evidence] * times
        self.score += weight
        if words:
            (self.reasons if weight >= 0 else self.against).append(words)
        if self.seen is not None:
            self.seen.append((evidence, times))


class Judge:
    """Judges pairs of one book, whose frequencies it is given."""

    def __init__(self, frequencies: Frequencies) -> None:
        self.frequencies = frequencies
        self._compared: dict[tuple[object, object], Comparison] = {}
        self._levels: dict[tuple[str, str, bool], Level] = {}

    def compare(self, one: Form, other: Form) -> Comparison:
        """What the names have in common; kept, since many pairs have the same names."""
        if not one.name.words or not other.name.words:
            return NOTHING
        key = (one.name, other.name)
        found = self._compared.get(key)
        if found is None:
            if len(self._compared) > _MOST_KEPT:
                self._compared.clear()
            book = self.frequencies
            found = compare_names(one.name, other.name, book.count, book.given_share, self._words)
            self._compared[key] = found
        return found

    def names(self, one: Form, other: Form) -> Comparison:
        """What the names have in common, in the light of the addresses."""
        names = self.compare(one, other)
        if names.contradiction:
            return self._misspelt(one, other) or self._misspelt(other, one) or names
        return names

    def _words(self, one: str, other: str, given: bool) -> Level:
        """How two words agree; kept, since many names have the same words."""
        key = (one, other, given)
        found = self._levels.get(key)
        if found is None:
            if len(self._levels) > _MOST_KEPT:
                self._levels.clear()
            found = self._levels[key] = compare_words(one, other, self.frequencies.count, given)
        return found

    def judge(self, one: Form, other: Form, seen: list[tuple[str, float]] | None = None) -> Judgement:
        """Weigh the evidence. The order of the two makes no difference but to the words. `seen`, where given, gets each
        piece of evidence by its name in weights.WEIGHTS, and how many times it counts."""
        names = self.names(one, other)
        told = names is NOTHING and (self._told(one, other) or self._told(other, one))
        if told:
            names = told
        if names.contradiction and not (one.called_after or other.called_after):
            return Judgement(-99.0, "", (), (names.contradiction,), True)
        if names.contradiction:
            names = NOTHING  # a name read from an address is no proof
        renamed = names.doubt == RENAMED
        known_before = self._known_before(one, other, names) if renamed else None
        if known_before is not None:
            names = known_before
        total = _Sum()
        total.seen = seen
        own = list(own_evidence(one, other, self.frequencies)) if one.own and other.own else []
        point = self._point(one, other, names, total)
        if point is None:
            if not names.pairs or (renamed and known_before is None and not tell(own)):
                return Judgement(-99.0, "", (), ())
            self._names_by_chance(names, total)
        else:
            if renamed and known_before is None and point.kind in ("office", "switchboard"):
                return Judgement(-99.0, "", (), ())  # two of one given name in one office
            self._names_at_point(names, point, total)
        if renamed:
            how = "initial" if names.given <= Level.INITIAL else point.kind if point else "own fields"
            total.add(f"renamed: {'known before' if known_before else how}")
            total.against.append(names.doubt)
        elif names.doubt:
            total.add("other script", names.doubt)
        if told or one.called_after or other.called_after:
            total.add("guessed name")
        at = "at point" if point else "by chance"
        self._orgs(one, other, at, total)
        self._differing(one, other, point, at, names, total)
        self._spelt_in_address(one, other, names, total)
        told_besides = [*hints(one, other, at, self.frequencies)]
        for evidence, words, times in (*own, *told_besides):
            total.add(evidence, words, times)
        if point is None:
            certain = not told and proved(one, other, names, self.frequencies)
        else:
            certain = self._may_be_certain(
                one, other, NOTHING if told else names, point, known_before is not None, not total.against,
                any(hint.name == BIRTH_YEAR for hint in told_besides),
            )  # fmt: skip
        score = total.score if certain else min(total.score, CERTAIN_FROM - 0.1)
        verdict = CERTAIN if score >= CERTAIN_FROM else LIKELY if score >= LIKELY_FROM else ""
        return Judgement(score, verdict, tuple(total.reasons), tuple(total.against))

    def _told(self, one: Form, other: Form) -> Comparison | None:
        """What the names have in common where one contact has none, but an address that is made of the other's."""
        if one.name.words or not joined_names(other.name) & {a.letters for a in one.addresses if not a.role}:
            return None
        return compare_names(other.name, other.name, self.frequencies.count)

    def _misspelt(self, one: Form, other: Form) -> Comparison | None:
        """What the names have in common where both have the address that tells the name of one, and the given name of
        the other is nearly that: Janet and Jane at janet.holt; or where fields of their own tell, and one given name is
        none that is usual: Jemmah and Jemma."""
        both = {*one.addresses}.intersection(other.addresses)
        own = one.own and other.own
        if not (both or own) or min(len(one.name.words), len(other.name.words)) < 2:
            return None
        if one.name.generation != other.name.generation:
            return None
        given, family = one.name.words[0], one.name.words[-1]
        whole = whole_names(one.name) if both else ()
        if not any(address.letters in whole for address in both):
            known = known_given_names()
            if given in known or not own or not tell([*own_evidence(one, other, self.frequencies)]):
                return None
        for its in (other.name.words, other.name.words[::-1]):
            level = self._words(family, its[-1], False)
            if level >= Level.SLIP and near_words(latin(given), latin(its[0])):
                pairs = Pairing(given, its[0], Level.FAR, True), Pairing(family, its[-1], level, False)
                return Comparison(pairs, complete=True)
        return None

    def _known_before(self, one: Form, other: Form, names: Comparison) -> Comparison | None:
        """Where the family names differ, but an address of one tells the name of the other: that changed."""
        for form, its in ((one, other), (other, one)):
            given = its.name.words[0]
            if not any(given in pair[:2] for pair in names.pairs):
                continue  # what they have in common is no given name of this one
            family = latin(its.name.words[-1])
            for address in form.addresses:
                if family not in address.letters or not address.letters.startswith(latin(given)[0]):
                    continue  # who writes farid.kami may be one of the Kamis
                guessed = guessed_name(address.local)
                if guessed is not None and set(guessed.words) == set(its.name.words):
                    return compare_names(guessed, its.name, self.frequencies.count)._replace(doubt=RENAMED)
                if address.letters in joined_names(its.name):
                    return compare_names(its.name, its.name, self.frequencies.count)._replace(doubt=RENAMED)
        return None

    def _of_another(self, point: Point, names: Comparison) -> bool:
        """Whether the address tells a given name that is neither of these two: it is a household's."""
        guessed = guessed_name(point.at.partition("@")[0])
        if guessed is None or not names.pairs:
            return False
        ours = {word for pair in names.pairs for word in pair[:2]}
        rest = [w for w in guessed.words if not any(self._words(w, o, True) for o in ours if len(o) > 1)]
        return len(rest) == 1 < len(guessed.words) and len(rest[0]) > 1 and any(p.given for p in names.pairs)

    def _point(self, one: Form, other: Form, names: Comparison, total: _Sum) -> Point | None:
        """What the two share to be reached by, the strongest such; its odds, and those of a second, are added."""
        found = points(one, other, names, self.frequencies)
        if not found:
            return None
        first, *rest = sorted(found, key=lambda point: (-point.odds, point.words))
        total.add(f"same {WEIGHED_AS.get(first.kind, first.kind)}")
        if first.kind in WEIGHED_AS:
            total.add(f"only {first.kind}")
        total.reasons.append(first.words)
        total.add(f"{first.kind}: crowd", times=min(log(first.crowd), MOST_CROWDED))
        if first.kind == "address" and self._of_another(first, names):
            total.add("address of another", f"{first.at} may be somebody else's of the household")
        for kind in sorted({point.kind for point in rest} - {first.kind}):
            total.add(f"also same {kind}", min(point.words for point in rest if point.kind == kind))
        return first

    def _names_at_point(self, names: Comparison, point: Point, total: _Sum) -> None:
        kind = WEIGHED_AS.get(point.kind, point.kind)
        if names is NOTHING or not names.pairs:
            total.add(f"{kind}: no name")
            total.reasons += [] if names.doubt else ["nothing in the names contradicts it"]
            return
        for given in (True, False):
            its = [p for p in names.pairs if p.given is given]
            best = max(its, key=lambda p: p.level, default=None)
            level = best.level if best else Level.NONE
            total.add(f"{kind}: {'given' if given else 'family'} {level.name.lower()}")
            if best and level > Level.INITIAL and kind in _OF_MANY:
                # In a household most have the family name, in an office it is as rare as in the book.
                total.add(f"{kind}: rare {'given' if given else 'family'}", times=self._by_chance(best))
        if not names.complete:
            total.add(f"at point: {_left_over(names)}")
        total.reasons[:0] = said_of_names(names)

    def _names_by_chance(self, names: Comparison, total: _Sum) -> None:
        total.score += self.frequencies.prior
        total.add("by chance")
        for given in (True, False):
            its = [pair for pair in names.pairs if pair.given is given]
            if not its:
                total.add(f"by chance: no {'given' if given else 'family'}")
                continue
            # The parts of a double name come together: the rarest says nearly all.
            rarest = max(its, key=self._by_chance) if len(its) > 1 else its[0]
            which = "given" if given else "family"
            if rarest.level > Level.INITIAL:
                total.add(f"by chance: rare {which}", times=self._by_chance(rarest))
            total.add(f"by chance: {which} {rarest.level.name.lower()}")
            if given and len(its) > 1:
                total.add("by chance: further given", times=len(its) - 1)
        if not names.complete:
            total.add(f"by chance: {_left_over(names)}")
        total.reasons[:0] = said_of_names(names)

    def _by_chance(self, pair: Pairing) -> float:
        return min(self.frequencies.rarity(pair.one), self.frequencies.rarity(pair.other))

    def _orgs(self, one: Form, other: Form, at: str, total: _Sum) -> None:
        if not one.org or not other.org or one.name.org or other.name.org:
            return
        if one.org == other.org:
            total.add(f"{at}: same organisation", "same organisation", self.frequencies.org_rarity(one.org))
        elif near_orgs(one.org, other.org):
            rarer = min(self.frequencies.org_rarity(one.org), self.frequencies.org_rarity(other.org))
            total.add(f"{at}: near organisation", "organisations of like names", rarer)
        else:
            total.add(f"{at}: other organisation", "other organisation")

    def _differing(self, one: Form, other: Form, point: Point | None, at: str, names: Comparison, total: _Sum) -> None:
        """Addresses and phones that both have, and none in common."""
        bases = {a.base for a in one.addresses}, {a.base for a in other.addresses}
        alike = point is not None and point.kind in (*LIKE_AN_ADDRESS, "local")
        if bases[0] and bases[1] and not alike and bases[0].isdisjoint(bases[1]):
            self._other_addresses(one, other, at, names, total)
        if one.phones and other.phones and set(one.phones).isdisjoint(other.phones):
            if any(near_phones(a, b) for a in one.phones for b in other.phones):
                total.add(f"{at}: near phone", "phones that differ by two digits changing places")
            elif any(one_digit_apart(a, b) for a in one.phones for b in other.phones):
                total.add(f"{at}: phone but for a digit", "phones that differ by a digit")
            else:
                total.add(f"{at}: other phone", "other phone")

    def _other_addresses(self, one: Form, other: Form, at: str, names: Comparison, total: _Sum) -> None:
        if at == "by chance" and not (one.org and one.org == other.org) and self._two_places(one, other):
            total.add("addresses at two organisations", "addresses at two organisations")
            return
        locals_ = {a.local for a in one.addresses} & {a.local for a in other.addresses}
        if any(tells_name(local, names) for local in locals_):
            total.add(f"{at}: same local part", f"{min(locals_)}@ at both")
            return
        domains = {a.domain for a in one.addresses} & {a.domain for a in other.addresses}
        own = [d for d in domains if self.frequencies.of_few(d)]
        if own:
            total.add(f"{at}: other address at one organisation", f"other address at {min(own)}")
        else:
            total.add(f"{at}: other address", "other address")

    def _two_places(self, one: Form, other: Form) -> bool:
        """Whether both have an address at an organisation, not the same, told by few having one there."""
        mine, theirs = (
            {a.domain for a in form.addresses if self.frequencies.of_few(a.domain)} for form in (one, other)
        )
        return bool(mine and theirs and not mine & theirs)

    def _spelt_in_address(self, one: Form, other: Form, names: Comparison, total: _Sum) -> None:
        """Where the names differ by a slip, whether an address of the one has the spelling of the other."""
        for pair in names.pairs:
            if pair.level in _SLIPPED:
                for form, word in ((one, latin(pair.other)), (other, latin(pair.one))):
                    if len(word) > 3 and any(word in a.local for a in form.addresses):
                        total.add("its spelling in the other's address", f"{capital(word)} in the address of the other")
                        return

    def _may_be_certain(
        self,
        one: Form,
        other: Form,
        names: Comparison,
        point: Point,
        known_before: bool,
        undisputed: bool,
        of_an_age: bool,
    ) -> bool:
        """Whether there is no usual way in which it is two people after all: only what both are reached by is proof,
        and only with names that tell. `undisputed` where nothing speaks against it, `of_an_age` where they were born in
        one year."""
        if names.doubt == SCRIPTS:
            return False
        if point.kind in (*LIKE_AN_ADDRESS, "local"):
            return False  # one of the two addresses is wrong: somebody has to say which
        if point.kind in ("office", "switchboard") and not (one.name.org and other.name.org):
            return False  # of two with one name in an office nobody can tell
        household = point.kind == "phone" and nothing_in_common(one, other) and not _is_own(point.at, one, other)
        if household and not of_an_age:
            return False  # a household's phone, and each has a mailbox: father and son may have one name
        if names.doubt and not (known_before and point.kind == "address" and point.crowd == 1):
            return False
        if one.called_after or other.called_after or not names.pairs:
            return self._name_in_address(one, other)
        return self._tells(one, other, names, undisputed)

    def _tells(self, one: Form, other: Form, names: Comparison, undisputed: bool) -> bool:
        """Whether the names say that it is one person: an initial may be the other half of a couple's unless the
        address spells it out, and Jack John's son where both are usual names."""
        if one.name.org and other.name.org:
            return True
        # Who goes by a middle name may be somebody else of the household.
        if one.name.begins.isdisjoint(p.one for p in names.pairs) or other.name.begins.isdisjoint(
            p.other for p in names.pairs
        ):
            return False
        initials = [p for p in names.pairs if p.level == Level.INITIAL]
        ends = {one.name.words[0], one.name.words[-1], other.name.words[0], other.name.words[-1]}
        initials = [p for p in initials if p.one in ends or p.other in ends]
        count = self.frequencies.count
        sure = [
            p
            for p in names.pairs
            if p.level >= Level.SLIP and not (p.level == Level.LOOSE_FORM and count(p.one) >= USUAL <= count(p.other))
        ]
        if initials:  # couples share addresses
            return undisputed and bool(sure) and all(self._spelt_out(p, one, other) for p in initials)
        return any(p.given for p in sure)

    def _spelt_out(self, initial: Pairing, one: Form, other: Form) -> bool:
        """Whether an initial is that of the given name which the address tells in full."""
        return initial.given and initial.one[0] == initial.other[0] and self._name_in_address(one, other)

    def _name_in_address(self, one: Form, other: Form) -> bool:
        """Whether an address that both have, and nobody else, is made of the whole name of one of them."""
        names = [form.name for form in (one, other) if not form.called_after]
        return any(address.letters in whole_names(name) for address in self._shared(one, other) for name in names)

    def _shared(self, one: Form, other: Form) -> list[AddressForm]:
        """The addresses that both have, and nobody of another name."""
        both = {*one.addresses} & {*other.addresses}
        return [address for address in both if self.frequencies.crowd(address.base) == 1]


def _is_own(phone: str, one: Form, other: Form) -> bool:
    """Whether a phone is a mobile one, as one of the two says, or as the number tells."""
    return phone in one.mobiles or phone in other.mobiles or is_mobile(phone)


def _left_over(names: Comparison) -> str:
    return "part of family" if names.part else "goes by another" if names.aside else "incomplete"
