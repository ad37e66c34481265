"""Moments in the one form in which they are kept: ISO 8601 in UTC, to the second."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from barnacle.core.errors import UnclearError
from barnacle.core.patterns import pattern
from barnacle.core.text import fold, visible


def in_utc(moment: datetime) -> str:
    """A moment, whatever its time zone, as it is kept: `2026-11-28T14:20:00Z`."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def since_epoch(at: str) -> float:
    """Seconds since the epoch of a moment that is kept."""
    return datetime.fromisoformat(at).timestamp()


def later(at: str, seconds: int) -> str:
    """So many seconds after a moment that is kept."""
    return in_utc(datetime.fromisoformat(at) + timedelta(seconds=seconds))


DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november",
    "december",
)  # fmt: skip
# A time of the day: 7.30, 7:30 pm, 18h, 18h30, 8 Uhr, noon. An hour alone tells no half of the day.
_TIME = (
    r"(?:(?P<h>\d{1,2})(?:[:.](?P<m>\d\d)(?::00)?|(?P<sign>h| ?uhr)(?P<hm> ?\d\d$|\d\d)?)?(?: uhr)?"
    r"(?: ?(?P<half>[ap])\.?m\.?)?"
    r"|(?P<noon>noon|midday))"
)
_CLOCK = pattern(rf"(?:(?P<day>.{{1,40}}?)(?:[ ,]{{1,3}}|(?<=\d)t))??(?:at )?{_TIME}")
_CLOCK_FIRST = pattern(rf"{_TIME}[ ,]{{1,3}}(?P<day>[a-z\d].{{1,40}})")
# The part of a day behind its name, which tells the half: `tomorrow morning at 9`, `tonight 8`, `this evening`.
_PART = pattern(r"(?:^| )(?:in the |this )?(tonight|morning|afternoon|evening|night)(?: at)?$")
_HOURS = {
    "morning": range(12), "afternoon": range(12, 19), "evening": range(16, 24), "night": range(18, 24),
    "tonight": range(16, 24),
}  # fmt: skip
_LATER = pattern(r"in (?:(\d{1,3})|(half )?an?) (minute|hour|day|week)s?")
_SPAN = pattern(r"(this|last) (week|month|year)|(?:(\d{1,3})|an?|one) (day|week|month|year)s? ago")
_BY_NUMBERS = pattern(r"(\d{4})-(\d{1,2})-(\d{1,2})|(\d{1,2})([./])(\d{1,2})(?:\5(\d{4})?)?")
_BY_YEAR = pattern(r"((?:19|20)[0-9]{2})(?:-(0[1-9]|1[0-2]))?")
_BY_NAME = pattern(
    r"(?:(\d{1,2})(?:st|nd|rd|th)?\.? ([a-z]{3,9})|([a-z]{3,9}) (\d{1,2})(?:st|nd|rd|th)?)\.?(?: (\d{4}))?"
)


def read_moment(text: str, now: datetime) -> datetime | None:
    """A moment to come as people say it: `Friday 07:30`, `tomorrow 7.30 pm`, `24 December 18:00`, `in 2 hours`, or
    `07:30`, which is the next one; None where it is none. `now` is in local time without a zone, as what is
    returned."""
    said = " ".join(text.lower().split())
    if later := _LATER.fullmatch(said):
        ahead = timedelta(**{f"{later[3]}s": int(later[1] or 1)})
        return now + (ahead / 2 if later[2] else ahead)
    found = _CLOCK.fullmatch(said) or _CLOCK_FIRST.fullmatch(said)
    if not found:
        return None
    named, part = _PART.sub("", found["day"] or ""), _PART.search(found["day"] or "")
    half = found["half"] or (("a" if part[1] == "morning" else "p") if part else "")
    hour, minute = int(found["h"] or 12), int(found["m"] or found["hm"] or 0)
    if not (found["m"] or found["sign"] or half or found["noon"]):
        return None
    if half and not (part and hour > 12):
        if not 1 <= hour <= 12:
            return None
        hour = hour % 12 + (12 if half == "p" else 0)
    if part and hour not in _HOURS[part[1]]:
        return None  # one in the night may be of either day
    try:
        at = now.replace(hour=hour, minute=minute, second=0, microsecond=0)
    except ValueError:
        return None
    if found["day"] is None:
        return at if at > now else at + timedelta(days=1)
    day = read_day(named or "today", now.date())
    if day is None:
        return None
    at = datetime.combine(day, at.time())
    # A day of the week is never one that is over.
    return at + timedelta(days=7) if at <= now and _weekday(_as_said(named)) is not None else at


