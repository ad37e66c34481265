"""The command `barnacle`: one parser, one way from an error to an exit code."""

from __future__ import annotations

import argparse
import errno
import importlib
import os
import sys
from collections.abc import Sequence
from pathlib import Path

from barnacle import __version__
from barnacle.cli.console.parser import Parser, UnknownWordError, common_options, in_front, option_in_front
from barnacle.cli.console.pipes import PIPED_OUT
from barnacle.cli.console.screen import Screen, in_a_sentence
from barnacle.cli.stopping import Command
from barnacle.core.errors import BarnacleError, NotFoundError, UnclearError
from barnacle.core.text import as_typed, visible
from barnacle.jobs.desk.desk import Desk

DONE, IN_PART, NOTHING = 0, 1, 2
# Why something cannot be printed.
_OUTPUT = (errno.ENOSPC, errno.EIO, errno.EFBIG, errno.EDQUOT)
# What the extra `hub` brings.
OF_A_HUB = ("authres", "jinja2", "sqlalchemy", "starlette", "uvicorn", "prometheus_client", "anyio")

# Commands of which `COMMAND X` shows an X, by which verb, and what X is.
SHOWN = {
    "contact": ("show", "person"),
    "directory": ("find", "entry"),
    "house": ("members", "list"),
    "label": ("show", "label"),
    "list": ("show", "list"),
    "outbox": ("show", "message"),
    "share": ("who", "list"),
    "text": ("show", "text"),
}

# Name and purpose. Each has a module in barnacle.cli.commands, which is loaded when the command is called.
COMMANDS = (
    ("setup", "tell Barnacle who you are and how your mail is sent"),
    ("settings", "see or change a setting"),
    ("tour", "watch the whole job done on made-up data"),
    ("contact", "add somebody, or see all about somebody"),
    ("list", "see, make, fill and remove lists"),
    ("label", "see, rename and remove labels"),
    ("duplicates", "find people who are in the book twice, and merge them"),
    ("check", "find what is wrong with a list before you need it"),
    ("find", "search people and lists"),
    ("import", "add people from files"),
    ("gather", "add people from past mail"),
    ("directory", "find people in your organisation's directory, and keep them right"),
    ("returns", "read returned mail, and mark who cannot be reached or opted out"),
    ("export", "write a list, or everybody, to a file"),
    ("compose", "write a message to lists and people"),
    ("preview", "see what a recipient will see"),
    ("send", "send a message; nobody gets it twice"),
    ("report", "see whom you reach, whether mail arrives, who hears most"),
    ("text", "keep texts that you write again and again"),
    ("outbox", "see your messages and what became of each"),
    ("share", "share a list with colleagues"),
    ("sync", "exchange changes to shared lists"),
    ("house", "lists with an address of their own, to which others write"),
    ("hub", "connect to the hub that shares lists, or run one"),
    ("book", "check the book, copy it, put a copy back, mend it"),
    ("history", "see what was changed, and by which command"),
    ("undo", "undo a change"),
    ("help", "explain a command, or rules, names, privacy"),
    ("completion", "make Tab complete commands, titles and names"),
    ("stand-in", "run a pretend mail server on this computer to try things with"),
)


def make_parser(argv: Sequence[str] | None = None, half_typed: bool = False) -> Parser:
    """The parser; complete for the commands and verbs named in `argv`, or for all of them without it. Where `argv` is
    `half_typed`, any word may become another: then there is a parser for each command, and for the verbs of those."""
    # The main parser has these options too; not the same objects, since it sets their defaults.
    common = common_options()
    parser = Parser(
        prog="barnacle",
        description="Keeps your contact lists, and writes to a whole list without anybody seeing who else got it.",
        parents=[common_options()],
    )
    parser.add_argument("--version", action="version", version=f"barnacle {__version__}", help="print the version")
    parser.set_defaults(book=None, json=False, yes=False, quiet=False, debug=False, run=None, commands=COMMANDS)
    if argv is not None and not half_typed:
        parser.given = frozenset({*argv, *(SHOWN[word][0] for word in argv if word in SHOWN)})
        parser.given |= {"find"} if "outbox" in argv else {"offer"} if "share" in argv else frozenset()
    # Naming the program spares argparse from formatting a usage line to find it out, here and below.
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", parser_class=Parser, prog="barnacle")
    for name, purpose in COMMANDS:
        sub = commands.add_parser(name, help=purpose, parents=[common])
        if argv is None or name in argv:
            importlib.import_module(f"barnacle.cli.commands.{_module(name)}").arguments(sub, common)
    return parser


