"""What an address tells of its owner besides the name: the organisation by the domain, the year of birth by figures."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from barnacle.core.matching.closeness import digits
from barnacle.core.matching.forms import Form, birthdays
from barnacle.core.matching.own_evidence import Evidence
from barnacle.core.matching.slips import slips
from barnacle.core.matching.spelling import plain_spelling
from barnacle.core.matching.weights import Frequencies

# The figures at the end of a local part that may be a year: `anna.berg87`, `tom1987`.
_FIGURES = re.compile(r"[^0-9]([0-9]{2}|(?:19|20)[0-9]{2})$")
# The name of that evidence.
BIRTH_YEAR = "birth year in the other's address"
# So long a name of an organisation may have a slip or two in it.
_LONG = 8


def hints(one: Form, other: Form, at: str, frequencies: Frequencies) -> Iterator[Evidence]:
    """What an address of the one tells that the other's card says. `at` is how the names of evidence about
    organisations begin."""
    if bool(one.org) != bool(other.org):
        having, lacking = (one, other) if one.org else (other, one)
        if domain := _domain_of(having, lacking, frequencies):
            rarity = frequencies.org_rarity(having.org)
            yield Evidence(f"{at}: organisation by domain", f"{domain} is that of the other's organisation", rarity)
    if year := _year(one, other) or _year(other, one):
        yield Evidence(BIRTH_YEAR, f"{year} in the address of the other is the year of birth", 1.0)
    elif (both := _figures(one) & _figures(other)) and not _same_locals(one, other):
        yield Evidence("same figures in addresses", f"{min(both)} in both addresses", 1.0)


def _year(born: Form, other: Form) -> str:
    """The year of the one's birthday as an address of the other has it, if one does."""
    if not born.own:
        return ""
    years = [day[:4] for day in birthdays(born.own).values()]
    return next((found for found in sorted(_figures(other)) if any(year.endswith(found) for year in years)), "")


def _same_locals(one: Form, other: Form) -> bool:
    return not {a.local for a in one.addresses}.isdisjoint(a.local for a in other.addresses)


def _figures(form: Form) -> set[str]:
    return {
        found[1]
        for a in form.addresses
        if a.local[-1:].isdigit() and not a.role and (found := _FIGURES.search(a.local))
    }


def _domain_of(having: Form, lacking: Form, frequencies: Frequencies) -> str:
    """A domain of the one's that is that of the other's organisation, where the other has no address."""
    known = {a.domain for a in having.addresses}
    for address in lacking.addresses:
        domain = address.domain
        if domain not in known and (frequencies.org_at(domain) == having.org or tells_org(domain, having.org)):
            return domain
    return ""


@lru_cache(maxsize=20_000)
def tells_org(domain: str, org: str) -> bool:
    """Whether a domain is made of an organisation's name, or of the beginnings of its words."""
    words = org.split()
    if len(words) < 2:
        return False
    whole = "".join(words)
    for label in domain.split(".")[:-1]:
        said = "".join(plain_spelling(part) for part in label.split("-"))
        if not digits(whole):
            said = said.rstrip("0123456789")  # kelpyard24
        if len(whole) >= _LONG and digits(said) == digits(whole) and slips(said, whole, 2) <= 2:
            return True
        if len(words) > 2 and said == "".join(word[0] for word in words):
            return True
    return False
