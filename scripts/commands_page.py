"""Writes docs/commands.md from the parser itself, so that it cannot say anything else than `--help`.

    python scripts/commands_page.py [--check]

With `--check` nothing is written; it ends with 1 where the page is not as it should be.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from pathlib import Path

from barnacle.cli.console.examples import examples
from barnacle.cli.console.parser import COMMON, Parser, Verbs
from barnacle.cli.main import make_parser

PAGE = Path(__file__).parent.parent / "docs" / "commands.md"
BEGIN = """\
# All commands

`barnacle COMMAND --help` says the same in your terminal, and `barnacle help` lists everything.

Name a person by an address or any words of the name, and a list by its title or the start of it. If several match,
you choose one; in a script they are listed. `label:NAME`, `find:WORDS`, `where:RULE` and `m3:refused` mean everybody
with a label, found by a search, matching a rule, or in a state of a sent message.

Barnacle asks before it does something that `undo` cannot reverse, and before it removes people you did not name one by
one. `--yes` answers every question. Exit codes: 0 all done; 1 done in part, and the rest is listed; 2 nothing done.

"""


def page() -> str:
    """The page as it should be."""
    parser = make_parser()
    lines = [BEGIN, "## Options of every command\n", *_options(parser, common=True), ""]
    verbs = next(action for action in parser._actions if isinstance(action, Verbs))
    for name, sub in verbs.choices.items():
        lines += _command(name, sub, 2)
    return "\n".join(lines).rstrip("\n") + "\n"


def _command(name: str, parser: Parser, level: int) -> Iterator[str]:
    yield f"{'#' * level} {name}\n"
    yield f"{_cell(parser.description or '')}\n"
    if given := examples(name):
        yield "```text"
        for one, remark in given:
            yield f"{one}{f'  # {remark}' if remark else ''}"
        yield "```\n"
    if rows := list(_options(parser, common=False)):
        yield from rows
        yield ""
    for action in parser._actions:
        if isinstance(action, Verbs):
            for verb, sub in action.choices.items():
                yield from _command(f"{name} {verb}", sub, min(level + 1, 4))


def _options(parser: Parser, common: bool) -> Iterator[str]:
    rows = []
    for group in parser._action_groups:
        if (group.title == COMMON) is common:
            rows += [_row(action) for action in group._group_actions if not isinstance(action, Verbs)]
    if rows:
        yield "| | |\n|---|---|"
        yield from rows


def _row(action: argparse.Action) -> str:
    metavar = action.metavar if isinstance(action.metavar, str) else ""
    if action.choices and not metavar:
        metavar = "{" + ",".join(map(str, action.choices)) + "}"
    takes = f" {metavar or action.dest.upper()}" if action.nargs != 0 else ""
    many = " …" if action.nargs in ("+", "*") else ""
    name = f"{', '.join(action.option_strings)}{takes}" if action.option_strings else metavar or action.dest
    return f"| `{name}{many}` | {_cell(action.help or '')} |".replace("`{", "`{")


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("%%", "%").replace("<", "&lt;")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--check", action="store_true")
    args = parser.parse_args()
    if args.check:
        return 0 if PAGE.read_text(encoding="utf-8") == page() else 1
    PAGE.write_text(page(), encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