def _module(command: str) -> str:
    return {"import": "import_files"}.get(command, command.replace("-", "_"))


# Options that take a list's title, and a verb behind which one stands before other words.
_OF_LISTS = ("--into", "--in", "--take-missing-off")
_THREE_WORDS = ["share", "role"]


def _titles_together(argv: Sequence[str]) -> list[str]:
    """The command line with the words of a title that stand behind such an option, or such a verb, as one."""
    places = (n + 1 for n, word in enumerate(argv) if word in _OF_LISTS or argv[max(n - 1, 0) : n + 1] == _THREE_WORDS)
    ends = {n: next((k for k in range(n, len(argv)) if argv[k].startswith("-")), len(argv)) for n in places}
    found = next(((begin, end) for begin, end in ends.items() if end > begin + 1), None)
    if found is None:
        return list(argv)
    from barnacle.jobs.desk.shared_out import words_of_title  # not needed for one word

    begin, end = found
    book = argv[argv.index("--book") + 1] if "--book" in argv[:-1] else None
    try:
        size = words_of_title(Desk(book_path=Path(book) if book else None), argv[begin:end])
    except (BarnacleError, OSError):
        return list(argv)  # the command says what is wrong with the book
    return [*argv[:begin], " ".join(argv[begin : begin + size]), *argv[begin + size :]]


# Options whose values may stand between commas; and commands in which a bare `where` begins a rule, from which word on.
_OF_SEVERAL = ("--columns", "--fields", "--include", "--exclude")
_PHONES = ("--phone", "--drop-phone")
_WITH_RULES = ((["find"], 1), (["list", "new"], 3))


def _words_together(argv: Sequence[str]) -> list[str]:
    """The command line with a rule as one word, which needs several (`--where phone missing`, `where:phone missing`),
    a phone number likewise (`--phone 01632 960001`); and what stands behind a comma with what is in front of it
    (`--columns phone, Berth`)."""
    result: list[str] = []
    of_rule = several = of_phone = False
    for word in argv:
        previous = result[-1] if result else ""
        if word.lower() == "where" and any(argv[: len(c)] == c and len(result) >= n for c, n in _WITH_RULES):
            word = "--where"
        if of_rule and not word.startswith("-"):
            from barnacle.jobs.desk.shared_out import in_a_rule  # not needed for a rule in quotation marks

            result[-1] = f"{previous} {in_a_rule(word)}"
        elif not word.startswith("-") and (
            (several and previous.endswith(",")) or (of_phone and not word.strip("0123456789()./-"))
        ):
            result[-1] = f"{previous} {word}"
        else:
            # A rule in quotation marks has blanks in it.
            of_rule = " " not in word and (previous == "--where" or word[:6].lower() == "where:" != word.lower())
            several, of_phone = previous in _OF_SEVERAL, previous in _PHONES
            result.append(word)
    return result


def as_meant(argv: Sequence[str], parser: Parser) -> list[str]:
    """`help COMMAND` as `COMMAND --help`, and `list TITLE` as `list show TITLE`."""
    words = [place for place, word in enumerate(argv) if not word.startswith("-")]
    words = [place for place in words if place == 0 or argv[place - 1] != "--book"]
    if len(words) < 2:
        return list(argv)
    first, second = words[:2]
    if argv[first] == "help" and argv[second] in dict(COMMANDS):
        return [*argv[:first], *argv[first + 1 :], "--help"]
    if argv[first] in SHOWN and argv[second] not in parser.verbs(argv[first]):
        return [*argv[:second], _shown(argv[first], argv[second:]), *argv[second:]]
    if argv[first] == "compose" and second == first + 1 and not parser.option_called(argv[second], "compose"):
        return [*argv[:second], "--for", *argv[second:]]
    return list(argv)


def _shown(command: str, words: Sequence[str]) -> str:
    """The verb that shows what the words behind a command name. Of messages several may be meant; and a list that is
    named `with` somebody is offered."""
    if command == "share" and {"with", "--with"} & {*words[1:]}:
        return "offer"
    return "find" if command == "outbox" and not words[0].removeprefix("m").isdecimal() else SHOWN[command][0]


