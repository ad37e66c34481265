"""What each piece of evidence weighs, and how often things agree by chance in this book.

A weight is the natural logarithm of how much likelier the evidence is among two contacts of one person than among two
people (Fellegi and Sunter, "A Theory for Record Linkage", 1969). Where two share an address or a phone, the others who
could share it are a household or an office, not the whole book: so such a contact point sets the odds by itself, and
names count by what happens in a household. Everywhere else chance is this book's: its names, organisations, local
parts. docs/matching.md says where each number comes from.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from math import log

from barnacle.core.matching.forms import Form
from barnacle.core.matching.naming import Level, plain_spelling

# From here on two contacts are merged without asking (odds of a thousand to one), and asked about (nearly three to
# one).
CERTAIN = 6.9
LIKELY = 1.0

# Odds before names are looked at, of two who share …
SAME_ADDRESS = 5.0  # … a person's own address: nearly always one person typed in twice
SAME_PHONE = 1.0  # … a phone: households share one more often
NEAR_ADDRESS = 4.0  # … an address but for a slip in a rare domain
RARE_LOCAL = 0.0  # … an unusual local part at another domain
# Each of n people of other names at that point lowers the odds by a factor of n; a task's address counts as so many.
ROLE_CROWD = 8
# What a second contact point in common adds: households share both.
SECOND_POINT = 2.0

# Names of two who share a contact point.
IN_HOUSEHOLD = {
    Level.SAME: 4.5,  # one in ninety: a child named after a parent
    Level.FORM: 3.5,
    Level.LOOSE_FORM: 2.5,
    Level.SLIP: 3.0,
    Level.NEAR: 2.0,
    Level.INITIAL: 2.0,  # one in eight given names begins with a given letter
    Level.NONE: 2.0,  # one has no given name: nothing contradicts
}
FAMILY_IN_HOUSEHOLD = 1.5  # most of a household has it anyway
FAMILY_IN_OFFICE = 4.0
OFFICE = 4  # where more people than that share a point, it is no household

# What a level other than SAME takes from the weight of the name in this book.
LESS = {Level.SAME: 0.0, Level.FORM: 1.0, Level.LOOSE_FORM: 1.5, Level.SLIP: 2.0, Level.NEAR: 3.0}
INITIAL = 2.0
FURTHER_GIVEN = 1.0  # each given name in common beyond the rarest
RENAMED = -4.0
RENAMED_INITIAL = -6.0
RENAMED_AS_ADDRESS = -2.5  # an address still tells the other name
INCOMPLETE = -0.5  # words left over in one of the names
OTHER_SCRIPT = -1.0
GUESSED_NAME = -1.0  # read from an address

# Addresses and phones that differ though both have some; organisations.
OTHER_ADDRESS = -1.0
OTHER_AT_ONE_DOMAIN = -1.5  # an organisation gives a person one address
OTHER_PLACE = -1.5  # addresses at two organisations
OTHER_PHONE = -0.7
NEAR_PHONE = 1.5
OTHER_ORG = -1.5
OTHER_ORG_AT_POINT = -0.7
SAME_ORG_MOST = 6.5
SAME_ORG_AT_POINT = 0.5
NEAR_ORG = 1.5
LOCAL_OF_NAME = 0.7  # bo.lund@ twice: little more than the name again
NEAR_LOCAL = 2.0

# Shipped frequencies, for small books: what a word not seen before counts, and how many contacts they weigh as much as.
_SHIPPED = 1000
_SEEN_BEFORE = 1.5
# The share of contacts that are in a book twice, before anything is known of the book.
_TWICE = 0.02
# A book that is smaller counts as this large: in ten contacts one name twice is not yet nearly certain.
_SMALL = 200


def point_odds(base: float, crowd: int) -> float:
    """The odds of two who share a contact point that `crowd` people of other names share."""
    return base - log(max(crowd, 1))


class Frequencies:
    """How often each comparable thing occurs in a book."""

    def __init__(self, forms: Iterable[Form]) -> None:
        self.total = 0
        self.words: Counter[str] = Counter()
        self.orgs: Counter[str] = Counter()
        self.locals: Counter[str] = Counter()
        self.domains: Counter[str] = Counter()
        first_names: dict[str, str | set[str]] = {}
        for one in forms:
            self.total += 1
            self.words.update({plain_spelling(w) for w in one.name.words})
            if one.org:
                self.orgs[one.org] += 1
            self.locals.update({a.local for a in one.addresses})
            self.domains.update({a.domain for a in one.addresses})
            first = next((plain_spelling(w) for w in one.name.words if len(w) > 1), "")
            for point in (*(a.base for a in one.addresses), *one.phones):
                known = first_names.setdefault(point, first)
                if known is not first and known != first:
                    if isinstance(known, set):
                        known.add(first)
                    else:
                        first_names[point] = {known, first}
        self._crowds = {p: len(names - {""}) for p, names in first_names.items() if isinstance(names, set)}

    def crowd(self, point: str) -> int:
        """How many people, told by their first names, have that address or phone."""
        return max(self._crowds.get(point, 1), 1)

    @property
    def prior(self) -> float:
        """The odds that two contacts taken at random are one person."""
        return log(2 * _TWICE / max(self.total, _SMALL))

    def rarity(self, word: str) -> float:
        """What it weighs that two have this word in their names."""
        return self._weight(self.words[plain_spelling(word)])

    def org_rarity(self, org: str) -> float:
        """What it weighs that two are at this organisation."""
        return min(self._weight(self.orgs[org]), SAME_ORG_MOST)

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
