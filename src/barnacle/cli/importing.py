"""`barnacle import`."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from barnacle.cli.screen import Screen
from barnacle.core.contact import check_label
from barnacle.core.text import count, listed, people
from barnacle.jobs import importing
from barnacle.jobs.desk import Desk
from barnacle.jobs.importing import Report

SHOWN = 10


def arguments(command: str, parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Takes the people of a CSV file in: works out encoding, separator and columns by itself and says what it "
        "made of them. People who are in the book already are joined, not doubled."
    )
    parser.add_argument("file", metavar="FILE", type=Path)
    parser.add_argument("--into", metavar="LIST", help="put everybody on this list, made if it is not there")
    parser.add_argument("--label", metavar="LABEL", action="append", default=[], help="stick this label on everybody")
    parser.add_argument("--plan", action="store_true", help="only say what would happen")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    labels = [check_label(text) for text in args.label]
    with screen.progress(f"Taking in {args.file.name}") as tick:
        report = importing.import_file(desk, args.file, args.into, labels, args.plan, lambda rows: tick(rows, None))
    screen.value(_value(report, args.plan))
    _show(report, args.plan, screen)
    if report.taken == 0:
        return 2
    return 1 if report.refused else 0


def _value(report: Report, plan: bool) -> dict[str, Any]:
    return {
        "rows": report.rows,
        "added": report.added,
        "updated": report.updated,
        "unchanged": report.unchanged,
        "joined": report.joined,
        "review": [
            {"row": one.row, "name": one.name, "uid": one.uid, "like": one.like, "reason": one.reason}
            for one in report.review
        ],
        "refused": [{"row": d.row, "column": d.column, "value": d.value, "reason": d.reason} for d in report.refused],
        "columns": report.columns.described(),
        "file": report.file,
        "layout": report.layout,
        "header": report.columns.header,
        "lists": [{"title": title, "new": new} for title, new in report.into],
        "sharing": [
            {"row": one.row, "name": one.name, "address": one.address, "with": one.others} for one in report.sharing
        ],
        "differences": [
            {"row": row, "name": name, "field": d.field, "book": d.book, "file": d.file}
            for row, name, d in report.differences
        ],
        "cleaned": [{"row": d.row, "column": d.column, "value": d.value} for d in report.cleaned],
        "planned": plan,
    }


def _show(report: Report, plan: bool, screen: Screen) -> None:
    header = f"its header is row {report.columns.header}" if report.columns.header else "it has no header"
    screen.say(f"{report.file}: {report.layout}; {header}.")
    if not screen.quiet:
        screen.say()
        uses = report.columns.described()
        screen.table(("Column", "Taken for"), [(title, use or "ignored") for title, use in uses.items()])
        screen.say()
    would = "would be " if plan else ""
    refused = f", {report.refused_rows} {would}refused" if report.refused_rows else ""
    met = f" {count(report.joined, 'row')} met somebody in the book." if report.joined else ""
    screen.lines(
        f"{count(report.rows, 'row')}: {report.added} {would}added, {report.updated} {would}updated, "
        f"{report.unchanged} unchanged{refused}.{met}"
    )
    for title, new in report.into if report.new_members else []:
        screen.say(f"{people(report.new_members)} {would or 'were '}put on {title}{', a new list' if new else ''}.")
    if report.without_address:
        screen.say(f"{people(report.without_address)} without an address {would}added: no message can go there.")
    _refused(report, screen)
    if report.sharing:
        screen.say("\nSharing an address, each a contact of their own:")
        screen.table(
            ("Row", "Name", "Address", "Shared with"),
            [(one.row, one.name, one.address, listed(one.others)) for one in report.sharing[:SHOWN]],
        )
    _more(screen, len(report.sharing), "shared address", "shared addresses")
    if report.review or report.differences or report.cleaned:
        screen.say()
    for likely in report.review[:SHOWN]:
        screen.say(f"Row {likely.row}: {likely.name} may be somebody you have: {likely.reason}. Both are kept.")
    for row, name, d in report.differences[:SHOWN]:
        screen.say(f"Row {row}: {name} keeps the {d.field} `{d.book}`; the file says `{d.file}`.")
    _more(screen, len(report.differences), "difference")
    for defect in report.cleaned[:SHOWN]:
        screen.say(f"Row {defect.row}, {defect.column}: {defect.reason}.")
    screen.say()
    if plan:
        screen.say("Nothing was changed. Without --plan it will be.")
    elif report.taken == 0:
        screen.say("Nothing was taken in.")
    elif report.new_contacts or report.updated or report.new_members:
        screen.say("`barnacle undo` takes the whole import back.")
    else:
        screen.say("Nothing in the book changed.")


def _refused(report: Report, screen: Screen) -> None:
    if report.refused:
        screen.say("\nNot taken:")
        screen.table(
            ("Row", "Column", "Value", "Reason"),
            [(d.row, d.column or "whole row", d.value, d.reason) for d in report.refused[:SHOWN]],
        )
        _more(screen, len(report.refused), "refused value")


def _more(screen: Screen, number: int, one: str, many: str | None = None) -> None:
    if number > SHOWN:
        screen.say(f"… and {count(number - SHOWN, f'more {one}', f'more {many}' if many else None)}; --json has all.")
