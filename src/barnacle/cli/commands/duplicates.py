"""`barnacle duplicates`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.contact import Contact
from barnacle.core.errors import UnclearError
from barnacle.core.matching.judging import CERTAIN
from barnacle.core.matching.wording import in_words
from barnacle.core.text import count, fold, listed, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import ALL
from barnacle.jobs.desk.separate_names import UID_SHOWN
from barnacle.jobs.people import duplicates, edit
from barnacle.jobs.people.duplicates import Duplicates

SHOWN = 9
LOOKING = "Comparing everybody"


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Without a verb: who may be in the book twice, the most certain first, and why."
    parser.set_defaults(run=run)
    in_list = "only groups with somebody from this list"
    parser.add_argument("--in", metavar="LIST", dest="in_list", help=in_list)
    parser.add_argument("--most", metavar="N", type=int, help=f"show at most this many groups (on a terminal {SHOWN})")
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)

    def verb(name: str, purpose: str, run: Callable[..., int]) -> argparse.ArgumentParser:
        made = verbs.add_parser(name, help=purpose, parents=[common])
        made.set_defaults(run=run)
        return made

    review = verb("review", "compare them side by side and decide", run_review)
    merge = verb("merge", "merge those that are certain, or those you name", run_merge)
    for made in (review, merge):
        made.add_argument("--in", metavar="LIST", dest="in_list", help=in_list)
    merge.add_argument("who", metavar="WHO", nargs="*", help="a name, an address or a uid; the first stays")
    merge.add_argument("--certain", action="store_true", help="merge every group that is certain, as one change")
    apart = verb("apart", "these are different people, so never ask again; without names, all such pairs", run_apart)
    apart.add_argument("who", metavar="WHO", nargs="*", help="a name, an address or a uid")
    apart.add_argument("--forget", action="store_true", help="ask about them again")


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    with screen.progress(LOOKING) as tick:
        groups = duplicates.find(desk, args.in_list, tick)
    screen.value({"groups": [_value(group) for group in groups]})
    if not groups:
        screen.lines("Nobody seems to be in the book twice.")
        return 0
    if not screen.is_terminal:
        screen.table(
            ("Verdict", "Names", "Addresses", "For", "Against", "Uids"),
            [
                (
                    group.verdict, " | ".join(c.title for c in group.contacts),
                    " | ".join(c.preferred or "" for c in group.contacts),
                    "; ".join(group.reasons), "; ".join(group.against), " ".join(c.uid for c in group.contacts),
                )
                for group in groups[: args.most]
            ],
        )  # fmt: skip
        return 0
    most = args.most or SHOWN
    for number, group in enumerate(groups[:most], 1):
        _show(number, group, screen)
    if len(groups) > most:
        screen.lines(f"… and {count(len(groups) - most, 'more group')}; --most N shows more, --json all.")
    _way_on(groups, screen)
    return 0


def _value(group: Duplicates) -> dict[str, object]:
    return {
        "contacts": [c.uid for c in group.contacts],
        "names": [c.title for c in group.contacts],
        "verdict": group.verdict,
        "score": group.score,
        "for": group.reasons,
        "against": group.against,
    }


def _show(number: int, group: Duplicates, screen: Screen) -> None:
    for place, line in enumerate(_lines(group.contacts)):
        screen.lines(f"{'' if place else number:>3}  {line}")
    screen.lines(f"     {group.verdict}: {in_words(group.reasons, group.against)}")
    screen.lines("")


def _lines(members: list[Contact]) -> list[str]:
    """A line for each that tells it from the others."""
    lines = []
    for one in members:
        addresses = ", ".join(a.address for a in one.addresses[:2]) or "no address"
        phones = one.phones[0].number if one.phones else ""
        parts = (one.title, addresses, phones, one.org)
        lines.append(" · ".join(dict.fromkeys(visible(part) for part in parts if part)))
    twice = {line for line in lines if lines.count(line) > 1}
    return [
        f"{line} · {one.uid[-UID_SHOWN:]}" if line in twice else line for line, one in zip(lines, members, strict=True)
    ]


def _way_on(groups: list[Duplicates], screen: Screen) -> None:
    certain = sum(group.verdict == CERTAIN for group in groups)
    likely = len(groups) - certain
    told = [f"{certain} certain"] * bool(certain) + [f"{likely} likely"] * bool(likely)
    screen.say(f"{count(len(groups), 'group')}: {listed(told)}.")
    if certain:
        screen.say("`barnacle duplicates merge --certain` merges those that are certain; one `undo` reverses it.")
    screen.say("`barnacle duplicates review` shows two side by side and asks.")


def run_merge(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if bool(args.who) == args.certain or (len(args.who) == 1 and fold(args.who[0]) in ALL):
        raise UnclearError("Give --certain to merge all that are certain, or name those who are one person.")
    if args.who:
        result = edit.merge_contacts(desk, args.who)
        screen.value({"merged": [{"uid": result.contact.uid, "name": result.contact.title, "contacts": len(args.who)}]})
        screen.lines(f"{result.contact.title} is one contact now. `barnacle undo` separates them again.")
        for note in result.notes:
            screen.say(note)
        return 0
    with screen.progress(LOOKING) as tick:
        merged, left = duplicates.merge_certain(desk, args.in_list, tick)
    screen.value(
        {
            "merged": [{"uid": one.uid, "name": one.name, "contacts": one.number} for one in merged],
            "left": left,
        }
    )
    if merged:
        gone = sum(one.number - 1 for one in merged)
        screen.lines(
            f"{count(len(merged), 'person', 'people')} had {count(gone, 'contact')} too many; now they have one each:"
        )
        screen.table(
            ("Name", "Contacts", "Lists"), [(m.name, m.number, " ".join(m.notes)) for m in merged[: 5 * SHOWN]]
        )
        if len(merged) > 5 * SHOWN:
            screen.say(f"… and {len(merged) - 5 * SHOWN} more; --json has all.")
        screen.say("`barnacle undo` reverses all of it.")
    else:
        screen.lines("Nobody is in the book twice for certain.")
    if left:
        screen.say(f"{count(left, 'group')} to look at: `barnacle duplicates review`.")
    return 0


def run_apart(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.who:
        names = duplicates.forget(desk, args.who) if args.forget else duplicates.set_apart(desk, args.who)
        screen.value({"names": names, "apart": not args.forget})
        remembered = (
            "may be one person; Barnacle will ask about them again"
            if args.forget
            else "are different people, and will not be asked about again"
        )
        screen.lines(f"{listed(names)} {remembered}.")
        return 0
    if args.forget:
        raise UnclearError("Who may be one person after all? `barnacle duplicates apart --forget WHO WHO`.")
    pairs = duplicates.apart(desk)
    screen.value([{"contacts": [a.uid, b.uid], "names": [a.title, b.title], "since": since} for a, b, since in pairs])
    if pairs:
        rows = []
        for one, other, since in pairs:
            lines = _lines([one, other])
            rows.append((lines[0], lines[1], local_time(since)))
        screen.table(("One", "Another", "Decided on"), rows)
    else:
        screen.lines("No pairs have been kept apart yet.")
    return 0


def run_review(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.cli.console.picker import fills_screen

    if screen.json or not (screen.is_terminal and sys.stdin.isatty() and fills_screen()):
        raise UnclearError(
            "Reviewing needs a terminal that can fill its screen. Otherwise: `barnacle duplicates`, then "
            "`duplicates merge WHO WHO` or "
            "`duplicates apart WHO WHO`."
        )
    with screen.progress(LOOKING) as tick:
        groups = duplicates.find(desk, args.in_list, tick)
    pairs = duplicates.queue(groups)
    if not pairs:
        screen.lines("Nobody seems to be in the book twice.")
        return 0
    from barnacle.cli.console.review import Review

    done = Review(desk, pairs).run()
    said = [
        f"{done.merged} merged" * bool(done.merged),
        f"{done.apart} kept apart" * bool(done.apart),
        f"{done.later} left for later" * bool(done.later),
    ]
    screen.lines(f"{listed([s for s in said if s]).capitalize() or 'Nothing decided'}; {done.left} left to look at.")
    if done.merged or done.apart:
        screen.say(
            "Each decision is a separate change: `barnacle history` shows them, and `barnacle undo` reverses one."
        )
    return 0
