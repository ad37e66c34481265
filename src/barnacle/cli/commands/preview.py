"""`barnacle preview`."""

from __future__ import annotations

import argparse
import sys
from email import message_from_bytes, policy

from barnacle.cli.console.screen import Screen
from barnacle.core.mail.invitation import entry_of
from barnacle.core.text import count, listed, size_of, visible_lines
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import preview
from barnacle.jobs.mail.holds import FileLooked
from barnacle.jobs.mail.preview import Preview


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Shows what a recipient will see."
    parser.add_argument("message", metavar="mN", nargs="?", help="a message by its number; without it, the last one")
    parser.add_argument("--as", metavar="WHO", dest="who", help="which recipient; without it, the first")
    parser.add_argument("--why", metavar="WHO", help="why somebody gets it, and at that address")
    parser.add_argument("--raw", action="store_true", help="exactly what the mail server gets, byte for byte")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    shown = preview.preview(desk, args.message, args.why or args.who)
    if args.raw and not screen.json:
        sys.stdout.flush()
        sys.stdout.buffer.write(shown.raw)
        return 0
    message = message_from_bytes(shown.raw, policy=policy.default)
    part = message.get_body(("plain",))
    text = part.get_content().replace("\r\n", "\n") if part is not None else ""
    names = [("From", "From"), ("Reply-To", "Reply to"), ("To", "To"), ("Subject", "Subject")]
    headers = [(title, str(message[name])) for name, title in names]
    attached = [str(one.get_filename()) for one in message.iter_attachments()]
    headers += [("Attached" if n == 0 else "", _file(one, shown)) for n, one in enumerate(_files(shown))]
    if shown.message.content.invite:
        headers.append(("Calendar", _entry(shown)))
    if message.get_body(("html",)) is not None:
        headers.append(("As", "text, and HTML made from it"))
    if args.why:
        return _why(shown, screen)
    screen.value(
        {
            "message": shown.message.number,
            "as": {"address": shown.recipient.address, "names": shown.recipient.names},
            "headers": {name: str(value) for name, value in message.items()},
            "text": text,
            "attached": attached,
            "sees_others": shown.message.mode == "open",
            "files": [one._asdict() for one in _files(shown)],
            "warnings": shown.examined.warnings,
            "held": shown.examined.held,
            "raw": shown.raw.decode("ascii"),
        }
    )
    _show(shown, headers, text, screen)
    return 0


def _files(shown: Preview) -> list[FileLooked]:
    """The files that go along. Of a message that is out already, what was searched then is not told again."""
    if shown.message.begun is not None:
        return [FileLooked(one.name, one.size) for one in shown.message.content.enclosures]
    return list(shown.examined.files)


def _file(one: FileLooked, shown: Preview) -> str:
    """Name, size, and how far a file was searched."""
    size = size_of(one.size)
    if one.unsearched:
        return f"{one.name}, {size}: could not be searched ({one.unsearched})"
    if not shown.examined.searched:
        return f"{one.name}, {size}"
    return f"{one.name}, {size}: searched{f', but for {listed(one.unread)}' if one.unread else ''}"


def _entry(shown: Preview) -> str:
    """The calendar entry of a message, in a line: what it is, when, and what it does there."""
    entry = entry_of(shown.message.content.invite or "")
    does = {"CANCEL": "cancels the entry", "REPLY": "answers an invitation"}.get(entry.method, "an entry")
    return f"{entry.title}, {entry.when} ({does})" if entry.when else f"{entry.title} ({does})"


def _searched(shown: Preview, others: int) -> str:
    """How the others are kept from view, and no more than was looked at."""
    the_others = f"the other {count(others, 'address', 'addresses')}"
    verb = "is" if others == 1 else "are"
    if shown.message.begun is not None:
        return f"{the_others} {verb} only in the envelope. The message was searched for them before it was sent."
    if not shown.examined.searched:
        return f"{the_others} {verb} only in the envelope."
    files = shown.examined.files
    locked = sum(bool(one.unsearched) for one in files)
    what = ["its header", "its text", *([count(len(files) - locked, "file")] if len(files) > locked else [])]
    none = f"none of {the_others} was" if others > 1 else f"{the_others} was not"
    rest = f"; {count(locked, 'file')} could not be searched" if locked else ""
    return f"{none} found in {listed(what)}{rest}."


def _why(shown: Preview, screen: Screen) -> int:
    """Which part of the choice brought a recipient in, and why at that address."""
    one = shown.recipient
    screen.value({"message": shown.message.number, "address": one.address, "names": one.names, "reasons": one.reasons})
    who = " and ".join(one.names) or one.address
    reasons = "; ".join(dict.fromkeys(one.reasons)) or "as it was when sending started"
    get = "get" if len(one.names) > 1 else "gets"
    screen.lines(f"{who} {get} {shown.message.number} at {one.address}, from: {reasons}.")
    return 0


def _show(shown: Preview, headers: list[tuple[str, str]], text: str, screen: Screen) -> None:
    who = " and ".join(shown.recipient.names) or shown.recipient.address
    at = f", at {shown.recipient.address}" if shown.recipient.names else ""
    screen.say(f"{shown.message.number} as {who} will see it{at}:\n")
    for title, value in headers:
        screen.lines(f"  {title:<10}{value}")
    screen.lines("")
    for line in visible_lines(text.rstrip("\n")).split("\n"):
        screen.lines(f"  {line}")
    verb = "see" if len(shown.recipient.names) > 1 else "sees"
    others = shown.recipients - 1
    if shown.message.mode == "open" and others:
        screen.say(f"\n{who} {verb} all {count(shown.recipients, 'address', 'addresses')}, and so does everybody else.")
    elif shown.message.mode == "each" and others:
        screen.say(f"\nThis message is theirs alone; {count(others, 'other', 'others')} get their own.")
    elif others:
        screen.say(f"\n{who} {verb} nobody else: {_searched(shown, others)}")
    else:
        screen.say(f"\n{who} is the only recipient.")
    for warning in shown.examined.warnings:
        screen.say(warning)
    if shown.examined.held:
        screen.say(f"\nHeld: {shown.examined.held}")
