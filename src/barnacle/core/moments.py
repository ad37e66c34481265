"""Moments in the one form in which they are kept: ISO 8601 in UTC, to the second."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


def in_utc(moment: datetime) -> str:
    """A moment, whatever its time zone, as it is kept: `2026-11-28T14:20:00Z`."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def since_epoch(at: str) -> float:
    """Seconds since the epoch of a moment that is kept."""
    return datetime.fromisoformat(at).timestamp()


def later(at: str, seconds: int) -> str:
    """So many seconds after a moment that is kept."""
    return in_utc(datetime.fromisoformat(at) + timedelta(seconds=seconds))
