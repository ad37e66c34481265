"""A calendar entry that goes along with a message (RFC 5545), so that mail programs offer it (RFC 6047)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.core.addresses import Mailbox, envelope_address
from barnacle.core.contentline import folded
from barnacle.core.errors import FileError
from barnacle.core.text import has_unsafe, tidy, visible
from barnacle.core.typed import NamedTuple

LIMIT = 200_000
# What of a file's method is kept with the message.
_METHOD, _ANSWER = "X-BARNACLE-METHOD", "X-BARNACLE-ANSWER"
# What a file may ask of its readers (RFC 5546 section 1.4); the others speak to an organizer alone, or of one's own.
_INVITES = ("", "PUBLISH", "REQUEST", "ADD")
_KEPT = ("CANCEL", "REPLY")
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
        raise FileError(f"{shown} is not a calendar file. Save the entry from your calendar as .ics.")
    if any(has_unsafe(line.replace("\t", " ")) for line in lines):
        raise FileError(f"{shown} has a control character in it, which some mail programs cannot read.")
    method = next((value.strip().upper() for value in _values(lines, "METHOD")), "")
    if method not in (*_INVITES, *_KEPT):
        raise FileError(
            f"{shown} is a {visible(method, 20)} between two people, and not meant for a list. Attach it as a "
            "file (--attach), or save the entry itself as .ics."
        )
    dropped: tuple[str, ...] = _DROPPED
    if method == "REPLY":
        # Whose invitation it answers, and how, is what it says; who answers is the sender.
        answer = re.search(r"PARTSTAT=([A-Z-]+)", "\n".join(line for line in lines if _name(line) == "ATTENDEE"), re.I)
        dropped = tuple(name for name in _DROPPED if name != "ORGANIZER")
        lines.insert(1, f"{_ANSWER}:{answer[1].upper() if answer else 'ACCEPTED'}")
    if method in _KEPT:
        lines.insert(1, f"{_METHOD}:{method}")
    kept = "\n".join(line for line in lines if _name(line) not in dropped)
    try:
        calendar = icalendar.Calendar.from_ical(kept)
    except (ValueError, KeyError, IndexError, TypeError, RecursionError) as error:
        raise FileError(
            f"{shown} is a damaged calendar file ({_why(error)}). Save the entry from your calendar again."
        ) from error
    events = calendar.walk("VEVENT")
    if not events or any("UID" not in event or "DTSTART" not in event for event in events):
        raise FileError(f"{shown} has no entry with a time in it. Save the entry from your calendar as .ics.")
    wrong = [(prop, why) for part in calendar.walk() for prop, why in part.errors]
    if wrong:
        prop, why = wrong[0]
        raise FileError(
            f"{shown} has a damaged {visible(str(prop or 'line'), 30)} ({_why(why)}). Save the entry again."
        )
    return kept


def _name(line: str) -> str:
    return re.split("[:;]", line, maxsplit=1)[0].upper()


def _values(lines: Sequence[str], name: str) -> list[str]:
    return [line.partition(":")[2] for line in lines if _name(line) == name]


class Entry(NamedTuple):
    """A calendar's first entry in words: its method (empty where it only makes an entry known), title and beginning."""

    method: str
    title: str
    when: str


def entry_of(calendar: str) -> Entry:
    """What a calendar that `read_invitation` gave is about."""
    lines = calendar.split("\n")
    method = next(iter(_values(lines, _METHOD)), "")
    title = next(iter(_values(lines, "SUMMARY")), "a calendar entry")
    start = next(iter(_values(lines[lines.index("BEGIN:VEVENT") :] if "BEGIN:VEVENT" in lines else [], "DTSTART")), "")
    found = re.match(r"(\d{4})(\d\d)(\d\d)(?:T(\d\d)(\d\d))?", start)
    when = ""
    if found:
        when = f"{found[1]}-{found[2]}-{found[3]}" + (f" {found[4]}:{found[5]}" if found[4] else "")
        when += " UTC" if start.endswith("Z") else ""
    return Entry(method, re.sub(r"\\(.)", r"\1", title.replace("\\n", " ")), when)


def _why(error: object) -> str:
    return visible(tidy(str(error), 120)).rstrip(".")


def invitation(calendar: str, sender: Mailbox, attendees: Sequence[Mailbox] = ()) -> tuple[str, str]:
    """The method and the text of an entry as one recipient gets it: with `attendees` a request to these (RFC 5546
    section 3.2.2), without any an entry that is made known (section 3.2.1). A file that takes an entry back (section
    3.2.5) or answers an invitation (section 3.2.3) does so for whoever gets it."""
    lines = calendar.split("\n")
    said = next(iter(_values(lines, _METHOD)), "")
    answer = next(iter(_values(lines, _ANSWER)), "")
    method = said or ("REQUEST" if attendees else "PUBLISH")
    organizer = f"ORGANIZER{_called(sender)}:mailto:{envelope_address(sender.address)}"
    if method == "REPLY":
        people = [f"ATTENDEE{_called(sender)};PARTSTAT={answer}:mailto:{envelope_address(sender.address)}"]
    else:
        asked = ";PARTSTAT=NEEDS-ACTION;RSVP=TRUE" if method == "REQUEST" else ""
        people = [
            organizer,
            *(f"ATTENDEE{_called(one)}{asked}:mailto:{envelope_address(one.address)}" for one in attendees),
        ]
    result: list[str] = []
    for line in lines:
        if _name(line) in (_METHOD, _ANSWER):
            continue
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
