"""The words of reports: parts of a list, days as people write them."""

from __future__ import annotations

from datetime import date

from barnacle.core.text import count, listed
from barnacle.jobs.reports.numbers import Deliveries, Hearer, Reach

# The parts of a list, whom a message reaches first.
REACH_PARTS = ("reached", "failing", "opted_out", "no_address", "other")
# What became of recipients, as a Span counts it.
OUTCOMES = ("accepted", "refused", "refused_as_a_message", "deferred", "doubtful")
_WORDS = {
    "failing": ("1 address fails", "{} addresses fail"),
    "opted_out": ("1 opted out", "{} opted out"),
    "no_address": ("1 has no address", "{} have no address"),
    "other": ("1 not for another reason", "{} not for another reason"),
}


def outcome_in_words(name: str) -> str:
    """What one of the OUTCOMES is called."""
    return name.replace("_", " ")


def deliveries_title(found: Deliveries) -> str:
    """What is above the figures of deliveries."""
    since = f" since {day_in_words(found.since)}" if found.since else ""
    return f"What became of each recipient{since}, by {'month' if found.by_month else 'week'}"


def no_deliveries(found: Deliveries) -> str:
    """What stands in their place where there are none."""
    return f"Nothing was sent since {day_in_words(found.since)}." if found.since else "No message has been sent yet."


def total_in_words(found: Deliveries) -> str:
    """What became of all recipients together."""
    totals = ((name, sum(getattr(span, name) for span in found.spans)) for name in OUTCOMES)
    return ", ".join(f"{number:,} {outcome_in_words(name)}" for name, number in totals if number)


def reach_in_words(one: Reach) -> str:
    """How many of a list are reached, and why not the others."""
    if not one.members:
        return "nobody is on it"
    rest = [
        words[0] if number == 1 else words[1].format(f"{number:,}")
        for name, words in _WORDS.items()
        if (number := getattr(one, name))
    ]
    if not rest:
        return f"all {one.members:,}" if one.members > 1 else "1 of 1"
    return f"{one.reached:,} of {one.members:,}: {listed(rest, 4)}"


def heard_in_words(one: Hearer) -> str:
    """How many messages somebody got."""
    if one.most_in_a_month == one.messages:
        return f"{count(one.messages, 'message')}, all in a month" if one.messages > 1 else "1 message"
    return f"{one.messages:,} messages, at most {one.most_in_a_month:,} in a month"


def day_in_words(day: str) -> str:
    """A day (ISO 8601) as people write it."""
    at = date.fromisoformat(day)
    return f"{at.day} {at:%b %Y}" if at.year != date.today().year else f"{at.day} {at:%b}"


def month_in_words(day: str) -> str:
    """A month (by a day of it) as people write it."""
    return f"{date.fromisoformat(day):%b %Y}"