def _said(error: BarnacleError, given: Sequence[str], argv: Sequence[str]) -> str:
    """The sentence for an error; `argv` is what was `given` as it was understood. Where a word is no command or verb,
    it says what may have been meant; and where there is nothing to show of that name."""
    if isinstance(error, UnknownWordError):
        from barnacle.cli.console import meant

        if not error.command and (option := option_in_front(given, error.word)):
            return in_front(option)
        asked = (
            meant.for_message(error.word, given)
            or (_within(error.command, error.word, given) if error.command else _named(given, error))
            or meant.for_word(error.command, error.word)
            or _by_itself(given, error.word)
        )
        return f"{error.begins}{asked or _asked(error.word, error.known, error.command)}{error.ends}"
    command = next((one for one in given if one in SHOWN), "")
    if isinstance(error, NotFoundError | UnclearError) and command and len(argv) > len(given):
        from barnacle.cli.console import meant, unknown_words

        place = next((n for n, (one, other) in enumerate(zip(given, argv, strict=False)) if one != other), -1)
        word = given[place]
        verbs = make_parser([command]).verbs(command)
        if given[place + 1 : place + 2] and given[place + 1] in verbs:
            turned = [*given[:place], given[place + 1], word, *given[place + 2 :]]
            return f"The verb stands first: {unknown_words.typed(turned)}."
        of_message = meant.for_message(word, given[place + 1 :]) if command == "outbox" else ""
        instead = of_message or meant.for_word(command, word) or _by_itself(given, word)
        said = str(error)
        if not instead and f"`{visible(word, 60)}" in said and ("Did you mean" not in said or given[place + 1 :]):
            instead = _asked(word, verbs, command)
        if instead:
            what = f"There is no {SHOWN[command][1]} and no verb `{visible(word, 60)}`."
            return f"{what} {instead}`barnacle help {command}` shows what there is."
    return str(error)


def _named(given: Sequence[str], error: UnknownWordError) -> str:
    """What to do with the words of a line that begins with no command."""
    from barnacle.cli.console import meant, unknown_words

    words = unknown_words.words_of(given, error.word)
    if not words:
        return ""
    if error.word.lower() in meant.QUESTIONS and (answered := unknown_words.asked_of(words)):
        return answered
    way, whole = unknown_words.filled(words)
    if not way and (there := unknown_words.named(words)):
        return there
    if not way and (way := meant.slip_of(error.word, error.known)):
        whole = [way, *words[1:]]
    return f"Did you mean {unknown_words.typed(whole)} ({make_parser(way.split()).purpose(way)})? " if way else ""


def _by_itself(given: Sequence[str], word: str) -> str:
    """What to do with a command that stands behind another one, where a verb should: `outbox send m1`."""
    if word not in dict(COMMANDS) or word not in given[1:]:
        return ""
    if word == "list" and given[0] in ("house", "label", "outbox", "text"):
        return f"`barnacle {given[0]}` alone shows all. "
    from barnacle.cli.console import unknown_words

    return f"`{word}` is a command by itself: {unknown_words.typed(given[given.index(word, 1) :])}. "


def _within(command: str, word: str, given: Sequence[str]) -> str:
    """What to do with a list whose title stands where a verb should, of a command that looks at the whole book."""
    from barnacle.cli.console import unknown_words

    looks = {"duplicates": "duplicates --in", "report": "report reach"}.get(command)
    words = [one for one in given if not one.startswith("-")]
    for text in (" ".join(words[words.index(word) :]), word) if looks and word in words else ():
        kind, name, typed = unknown_words.in_the_book(text)
        if kind == "list":
            return f"`{name}` is a list: `barnacle {looks} {typed}` looks at those on it. "
    return ""


def _asked(word: str, known: Sequence[str], command: str) -> str:
    from barnacle.cli.console import meant

    ways = meant.commands_meant(word, known, command)
    parser = make_parser([one for way in ways for one in way.split()])
    return meant.asked([(f"barnacle {way}", parser.purpose(way)) for way in ways])


