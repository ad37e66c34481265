"""Who is invited: the organisers and attendees of a calendar's events (RFC 5545 sections 3.8.4.1 and 3.8.4.3).

They are read as a table is: name, address, and for each event what somebody answered.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from barnacle.core.addresses import address_key
from barnacle.core.contentline import Property, parse_line, unescape, unfolded
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import NamedTuple
from barnacle.files.drafts import Row
from barnacle.files.encoding import Encoding

# The answers to more events are no columns.
_MOST_EVENTS = 5
_ANSWERS = {"accepted": "yes", "declined": "no", "tentative": "perhaps", "delegated": "no"}
_NOBODY = ("room", "resource", "group")


class _Event(NamedTuple):
    """An event: its title, its day (2026-12-10), and what was answered by the keys of addresses."""

    title: str
    day: str
    answers: dict[str, str]


class Calendar:
    """The people in the events of a calendar: `rows`, with the titles of columns as row 0, and `told`, sentences about
    what was left out."""

    def __init__(self, path: Path, encoding: Encoding) -> None:
        self.told: list[str] = []
        self._names: dict[str, tuple[str, str]] = {}
        self._events: dict[str, _Event] = {}
        self._places: dict[str, str] = {}  # rooms, things and groups: what they are called, by their addresses
        with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
            for event in _events(parse_line(line) for _, line in unfolded(file)):
                self._take(event)
        asked = [event for event in self._events.values() if any(event.answers.values())]
        if len(asked) > _MOST_EVENTS:
            self.told.append(f"What was answered is read of up to {_MOST_EVENTS} events; here are {len(asked):,}.")
            asked = []
        times = Counter(event.title for event in asked)
        # One that has its title with another is told from that by its day.
        titles = [f"{event.title} {event.day}" if times[event.title] > 1 else event.title for event in asked]
        if self._places:
            self.told.append(f"Invited, but no people, and left out: {listed([*self._places.values()], 8)}.")
        self.rows = [Row(0, ["Name", "E-mail", *titles])]
        for number, (key, (name, address)) in enumerate(self._names.items(), 1):
            self.rows.append(Row(number, [name, address, *(event.answers.get(key, "") for event in asked)]))

    def _take(self, event: list[Property]) -> None:
        said = {one.name: one.value for one in reversed(event)}
        title = tidy(unescape(said.get("SUMMARY", "")), 80) or "Answer"
        uid = said.get("UID", title)  # what was changed of one event of a series has the same
        answers = self._events.setdefault(uid, _Event(title, _day(said.get("DTSTART", "")), {})).answers
        for one in event:
            if one.name not in ("ORGANIZER", "ATTENDEE"):
                continue
            address = one.value.strip()
            address = address[7:] if address[:7].lower() == "mailto:" else next(iter(one.param("EMAIL")), address)
            name = tidy(next(iter(dict(one.params).get("CN", ())), ""), 200)
            if next(iter(one.param("CUTYPE")), "") in _NOBODY:
                self._places[address] = name or visible(address, 80)
                continue
            key = address_key(address)
            known = self._names.get(key, ("", ""))[0]
            self._names[key] = (known or ("" if address_key(name) == key else name), address)
            if one.name == "ATTENDEE":
                answers[key] = _ANSWERS.get(next(iter(one.param("PARTSTAT")), ""), "") or answers.get(key, "")


def _day(value: str) -> str:
    return f"{value[:4]}-{value[4:6]}-{value[6:8]}" if value[:8].isdecimal() and len(value) > 7 else ""


def _events(properties: Iterator[Property | None]) -> Iterator[list[Property]]:
    """What each event or task says, without its alarms."""
    found: list[Property] = []
    within: list[str] = []
    for one in properties:
        if one is None:
            continue
        if one.name == "BEGIN":
            within.append(one.value.strip().upper())
        elif one.name == "END":
            if within and within.pop() in ("VEVENT", "VTODO") and found:
                yield found
                found = []
        elif within and within[-1] in ("VEVENT", "VTODO"):
            found.append(one)
