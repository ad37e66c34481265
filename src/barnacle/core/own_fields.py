"""Fields of one's own: what a sheet's columns say of people beyond what every contact has (voice, berth, birthday)."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, lru_cache

from barnacle.core.card_fields import BIRTHDAY, is_day, title_on_card, value_on_card, with_value
from barnacle.core.contact import Contact, Extra
from barnacle.core.contact_fields import FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.patterns import pattern
from barnacle.core.text import VALUE_LIMIT, fold, plain_value, visible

# Among what is kept of files, a field of one's own is what came from a table's column.
PREFIX = "csv:"
_TITLE_LIMIT = 80
_TAKEN = {fold(name) for field in FIELDS for name in (field.name, field.title, field.one) if name}


# What titles of birthdays have in them, folded, in the languages that sheets are read in.
_BIRTH = pattern(
    "birth|born|^dob$|geb(?!uhr)|naiss|^nee? le|nacim|nascim|nascita|^nat[oa] il|fod(?:t|d|sel|els)|^fods|syntym"
    "|narozen|urodz|szulet|dogum|roden[dj]|rojst|sunni|рожд|народж|γενν"
)


def stored_fields(contact: Contact) -> dict[str, str]:
    """The fields of a contact's own without what its card says: values by titles, in the order in which they came."""
    return {one.key.removeprefix(PREFIX): one.value for one in contact.extra if one.key.startswith(PREFIX)}


def own_fields(contact: Contact) -> dict[str, str]:
    """The fields of a contact's own: values by titles, in the order in which they came, then what its card says."""
    found = stored_fields(contact)
    if len(found) < len(contact.extra):
        taken = set(map(fold, found))
        for key, kept in contact.extra:
            title = title_on_card(key)
            if not title or fold(title) in taken or not (value := value_on_card(key, kept)):
                continue
            if title != BIRTHDAY or not is_birthday(contact, value):
                found[title] = value
    return found


def birthday(contact: Contact) -> str:
    """The day (ISO 8601) that the first field of one's own for a birthday says; empty where there is none, or no whole
    day. Of a year in two figures the century is known where nobody can be born yet in the other one."""
    from datetime import date  # not needed by most commands

    day = _born(contact)
    if day.startswith("--"):
        day = f"19{day[2:]}" if int(day[2:4]) > date.today().year % 100 else ""
    try:
        return date.fromisoformat(day).isoformat()
    except ValueError:
        return ""


def is_birthday(contact: Contact, day: str) -> bool:
    """Whether that field says a day (ISO 8601); of a year in two figures, in any century."""
    born = _born(contact)
    return born != "" and day == (f"{day[:2]}{born[2:]}" if born.startswith("--") else born)


def drop_copied_birthday(contact: Contact) -> None:
    """Take away a card's birthday that says the same as that field, beside which it was written."""
    copies = (e for e in contact.extra if title_on_card(e.key) == BIRTHDAY and is_birthday(contact, value_on_card(*e)))
    for copy in [*copies]:
        contact.extra.remove(copy)


def _born(contact: Contact) -> str:
    for title, value in stored_fields(contact).items():
        if not is_birth(fold(title)):
            continue
        if (found := _SHORT_YEAR.fullmatch(value.strip())) and int(found[1]) <= 31:
            return f"--{found[4]}-{day_of_a_year(value)}"
        if (day := in_order(value))[:1].isdigit():
            return day
    return ""


def title_of(key: str) -> str:
    """The title of the field that something kept of a file is read as; empty where it is none."""
    return key.removeprefix(PREFIX) if key.startswith(PREFIX) else title_on_card(key)


@lru_cache(maxsize=1000)
def is_birth(title: str) -> bool:
    """Whether a folded title is that of a birthday, not of any other day."""
    return _BIRTH.search(title) is not None


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
    if is_birth(wanted):
        drop_copied_birthday(contact)
    for place, one in enumerate(contact.extra):
        if one.key.startswith(PREFIX) and fold(one.key.removeprefix(PREFIX)) == wanted:
            if value:
                contact.extra[place] = Extra(one.key, value)
            else:
                del contact.extra[place]
            return
    if _set_on_card(contact, wanted, value):
        return
    if value:
        contact.extra.append(Extra(f"{PREFIX}{title}", value))


def _set_on_card(contact: Contact, wanted: str, value: str) -> bool:
    """Change what a card says, where it says that; says whether that is all there is to do."""
    for place, (key, kept) in enumerate(contact.extra):
        if not wanted or fold(title_on_card(key)) != wanted:
            continue
        if value == value_on_card(key, kept):
            return True
        if changed := with_value(key, kept, in_order(value) if is_day(key) else value):
            contact.extra[place] = Extra(key, changed)
        else:
            del contact.extra[place]
        return bool(changed) or not value
    return False


