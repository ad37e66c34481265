"""A calendar entry that goes along with a message (RFC 5545), so that mail programs offer it (RFC 6047)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.core.addresses import Mailbox, envelope_address
from barnacle.core.errors import FileError
from barnacle.core.text import has_unsafe, visible

LIMIT = 200_000
# Fields that name people, or ask for an answer to somebody else, give way to those of this message.
_DROPPED = ("METHOD", "ORGANIZER", "ATTENDEE", "REQUEST-STATUS", "CONTACT")


def read_invitation(text: str, name: str) -> str:
    """The calendar of a file with the people taken out, its lines unfolded (RFC 5545 section 3.1). Raises FileError
    where it is no calendar with an entry in it."""
    unfolded = re.sub(r"\r?\n[ \t]", "", text.lstrip("\ufeff"))
    lines = [line for line in re.split(r"\r?\n", unfolded) if line.strip()]
    begins = [line.upper() for line in lines]
    inside = {line.partition(":")[0].partition(";")[0] for line in begins}
    if not lines or begins[0] != "BEGIN:VCALENDAR" or begins[-1] != "END:VCALENDAR":
        raise FileError(f"{visible(name)} is no calendar file. Save the entry from your calendar as .ics.")
    if "BEGIN:VEVENT" not in begins or not {"UID", "DTSTART"} <= inside:
        raise FileError(f"{visible(name)} has no entry with a time in it. Save the entry from your calendar as .ics.")
    if any(has_unsafe(line.replace("\t", " ")) for line in lines):
        raise FileError(f"{visible(name)} has a control character in it, which mail programs could stumble over.")
    return "\n".join(line for line in lines if line.partition(":")[0].partition(";")[0].upper() not in _DROPPED)


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
    return method, "".join(f"{_folded(line)}\r\n" for line in result)


def _called(one: Mailbox) -> str:
    """The name as a parameter; quotes cannot stand in one (RFC 5545 section 3.2)."""
    name = re.sub(r'["\x00-\x1f\x7f]', "", one.name)
    return f';CN="{name}"' if name else ""


def _folded(line: str) -> str:
    """RFC 5545 section 3.1: no line over 75 octets, none cut inside a letter."""
    pieces, rest = [], line.encode("utf-8", "replace")
    while len(rest) > 74:
        cut = 74
        while rest[cut] & 0xC0 == 0x80:
            cut -= 1
        pieces.append(rest[:cut])
        rest = rest[cut:]
    return b"\r\n ".join([*pieces, rest]).decode("utf-8")
