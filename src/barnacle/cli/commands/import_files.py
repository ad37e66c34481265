"""`barnacle import`."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace

from barnacle.cli.console import json_shapes
from barnacle.cli.console.contact_facts import facts, in_lines
from barnacle.cli.console.pipes import in_file, out_file
from barnacle.cli.console.screen import Screen
from barnacle.core.contact import Contact, check_label
from barnacle.core.errors import UnclearError
from barnacle.core.own_fields import YES_OR_NO
from barnacle.core.text import count, fold, listed, people, visible
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.separate_names import ONTO
from barnacle.jobs.imports import column_maps, report_file
from barnacle.jobs.imports.report import LATER_ROW, FileReport, Report
from barnacle.jobs.imports.run import FIELDED, KINDS, Options, Reading, import_files

_COLUMNS_SHOWN, _UNUSED_SHOWN = 40, 12
# So many new people are shown to whoever sits there before they are taken in; a file of fewer octets is read twice, for
# the spellings to be settled first.
_MANY = 100
_PLURALS = {"value left out": "values left out", "line left out": "lines left out"}
_LOOKED_AT_TWICE = 1 << 20
SHOWN = 10


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Adds people from files: tables (CSV, workbooks, documents, web pages, JSON, XML), lists that somebody typed, "
        "vCards, jCards, JSContact, LDIF, invitations, pasted addresses, messages and mailboxes. It works out the kind "
        "of file, its encoding and its columns, and says what it made of them. People who are in the book already are "
        "updated, not added twice."
    )
    parser.add_argument("files", metavar="FILE", type=in_file, nargs="+", help="- reads what is piped in")
    parser.add_argument("--into", metavar="LIST", help="put everybody on this list (made if there is none)")
    parser.add_argument(
        "--list-by",
        metavar="COLUMN",
        help="put each row on the list that this column names (`headings`: that a heading does)",
    )
    parser.add_argument("--label", metavar="LABEL", action="append", default=[], help="give everybody this label")
    parser.add_argument(
        "--columns",
        metavar="MAP",
        help="what columns hold (`E-mail=work address, Boat=note`), or the name of a kept map",
    )
    parser.add_argument("--keep-columns", metavar="NAME", help="remember these columns under a name, for the next file")
    parser.add_argument("--optout", action="store_true", help="mark everybody in it as opted out")
    parser.add_argument(
        "--prefer", choices=("book", "file"), default="book", help="whose value wins where the two differ"
    )
    parser.add_argument(
        "--as",
        metavar="FORMAT",
        dest="kind",
        choices=tuple(KINDS),
        help="what kind of file it is, if the guess is wrong",
    )
    parser.add_argument("--encoding", metavar="NAME", help="its encoding, if the guess is wrong")
    parser.add_argument("--sheet", metavar="TITLE", help="only this sheet of a workbook")
    parser.add_argument(
        "--report", metavar="FILE", type=out_file, help="write all that was refused or doubtful to a CSV file"
    )
    parser.add_argument("--take-missing-off", metavar="LIST", help="take anybody who is not in the file off this list")
    parser.add_argument("--hidden", action="store_true", help="include hidden sheets, rows and columns")
    parser.add_argument("--accept-suggestions", action="store_true", help="correct mistyped addresses as suggested")
    parser.add_argument("--only-good", action="store_true", help="leave out people whose only address cannot be right")
    parser.add_argument("--plan", action="store_true", help="only show what would happen, with three finished contacts")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    joints = (*ONTO, "as", "in", "on")
    words = (n for n, path in enumerate(args.files) if n and str(path) in joints and not path.exists())
    if place := next(words, 0):
        title = " ".join(map(str, args.files[place + 1 :])) or "LIST"
        raise UnclearError(f"To put them on a list, write --into {shlex.quote(visible(title, 60))}.")
    names = [str(path) for path in args.files[1:] if not path.suffix and not path.exists() and path.name == str(path)]
    if names := [name for name in names if name != "-"]:
        missing = visible(" ".join(names), 60)
        title = shlex.quote(missing)
        raise UnclearError(f"There is no file {missing}. To put everybody on a list, write --into {title}.")
    labels = [check_label(text) for text in args.label]
    columns = column_maps.find(desk, args.columns) if args.columns else {}
    how = Reading(accept=args.accept_suggestions, only_good=args.only_good)
    options = Options(args.kind, args.encoding, columns, args.list_by, args.sheet, args.hidden, how)
    asks = screen.can_ask and not args.plan and not screen.yes
    paths = args.files
    with report_file.telling(args.report) as tell, ExitStack() as bar:
        importing = f"Importing {listed([p.name for p in paths], 2)}"
        tick = bar.enter_context(screen.progress(importing))

        def compare(done: int, total: int) -> None:
            screen.goes_on("Comparing with everybody in the book")
            tick(done, total)

        def take_in(options: Options, plan: bool, agree: Callable[[Report], bool]) -> Report:
            screen.goes_on(importing)
            return import_files(
                desk, paths, options, args.into, labels,
                prefer_file=args.prefer == "file",
                plan=plan,
                keep_columns=args.keep_columns,
                tell=tell if plan == args.plan else lambda what, one: None,
                tick=tick,
                compare=compare,
                agree=agree,
                opted_out=args.optout,
                take_missing_off=args.take_missing_off,
            )  # fmt: skip

        def agree(report: Report) -> bool:
            bar.close()
            return _agree(report, args, screen)

        if asks and not args.accept_suggestions and sum(path.stat().st_size for path in paths) < _LOOKED_AT_TWICE:
            planned = take_in(options, plan=True, agree=lambda report: True)
            if meant := [one for one in planned.refused if one.suggestion]:
                from barnacle.cli.console.spellings import choose

                options = replace(options, how=how._replace(accepted=choose(meant)))
        report = take_in(options, plan=args.plan, agree=agree if asks else lambda report: True)
    screen.value(_value(report, args.plan))
    if not report.shown:
        _show(report, args, screen, planned=args.plan)
    _show_end(report, args, screen)
    if report.given_up:
        return 1
    if report.taken == 0 and not report.groups:
        return 2
    return 1 if report.refused else 0


def _agree(report: Report, args: argparse.Namespace, screen: Screen) -> bool:
    """Ask before much, or something doubtful, is taken in; everybody who sits there sees it first."""
    if report.new_contacts < _MANY and not report.doubts:
        return True
    _show(report, args, screen, planned=True)
    report.shown = True
    _show_examples(report, screen)
    noted = (
        (len(report.doubts), "doubt"),
        (len(report.doubtful), "doubtful value"),
        (len(report.refused), "value left out"),
        (len(report.left_out), "line left out"),
    )
    told = listed([count(number, what, _PLURALS.get(what)) for number, what in noted if number])
    if told:
        screen.say(f"See above: {told}.")
    return screen.confirm(f"Add {people(report.new_contacts)} like this?", "")


def _value(report: Report, plan: bool) -> dict[str, Any]:
    tables = [(one, sheet, columns) for one in report.files for sheet, columns in one.sheets]
    return {
        "rows": report.rows,
        "added": report.added,
        "updated": report.updated,
        "unchanged": report.unchanged,
        "joined": report.joined,
        "review": [one._asdict() for one in report.review],
        "joins": [one._asdict() for one in report.joins],
        "refused": [one._asdict() for one in report.refused],
        "columns": tables[0][2].described() if tables else {},
        "files": [
            {
                "file": one.name,
                "kind": one.kind,
                "layout": one.label,
                "tables": [
                    {
                        "sheet": sheet,
                        "header": columns.header,
                        "columns": columns.described(),
                        "people": columns.people,
                        "kinds": columns.kinds,
                    }
                    for sheet, columns in one.sheets
                ],
                "skipped": one.skipped,
                "unseen": one.unseen,
            }
            for one in report.files
        ],
        "lists": [{"title": title, "new": new, "came": came} for title, (new, came) in report.lists.items()],
        "sharing": [
            {"file": one.file, "row": one.row, "name": one.name, "address": one.address, "with": one.others}
            for one in report.sharing
        ],
        "differences": [
            {"file": one.file, "row": one.row, "name": one.name, **one.what._asdict(), "kept": one.kept}
            for one in report.differences
        ],
        "doubts": [{"where": where, "sentence": sentence} for where, sentence in report.doubts],
        "left_out": [one._asdict() for one in report.left_out],
        "doubtful": [one._asdict() for one in report.doubtful],
        "cleaned": [one._asdict() for one in report.cleaned],
        "examples": [
            {"what": one.what, "file": one.file, "row": one.row, "contact": _planned(one.contact)}
            for one in report.examples
        ],
        "taken_off": [{"list": title, "name": name} for title, name in report.taken_off],
        "left_on": report.left_on,
        "planned": plan,
    }


def _planned(one: Contact) -> dict[str, Any]:
    """Somebody as he will stand in the book; the uid is only given then."""
    return {key: value for key, value in json_shapes.contact(one, []).items() if key not in ("uid", "lists")}


def _show(report: Report, args: argparse.Namespace, screen: Screen, planned: bool) -> None:
    many = len(report.files) > 1
    if report.doubts:
        screen.lines("Please check this first:")
        for where, sentence in report.doubts:
            screen.lines(f"  {f'{where}: ' if many else ''}{sentence}")
        screen.say()
    for heading, defects, what in (
        ("Doubtful:", report.doubtful, "doubtful value"),
        ("Left out:", report.refused, "refused value"),
        ("Left out, because nobody was found in it:", report.left_out, "line"),
    ):
        if defects:
            _defects(heading, defects, report, what, screen)
            if defects is report.left_out and report.headings > 1 and not args.list_by:
                screen.say("Headings can be lists, with those below on them: --list-by headings.")
            screen.say()
    for one in report.files:
        _show_file(one, fold(args.list_by or ""), screen)
    would = "would be " if planned else ""
    refused = f", {report.refused_rows} {would}refused" if report.refused_rows else ""
    who = f" ({people(report.new_contacts)})" if report.new_contacts != report.added else ""
    what = "row" if _place(report) == "row" else "entry"
    plural = "rows" if what == "row" else "entries"
    met = f" {count(report.joined, what, plural)} matched somebody in the book." if report.joined else ""
    screen.lines(
        f"{count(report.rows, what, plural)}: {report.added} {would}added{who}, "
        f"{report.updated} {would}updated, {report.unchanged} unchanged{refused}.{met}"
    )
    for title, (new, came) in report.lists.items():
        if came:
            were = would or ("was " if came == 1 else "were ")
            screen.say(f"{people(came)} {were}put on {title}{', a new list' if new else ''}.")
    if report.taken_off:
        names = listed([name for _, name in report.taken_off], 8)
        screen.say(f"Not in the file, so they {would or 'were '}taken off {report.taken_off[0][0]}: {names}.")
    if args.take_missing_off and report.refused_rows:
        rows = "1 row that was" if report.refused_rows == 1 else f"{report.refused_rows} rows that were"
        screen.warn(f"Whoever is named only in the {rows} left out counts as not in the file.")
    if report.left_on:
        screen.say(f"Not taken off, since the file may mean them: {listed(report.left_on, 8)}.")
    if report.without_address:
        screen.say(f"{people(report.without_address)} without an address {would}added: no message can go there.")
    if report.cleaned:
        screen.say()
        _defects("Cleaned:", report.cleaned, report, "cleaned value", screen)
    _show_known(report, args, screen, planned)


def _show_known(report: Report, args: argparse.Namespace, screen: Screen, planned: bool) -> None:
    """How those of the file and those of the book met."""
    place = _place(report).capitalize()
    if report.sharing:
        screen.say("\nSharing an address, but added as separate people:")
        screen.table(
            (place, "Name", "Address", "Shared with"),
            [(one.row, one.name, one.address, listed(one.others)) for one in report.sharing[:SHOWN]],
        )
        _more(screen, len(report.sharing), "shared address", "shared addresses")
    for told, what, title in (
        (report.joins, "Recognised without the address, and updated:", "Joined"),
        (report.review, "Perhaps somebody you have already; both are kept (`barnacle duplicates review`):", "Perhaps"),
    ):
        if told:
            screen.say(f"\n{what}")
            screen.table(
                (place, "Name", title, "Because"),
                [(one.row, one.name, one.like_name, one.reason) for one in told[:SHOWN]],
            )
            _more(screen, len(told), "such pair")
    if report.namesakes_only:
        screen.say(
            "\nIn a book this large, an import looks for duplicates only among namesakes; `barnacle duplicates` "
            "compares everybody."
        )
    again = [one for one in report.differences if one.kept == LATER_ROW]
    different = [one for one in report.differences if one.kept != LATER_ROW]
    if again:
        screen.say("\nAnswered again further down; the later answer counts:")
        screen.table(
            (place, "Name", "Field", "Earlier", "Later"),
            [(d.row, d.name, d.what.field, d.what.book, d.what.file) for d in again[:SHOWN]],
        )
        _more(screen, len(again), "answer")
    if different:
        kept = "file" if args.prefer == "file" else "book"
        other = "; --prefer file uses the file's" if kept == "book" else ""
        screen.say(f"\nDifferent in the file; the value in the {kept} {'would be ' if planned else 'was '}kept{other}:")
        screen.table(
            (place, "Name", "Field", "Book", "File"),
            [(d.row, d.name, d.what.field, d.what.book, d.what.file) for d in different[:SHOWN]],
        )
        _more(screen, len(different), "difference")


def _show_examples(report: Report, screen: Screen) -> None:
    """Three of the people as they will stand in the book."""
    for one in report.examples:
        which = {"first": "The first", "middle": "From the middle", "oddest": "The oddest"}[one.what]
        screen.say(f"\n{which}, {_place(report)} {one.row}: {one.contact.title}")
        screen.say(in_lines(facts(one.contact), "    "))
    screen.say()


def _show_end(report: Report, args: argparse.Namespace, screen: Screen) -> None:
    """What there is to say when all is done."""
    if args.plan:
        _show_examples(report, screen)
    else:
        screen.say()
    if report.left_away:
        screen.say(f"{count(report.left_away, 'such remark')} more than --json keeps; --report FILE has all.")
    if args.report:
        screen.say(f"All of this is in {visible(str(args.report))}.")
    if args.plan:
        screen.say("Nothing was changed: this was only the plan. Leave out --plan to go ahead.")
    elif report.given_up or (report.taken == 0 and not report.groups):
        screen.say("Nothing was added.")
    elif report.new_contacts or report.updated or report.new_members or report.taken_off:
        if asked := next((title for one in report.files for title in _questions(one)), ""):
            rule = f'field "{asked}" is yes'
            screen.say(f"`barnacle list new TITLE --where {shlex.quote(rule)}` makes a list of who said yes.")
        screen.say("`barnacle undo` reverses the whole import.")
    else:
        screen.say("Nothing in the book changed.")


def _questions(one: FileReport) -> list[str]:
    """The titles of columns that hold yes or no."""
    kinds = (kind for _, columns in one.sheets for kind in columns.kinds.items())
    return [title for title, kind in kinds if kind.endswith(YES_OR_NO) and '"' not in title and visible(title) == title]


def _show_file(one: FileReport, list_by: str, screen: Screen) -> None:
    if not one.sheets:
        screen.say(f"{one.name}: {one.label}.")
    for sheet, columns in one.sheets:
        header = f"its header is row {columns.header}; " if columns.header else "it has no header; "
        where = f"{'under' if one.kind in FIELDED else 'sheet'} {sheet}; " if sheet else ""
        about = f"{where}{columns.people}" if one.kind in FIELDED else f"{where}{header}{columns.people}"
        screen.say(f"{one.name}: {one.label}; {about}.")
        if not screen.quiet:
            screen.say()
            described = columns.described()
            rows = [(title, use) for title, use in described.items() if use]
            screen.table(("Column", "Read as"), rows[:_COLUMNS_SHOWN])
            if len(rows) > _COLUMNS_SHOWN:
                screen.say(f"… and {len(rows) - _COLUMNS_SHOWN} more columns; --json has all.")
            unused = [title for title, use in described.items() if not use]
            for what, titles in (
                ("Fields of your own", [title for title in unused if title not in columns.dropped]),
                ("Left out", [title for title in unused if title in columns.dropped and fold(title) != list_by]),
            ):
                if titles:
                    told = [
                        f"{visible(t, 40)} ({columns.kinds[t]})" if t in columns.kinds else visible(t, 40)
                        for t in titles
                    ]
                    named = listed(told, _UNUSED_SHOWN)
                    screen.say(f"{what}: {named}{'' if named.endswith(('?', '!', '.')) else '.'}")
            screen.say()
    if one.unseen:
        hint = " --hidden includes what is hidden." if any("hidden" in part for part in one.unseen) else ""
        screen.say(f"{one.name}: not read: {listed(one.unseen, 8)}.{hint}")
    for title in one.skipped:
        screen.say(f"{one.name}: sheet {title} has nobody in it, and was left out.")


# Kinds of files whose places are counted in lines; a table's are rows.
_IN_LINES = ("line", "text", "records")


def _place(report: Report) -> str:
    """What a place in these files is called: row, line or entry."""
    found = {
        "line" if one.kind in _IN_LINES else "row" if one.sheets and one.kind not in FIELDED else "entry"
        for one in report.files
    }
    return found.pop() if len(found) == 1 else "row"


def _defects(heading: str, defects: list[Any], report: Report, what: str, screen: Screen) -> None:
    screen.say(heading)
    some, many, place = defects[:SHOWN], len(report.files) > 1, _place(report)
    suggests, in_columns = any(d.suggestion for d in some), any(d.column for d in some)
    columns = ["File"] * many + [place.capitalize()] + ["Column"] * in_columns + ["Value", "Reason"]
    screen.table(
        columns + ["Perhaps"] * suggests,
        [
            [visible(d.file, 30)] * many
            + [d.place if d.row else ""]
            + [d.column or (f"whole {place}" if d.row else "")] * in_columns
            + [d.value, d.reason]
            + [d.suggestion] * suggests
            for d in some
        ],
    )
    _more(screen, len(defects), what)


def _more(screen: Screen, number: int, one: str, many: str | None = None) -> None:
    if number > SHOWN:
        more = count(number - SHOWN, f"more {one}", f"more {many}" if many else None)
        screen.say(f"… and {more}; --report FILE and --json have all.")