# Words and letters for an answer as languages have them (CLDR, posix/messages: yesstr, nostr); what spreadsheets write
# for a cell that is true or false; what people tick with.
_YES = """
yes y ja j oui o si s sim tak ano igen evet da kylla jah jā taip да так ναι はい 是 예 네 نعم כן ya bai có بله
true wahr vrai verdadero vero verdadeiro waar sand sant sann prawda pravda igaz tosi doğru истина αληθές
1 x on ok ✓ ✔ ☑ ☒ ✅
"""
_NO = """
no n nein non não nee nej nei nie ne nem hayır nu ei nē нет не ні όχι いいえ 否 아니요 아니오 لا לא ez tidak không خیر
false falsch faux falso onwaar falsk falskt usann fałsz nepravda hamis epätosi yanlış ложь ψευδές
0 off ☐ ✗ ✘ ❌
"""
# What a value may be taken for.
YES_OR_NO, A_DAY, A_NUMBER, EITHER = "yes or no", "a day", "a number", "a day or a number"
A_DAY_OF_A_YEAR = "a day of a year"
_DAY_FIRST = pattern(r"(\d{1,2})[./-] ?(\d{1,2})[./-] ?(\d{4})(?!\d)")
_YEAR_FIRST = pattern(r"(\d{4})[./-](\d{1,2})[./-](\d{1,2})(?!\d)")
# 24 December 1963, 24. Dez. 1963, 24 de diciembre de 1963; December 24, 1963; the year may be missing.
_BY_NAME = pattern(
    r"(\d{1,2})(?:st|nd|rd|th|er|\.|:e)? (?:de |of )?([^\W\d_]{3,14})\.?(?:,? (?:de |del )?(\d{4})(?!\d)|$)"
)
_NAME_FIRST = pattern(r"([^\W\d_]{3,14})\.? (\d{1,2})(?:st|nd|rd|th)?(?:,? (\d{4})(?!\d)|$)")
# Without a year: 24.12., 24/12; as vCards have it (RFC 6350 section 4.3.1).
_SHORT_YEAR = pattern(r"(\d{1,2})([./])(\d{1,2})\2(\d{2})")
_NO_YEAR = pattern(r"(\d{1,2})(?:[/-](\d{1,2})|\.(\d{1,2})\.)")
_TRUNCATED = pattern(r"--(\d\d)-?(\d\d)?")
_NUMBER = pattern(r"[+-]?\d{1,15}(?:[.,]\d{1,6})?")


def asked_for(verb: str, wanted: str) -> str:
    """What a rule with that verb and value takes a field's values for: YES_OR_NO, A_DAY, A_NUMBER or EITHER (2026);
    empty where for text. A figure or a letter alone is text: a group, a size."""
    if verb in ("before", "after"):
        kind = _kind(in_order(wanted))
        return kind if not _period(wanted) else EITHER if kind == A_NUMBER else A_DAY
    if verb != "is":
        return ""
    if in_order(wanted)[:1].isdigit():
        return A_DAY
    if _yearly(wanted):
        return A_DAY_OF_A_YEAR
    return YES_OR_NO if len(fold(wanted)) > 1 and _answer(fold(wanted)) else ""


def is_understood(value: str, kind: str) -> bool:
    """Whether a value is what it is taken for."""
    if kind == YES_OR_NO:
        return bool(yes_or_no(value))
    if kind == A_DAY_OF_A_YEAR:
        return bool(day_of_a_year(value))
    return not kind or _kind(in_order(value)) in ((A_DAY, A_NUMBER) if kind == EITHER else (kind,))


def _kind(ordered: str) -> str:
    return "" if not ordered else A_DAY if ordered[0].isdigit() else A_NUMBER


def _period(wanted: str) -> str:
    """A day, month or year as rules name it; empty for anything else."""
    return wanted if re.fullmatch(r"\d{4}(?:-\d\d){0,2}", wanted) else ""


def yes_or_no(value: str) -> str:
    """`yes` or `no` where a value says that in some language, alone or in front of a remark (`Ja (2 Personen)`, `No,
    sorry`); else nothing."""
    folded = fold(value)
    if answer := _answer(folded):
        return answer
    remarked = _REMARKED.match(folded) or _WENT_ON.match(folded)
    return _answer(remarked[remarked.lastindex or 0]) if remarked else ""


# What stands in front of a remark: no figure or letter alone (`1. Mannschaft`), nor `No. 5`.
_REMARKED = pattern(r"([^\W\d_]{2,20}) ?(?:[,;:!(\u2013\u2014]|(?<= )-|\.(?! ?\d))")
# An answer that goes on: words that mean nothing else in another language, where no condition follows; and thanks.
_WENT_ON = pattern(
    r"(yes|yep|oui|ja|nein|nej|nee|kylla|да|нет) (?!(?:and|or|if|unless|maybe|perhaps|und|oder|wenn|falls|vielleicht|et"
    r"|ou|si|peut|och|eller|om|kanske|en|of|als|misschien|og|hvis|kanskje|maske|ja|jos|tai|ehka|и|или|если|может)\b)"
    r"|(no|non|nao|nie|nei|ne|si|sim|tak|evet) "
    r"(?=thank|sorry|merci|gra[cz]i|obrigad|dziek|prosz|chet|takk?\b|dekuj|tesek|i\b)"
)