def read_day(text: str, today: date, past: bool = False) -> date | None:
    """A day as people write it: `2026-12-24`, `24.12.2026`, `24/12/2026`, `24 December`, `Friday`, `tomorrow`; None
    where it is none. Of two numbers the first is the day, where it can be. Where more days are called so it is the
    next one, or the last one of the `past`."""
    if past and (begun := _begin_of_span(text[:60].lower(), today)):
        return begun
    said = _as_said(text[:60])  # no day is longer
    if said in ("yesterday", "today", "tomorrow"):
        return today + timedelta(days=("yesterday", "today", "tomorrow").index(said) - 1)
    if (number := _weekday(said)) is not None:
        ahead = (number - today.weekday()) % 7
        return today + timedelta(days=ahead - 7 if past and ahead else ahead)
    first, _, rest = said.partition(" ")
    if rest and (number := _weekday(first)) is not None:
        there = read_day(rest, today, past)
        return there if there and there.weekday() == number else None
    if found := _BY_NUMBERS.fullmatch(said):
        year, day, month = found[1] or found[7], int(found[3] or found[4]), int(found[2] or found[6])
        if month > 12 and found[5] == "/":
            day, month = month, day
    elif found := _BY_NAME.fullmatch(said):
        year, day = found[5], int(found[1] or found[4])
        month = next((n for n, name in enumerate(MONTHS, 1) if name.startswith(found[2] or found[3])), 0)
    else:
        return None
    try:
        there = date(int(year or today.year), month, day)
        if year or (there <= today if past else there >= today):
            return there
        return there.replace(year=today.year + (-1 if past else 1))
    except ValueError:
        return None


def _begin_of_span(said: str, today: date) -> date | None:
    """The first day of `this week`, `last month` or `last year`, or the day that is so many of them ago."""
    found = _SPAN.fullmatch(" ".join(said.split()))
    if not found:
        return None
    ago, unit = int(found[1] == "last") if found[1] else int(found[3] or 1), found[2] or found[4]
    if unit in ("day", "week"):
        day = today - timedelta(days=ago * (7 if unit == "week" else 1))
        return day - timedelta(days=day.weekday()) if found[1] else day
    months = today.year * 12 + today.month - 1 - ago * (12 if unit == "year" else 1)
    if found[1]:
        months, day_of_month = months - (months % 12 if unit == "year" else 0), 1
    else:
        day_of_month = today.day
    from calendar import monthrange  # not needed by most commands

    year, month = months // 12, months % 12 + 1
    return date(year, month, min(day_of_month, monthrange(year, month)[1]))


def in_words(day: date) -> str:
    """A day as it is read out: Friday 4 December 2026."""
    return f"{day:%A} {day.day} {day:%B %Y}"


def plain_day(text: str) -> str:
    """A day of the past from the command line, as it is kept (2026-01-31). Raises UnclearError."""
    day = read_day(text, date.today(), past=True) or _month_or_year(text)
    if day is None:
        raise UnclearError(f"`{visible(text, 30)}` is not a date; write it like 2026-11-23.")
    return day.isoformat()


def _month_or_year(text: str) -> date | None:
    """The first day of a month of the past, or of a year."""
    by_number = _BY_YEAR.fullmatch(text.strip())
    return read_day(f"1 {text}", date.today(), past=True) or (
        date(int(by_number[1]), int(by_number[2] or 1), 1) if by_number else None
    )


def _weekday(text: str) -> int | None:
    """The number of a day of the week, from Monday, by its name or the beginning of that."""
    said = text.rstrip(".")
    return next((number for number, name in enumerate(DAYS) if len(said) >= 3 and name.startswith(said)), None)


def _as_said(text: str) -> str:
    """A day without what does not tell which."""
    return " ".join(text.lower().replace(",", " ").split()).removeprefix("on ").removeprefix("this ")


def since_when(what: str, since: str) -> tuple[str, str, str]:
    """What was asked for, unless it is a day; the beginning of that day, or of the one `since` which (ISO 8601, UTC),
    and the day in words: empty where none was given. Raises UnclearError for a day that is none."""
    if not since and what:
        day = fold(what).removeprefix("since ")
        if read_day(day, date.today(), past=True) or (fold(what) != day and _month_or_year(day)):
            what, since = "", day
    if not since:
        return what, "", ""
    begun = plain_day(since)
    return what, in_utc(datetime.fromisoformat(begun).astimezone()), in_words(date.fromisoformat(begun))
