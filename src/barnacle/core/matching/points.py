"""What two contacts are both reached by: addresses, phones, and addresses but for a slip."""

from __future__ import annotations

from math import log

from barnacle.core.matching.closeness import digits, near_locals, tells_name
from barnacle.core.matching.forms import AddressForm, Form
from barnacle.core.matching.naming import Comparison
from barnacle.core.matching.slips import slips
from barnacle.core.matching.weights import OFFICE, WEIGHTS, Frequencies
from barnacle.core.typed import NamedTuple

# Addresses but for a slip; and what each kind of point is weighed as, with what it is less for not being quite that.
LIKE_AN_ADDRESS = ("near", "slip", "slip in name")
WEIGHED_AS = {**dict.fromkeys((*LIKE_AN_ADDRESS, "phone"), "address"), "switchboard": "office"}
# Of more than some fifty people it makes no difference how many they are.
MOST_CROWDED = 4.0


class Point(NamedTuple):
    """Something through which both are reached, how strongly it speaks, and how many people share it. `kind` is address
    (a person's own), office (one of a task, or of many), phone, switchboard, near (an address but for a slip), or local
    (an unusual local part at two domains)."""

    odds: float
    crowd: int
    kind: str
    words: str
    at: str = ""


def points(one: Form, other: Form, names: Comparison, frequencies: Frequencies) -> list[Point]:
    """All that both are reached by; what is only like it, where they have no person's address in common."""
    found: list[Point] = []
    theirs = {a.base for a in other.addresses}
    for address in one.addresses:
        if address.base in theirs:
            crowd = frequencies.crowd(address.base)
            kind = "office" if address.role or crowd > OFFICE else "address"
            found.append(_pointed(kind, crowd, f"same address {address.base}")._replace(at=address.base))
    for phone in set(one.phones) & set(other.phones):
        crowd = frequencies.crowd(phone)
        kind = "switchboard" if crowd > OFFICE else "phone"
        found.append(_pointed(kind, crowd, f"same phone {phone}")._replace(at=phone))
    if not any(point.kind == "address" for point in found):
        found += _near_points(one, other, names, frequencies)
    return found


def _pointed(kind: str, crowd: int, words: str) -> Point:
    odds = WEIGHTS[f"same {WEIGHED_AS.get(kind, kind)}"] + WEIGHTS.get(f"only {kind}", 0.0)
    return Point(odds + WEIGHTS[f"{kind}: crowd"] * min(log(crowd), MOST_CROWDED), crowd, kind, words)


def _near_points(one: Form, other: Form, names: Comparison, frequencies: Frequencies) -> list[Point]:
    """Unusual local parts at two domains, and slips in a local part or a domain."""
    found = []
    for mine in one.addresses:
        for its in other.addresses:
            if mine.role or its.role or min(len(mine.local), len(its.local)) < 3:
                continue
            if mine.local != its.local:
                if mine.domain == its.domain and near_locals(mine.local, its.local):
                    kind = "slip in name" if tells_name(mine.local, names) else "slip"
                    found.append(_pointed(kind, 1, " is like ".join(sorted((mine.base, its.base)))))
                continue
            others = frequencies.locals[mine.local] - 1
            words = " is like ".join(sorted((mine.base, its.base)))
            if _slip_in_domain(mine, its, frequencies):
                found.append(_pointed("near", 1, words))
            elif not tells_name(mine.local, names) and len(mine.local) > 4 and others <= 3:
                found.append(_pointed("local", max(others, 1), words))
    return found


def _slip_in_domain(one: AddressForm, other: AddressForm, frequencies: Frequencies) -> bool:
    if digits(one.domain) != digits(other.domain):
        return False
    few, many = sorted((frequencies.domains[one.domain], frequencies.domains[other.domain]))
    if few > 3 or (few > 1 and many < 3 * few):
        return False
    return slips(one.domain, other.domain, 2) <= min(2, len(one.domain) // 5)