def _answer(folded: str) -> str:
    return _answers().get(folded, "")


@cache
def _answers() -> dict[str, str]:
    return {fold(word): answer for answer, words in (("yes", _YES), ("no", _NO)) for word in words.split()}


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
    elif named := _named_day(text):
        year, month, day = named
        if not year:
            return ""
    else:
        return ""
    return f"{year}-{int(month):02}-{int(day):02}" if int(month) <= 12 and int(day) <= 31 else ""


def _named_day(text: str) -> tuple[str, str, str] | None:
    """Year, month and day of a day that is written with the month's name; the year may be empty."""
    if found := _BY_NAME.match(text):
        day, name, year = found.groups()
    elif found := _NAME_FIRST.match(text):
        name, day, year = found.groups()
    else:
        return None
    from barnacle.core.month_names import month_of  # not needed by most commands

    return (year or "", str(month), day) if (month := month_of(name)) else None


def day_of_a_year(value: str) -> str:
    """The month, or the day of one, that a value names in any year: `December` is 12, `24 Dec 1963` and `24.12.` are
    12-24. Empty where it names none."""
    text = value.strip()
    if (ordered := in_order(text))[:1].isdigit():
        return ordered[5:]
    if found := _TRUNCATED.fullmatch(text):
        month, day = found[1], found[2] or ""
    elif found := _SHORT_YEAR.fullmatch(text):
        # 1.4.81, and 81/4/1: whichever century it is, it is the first of April.
        day, month = (found[4], found[3]) if int(found[1]) > 31 else (found[1], found[3])
        day, month = (month, day) if int(month) > 12 else (day, month)
    elif found := _NO_YEAR.fullmatch(text):
        day, month = found[1], found[2] or found[3]
        day, month = (month, day) if int(month) > 12 else (day, month)
    elif named := _named_day(text):
        _, month, day = named
    else:
        from barnacle.core.month_names import month_of  # as above

        month, day = str((text.isalpha() and month_of(text)) or ""), ""
    if not month or int(month) > 12 or int(day or 1) > 31:
        return ""
    return f"{int(month):02}-{int(day):02}" if day else f"{int(month):02}"


def comparison(verb: str, wanted: str) -> Callable[[str, str], bool] | None:
    """How a rule with that verb compares a value with the one that is wanted; None where it compares texts."""
    if verb in ("before", "after"):
        return is_before if verb == "before" else is_after
    if verb == "is" and _names_days(wanted):
        return is_on
    if verb == "is" and _yearly(wanted):
        return is_every_year
    return is_answer if asked_for(verb, wanted) == YES_OR_NO else None


def is_answer(value: str, wanted: str) -> bool:
    """Whether a value says yes or no as another does, in whatever language."""
    return yes_or_no(value) == yes_or_no(wanted)


def _names_days(wanted: str) -> bool:
    """Whether a rule's value names a day, in whatever order, a month (2026-11) or what may be a year."""
    return in_order(wanted)[:1].isdigit() or re.fullmatch(r"\d{4}-\d\d|(?:19|20)\d\d", wanted) is not None


def _yearly(wanted: str) -> bool:
    """Whether a rule's value names a month, or a day of one, that comes every year; 3/4 may be anything."""
    return (wanted[-1:] == "." or wanted.startswith("--") or any(map(str.isalpha, wanted))) and day_of_a_year(
        wanted
    ) != ""


def is_on(value: str, wanted: str) -> bool:
    """Whether a value is a day, or a time of it, in the day, month or year that was named; or is written just so."""
    period = wanted if _period(wanted) else in_order(wanted)
    return in_order(value).startswith(period) or fold(value) == fold(wanted)


def is_every_year(value: str, wanted: str) -> bool:
    """Whether a value is a day in a month, or on a day, that comes every year; or is written just so."""
    return day_of_a_year(value).startswith(day_of_a_year(wanted)) or fold(value) == fold(wanted)


def is_before(value: str, wanted: str) -> bool:
    """Whether a value comes before another: days before a day, month or year, numbers below a number."""
    return _compare(value, wanted, before=True)


def is_after(value: str, wanted: str) -> bool:
    """Whether a value comes after another; what is in the day, month or year that was named does not."""
    return _compare(value, wanted, before=False)


# All of them, for whatever compares by their names.
COMPARISONS = (is_before, is_after, is_on, is_every_year, is_answer)


def _compare(value: str, wanted: str, before: bool) -> bool:
    mine = in_order(value)
    if not mine:
        return False
    if mine[0].isdigit():  # a day
        period = _period(wanted) or in_order(wanted)
        cut = mine[: len(period)]
        return bool(period) and period[0].isdigit() and (cut < period if before else cut > period)
    other = in_order(wanted)
    return bool(other) and not other[0].isdigit() and (mine < other if before else mine > other)
