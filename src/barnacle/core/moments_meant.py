"""What somebody may have meant who named a time that is none, or that may be two."""

from __future__ import annotations

import re
from datetime import datetime, timedelta

from barnacle.core.moments import DAYS, MONTHS, in_words, read_day, read_moment
from barnacle.core.patterns import pattern
from barnacle.core.text import nearest, visible

_AT_ONCE = frozenset(("now", "asap", "at once", "immediately", "straight away", "right away", "right now"))
_PART = re.compile(
    r"(?:(?:first thing|early|late) )?(.{0,40}?) ?(?:in the |this )?(tonight|morning|afternoon|evening|night)?"
)
# Hours and minutes without a sign between; and the last days of a month, which some have not.
_FOUR_FIGURES = pattern(r"(?:^|[ t])([01]\d|2[0-3])([0-5]\d)$")
_LATE_DAY = pattern(rf"\b(?:29|30|31)\.? (?:{'|'.join(MONTHS)})\b(?: \d{{4}})?")
_WORDS = ("today", "tonight", "tomorrow", *DAYS, *MONTHS)


def moment_meant(text: str, now: datetime) -> str:
    """A sentence to whoever named a time that cannot be read: what is missing in it, or how it is written."""
    said, shown = visible(" ".join(text.lower().replace(",", " ").split()), 80), visible(text, 40)
    if said in _AT_ONCE:
        return "Without --at it is sent at once."
    if day := read_day(said, now.date()):
        if day < now.date():
            return f"{in_words(day)} is over. Write a time to come, like `tomorrow 07:30`."
        return f"At what time on {in_words(day)}? Write it like `{shown} 07:30`."
    if "next " in f"{said} " and (answer := _next(said, now)):
        return answer
    if "midnight" in said.split():
        return "Midnight ends one day and begins another: write `00:00` behind the day that it begins, or `23:59`."
    if answer := _part_of_a_day(said, now) or _hour_alone(said, now) or _misspelt(said, now):
        return answer
    if (figures := _FOUR_FIGURES.search(said)) and read_moment(told := f"{said[:-2]}:{figures[2]}", now):
        return f"Write it like `{told}`."
    if (late := _LATE_DAY.search(said)) and not read_day(late[0], now.date()):
        day = now + timedelta(days=1)
        return f"There is no {late[0].title()}. Write a day that there is, like `{day.day} {day:%B} 18:00`."
    zone = re.fullmatch(r"(.*\d(?: ?[ap]\.?m\.?)?) ?(?:[a-z]{3,4}|z|(?:utc|gmt)?[+-]\d\d?(?::?\d\d)?)", said)
    if zone and read_moment(zone[1], now):
        here = re.sub(r"(?<=\d)t(?=\d)", "T", zone[1])
        return f"Times are those of this computer's clock: write `{here}`, without a time zone."
    return f"`{shown}` is not a time. Write it like `Friday 07:30`, `tomorrow 18:00` or `2026-12-04 07:30`."


def _next(said: str, now: datetime) -> str:
    """`next friday` is this week's to some and next week's to others."""
    found = re.fullmatch(r"(.*?)\bnext (\w+)(.*)", said)
    first = found and read_day(found[2], now.date())
    if not found or not first or found[2] in ("today", "tomorrow", "tonight"):
        return ""
    days = [first if first > now.date() else first + timedelta(days=7)]
    days.append(days[0] + timedelta(days=7))
    clock = f"{found[1]}{found[3]}".strip().removeprefix("at ").removesuffix(" on") or "07:30"
    either = " or ".join(f"`{day.day} {day:%B} {clock}`" for day in days)
    return f"`next {found[2]}` may be either: write {either}."


def _part_of_a_day(said: str, now: datetime) -> str:
    """`tomorrow morning`, `tonight`, `first thing on Monday`: at what time?"""
    found = _PART.fullmatch(said)
    day = found and read_day(found[1] or "today", now.date())
    if not found or not day or not (found[2] or said.startswith("first thing")):
        return ""
    clock = "07:30" if found[2] in (None, "morning") else "15:00" if found[2] == "afternoon" else "19:00"
    return f"At what time on {in_words(day)}? Write it like `{found[1] or 'today'} {clock}`."


def _hour_alone(said: str, now: datetime) -> str:
    """`friday at 3`: in the morning or in the afternoon?"""
    found = re.fullmatch(r"(?:(.{1,40}?) )?(?:at )?(\d{1,2})(?: ?o'?clock| uhr)?", said)
    if not found or int(found[2]) > 23 or (found[1] and not read_day(found[1], now.date())):
        return ""
    day, hour = f"{found[1]} " if found[1] else "", int(found[2])
    if hour == 12:
        return f"At noon or at midnight? Write `{day}12:00` or `{day}00:00`."
    if 1 <= hour < 12:
        return f"{hour} in the morning or later in the day? Write `{day}{hour:02}:00` or `{day}{hour + 12}:00`."
    return f"Write it with minutes: `{day}{hour:02}:00`."


def _misspelt(said: str, now: datetime) -> str:
    # A short word is near to too many.
    words = [nearest(word, _WORDS, 0.75) or word if len(word) > 4 and word.isalpha() else word for word in said.split()]
    meant = " ".join(words)
    return f"Did you mean `{meant}`?" if meant != said and read_moment(meant, now) else ""
