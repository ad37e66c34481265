"""`barnacle compose` and `barnacle preview`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from email import message_from_bytes, policy
from pathlib import Path

from barnacle.cli.screen import Screen, left_out
from barnacle.core.errors import Unclear
from barnacle.core.picking import Choice
from barnacle.core.text import count, people, visible_lines
from barnacle.jobs import composing
from barnacle.jobs.composing import Composed, Preview, Wish
from barnacle.jobs.desk import Desk


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    if command == "preview":
        parser.description = "Shows what a recipient will see."
        parser.add_argument("message", metavar="mN")
        parser.add_argument("--as", metavar="WHO", dest="who", help="which recipient; without it, the first")
        parser.add_argument("--raw", action="store_true", help="byte for byte what the mail server gets")
        parser.set_defaults(run=run_preview)
        return
    parser.description = (
        "Makes a message in the outbox. It is blind: your own address stands in To, and nobody sees who else gets it. "
        "What you leave out or add is for this message alone; no list changes."
    )
    who = parser.add_argument_group("who gets it")
    who.add_argument(
        "--for", metavar="WHAT", dest="wanted", nargs="+", action="extend", required=True,
        help="lists, label:NAME, people, addresses",
    )  # fmt: skip
    who.add_argument("--without", metavar="WHAT", nargs="+", action="extend", default=[], help="leave these out")
    who.add_argument("--within", metavar="LIST", help="only those who are on this list too")
    who.add_argument("--also", metavar="ADDRESS", nargs="+", action="extend", default=[], help="add these")
    who.add_argument("--pick", action="store_true", help="tick on a checklist who of them gets it")
    who.add_argument("--copy-me", action="store_true", help="send a copy to yourself")
    text = parser.add_argument_group("what it says")
    text.add_argument("--subject", metavar="TEXT", required=True)
    body = text.add_mutually_exclusive_group(required=True)
    body.add_argument("--text", metavar="TEXT")
    body.add_argument("--body", metavar="FILE", type=Path, help="a text file in UTF-8")
    how = parser.add_argument_group("how it goes")
    how.add_argument("--blind", action="store_true", help="nobody sees who else gets it (so it is without saying)")
    how.add_argument("--to-line", choices=("me", "title", "none"), default="me", help="what stands in To (me)")
    how.add_argument(
        "--allow-mention", metavar="ADDRESS", nargs="+", action="extend", default=[],
        help="let this address stand in the message though its owner gets it",
    )  # fmt: skip
    parser.set_defaults(run=run_compose)


def run_compose(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    text = composing.read_body(args.body, args.text)
    if not text.strip():
        raise Unclear("The message has no text. Write it with --text, or name a file with --body.")
    done = composing.compose(
        desk,
        Wish(
            args.wanted, args.subject, text, args.without, args.within, args.also, args.allow_mention, args.to_line,
            args.copy_me,
            _picker() if args.pick else None,
        ),
    )  # fmt: skip
    audience = done.audience
    if not done.held:
        screen.value(
            {
                "message": done.message.number,
                "recipients": len(audience.recipients),
                "people": audience.people,
                "batches": done.batches,
                "mode": "blind",
                "left_out": [{"name": o.name, "address": o.address, "reason": o.reason} for o in audience.left_out],
                "notes": audience.notes,
            }
        )
    _summary(done, screen)
    if done.held:
        kept = f"The message is kept in the outbox as {done.message.number}, held."
        screen.error(f"{done.held} {kept}")
        return 2
    screen.say(f"Look at it: `barnacle preview {done.message.number}`. Send it: `barnacle send {done.message.number}`.")
    return 0


def _picker() -> Callable[[str, list[Choice], set[str]], set[str] | None]:
    from barnacle.cli.picker import pick

    return pick


def _summary(done: Composed, screen: Screen) -> None:
    audience = done.audience
    addresses = count(len(audience.recipients), "address", "addresses")
    at = f" at {addresses}" if len(audience.recipients) != audience.people else ""
    screen.say(f"{done.message.number}: {done.message.subject}")
    screen.say(
        f"For {people(audience.people)}{at}, blind: each sees only you. It goes in "
        f"{count(done.batches, 'batch', 'batches')}."
    )
    left_out(audience.left_out, screen)
    for note in audience.notes:
        screen.say(f"{note}.")


def run_preview(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    shown = composing.preview(desk, args.message, args.who)
    if args.raw and not screen.json:
        sys.stdout.flush()
        sys.stdout.buffer.write(shown.raw)
        return 0
    message = message_from_bytes(shown.raw, policy=policy.default)
    part = message.get_body(("plain",))
    text = part.get_content() if part is not None else ""
    names = [("From", "From"), ("Reply-To", "Reply to"), ("To", "To"), ("Subject", "Subject")]
    headers = [(title, str(message[name])) for name, title in names]
    screen.value(
        {
            "message": shown.message.number,
            "as": {"address": shown.recipient.address, "names": shown.recipient.names},
            "headers": {name: str(value) for name, value in message.items()},
            "text": text,
            "sees_others": False,
            "held": shown.held,
            "raw": shown.raw.decode("ascii"),
        }
    )
    _show(shown, headers, text, screen)
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
    if others:
        screen.say(
            f"\n{who} {verb} nobody else: the other {count(others, 'address', 'addresses')} stand nowhere in it."
        )
    else:
        screen.say(f"\n{who} is the only recipient.")
    if shown.held:
        screen.say(f"\nHeld: {shown.held}")
