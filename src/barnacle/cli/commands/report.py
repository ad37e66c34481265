"""`barnacle report`."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Sequence

from barnacle.cli.console.bars import bar, beside, signs
from barnacle.cli.console.pipes import PIPED_OUT, out_file
from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.moments import plain_day
from barnacle.core.text import count, listed, people, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.reports import numbers, sheets, wording
from barnacle.jobs.reports.numbers import Deliveries, Heard, Overlap, Report

_PARTS = ("reach", "deliveries", "overlap")
_SHOWN = 12
# So many characters beside a bar fit a terminal of 80 columns.
_BESIDE = 24


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Whom do we reach, does mail arrive, who is on which lists, who hears most from us? As bars here, or as a "
        "picture or page with --out. Without a verb: all of it."
    )
    parser.set_defaults(run=run, part="all", lists=[], since="")
    _outputs(parser)
    verbs = parser.add_subparsers(title="which", metavar="REPORT", prog=parser.prog)
    for name, purpose in (
        ("reach", "whom a message to each list reaches, why not the others, and members over time"),
        ("deliveries", "what became of each recipient, week by week, and who was refused where"),
        ("overlap", "who is on which lists together, and who hears most"),
        ("all", "all of it, on one page"),
    ):
        verb = verbs.add_parser(name, help=purpose, parents=[common])
        if name in ("reach", "overlap"):
            verb.add_argument("lists", metavar="LIST", nargs="*", help="only these lists")
        if name == "deliveries":
            verb.add_argument("--since", metavar="DATE", default="", help="only since that day (`last month`)")
        _outputs(verb)
        verb.set_defaults(run=run, part=name)
    sheet = verbs.add_parser("list", help="a list on pages to print or pin up", parents=[common])
    sheet.add_argument("list", metavar="LIST")
    sheet.add_argument("--columns", metavar="FIELDS", default="phone", help="fields beside the name (default: phone)")
    sheet.add_argument(
        "--out", metavar="FILE", type=out_file, required=True, help="a .pdf of all pages, or a .png or .svg"
    )
    sheet.set_defaults(run=run_sheet)


def _outputs(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--out", metavar="FILE", type=out_file, help="draw it into a .png, .svg or .pdf")
    parser.add_argument("--csv", action="store_true", help="the numbers as comma-separated values")


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.out and args.csv:
        raise UnclearError("--out draws, and --csv has the numbers: choose one of them.")
    parts = _PARTS if args.part == "all" else (args.part,)
    if args.out:
        from barnacle.jobs.reports import drawing

        drawing.kind_of(args.out)
    since = plain_day(args.since) if args.since else ""
    with screen.working("Counting"):
        found = numbers.report(desk, args.lists, parts, since)
    if args.csv:
        for line in sheets.as_csv(found, parts):
            screen.lines(line.rstrip("\r\n"))
        return 0
    if args.out:
        with screen.working("Drawing"):
            drawing.draw(args.part, found, args.out)
        screen.value({"file": str(args.out), **_value(found, parts)})
        where = "standard output" if args.out.name == PIPED_OUT else visible(str(args.out))
        screen.say(f"Drawn into {where}.")
        return 0
    screen.value(_value(found, parts))
    if "reach" in parts:
        _reach(found, screen)
    if "deliveries" in parts:
        _deliveries(found.deliveries, screen)
    if "overlap" in parts:
        _overlap(found.overlap, screen)
        _heard(found.heard, screen)
    return 0


def _value(found: Report, parts: Sequence[str]) -> dict[str, object]:
    every: dict[str, dict[str, object]] = {
        "reach": {
            "reach": [one._asdict() for one in found.reach],
            "growth": [
                {"title": line.title, "days": [list(day) for day in line.days], "partly": line.partly}
                for line in found.growth
            ],
        },
        "deliveries": {
            "spans": [one._asdict() for one in found.deliveries.spans],
            "by": "month" if found.deliveries.by_month else "week",
            "since": found.deliveries.since or None,
            "refusals": [{"domain": domain, "refused": number} for domain, number in found.deliveries.refusals],
        },
        "overlap": {
            "lists": [{"title": title, "people": number} for title, number in found.overlap.lists],
            "together": [{"titles": list(one.titles), "people": one.people} for one in found.overlap.together],
            "left_out": found.overlap.left_out,
            "heard": {**found.heard._asdict(), "busiest": [one._asdict() for one in found.heard.busiest]},
        },
    }  # fmt: skip
    return {key: value for part in parts for key, value in every[part].items()}


def _title(screen: Screen, text: str) -> None:
    screen.say(text)
    screen.say("-" * len(text))


def _print(screen: Screen, lines: Iterable[str], rest: int = 0) -> None:
    for line in lines:
        screen.laid_out(line)
    if rest > 0:
        screen.say(f"… and {rest:,} more; --json has all.")
    screen.say()


def _key(names: Sequence[str]) -> str:
    return "  ".join(f"{sign} {name}" for sign, name in zip(signs(), names, strict=False))


def _reach(found: Report, screen: Screen) -> None:
    _title(screen, "Whom a message to each list reaches")
    if not found.reach:
        screen.say("There are no lists yet.\n")
        return
    most = max(one.members for one in found.reach)
    shown = sorted(found.reach, key=lambda one: -one.members)[:30]
    screen.say(_key(("reached", "fails", "opted out", "no address", "other")))
    lines = []
    for one in shown:
        drawn = bar([getattr(one, name) for name in wording.REACH_PARTS], most)
        words = wording.reach_in_words(one)
        below = len(words) > _BESIDE and screen.is_terminal
        lines.append(beside(one.title, drawn, "" if below else words))
        if below:
            lines.append(f"    {words}")
    _print(screen, lines, len(found.reach) - len(shown))
    _title(screen, "Members over time")
    lines = []
    for line in sorted(found.growth, key=lambda one: -(one.days[-1][1] if one.days else 0))[:_SHOWN]:
        steps = [f"{wording.day_in_words(day)}: {number:,}" for day, number in line.days[-3:]]
        partly = " (those there now)" if line.partly else ""
        lines.append(beside(line.title, "", ", ".join(steps) + partly if steps else "nobody yet"))
    _print(screen, lines)


def _deliveries(found: Deliveries, screen: Screen) -> None:
    _title(screen, wording.deliveries_title(found))
    if not found.spans:
        screen.say(f"{wording.no_deliveries(found)}\n")
        return
    most = max(sum(one[1:]) for one in found.spans)
    name = wording.month_in_words if found.by_month else wording.day_in_words
    outcomes = [wording.outcome_in_words(name) for name in wording.OUTCOMES]
    screen.say(_key(outcomes))
    lines = []
    for one in found.spans[-26:]:
        parts = [getattr(one, name) for name in wording.OUTCOMES]
        words = [f"{number:,} {word}" for number, word in zip(parts, ("", *outcomes[1:]), strict=True) if number]
        begins = name(one.begins) if found.by_month else f"week of {name(one.begins)}"
        lines.append(beside(begins, bar(parts, most), ", ".join(word.strip() for word in words) or "none"))
    _print(screen, lines, len(found.spans) - 26)
    if len(found.spans) > 1 or found.since:
        screen.say(f"Altogether: {wording.total_in_words(found)}.")
        screen.say()
    if found.refusals:
        _title(screen, "Refused, by domain")
        most = found.refusals[0][1]
        shown = found.refusals[:_SHOWN]
        _print(screen, [beside(d, bar([n], most), f"{n:,}") for d, n in shown], len(found.refusals) - len(shown))


def _overlap(found: Overlap, screen: Screen) -> None:
    _title(screen, "Who is on which lists together")
    if not found.together:
        screen.say("Nobody is on a list yet.\n")
        return
    most = found.together[0].people
    shown = found.together[:_SHOWN]
    lines = []
    for one in shown:
        lines.append(f"{one.people:>7,}  {bar([one.people], most)}")
        lines.append(f"{'':9}{'only ' if len(one.titles) == 1 else ''}{listed(one.titles, 4)}")
    _print(screen, lines, len(found.together) - len(shown))
    if found.left_out:
        screen.say(
            f"Of the {len(found.lists)} largest lists; {count(found.left_out, 'list')} left out. Name those you want.\n"
        )


def _heard(found: Heard, screen: Screen) -> None:
    _title(screen, "Who hears most, in twelve months")
    if not found.busiest:
        screen.say("No message was accepted in that time.")
        return
    screen.say(f"{people(found.people)} got {found.a_month:.1f} messages a month each, on average.")
    most = found.busiest[0].messages
    _print(
        screen,
        [beside(one.name, bar([one.messages], most), wording.heard_in_words(one)) for one in found.busiest],
    )


def run_sheet(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.reports import drawing

    drawing.kind_of(args.out)
    sheet = sheets.sheet_of(desk, args.list, [part.strip() for part in args.columns.split(",") if part.strip()])
    drawing.draw_sheet(sheet, args.out)
    pages = drawing.pages_of(sheet)
    screen.value({"file": str(args.out), "title": sheet.title, "people": len(sheet.rows), "pages": pages})
    where = "standard output" if args.out.name == PIPED_OUT else visible(str(args.out))
    screen.say(f"{sheet.title}, {people(len(sheet.rows))}, is in {where}.")
    if pages > 1 and args.out.suffix.lower() != ".pdf":
        screen.say(f"That is the first of {pages} pages; a .pdf has all of them.")
    return 0
