"""A calendar entry that goes along with a message (RFC 5545), so that mail programs offer it (RFC 6047)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.core.addresses import Mailbox, envelope_address
from barnacle.core.contentline import folded
from barnacle.core.errors import FileError
from barnacle.core.text import has_unsafe, tidy, visible

LIMIT = 200_000
# Fields that name people, or ask for an answer to somebody else, give way to those of this message.
_DROPPED = ("METHOD", "ORGANIZER", "ATTENDEE", "REQUEST-STATUS", "CONTACT")


def read_invitation(text: str, name: str) -> str:
    """The calendar of a file with the people taken out, its lines unfolded (RFC 5545 section 3.1). Raises FileError
    where it is no calendar with an entry in it, or one that a calendar program could not read."""
    import icalendar

    shown = visible(name)
    unfolded = re.sub(r"\r?\n[ \t]", "", text.lstrip("\ufeff"))
    lines = [line for line in re.split(r"\r?\n", unfolded) if line.strip()]
    begins = [line.upper() for line in lines]
    if not lines or begins[0] != "BEGIN:VCALENDAR" or begins[-1] != "END:VCALENDAR":
        raise FileError(f"{shown} is no calendar file. Save the entry from your calendar as .ics.")
    if any(has_unsafe(line.replace("\t", " ")) for line in lines):
        raise FileError(f"{shown} has a control character in it, which mail programs could stumble over.")
    kept = "\n".join(line for line in lines if line.partition(":")[0].partition(";")[0].upper() not in _DROPPED)
    try:
        calendar = icalendar.Calendar.from_ical(kept)
    except (ValueError, KeyError, IndexError, TypeError, RecursionError) as error:
        raise FileError(
            f"{shown} is a broken calendar ({_why(error)}). Save the entry from your calendar again."
        ) from error
    events = calendar.walk("VEVENT")
    if not events or any("UID" not in event or "DTSTART" not in event for event in events):
        raise FileError(f"{shown} has no entry with a time in it. Save the entry from your calendar as .ics.")
    wrong = [(prop, why) for part in calendar.walk() for prop, why in part.errors]
    if wrong:
        prop, why = wrong[0]
        raise FileError(f"{shown} has a broken {visible(str(prop or 'line'), 30)} ({_why(why)}). Save the entry again.")
    return kept


def _why(error: object) -> str:
    return visible(tidy(str(error), 120)).rstrip(".")


def invitation(calendar: str, sender: Mailbox, attendees: Sequence[Mailbox] = ()) -> tuple[str, str]:
    """The method and the text of an entry as one recipient gets it: with `attendees` a request to these (RFC 5546
    section 3.2.2), without any an entry that is made known (section 3.2.1)."""
    method = "REQUEST" if attendees else "PUBLISH"
    people = [f"ORGANIZER{_called(sender)}:mailto:{envelope_address(sender.address)}"]
    people += [
        f"ATTENDEE{_called(one)};PARTSTAT=NEEDS-ACTION;RSVP=TRUE:mailto:{envelope_address(one.address)}"
        for one in attendees
    ]
    result: list[str] = []
    for line in calendar.split("\n"):
        result.append(line)
        if line.upper() == "BEGIN:VCALENDAR":
            result.append(f"METHOD:{method}")
        elif line.upper() == "BEGIN:VEVENT":
            result += people
    return method, "".join(map(folded, result))


def _called(one: Mailbox) -> str:
    """The name as a parameter; quotes cannot stand in one (RFC 5545 section 3.2)."""
    name = re.sub(r'["\x00-\x1f\x7f]', "", one.name)
    return f';CN="{name}"' if name else ""
