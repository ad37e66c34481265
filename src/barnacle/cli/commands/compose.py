"""`barnacle compose`."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path

from barnacle.cli.console.pipes import in_file, out_file
from barnacle.cli.console.screen import Screen, left_out
from barnacle.core.checklist import Line
from barnacle.core.errors import UnclearError
from barnacle.core.mail.message import Mode
from barnacle.core.text import count, listed, people, plain_body, size_of
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.jobs.mail.compose import Composed, Wish

# What `--draft-to` takes in place of a file.
IN_MAILBOX = "imap"

TEMPLATE = """

#: Write the message above; lines that begin with #: are left out, and an empty message is not made.
#: Subject: {subject}
#: In a message to each (--each) {{given}}, {{family}}, {{name}}, {{org}}, {{job}} and {{address}} are filled in;
#: {{given|neighbour}} says what stands there for somebody without.
"""


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Puts a message in the outbox. It is blind unless you say otherwise: your own address is in To, and "
        "nobody sees who else gets it. What you leave out or add applies to this message alone; no list changes. There "
        "is no Cc: everybody would see who stands there. --also adds somebody whom nobody sees. Right behind "
        "`compose`, lists and people need no --for."
    )
    options(parser)
    hand = parser.add_argument_group("to finish it in your own mail program")
    hand.add_argument(
        "--draft-to", metavar="FILE.eml|imap", type=lambda text: text if text == IN_MAILBOX else out_file(text),
        help="a draft for your own mail program, recipients in Bcc: in a file, or with `imap` in your mailbox",
    )  # fmt: skip
    hand.add_argument(
        "--mail-link", action="store_true", help="print a mailto: link that opens it in your mail program"
    )
    parser.set_defaults(run=run_compose)


def options(parser: argparse.ArgumentParser) -> None:
    """What is said of a message, when it is composed or changed."""
    who = parser.add_argument_group("who gets it")
    who.add_argument(
        "--for", metavar="WHAT", dest="wanted", nargs="+", action="extend", help="lists, label:NAME, people, addresses"
    )
    who.add_argument(
        "--post", action="store_true", help="write to the address of a house list, and let the hub pass it on"
    )
    who.add_argument("--without", metavar="WHAT", nargs="+", action="extend", help="leave these out")
    who.add_argument("--within", metavar="LIST", help="only those who are on this list too")
    who.add_argument("--also", metavar="ADDRESS", nargs="+", action="extend", help="add these")
    who.add_argument("--pick", action="store_true", help="choose who gets it on a checklist")
    who.add_argument("--copy-me", action="store_true", default=None, help="send a copy to yourself")
    who.add_argument(
        "--like", metavar="mN", help="start from that message: its recipients and text, except what you give here"
    )
    text = parser.add_argument_group("what it says")
    text.add_argument("--use", metavar="NAME", help="begin with a text that you kept (`barnacle text`)")
    text.add_argument("--subject", metavar="TEXT", help="the subject")
    body = text.add_mutually_exclusive_group()
    body.add_argument("--text", metavar="TEXT", help="the text itself; - reads standard input")
    body.add_argument(
        "--body", metavar="FILE", type=Path,
        help="a file with the text: plain, Markdown (.md), a document (.docx, .odt), a web page, or a draft from a "
        "mail program (.eml); - for standard input; with neither, your editor opens",
    )  # fmt: skip
    text.add_argument("--markdown", action="store_true", default=None, help="the text is Markdown: send HTML as well")
    text.add_argument("--attach", metavar="FILE", type=in_file, nargs="+", action="extend", help="attach these files")
    text.add_argument("--invite", metavar="FILE.ics", type=in_file, help="a calendar entry that recipients can add")
    how = parser.add_argument_group("how it is sent")
    how.add_argument(
        "--from", metavar="SENDER", dest="sender", help="as one of your senders (`barnacle setup --sender`), or me"
    )
    how.add_argument(
        "--reply-to", metavar="ADDRESS", help="where answers go, if not to the sender; empty: to the sender"
    )
    mode = how.add_mutually_exclusive_group()
    for name, purpose in (
        ("blind", "one message; nobody sees who else gets it (the default)"),
        ("each", "a separate message for each, with fields such as {given|neighbour} filled in"),
        ("open", "one message; everybody sees everybody's address"),
    ):
        mode.add_argument(f"--{name}", dest="mode", action="store_const", const=name, help=purpose)
    how.add_argument(
        "--open-to", metavar="N", type=int, help="confirm how many people will see each other in an open message"
    )
    how.add_argument("--to-line", choices=("me", "title", "none"), help="what a blind message has in To (default: me)")
    how.add_argument(
        "--allow-file", metavar="NAME", nargs="+", action="extend",
        help="send this attachment even though it could not be searched for addresses",
    )  # fmt: skip
    how.add_argument(
        "--allow-mention", metavar="ADDRESS", nargs="+", action="extend",
        help="allow this address in the message although its owner gets it",
    )  # fmt: skip


def wish_of(args: argparse.Namespace, desk: Desk, screen: Screen, new: bool) -> Wish:
    """What the options say. Without a text a new message is written in the editor."""
    from barnacle.jobs.mail import compose  # `outbox` has these options too, and mostly only shows a table
    from barnacle.jobs.mail.body import Body, read_body

    text, body = None, Body("")
    if args.body or args.text is not None:
        body = read_body(args.body, args.text)
        text = body.text
        name = "The text" if args.body in (None, Path("-")) else str(args.body)
        if body.guessed:
            screen.say(f"{name} was read as {body.guessed}.")
        if body.left_out:
            screen.warn(f"{name} is taken without {listed(body.left_out, 9)}; --attach sends files along.")
    elif new and not args.like and not args.use:
        from barnacle.cli.console.editor import write_text

        text = plain_body(write_text(TEMPLATE.format(subject=args.subject or "")), "The text")
    if text is not None and not text.strip():
        raise UnclearError("The message has no text. Give it with --text, or name a file with --body.")
    subject = args.subject
    if subject is None and new and not args.like and not args.use:
        subject = body.subject or None
    wanted, mode = args.wanted, Mode(args.mode) if args.mode else None
    if args.post:
        from barnacle.jobs.sharing.house import addresses_of

        if not wanted or args.pick or args.without or args.within:
            raise UnclearError(
                "With --post the hub decides who gets it: name the list with --for, and nobody to leave out."
            )
        wanted, mode = addresses_of(desk, wanted), Mode.EACH
    return compose.Wish(
        wanted=wanted, without=args.without, within=args.within, also=args.also, like=args.like,
        pick=_picker() if args.pick else None, copy_me=args.copy_me,
        subject=subject, text=text, markdown=args.markdown or body.markdown, attach=args.attach,
        enclosed=body.enclosed, invite=args.invite,
        mode=mode, open_to=args.open_to, to=args.to_line, allowed=args.allow_mention,
        allowed_files=args.allow_file, sender=args.sender, reply_to=args.reply_to, use=args.use,
    )  # fmt: skip


def run_compose(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.wanted is None and args.like is None:
        raise UnclearError(
            "Who is the message for? Name them with --for LIST, or --like mN for the same people as another message."
        )
    if args.subject is None and args.like is None and args.use is None and args.body is None:
        raise UnclearError("The message needs a subject: add --subject TEXT.")
    from barnacle.jobs.mail import compose

    wish = wish_of(args, desk, screen, new=True)
    wish.link, wish.into_mailbox = args.mail_link, args.draft_to == IN_MAILBOX
    wish.draft_to = None if wish.into_mailbox else args.draft_to
    done = compose.compose(desk, wish)
    if done.held or not (args.draft_to or args.mail_link):
        return tell(done, screen)
    number = done.message.number
    if done.trouble:
        screen.error(f"{done.trouble} The message is in the outbox as {number}.")
        return 2
    file = str(wish.draft_to or "")
    handed = {"message": number, "link": done.link, "file": file, "into_mailbox": wish.into_mailbox}
    screen.value({**handed, **_counts(done)})
    if done.link:
        screen.lines(done.link)
        screen.say("Open it, check it, and send it from your mail program. The recipients are in Bcc.")
        return 0
    _summary(done, screen)
    hidden = f", with {count(len(done.audience.recipients), 'address', 'addresses')} in Bcc"
    if wish.into_mailbox:
        screen.lines(f"The message is {done.message.content.handed}{hidden if done.message.mode == 'blind' else ''}.")
        screen.say("Open it there, check it, and send it from your mail program, which removes Bcc.")
        return 0
    screen.lines(
        f"{'Standard output' if screen.aside else args.draft_to} has the message"
        f"{hidden if done.message.mode == 'blind' else ''}."
    )
    screen.say("It is for your own mail program only, which removes Bcc when it sends. Do not pass the file on.")
    return 0


def tell(done: Composed, screen: Screen) -> int:
    """Say what a message came to. Returns the exit code."""
    if not done.held:
        screen.value({"message": done.message.number, **_counts(done)})
    _summary(done, screen)
    if done.held:
        kept = f"The message is in the outbox as {done.message.number}, held."
        screen.error(f"{done.held} {kept}")
        return 2
    screen.say(
        f"Look at it: `barnacle preview {done.message.number}`. Then send it: `barnacle send {done.message.number}`."
    )
    return 0


def _counts(done: Composed) -> dict[str, object]:
    audience = done.audience
    return {
        "recipients": len(audience.recipients),
        "people": audience.people,
        "batches": done.batches,
        "mode": done.message.mode,
        "left_out": [{"name": o.name, "address": o.address, "reason": o.reason} for o in audience.left_out],
        "notes": audience.notes,
        "warnings": done.examined.warnings,
        "size": done.size,
        "from": str(done.message.content.sender),
    }


def _picker() -> Callable[[str, list[Line], set[str]], set[str] | None]:
    from barnacle.cli.console.picker import pick

    return pick


def _summary(done: Composed, screen: Screen) -> None:
    audience = done.audience
    addresses = count(len(audience.recipients), "address", "addresses")
    at = f" at {addresses}" if len(audience.recipients) != audience.people else ""
    screen.say(f"{done.message.number}: {done.message.subject}")
    if done.as_somebody:
        screen.say(f"From {done.message.content.sender}.")
    if done.message.content.reply_to:
        screen.say(f"Answers go to {done.message.content.reply_to}.")
    how = {
        "blind": f"blind: each sees only you. It goes out in {count(done.batches, 'batch', 'batches')}",
        "each": "separately: each gets a message of their own",
        "open": "open: everybody sees everybody's address",
    }[done.message.mode]
    screen.say(f"For {people(audience.people)}{at}, {how}.")
    if names := [one.name for one in done.message.content.enclosures]:
        size = f", {size_of(done.size)} in all" if done.size > 100_000 else ""
        screen.say(f"With {listed(names)}{size}.")
    for note in audience.notes:
        screen.say(f"{note}.")
    left_out(audience.left_out, screen)
    for warning in done.examined.warnings:
        screen.say(warning)
