"""Moments in the one form in which they are kept: ISO 8601 in UTC, to the second."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from barnacle.core.patterns import pattern


def in_utc(moment: datetime) -> str:
    """A moment, whatever its time zone, as it is kept: `2026-11-28T14:20:00Z`."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def since_epoch(at: str) -> float:
    """Seconds since the epoch of a moment that is kept."""
    return datetime.fromisoformat(at).timestamp()


def later(at: str, seconds: int) -> str:
    """So many seconds after a moment that is kept."""
    return in_utc(datetime.fromisoformat(at) + timedelta(seconds=seconds))


_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_CLOCK = pattern(
    r"(?:(?P<day>[a-z]+|\d{4}-\d\d-\d\d)[ ,]+)?(?:at )?(?P<h>\d{1,2})(?:[:.](?P<m>\d\d))?(?: ?(?P<half>[ap])\.?m\.?)?"
)


def read_moment(text: str, now: datetime) -> datetime | None:
    """A moment to come as people say it: `Friday 07:30`, `tomorrow 7.30 pm`, `2026-12-04 07:30`, or `07:30`, which
    is the next one; None where it is none. `now` is in local time without a zone, as what is returned."""
    found = _CLOCK.fullmatch(" ".join(text.lower().split()))
    if not found or not (found["m"] or found["half"]):
        return None
    hour, minute = int(found["h"]), int(found["m"] or 0)
    if found["half"]:
        if not 1 <= hour <= 12:
            return None
        hour = hour % 12 + (12 if found["half"] == "p" else 0)
    try:
        at = now.replace(hour=hour, minute=minute, second=0, microsecond=0)
        day = found["day"]
        if day is None:
            return at if at > now else at + timedelta(days=1)
        if day in ("today", "tomorrow"):
            return at + timedelta(days=day == "tomorrow")
        names = [number for number, name in enumerate(_DAYS) if len(day) >= 3 and name.startswith(day)]
        if not names:
            return datetime.combine(date.fromisoformat(day), at.time())
    except ValueError:
        return None
    at += timedelta(days=(names[0] - now.weekday()) % 7)
    return at if at > now else at + timedelta(days=7)
