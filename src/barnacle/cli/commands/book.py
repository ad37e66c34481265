"""`barnacle book`."""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.text import count, listed, people, visible
from barnacle.jobs.desk import book_care
from barnacle.jobs.desk.desk import Desk

_SHOWN = 20
_NAMES = {
    "contact": ("contact", None), "list": ("list", None), "member": ("membership", None),
    "message": ("message", None), "delivery": ("recipient of messages", "recipients of messages"),
    "attachment": ("attachment", None), "action": ("line of the history", "lines of the history"),
}  # fmt: skip


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Looks after the book, the one file that your contacts, lists and messages are in."
    verbs = parser.add_subparsers(title="verbs", metavar="VERB", required=True, parser_class=type(parser))
    check = verbs.add_parser("check", parents=[common], help="look whether it is sound")
    check.description = (
        "Looks at everything in the book: the file, its checksums, and whether what is kept for finding and counting "
        "fits your contacts and lists. Changes nothing."
    )
    check.set_defaults(run=_check)
    copy = verbs.add_parser("copy", parents=[common], help="copy it to a file, also while it is in use")
    copy.description = (
        "Copies the book as it is now to one file, with your settings in it. `barnacle book restore FILE` puts it "
        "back, here or on another computer; --book FILE uses it where it is. With `barnacle settings copies.weekly "
        "yes` a copy is made each week, beside the book."
    )
    copy.add_argument("file", metavar="FILE", type=Path)
    copy.add_argument("--no-secrets", action="store_true", help="leave out passwords and the hub's token")
    copy.set_defaults(run=_copy)
    restore = verbs.add_parser("restore", parents=[common], help="put a copy in its place")
    restore.description = "Puts a copy in the book's place. The book that is there now stays, under another name."
    restore.add_argument("file", metavar="FILE", type=Path)
    restore.add_argument("--settings", action="store_true", help="also replace settings that are there now")
    restore.set_defaults(run=_restore)
    mend = verbs.add_parser("mend", parents=[common], help="save what can be read of a damaged one")
    mend.description = (
        "Saves all that can be read of a damaged book into a new one, and says what could not be read. The damaged "
        "one stays as it is. What became of a recipient counts as unknown where its record cannot be trusted."
    )
    mend.add_argument("file", metavar="FILE", type=Path, help="the new book")
    mend.set_defaults(run=_mend)


def _check(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.working("Looking"):
        found = book_care.check(desk)
    screen.value({"counts": found.counts, "findings": [one._asdict() for one in found.findings]})
    counts = found.counts
    told = listed([
        people(counts["contact"]), count(counts["list"], "list"), count(counts["on_list"], "membership"),
        count(counts["message"], "message"), count(counts["delivery"], "recipient"),
    ])  # fmt: skip
    if not found.findings:
        screen.lines(f"The book is sound: {told} looked at.")
        return 0
    screen.lines(f"The book is not sound: {count(len(found.findings), 'finding')} in {told}.")
    screen.say()
    screen.table(("What", "What is wrong"), found.findings[:_SHOWN], below=("What is wrong",))
    if len(found.findings) > _SHOWN:
        screen.say(f"… and {len(found.findings) - _SHOWN} more (--json has them).")
    screen.say()
    screen.say("`barnacle book mend FILE` saves what can be read into a new book, and works out the rest anew.")
    return 1


def _copy(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    came = book_care.copy(desk, args.file, not args.no_secrets, screen.yes)
    screen.value({"file": str(args.file), "with": came})
    secrets = [name for name in came if name != "barnacle.toml"]
    screen.lines(f"Copied to {visible(str(args.file))}{', with your settings' if came else ''}.")
    if secrets:
        screen.say(f"What lets you in elsewhere is in it too ({listed(secrets)}); --no-secrets leaves that out.")
    screen.say(f"`barnacle book restore {shlex.quote(str(args.file))}` puts it back.")
    return 0


def _restore(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    book_care.need_copy(args.file)
    if desk.path.exists() and not screen.confirm(
        f"Put {visible(str(args.file))} in the place of {visible(str(desk.path))}?",
        "Add --yes to do it. The book that is there now stays, under another name.",
    ):
        screen.say("Nothing was changed.")
        return 1
    done = book_care.restore(desk, args.file, args.settings)
    screen.value(
        {
            "book": str(desk.path),
            "before": str(done.aside) if done.aside else None,
            "written": [str(path) for path in done.written],
            "left": [str(path) for path in done.left],
            "commands": done.commands,
        }
    )
    screen.lines(f"{visible(str(desk.path))} is now as it was copied.")
    if done.aside:
        screen.say(f"What was there before is {visible(str(done.aside))}.")
    if done.written:
        screen.say(f"Written too: {listed([visible(str(path)) for path in done.written])}.")
    for command in done.commands:
        screen.say(
            f"These settings run `{visible(command, 100)}` for your password. Check that it is a command of yours."
        )
    if done.left:
        screen.say(f"Left as they are: {listed([visible(str(path)) for path in done.left])}; --settings replaces them.")
    return 0


def _mend(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.working("Reading"):
        done = book_care.mend(desk, args.file)
    screen.value({"file": str(args.file), "saved": done.saved, "lost": done.lost})
    saved = [count(done.saved.get(name, 0), *words) for name, words in _NAMES.items() if done.saved.get(name)]
    screen.lines(f"Saved in {visible(str(args.file))}: {listed(saved, len(saved)) or 'nothing'}.")
    for sentence in done.lost[:_SHOWN]:
        screen.lines(f"  {visible(sentence[:1].upper() + sentence[1:])}.")
    if len(done.lost) > _SHOWN:
        screen.lines(f"  … and {len(done.lost) - _SHOWN} more (--json has them).")
    screen.say()
    here, new = shlex.quote(str(desk.path)), shlex.quote(str(args.file))
    screen.say(f"The damaged book is as it was. To use the new one: `barnacle book restore {new} --book {here}`")
    return 1 if done.lost else 0