def main(argv: Sequence[str]) -> int:
    """Run one command. Returns its exit code: 0 all done, 1 done in part, 2 nothing done."""
    if any(not word.isascii() or "'" in word for word in argv):
        from barnacle.cli.console.pasted_line import as_it_was  # of few lines

        argv = as_it_was(argv)
    screen = Screen(json="--json" in argv, quiet="--quiet" in argv)
    try:
        # A word that cannot be read may be the name of a file.
        return _answered([word if os.path.lexists(word) else as_typed(word) for word in argv], screen)
    except OSError:  # nobody reads what is said, or it cannot be written
        raise
    except Exception as error:
        import traceback  # only for a mistake: it costs start-up time

        # Nobody foresaw it; what a command had not finished is taken back all the same.
        where = traceback.extract_tb(error.__traceback__)[-1]
        done = "`barnacle history` shows what was done." if Desk.may_have_changed() else "Nothing was changed."
        screen.error(
            f"Barnacle made a mistake ({type(error).__name__} in {Path(where.filename).name}:{where.lineno}). {done} "
            "To report it, run the command again with --debug: that writes a log without anybody's address.",
            "mistake",
        )
        return IN_PART if Desk.may_have_changed() else NOTHING


def _answered(argv: Sequence[str], screen: Screen) -> int:
    """Run one command, and say what went wrong that was to be expected."""
    given = argv = _titles_together(_words_together(argv))
    try:
        parser = make_parser(argv)
        argv = as_meant(argv, parser)
        args = parser.parse_args(argv)
        screen.yes = args.yes
        if not (args.debug or "BARNACLE_LOG" in os.environ):
            return _run(args, screen)
        from barnacle.cli.console import debug_log

        with debug_log.logged(debug_log.path(), argv):
            try:
                return _run(args, screen)
            except Exception as error:
                debug_log.went_wrong(error)
                raise
    except BarnacleError as error:
        screen.error(_said(error, given, argv), error.code, getattr(error, "candidates", ()))
        return error.exit_code
    except ModuleNotFoundError as error:
        if (error.name or "").partition(".")[0] not in OF_A_HUB:
            raise
        screen.error("This is for whoever runs a hub, and not installed yet: pip install 'barnacle[hub]'", "missing")
        return NOTHING
    except (KeyboardInterrupt, EOFError):
        if Desk.may_have_changed():
            screen.error("Stopped, after something was done: `barnacle history` shows what.", "stopped")
            return IN_PART
        screen.error("Stopped. Nothing was changed.", "stopped")
        return NOTHING
    except BrokenPipeError:
        raise
    except OSError as error:
        if error.filename is None and error.errno in _OUTPUT:
            raise
        screen.error(f"{in_a_sentence(error)} Nothing more was done.", "system")
        return NOTHING


def _is_piped(value: object) -> bool:
    return isinstance(value, Path) and value.name == PIPED_OUT


def _run(args: argparse.Namespace, screen: Screen) -> int:
    # What goes to standard output is the file that was asked for; what is said goes beside it.
    screen.aside = any(_is_piped(value) for value in vars(args).values())
    if screen.aside and screen.json:
        raise UnclearError("With --json, name the file to write: there is one standard output.")
    Command.at_work = True
    desk = Desk(book_path=args.book, choose=screen.choose, secret=screen.secret)
    try:
        if (typed := getattr(args, "typed", None)) is not None:
            typed.share_out(desk, args)
        if args.run is not None:
            result: int = args.run(args, desk, screen)
            return result
        from barnacle.cli.commands import overview

        return overview.run(args, desk, screen)
    finally:
        if screen.aside:
            from barnacle.cli.console.pipes import hand_on

            hand_on()
        for remark in desk.unknown_settings():
            screen.warn(remark)


def run() -> int:
    """The entry point of the installed command."""
    if "_ARGCOMPLETE" in os.environ:
        from barnacle.cli.completion import complete

        complete(lambda typed: make_parser(typed, half_typed=True))
    if hasattr(sys.stdin, "reconfigure"):
        sys.stdin.reconfigure(errors="surrogateescape")
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # closed by whoever started us
            setattr(sys, name, Path(os.devnull).open("w", encoding="utf-8"))  # noqa: SIM115
        stream = getattr(sys, name)
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    try:
        try:
            code = main(sys.argv[1:])
        except SystemExit as ended:  # of --help and --version
            code = int(ended.code or 0)
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever read our output has gone (`| head`); Python would complain once more when it ends.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = DONE
    except OSError as error:
        # Full, say. What the command has done is done; only telling it failed.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        print(
            f"The output could not be written ({error.strerror}). `barnacle history` shows what was done.",
            file=sys.stderr,
        )
        code = IN_PART
    return code
