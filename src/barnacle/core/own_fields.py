"""Fields of one's own: what a sheet's columns say of people beyond what every contact has (voice, berth, birthday)."""

from __future__ import annotations

import re

from barnacle.core.contact import Contact, Extra
from barnacle.core.contact_fields import FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.patterns import pattern
from barnacle.core.text import VALUE_LIMIT, fold, plain_value, visible

# Among what is kept of files, a field of one's own is what came from a table's column.
PREFIX = "csv:"
_TITLE_LIMIT = 80
_TAKEN = {fold(name) for field in FIELDS for name in (field.name, field.title, field.one) if name}


def own_fields(contact: Contact) -> dict[str, str]:
    """The fields of a contact's own: values by titles, in the order in which they came."""
    return {one.key.removeprefix(PREFIX): one.value for one in contact.extra if one.key.startswith(PREFIX)}


def own_value(contact: Contact, title: str) -> str:
    """The value of a field, capitals and accents of its title aside; empty where the contact has none."""
    wanted = fold(title)
    return next((value for name, value in own_fields(contact).items() if fold(name) == wanted), "")


def check_own_title(text: str) -> str:
    """A field's title. Raises UnclearError where it is none, or that of a field which every contact has."""
    title = plain_value(text, "A field's title", _TITLE_LIMIT)
    if not title or any(sign in title for sign in '={}|"'):
        raise UnclearError(
            f"`{visible(text, 40)}` cannot be the title of a field: use a word or two, without = {{ }} | or quotes."
        )
    if fold(title) in _TAKEN:
        raise UnclearError(f"Every contact has a field `{visible(title, 40)}` already; use --{fold(title)} instead.")
    return title


def set_own(contact: Contact, title: str, value: str) -> None:
    """Set a field under the title it has there already, or take it away with an empty value."""
    wanted = fold(title)
    value = plain_value(value, f"The field {visible(title, 40)}", VALUE_LIMIT)
    for place, one in enumerate(contact.extra):
        if one.key.startswith(PREFIX) and fold(one.key.removeprefix(PREFIX)) == wanted:
            if value:
                contact.extra[place] = Extra(one.key, value)
            else:
                del contact.extra[place]
            return
    if value:
        contact.extra.append(Extra(f"{PREFIX}{title}", value))


_YES = frozenset("yes y x true 1 ja oui si sim tak kylla sant on ok".split())
_NO = frozenset("no n false 0 nein non nao nee nej nei nie ei falskt off".split())
_DAY_FIRST = pattern(r"(\d{1,2})[./-] ?(\d{1,2})[./-] ?(\d{4})(?!\d)")
_YEAR_FIRST = pattern(r"(\d{4})[./-](\d{1,2})[./-](\d{1,2})(?!\d)")
_NUMBER = pattern(r"[+-]?\d{1,15}(?:[.,]\d{1,6})?")


def yes_or_no(value: str) -> str:
    """`yes` or `no` where a value says just that in some language; else nothing."""
    folded = fold(value)
    return "yes" if folded in _YES else "no" if folded in _NO else ""


def in_order(value: str) -> str:
    """A value so that text that comes earlier stands for less: a day as 2026-01-31 (written year or day first, or the
    month where the second number can be none), a number in digits of one length. Empty for any other."""
    text = value.strip()
    if match := _YEAR_FIRST.match(text):
        year, month, day = match.groups()
    elif match := _DAY_FIRST.match(text):
        day, month, year = match.groups()
        if int(month) > 12:
            day, month = month, day
    elif match := _NUMBER.fullmatch(text):
        number = float(match.group().replace(",", "."))
        return f"{'n' if number >= 0 else '-'}{number if number >= 0 else 1e15 + number:024.6f}"
    else:
        return ""
    return f"{year}-{int(month):02}-{int(day):02}" if int(month) <= 12 and int(day) <= 31 else ""


def is_before(value: str, wanted: str) -> bool:
    """Whether a value comes before another: days before a day, month or year, numbers below a number."""
    return _compare(value, wanted, before=True)


def is_after(value: str, wanted: str) -> bool:
    """Whether a value comes after another; what is in the day, month or year that was named does not."""
    return _compare(value, wanted, before=False)


def _compare(value: str, wanted: str, before: bool) -> bool:
    mine = in_order(value)
    if not mine:
        return False
    if mine[0].isdigit():  # a day
        period = wanted if re.fullmatch(r"\d{4}(?:-\d\d){0,2}", wanted) else in_order(wanted)
        cut = mine[: len(period)]
        return bool(period) and period[0].isdigit() and (cut < period if before else cut > period)
    other = in_order(wanted)
    return bool(other) and not other[0].isdigit() and (mine < other if before else mine > other)
