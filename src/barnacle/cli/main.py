"""The command `barnacle`: one parser, one way from an error to an exit code."""

from __future__ import annotations

import argparse
import importlib
import os
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import NoReturn

from barnacle import __version__
from barnacle.cli.console.screen import Screen, in_a_sentence
from barnacle.core.errors import BarnacleError, UnclearError
from barnacle.core.text import visible
from barnacle.jobs.desk.desk import Desk

DONE, IN_PART, NOTHING = 0, 1, 2

# Name and purpose. Each has a module in barnacle.cli.commands, which is loaded when the command is called.
COMMANDS = (
    ("setup", "say who you are and where mail is handed in"),
    ("settings", "see or change a setting"),
    ("tour", "see the whole job done on made-up data"),
    ("contact", "add somebody, or see all about somebody"),
    ("list", "all lists; make, fill, look at and remove one"),
    ("label", "labels: how many have each; rename and remove"),
    ("duplicates", "find who is in the book twice, and make one of them"),
    ("check", "what is wrong with a list before you need it"),
    ("find", "search people and lists"),
    ("import", "take people in from files"),
    ("gather", "find people in past mail"),
    ("returns", "mark who cannot be reached or asked not to be, from returned mail"),
    ("export", "give a list or everybody out in an open format"),
    ("compose", "write a message to lists and people"),
    ("preview", "see what a recipient will see"),
    ("send", "send a message, each recipient once"),
    ("outbox", "messages and what became of them"),
    ("share", "keep one list with colleagues"),
    ("sync", "exchange changes of shared lists"),
    ("hub", "run the server that shares lists, and connect to it"),
    ("history", "what was changed, by which command"),
    ("undo", "take a change back"),
    ("help", "rules, naming and privacy explained"),
    ("stand-in", "a mail server on this machine to try things with"),
)


class Parser(argparse.ArgumentParser):
    """A parser whose complaints are ordinary errors."""

    def error(self, message: str) -> NoReturn:
        unknown = re.match(r"argument (COMMAND|VERB|SERVER): invalid choice: '(.*)' \(choose from (.*)\)", message)
        if unknown:
            raise UnclearError(self._no_such(*unknown.groups()))
        text = message[:1].upper() + message[1:]
        raise UnclearError(f"{text.rstrip('.')}. `{self.prog} --help` shows how it is used.")

    def _no_such(self, what: str, given: str, known: str) -> str:
        import difflib

        near = difflib.get_close_matches(given, re.findall(r"'([^']+)'", known), 1)
        meant = f"Did you mean `{self.prog} {near[0]}`? " if near else ""
        return f"There is no {what.lower()} `{visible(given, 40)}`. {meant}`{self.prog} --help` shows what there is."


def common_options() -> Parser:
    """The options that every command takes."""
    parser = Parser(add_help=False, argument_default=argparse.SUPPRESS)
    group = parser.add_argument_group("options of every command")
    group.add_argument("--book", metavar="FILE", type=Path, help="another book than your usual one")
    group.add_argument("--json", action="store_true", help="one JSON value on stdout, nothing else")
    group.add_argument("--yes", action="store_true", help="answer yes to questions")
    group.add_argument("--quiet", action="store_true", help="only results, no remarks")
    return parser


def make_parser(argv: Sequence[str] | None = None) -> Parser:
    """The parser; complete for the commands named in `argv`, or for all of them without it."""
    # The main parser has these options too; not the same objects, since it sets their defaults.
    common = common_options()
    parser = Parser(
        prog="barnacle",
        description="Keeps your contact lists, and writes to a whole list so that nobody sees who else got it.",
        parents=[common_options()],
        allow_abbrev=False,
    )
    parser.add_argument("--version", action="version", version=f"barnacle {__version__}")
    parser.set_defaults(book=None, json=False, yes=False, quiet=False, run=None)
    # Naming the program spares argparse from formatting a usage line to find it out, here and below.
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", parser_class=Parser, prog="barnacle")
    for name, purpose in COMMANDS:
        needed = argv is None or name in argv
        sub = commands.add_parser(
            name, help=purpose, description=_sentence(purpose), parents=[common] if needed else [], allow_abbrev=False
        )
        if needed:
            importlib.import_module(f"barnacle.cli.commands.{_module(name)}").arguments(sub, common)
    return parser


def _module(command: str) -> str:
    return {"import": "import_files"}.get(command, command.replace("-", "_"))


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + "."


def main(argv: Sequence[str]) -> int:
    """Run one command. Returns its exit code: 0 all done, 1 done in part, 2 nothing done."""
    screen = Screen(json="--json" in argv, quiet="--quiet" in argv)
    try:
        args = make_parser(argv).parse_args(argv)
        screen.yes = args.yes
        desk = Desk(book_path=args.book, choose=screen.choose, secret=screen.secret)
        if args.run is None:
            from barnacle.cli.commands import overview

            return overview.run(args, desk, screen)
        result: int = args.run(args, desk, screen)
        return result
    except BarnacleError as error:
        screen.error(str(error))
        return error.exit_code
    except (KeyboardInterrupt, EOFError):
        screen.error("Stopped. What was not said to be done is not done.")
        return NOTHING
    except BrokenPipeError:
        raise
    except OSError as error:
        screen.error(f"{in_a_sentence(error)} Nothing more was done.")
        return NOTHING


def run() -> NoReturn:
    """The entry point of the installed command."""
    if "_ARGCOMPLETE" in os.environ:
        from barnacle.cli.completion import complete

        complete(make_parser)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    try:
        code = main(sys.argv[1:])
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever read our output has gone (`| head`); Python would complain once more when it ends.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = DONE
    sys.exit(code)
