"""What each piece of evidence weighs, and how often things agree by chance in this book.

A weight is the natural logarithm of how much likelier the evidence is among two contacts of one person than among two
people (Fellegi and Sunter, "A Theory for Record Linkage", 1969). Where two share an address or a phone, the others who
could share it are a household or an office, not the whole book: so such a contact point sets the odds by itself, and
names count by what happens in a household. Everywhere else chance is this book's: its names, organisations, local
parts. The numbers were fitted by benchmarks/fit_weights.py; docs/matching.md says to what.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from math import log

from barnacle.core.matching.forms import Form
from barnacle.core.matching.name_forms import NameForm
from barnacle.core.matching.naming import compare_names
from barnacle.core.matching.spelling import plain_spelling

# From here on two contacts are merged without asking, if what they share may be certain at all (measured: one in a
# thousand is wrong where anybody could tell), and asked about: evens.
CERTAIN_FROM = 4.0
LIKELY_FROM = 0.0
OFFICE = 4  # where more people than that share a point, it is no household

WEIGHTS: dict[str, float] = {
    "same address": 1.27,
    "address: crowd": -1.21,
    "address: no name": 0.42,
    "address: given same": 4.56,
    "address: given form": 3.51,
    "address: given loose_form": 0.14,
    "address: given sound": 3.65,
    "address: given slip": 3.94,
    "address: given near": 3.47,
    "address: given far": -0.16,
    "address: given begins": 0.38,
    "address: given initial": 2.92,
    "address: given none": 2.0,
    "address: family same": 0.61,
    "address: family form": 1.55,
    "address: family loose_form": 1.5,
    "address: family sound": -0.09,
    "address: family slip": 0.62,
    "address: family near": 1.82,
    "address: family far": 0.2,
    "address: family begins": 1.61,
    "address: family initial": -1.34,
    "address: family none": 4.2,
    "also same address": 2.0,
    "renamed: address": -3.8,
    "same office": 0.37,
    "office: crowd": -1.0,
    "office: no name": -0.74,
    "office: given same": 4.54,
    "office: given form": 3.5,
    "office: given loose_form": 2.5,
    "office: given sound": 3.0,
    "office: given slip": 3.0,
    "office: given near": 2.0,
    "office: given far": 1.5,
    "office: given begins": 2.5,
    "office: given initial": 2.06,
    "office: given none": 2.0,
    "office: family same": 1.57,
    "office: family form": 1.5,
    "office: family loose_form": 1.5,
    "office: family sound": 0.0,
    "office: family slip": 0.0,
    "office: family near": -1.0,
    "office: family far": -2.0,
    "office: family begins": 1.5,
    "office: family initial": 0.75,
    "office: family none": 0.03,
    "office: rare given": 0.34,
    "office: rare family": 1.06,
    "also same office": 2.43,
    "only phone": 0.0,
    "phone: crowd": -2.75,
    "also same phone": 1.33,
    "renamed: phone": -5.42,
    "only switchboard": -1.34,
    "switchboard: crowd": -1.59,
    "also same switchboard": 2.46,
    "only near": 0.0,
    "near: crowd": -1.0,
    "also same near": 2.0,
    "renamed: near": -2.49,
    "same local": 0.3,
    "local: crowd": 0.0,
    "local: no name": 0.32,
    "local: given same": 2.91,
    "local: given form": 3.55,
    "local: given loose_form": 2.5,
    "local: given sound": 3.53,
    "local: given slip": 4.36,
    "local: given near": 2.01,
    "local: given far": 1.79,
    "local: given begins": 2.5,
    "local: given initial": 3.34,
    "local: given none": 2.0,
    "local: family same": 0.64,
    "local: family form": 1.5,
    "local: family loose_form": 1.5,
    "local: family sound": 1.64,
    "local: family slip": 1.78,
    "local: family near": 1.51,
    "local: family far": 1.5,
    "local: family begins": 1.53,
    "local: family initial": 0.75,
    "local: family none": 2.39,
    "local: rare given": 0.0,
    "local: rare family": 0.0,
    "also same local": 1.5,
    "renamed: local": -1.95,
    "only slip": -0.23,
    "slip: crowd": -1.0,
    "also same slip": 2.97,
    "renamed: slip": -3.0,
    "only slip in name": -1.51,
    "slip in name: crowd": -1.0,
    "also same slip in name": 4.47,
    "renamed: slip in name": -3.2,
    "renamed: known before": 0.0,
    "renamed: own fields": -3.8,
    "renamed: initial": -4.5,
    "address of another": -0.34,
    "other script": -1.0,
    "guessed name": -0.43,
    "at point: part of family": -0.52,
    "by chance: part of family": -0.26,
    "at point: incomplete": -3.62,
    "at point: goes by another": -6.54,
    "by chance: goes by another": -3.03,
    "by chance": 4.38,
    "by chance: incomplete": -0.4,
    "by chance: further given": 0.51,
    "by chance: no given": -0.04,
    "by chance: rare given": 0.45,
    "by chance: given same": 0.08,
    "by chance: given form": -0.38,
    "by chance: given loose_form": -4.03,
    "by chance: given sound": -1.04,
    "by chance: given slip": -0.69,
    "by chance: given near": -0.77,
    "by chance: given far": -2.35,
    "by chance: given begins": -3.32,
    "by chance: given initial": 2.41,
    "by chance: no family": 3.75,
    "by chance: rare family": 0.84,
    "by chance: family same": -0.62,
    "by chance: family form": -2.18,
    "by chance: family loose_form": -1.55,
    "by chance: family sound": -1.86,
    "by chance: family slip": -1.83,
    "by chance: family near": -3.52,
    "by chance: family far": -3.34,
    "by chance: family begins": -2.67,
    "by chance: family initial": 3.69,
    "at point: same organisation": 0.15,
    "at point: near organisation": 0.27,
    "at point: other organisation": -0.99,
    "at point: near phone": 1.76,
    "at point: phone but for a digit": -0.35,
    "at point: other phone": -0.83,
    "at point: same local part": 2.36,
    "at point: other address": -1.55,
    "by chance: same organisation": 1.27,
    "by chance: near organisation": 0.92,
    "by chance: other organisation": -4.04,
    "at point: organisation by domain": 0.1,
    "by chance: organisation by domain": 1.0,
    "birth year in the other's address": 3.0,
    "same figures in addresses": 2.0,
    "by chance: near phone": 3.19,
    "by chance: phone but for a digit": 1.51,
    "by chance: other phone": -1.09,
    "by chance: same local part": 0.0,
    "by chance: other address": -2.45,
    "addresses at two organisations": -4.69,
    "at point: other address at one organisation": -4.19,
    "by chance: other address at one organisation": -6.21,
    "its spelling in the other's address": 1.96,
    "same field": 1.14,
    "near field": 0.6,
    "near birthday": 1.5,
    "other birthday": -5.42,
    "other field": -1.0,
}

# What the same organisation, and the same value in a field of one's own, weigh at most before their weight.
_ORG_AT_MOST = 6.5
_OWN_AT_MOST = 8.0
# Shipped frequencies, for small books: what a word not seen before counts, and how many contacts they weigh as much as.
_SHIPPED = 1000
_SEEN_BEFORE = 1.5
# With people of so many organisations a domain is none of theirs.
_MOST_ORGS = 8
# Where more names than that share a point, each counts as somebody.
_MOST_NAMES = 25
# How many must have a word in their names before where it stands there says what it is.
_TELLING = 4
# The share of contacts that are in a book twice, before anything is known of the book.
_TWICE = 0.02
# A book that is smaller counts as this large: in ten contacts one name twice is not yet nearly certain.
_SMALL = 200


class Frequencies:
    """How often each comparable thing occurs in a book."""

    def __init__(self, forms: Iterable[Form]) -> None:
        self.total = 0
        words: list[str] = []
        givens: list[str] = []
        orgs: list[str] = []
        locals_: list[str] = []
        domains: list[str] = []
        own: list[tuple[str, str]] = []
        names_at: dict[str, NameForm | set[NameForm]] = {}
        orgs_at: dict[str, dict[str, int]] = {}
        for one in forms:
            self.total += 1
            spelt = [plain_spelling(w) for w in one.name.words]
            words += {*spelt}
            givens += spelt[: one.name.given]
            if one.org:
                orgs.append(one.org)
                for address in one.addresses:
                    at = orgs_at.setdefault(address.domain, {})
                    if one.org in at or len(at) < _MOST_ORGS:
                        at[one.org] = at.get(one.org, 0) + 1
            locals_ += {a.local for a in one.addresses}
            domains += {a.domain for a in one.addresses}
            own += one.own
            if not one.name.words:
                continue
            for point in [*[a.base for a in one.addresses], *one.phones]:
                known = names_at.setdefault(point, one.name)
                if known is not one.name and known != one.name:
                    if isinstance(known, set):
                        known.add(one.name)
                    else:
                        names_at[point] = {known, one.name}
        self.words, self.givens, self.orgs = Counter(words), Counter(givens), Counter(orgs)
        self.locals, self.domains = Counter(locals_), Counter(domains)
        self.own, self.titles = Counter(own), Counter(title for title, _ in own)
        self._values = Counter(title for title, _ in self.own)
        self._names_at = {p: names for p, names in names_at.items() if isinstance(names, set)}
        self._crowds: dict[str, int] = {}
        self._rarities: dict[str, float] = {}
        self._orgs_at = orgs_at

    def crowd(self, point: str) -> int:
        """How many people, told by names that cannot be one person's, have that address or phone."""
        names = self._names_at.get(point)
        if names is None:
            return 1
        found = self._crowds.get(point)
        if found is None:
            found = self._crowds[point] = self._people(names)
        return found

    def _people(self, names: set[NameForm]) -> int:
        if len(names) > _MOST_NAMES:
            return len(names)
        people: list[NameForm] = []
        for name in sorted(names, key=lambda name: (-len(name.words), name)):
            if all(compare_names(name, one, self.count, self.given_share).contradiction for one in people):
                people.append(name)
        return len(people)

    @property
    def prior(self) -> float:
        """The odds that two contacts taken at random are one person."""
        return log(2 * _TWICE / max(self.total, _SMALL))

    def rarity(self, word: str) -> float:
        """What it weighs that two have this word in their names."""
        found = self._rarities.get(word)
        if found is None:
            found = self._rarities[word] = self._weight(self.words[plain_spelling(word)])
        return found

    def org_rarity(self, org: str) -> float:
        """What it weighs that two are at this organisation."""
        return min(self._weight(self.orgs[org]), _ORG_AT_MOST)

    def org_at(self, domain: str) -> str:
        """The organisation of most of those who have an address there; nothing where there is none."""
        orgs = self._orgs_at.get(domain, {})
        if not orgs or len(orgs) >= _MOST_ORGS:
            return ""
        org = max(orgs, key=lambda one: (orgs[one], one))
        # At a mail provider's most do not say where they work.
        return org if orgs[org] > 2 and 2 * orgs[org] > self.domains[domain] else ""

    def own_rarity(self, title: str, value: str) -> float:
        """What it weighs that two have this value in a field of their own."""
        return min(self._weight(self.own[title, value]), _OWN_AT_MOST)

    def tells(self, title: str) -> bool:
        """Whether most who have that field have it to themselves, as with a member number or a street."""
        return self._values[title] > 0.5 * self.titles[title] and self.titles[title] > 20

    def _weight(self, count: int) -> float:
        # One of those counted is the contact itself.
        return -log((max(count - 1, 0) + _SEEN_BEFORE) / (self.total + _SHIPPED))

    def of_few(self, domain: str) -> bool:
        """Whether so few have an address there that it is an organisation's rather than a mail provider's; a small
        book does not tell."""
        return self.total >= _SMALL and self.domains[domain] < max(8, self.total // 50)

    def count(self, word: str) -> int:
        """How many have this word in their names."""
        return self.words[plain_spelling(word)]

    def given_share(self, word: str) -> float | None:
        """In what share of the names that have this word it stands where given names do; None where few have it."""
        count = self.count(word)
        return self.givens[plain_spelling(word)] / count if count >= _TELLING else None
