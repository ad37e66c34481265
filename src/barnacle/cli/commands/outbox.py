"""`barnacle outbox`."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from barnacle.cli.console.outcome import outcome_value, show_outcome, stands
from barnacle.cli.console.parser import Unread
from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.errors import UnclearError
from barnacle.core.mail.delivery import in_words
from barnacle.core.text import count
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import outbox
from barnacle.jobs.mail.outbox import Outcome

_LAST = 30


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Without a verb: the last messages, and all that are not sent yet, with their state."
    parser.add_argument("--all", action="store_true", help="all messages, not only the last 30")
    parser.set_defaults(run=run_outbox)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)
    show = verbs.add_parser("show", help="what became of each recipient", parents=[common])
    show.add_argument("message", metavar="mN")
    show.set_defaults(run=run_show)

    find = verbs.add_parser(
        "find", help="the messages in a state, to a list or a person, or with a word in them", parents=[common]
    )
    find.add_argument(
        "what", metavar="WHAT", nargs="*",
        help="waiting, due, sent, refused and the like; a list, a person, words of the subject or text; or since a day",
    )  # fmt: skip
    find.add_argument("--since", metavar="DATE", default="", help="only since that day (2026-11-23, Monday)")
    find.add_argument("--all", action="store_true", help="all that are found, not only the last 30")
    find.set_defaults(run=run_find)

    edit = verbs.add_parser("edit", help="change a waiting message, with the options of compose", parents=[common])
    edit.add_argument("message", metavar="mN")
    if not isinstance(edit, Unread):
        from barnacle.cli.commands import compose

        compose.options(edit)
    edit.set_defaults(run=run_edit)
    remove = verbs.add_parser("remove", help="remove messages that were not sent", parents=[common])
    remove.add_argument("messages", metavar="mN", nargs="+")
    remove.set_defaults(run=run_remove)


def run_outbox(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    rows, total = outbox.latest(desk, None if args.all or screen.json else _LAST, recipients=screen.json)
    _show(rows, screen)
    if not rows:
        screen.say('The outbox is empty. `barnacle compose --for LIST --subject "…" --text "…"` makes a message.')
    elif len(rows) < total:
        older = len(rows) - _LAST
        open_ones = f", and {count(older, 'older one')} not sent to everybody" if older > 0 else ""
        screen.say(f"\nThe last {_LAST} of {total:,} messages{open_ones}; --all shows them all.")
    return 0


def run_find(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.mail import find_messages

    most = None if args.all or screen.json else _LAST
    found = find_messages.find(desk, " ".join(args.what), args.since, most, recipients=screen.json)
    number = len(found.messages) + found.older
    screen.say(f"{count(number, 'message') if number else 'No messages'} {found.about}".rstrip() + ".:"[number > 0])
    _show(found.messages, screen)
    if found.older:
        screen.say(f"\nThe last {len(found.messages)} of {number:,}; --all shows them all.")
    return 0


def _show(rows: Sequence[Outcome], screen: Screen) -> None:
    screen.value([{**outcome_value(one), "created": one.message.created} for one in rows])
    screen.table(
        ("Message", "Subject", "State", "Recipients", "Composed"),
        [
            (
                one.message.number,
                one.message.subject,
                stands(one),
                in_words(one.counts),
                local_time(one.message.created),
            )
            for one in rows
        ],
    )


def run_edit(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.cli.commands import compose
    from barnacle.jobs.mail import compose as composing

    if args.like:
        raise UnclearError("--like is for `barnacle compose`; this message already exists.")
    wish = compose.wish_of(args, desk, screen, new=False)
    if wish.changes_nothing:
        raise UnclearError(
            f"What is to be changed is said with the options of compose: `barnacle outbox edit {args.message} "
            "--subject TEXT`. Nothing was changed."
        )
    return compose.tell(composing.compose(desk, wish, args.message), screen)


def run_remove(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.mail import compose as composing

    removed = composing.remove(desk, args.messages)
    values = [{"message": message.number, "removed": True} for message in removed]
    screen.value(values if len(args.messages) > 1 else values[0])
    for message in removed:
        screen.lines(f"{message.number}, {message.subject}, is no longer in the outbox.")
    screen.say(f"`barnacle undo` brings {'it' if len(removed) == 1 else 'them'} back.")
    return 0


def run_show(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    result = outbox.show(desk, args.message)
    screen.value(outcome_value(result))
    show_outcome(result, screen, every=True)
    return 0
