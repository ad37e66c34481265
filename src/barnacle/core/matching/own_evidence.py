"""What fields of their own (birthdays, member numbers, streets) say of two contacts: where nobody has an address, they
are all that tells one from another besides the name."""

from __future__ import annotations

from collections.abc import Iterator

from barnacle.core.matching.closeness import near_days, near_values
from barnacle.core.matching.forms import Form, birthdays, is_birthday
from barnacle.core.matching.naming import Comparison
from barnacle.core.matching.spelling import Level
from barnacle.core.matching.weights import WEIGHTS, Frequencies
from barnacle.core.typed import NamedTuple

# From which weight on fields of their own stand in for an address or a phone that both have.
_TELLING = 9.0


class Evidence(NamedTuple):
    """A piece of evidence by its name in weights.WEIGHTS, in words, and how many times it counts."""

    name: str
    words: str
    times: float


def own_evidence(one: Form, other: Form, frequencies: Frequencies) -> Iterator[Evidence]:
    """The fields that both have, as evidence."""
    theirs = dict(other.own)
    rarity = frequencies.own_rarity
    for title, value in one.own:
        its = theirs.get(title)
        if its is None:
            continue
        birthdays = is_birthday(value) and is_birthday(its)
        if value == its:
            yield Evidence("same field", f"same {title}", rarity(title, value))
        elif birthdays and near_days(value, its):
            yield Evidence("near birthday", f"{title} but for a slip", 1.0)
        elif birthdays:
            yield Evidence("other birthday", f"other {title}", 1.0)
        elif near_values(value, its) and frequencies.tells(title):
            rarer = min(rarity(title, value), rarity(title, its))
            yield Evidence("near field", f"{title} but for a slip", rarer)
        elif frequencies.tells(title):
            yield Evidence("other field", f"other {title}", 1.0)


def tell(own: list[Evidence]) -> bool:
    """Whether fields of their own alone say that two who share a given name may be one person."""
    weight = sum(WEIGHTS[one.name] * one.times for one in own)
    return weight > _TELLING and all(one.name != "other birthday" for one in own)


def proved(one: Form, other: Form, names: Comparison, frequencies: Frequencies) -> bool:
    """Whether two of one name are one person by their fields: one birthday, and something else that most have to
    themselves, such as a member number or a street."""
    if not one.own or not other.own or not names.complete or names.doubt:
        return False
    if one.called_after or other.called_after or any(pair.level < Level.SLIP for pair in names.pairs):
        return False
    same = [(title, value) for title, value in one.own if (title, value) in other.own]
    return (
        {True, False} == {pair.given for pair in names.pairs}
        and bool(birthdays(same))  # a family joins on one day
        and any(frequencies.tells(title) for title, value in same if not is_birthday(value))
    )
