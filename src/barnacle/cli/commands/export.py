"""`barnacle export`."""

from __future__ import annotations

import argparse
import sys
from contextlib import nullcontext

from barnacle.cli.console.pipes import PIPED_OUT, out_file
from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import listed, people, visible
from barnacle.jobs import export
from barnacle.jobs.desk.desk import Desk

_SUFFIXES = {
    ".csv": "csv",
    ".xlsx": "xlsx",
    ".ods": "ods",
    ".vcf": "vcard",
    ".ldif": "ldif",
    ".json": "jscontact",
    ".txt": "line",
}


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Writes people to a file: a workbook, a table or cards. `all` gives everything about everybody; anything else "
        "gives only names and the addresses in use, unless you ask for more."
    )
    parser.add_argument(
        "what", metavar="WHAT", nargs="+",
        help="lists, people, label:NAME, find:WORDS, where:RULE; or `all` for everybody",
    )  # fmt: skip
    parser.add_argument(
        "--as", dest="form", metavar="FORMAT", choices=export.FORMATS,
        help=f"{', '.join(export.FORMATS)}; if not given, the file's name decides",
    )  # fmt: skip
    parser.add_argument("--out", metavar="FILE", type=out_file, help="the file to write; if not given, the screen")
    parser.add_argument(
        "--fields",
        metavar="FIELDS",
        default="",
        help=f"which fields, separated by commas: {', '.join(export.FIELDS)}, those of your own; or all",
    )
    parser.add_argument("--by-list", action="store_true", help="one sheet per list (xlsx, ods)")
    parser.add_argument("--as-list", action="store_true", help="include the list itself (vcard)")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    form = args.form or _SUFFIXES.get(args.out.suffix.lower() if args.out else "")
    if form is None and args.out is not None:
        from barnacle.cli.console.meant import ON_PAPER  # only for a mistake

        raise UnclearError(
            f"`{visible(args.out.name, 60)}` does not tell of which kind it should be. Let it end in "
            f"{', '.join([*_SUFFIXES][:-1])} or {[*_SUFFIXES][-1]}, or say it with --as. {ON_PAPER}"
        )
    if form is None:
        if line := _meant(args.what):
            raise UnclearError(f"Did you mean `{line}`?")
        raise UnclearError(
            f"Where to? `--out {_file_named(args.what)}` writes a file. Or name the format, to see it here: "
            f"--as {', --as '.join(export.FORMATS)}."
        )
    if screen.json and args.out is None:
        raise UnclearError("With --json, name the file to write: --out FILE.")
    fields = [name for part in args.fields.split(",") for name in _names(part.strip())]
    wish = export.Wish(args.what, form, args.out, fields, args.as_list, args.by_list, screen.yes)
    # What goes to the screen shows by itself how far it is.
    with screen.progress("Writing") if args.out else nullcontext(lambda done, total: None) as tick:
        done = export.export(desk, wish, _print, tick)
    screen.value(
        {
            "people": done.people,
            "format": form,
            "file": str(args.out),
            "fields": list(done.fields),
            "left_out": [{"name": name, "reason": reason} for name, reason in done.left_out],
            "opted_out": done.opted_out,
            "not_carried": done.not_carried,
        }
    )
    for name, reason in () if screen.json or screen.quiet else done.left_out:
        # Beside the file on the screen, not in it.
        print(f"Left out: {visible(name)}: {reason}.", file=sys.stderr if args.out is None else sys.stdout)
    if args.out is None:
        return 0
    given = "everything" if set(done.fields) >= set(export.FIELDS) else listed(list(done.fields), 20)
    where = "standard output" if args.out.name == PIPED_OUT else visible(str(args.out))
    screen.say(f"{people(done.people)} written to {where}: {given}.")
    if done.opted_out and form != "line":
        screen.say(f"{done.opted_out} of them opted out; the file does not say so.")
    if done.not_carried:
        told = listed([f"{what} of {people(number)}" for what, number in done.not_carried.items()])
        screen.say(f"Not included, because {form} has no place for it: {told}. They stay in the book.")
    return 0


def _file_named(what: list[str]) -> str:
    """What somebody named who meant a file to write; else an example."""
    meant = next((one for one in what if one[one.rfind(".") :].lower() in _SUFFIXES and "." in one), "")
    return meant or "people.csv"


# What people call the kinds of files, by how these end.
_CALLED = {
    "xlsx": ("excel", "spreadsheet", "workbook", "xls", "sheet"),
    "csv": ("csv", "table"),
    "ods": ("calc",),
    "vcf": ("vcard", "vcards", "vcf", "cards"),
}


def _meant(what: list[str]) -> str:
    """The line for somebody who named the kind of file behind whom to write: `crew to excel`."""
    import re
    import shlex  # only for a mistake: they cost start-up time

    last = what[-1].lower().lstrip(".")
    kind = next((kind for kind, names in _CALLED.items() if last == kind or last in names), "")
    whom = what[:-2] if what[-2:-1] and what[-2].lower() in ("to", "as", "in", "into", "for") else what[:-1]
    if not kind or not whom:
        return ""
    words = " ".join(map(shlex.quote, whom))
    name = "-".join(re.findall(r"\w+", " ".join(whom).lower())) or "people"
    return f"barnacle export {visible(words, 80)} --out {visible(name, 40)}.{kind}"


def _names(part: str) -> list[str]:
    """The names of fields that stand between commas; the usual ones may be separated by spaces alone."""
    several = part.split()
    return several if all(name in export.FIELDS for name in several) else [part]


def _print(text: str) -> None:
    """Text as it is into a pipe; on a terminal with nothing in it that a terminal would obey."""
    sys.stdout.write("".join(visible(line) + "\n" for line in text.splitlines()) if sys.stdout.isatty() else text)
