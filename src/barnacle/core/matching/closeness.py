"""How close two addresses, phone numbers or organisations are that are not the same."""

from __future__ import annotations

from barnacle.core.contact import Contact
from barnacle.core.matching.forms import Form, birthdays, is_birthday, own_of, words_of_local
from barnacle.core.matching.naming import Comparison
from barnacle.core.matching.slips import slips


def nothing_in_common(one: Form, other: Form) -> bool:
    """Whether both have addresses, and nothing of those is the same."""
    locals_ = {a.local for a in one.addresses}, {a.local for a in other.addresses}
    return bool(locals_[0] and locals_[1]) and locals_[0].isdisjoint(locals_[1])


def tells_name(local: str, names: Comparison) -> bool:
    """Whether a local part is made of the name that both have: one of its words in it, or their initials."""
    if any(c.isdigit() for c in local):
        return False
    have = {w for p in names.pairs for w in (p.one, p.other)}
    words = words_of_local(local)
    initials = bool(words) and all(any(h.startswith(w) for h in have) for w in words)
    return initials or any(w in local for w in have if len(w) > 2)


def near_locals(one: str, other: str) -> bool:
    """Whether two local parts differ by a letter, not by a figure."""
    return digits(one) == digits(other) and min(len(one), len(other)) >= 5 and slips(one, other, 1) <= 1


def born_apart(one: Contact, other: Contact) -> bool:
    """Whether both have a birthday, and not one day but for a slip: father and son may have one name."""
    if not one.extra or not other.extra:
        return False
    days = birthdays(own_of(one))
    return any(
        title in days and is_birthday(value) and value != days[title] and not near_days(value, days[title])
        for title, value in own_of(other)
    )


def near_days(one: str, other: str) -> bool:
    """Whether two days in eight figures differ by a figure, or by two, or day and month, that changed places."""
    if len(one) != len(other):
        return False
    swapped = other[:4] + other[6:] + other[4:6], other[2:4] + other[:2] + other[4:]
    return one in swapped or slips(one, other, 1) <= 1


def near_values(one: str, other: str) -> bool:
    """Whether two values of a field are one but for a slip or two in the letters, or two figures that changed places:
    the next number is somebody else's, and the next house too."""
    if one.isdigit() or other.isdigit():
        return near_phones(one, other)
    most = 2 if min(len(one), len(other)) >= 12 else 1
    return min(len(one), len(other)) >= 6 and digits(one) == digits(other) and slips(one, other) <= most


def near_words(one: str, other: str) -> bool:
    """Whether two words differ by two slips at most, short ones by one."""
    most = 2 if min(len(one), len(other)) >= 5 else 1
    return min(len(one), len(other)) > 1 and slips(one, other, most) <= most


def digits(text: str) -> str:
    """The figures of a text."""
    return "".join(filter(str.isdigit, text))


def near_phones(one: str, other: str) -> bool:
    """Whether two numbers differ by two digits changing places. One digit changed is the next desk's number."""
    return len(one) == len(other) and one != other and sorted(one) == sorted(other) and _swapped(one, other)


def one_digit_apart(one: str, other: str) -> bool:
    """Whether two numbers differ by a digit that is not the last: the next desk's number differs there."""
    return len(one) == len(other) and one[-1] == other[-1] and sum(a != b for a, b in zip(one, other, strict=True)) == 1


def _swapped(one: str, other: str) -> bool:
    at = [n for n, (a, b) in enumerate(zip(one, other, strict=True)) if a != b]
    return len(at) == 2 and at[1] == at[0] + 1


def near_orgs(one: str, other: str) -> bool:
    """Whether one organisation is the other's beginning, its first letters, or it but for a slip or two."""
    mine, theirs = one.split(), other.split()
    shorter, longer = sorted((mine, theirs), key=len)
    if shorter == longer[: len(shorter)] and len(shorter[0]) > 3:
        return True
    if "".join(w[0] for w in longer) == "".join(shorter) and len(longer) > 1:
        return True
    return min(len(one), len(other)) >= 6 and slips(one, other, 2) <= 2
