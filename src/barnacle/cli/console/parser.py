"""The command line as people type it: help with examples first, words after options, a suggestion for a mistake."""

from __future__ import annotations

import argparse
import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from barnacle.core.errors import UnclearError
from barnacle.core.text import listed, visible
from barnacle.core.typed import TYPE_CHECKING, Any, NoReturn

if TYPE_CHECKING:
    from barnacle.jobs.desk.desk import Desk

# The complaints of this parser are read again below, in English; and each look for a translation goes to the disk.
argparse._ = str  # type: ignore[attr-defined]

PROGRAM = "barnacle"
COMMON = "options of every command"
_WORDS = {
    "LIST": "a list: its title, the start of it, or words from it",
    "WHO": "a person: an address, or any words of the name",
    "TITLE": "what the list is called",
    "NEW-TITLE": "what it should be called",
    "mN": "a message by its number, such as m1",
    "LABEL": "a label",
    "FILE": "a file",
    "ADDRESS": "an e-mail address",
    '"NAME <ADDRESS>"': "the name and the address; either alone will do",
    "KEY": "the setting, such as mail.per_hour",
    "VALUE": "what it should be",
    "WORD": "a word, or part of one",
    "NEW-LABEL": "what it should be called",
    "TEXT": "the words",
    "NUMBER": "a change by its number in the history (default: the last one)",
    "NAME": "its name",
    "URL": "the address of the hub",
    "role": "reader, editor or owner",
    "--org": "the organisation",
    "--job": "the job or role there",
    "--web": "a web page",
    "--note": "anything else",
    "--name": "the name",
    "--drop-address": "an address to remove",
    "--drop-phone": "a phone number to remove",
    "--add": "a label to add",
    "--drop": "a label to take off",
    "--in": "for this list alone",
    "--why": "the reason, to remember it by",
    "--with": "a colleague's address",
    "--from": "who offers it, if several do",
    "--tls-cert": "the certificate, as PEM",
    "--tls-key": "the key that belongs to it, as PEM",
}


# What is called by names that the book knows.
_NAMES = ("LIST", "WHO", "WHAT", "LABEL", "TITLE")

# Where there is one of what is missing.
_SHOWN = (
    ("LIST", "`barnacle list` shows your lists."),
    ("WHO", "`barnacle find` shows your people."),
    ("mN", "`barnacle outbox` shows your messages."),
)


class UnknownWordError(UnclearError):
    """A word that is no command, or no verb of the command in front of it; `known` are those that there are."""

    def __init__(self, word: str, what: str, command: str, known: Sequence[str]) -> None:
        self.word, self.command, self.known = word, command, known
        there = f"`{f'{PROGRAM} help {command}'.strip()}` shows what there is."
        self.begins, self.ends = f"There is no {what} `{visible(word, 40)}`. ", there
        super().__init__(self.begins + there)


class Unread:
    """Stands for the parser of a command that was not given: whatever is declared for it is of no interest."""

    def __getattr__(self, name: str) -> Any:
        return lambda *args, **kwargs: self


class Verbs(argparse._SubParsersAction):  # type: ignore[type-arg]
    """Commands or verbs, each of which says in its help what the list of all says of it. Where `given` says which were,
    the others are named alone: to make a parser takes longer than to read a book."""

    given: frozenset[str] | None = None

    def add_parser(self, name: str, **kwargs: Any) -> Any:
        if self.given is not None and name not in self.given:
            self._choices_actions.append(self._ChoicesPseudoAction(name, (), kwargs["help"]))
            unread = self._name_parser_map[name] = Unread()
            return unread
        kwargs.setdefault("description", kwargs["help"][:1].upper() + kwargs["help"][1:] + ".")
        made = super().add_parser(name, **kwargs)
        made.given = self.given
        return made


class _NoColours:
    """Each colour of argparse's, as none."""

    def __getattr__(self, name: str) -> str:
        return ""


class _Plain(argparse.HelpFormatter):
    """Help as it is without the colours that argparse has from Python 3.14 on: they would be on half of the help, and
    to load them makes every command start later."""

    def _set_color(self, color: bool) -> None:
        self._theme, self._decolor = _NoColours(), str


class Typed:
    """Words of the command line with names among them, until it is known where each name ends."""

    def __init__(self, parser: Parser, places: Sequence[argparse.Action], words: Sequence[str]) -> None:
        self._parser, self._places, self._words = parser, places, words

    def share_out(self, desk: Desk, args: argparse.Namespace) -> None:
        """Put each name in its place among the arguments. Raises UnclearError for a word too many, and for a name that
        is missing."""
        from barnacle.jobs.desk.shared_out import Place, new_title, shared_out  # not needed for one word

        in_words = bool(self._parser.get_default("in_words"))
        known, words = self._places, self._words
        if known[0].metavar == "TITLE":  # which is in no book
            title, words = new_title(desk, words)
            vars(args)[known[0].dest], known = title, known[1:]
        if not words:
            return
        places = [Place(one.dest, str(one.metavar), one.nargs in ("*", "+")) for one in known]
        found, left = shared_out(desk, words, places, in_words)
        if left:
            self._parser.complain_of(left, self._words)
        missing = [str(one.metavar) for one in known if one.dest not in found and one.nargs not in ("*", "?")]
        if missing:
            self._parser.error(f"the following arguments are required: {', '.join(missing)}")
        vars(args).update({one.name: found.get(one.name, [] if one.several else None) for one in places})


class Parser(argparse.ArgumentParser):
    """A parser whose complaints are ordinary errors."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        # With the options of every command comes help.
        own = {"add_help": False, "allow_abbrev": False, "formatter_class": _Plain}
        super().__init__(*args, **{**kwargs, **own})
        self.register("action", "parsers", Verbs)
        self._is_mixing = self._declaring = False
        self.given: frozenset[str] | None = None

    def add_subparsers(self, **kwargs: Any) -> Any:
        """As of any parser; which of them are of interest is the same for all beneath."""
        verbs: Any = super().add_subparsers(**kwargs)
        verbs.given = self.given
        return verbs

    def _get_formatter(self) -> argparse.HelpFormatter:
        # Each argument is tried on one when it is declared, which would ask how wide the terminal is.
        return self._get_validation_formatter() if self._declaring else super()._get_formatter()

    def _get_validation_formatter(self) -> argparse.HelpFormatter:
        """As Python 3.14 calls what each argument is tried on."""
        return _Plain(self.prog, width=80)

    def add_argument(self, *names: Any, **kwargs: Any) -> argparse.Action:
        """As of any parser; a word that several commands take is explained by what it is called."""
        words = names if names[0].startswith("-") else (kwargs.get("metavar", names[0]),)
        kwargs.setdefault("help", next((_WORDS[word] for word in words if word in _WORDS), None))
        self._declaring = True
        try:
            return super().add_argument(*names, **kwargs)
        finally:
            self._declaring = False

    @property
    def command(self) -> str:
        """The command and verb that it is for."""
        return self.prog.removeprefix(PROGRAM).strip()

    def option_called(self, word: str, command: str = "") -> str:
        """The option, here or of a command, that a word stands for which has no dashes in front; empty where none."""
        from barnacle.cli.console import meant  # not loaded by most commands

        of = self._verbs.choices[command] if command and self._verbs else self
        known: dict[str, Any] = of._option_string_actions
        option = f"--{word.lower()}"
        return option if option in known else meant.option_meant(option, known) if word.isalpha() else ""

    @property
    def _verbs(self) -> Verbs | None:
        return next((one for one in self._actions if isinstance(one, Verbs)), None)

    def verbs(self, command: str = "") -> list[str]:
        """The commands, or the verbs of one."""
        choices: dict[str, Parser] = self._verbs.choices if self._verbs else {}
        return choices[command].verbs() if command else list(choices)

    def purpose(self, command: str) -> str:
        """What the list of commands, or of its verbs, says of a command, or a command and its verb; nothing where there
        is no such."""
        verbs = self._verbs
        first, _, rest = command.partition(" ")
        if verbs is None or first not in verbs.choices:
            return ""
        if rest:
            return str(verbs.choices[first].purpose(rest))
        return next(one.help or "" for one in verbs._choices_actions if one.dest == first)

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> tuple[argparse.Namespace, list[str]]:  # type: ignore[override]
        """Words may follow options. Raises UnclearError for what is left."""
        if self._is_mixing:
            return super().parse_known_args(args, namespace)
        if self._subparsers is not None:
            parsed, left = super().parse_known_args(args, namespace)
            if left:
                self.complain_of(left, args)
            return parsed, left
        if {"-h", "--help"} & {*args}:  # what is mixed has no words to show
            self.print_help()
            self.exit()
        self._is_mixing = True
        self.usage = argparse.SUPPRESS  # which would be put together now, in case of a complaint
        try:
            parsed, left = self.parse_known_intermixed_args(args, namespace)
        finally:
            self._is_mixing, self.usage = False, None
        # The words of a name need no quotation marks; where it ends is found out with the book.
        places = self._get_positional_actions()
        if self._takes_names(places) and not any(word.startswith("-") for word in left):
            values = [getattr(parsed, one.dest) for one in places]
            words = [
                word for value in values for word in (value if isinstance(value, list) else [value]) if word is not None
            ]
            if len(words) + len(left) > 1:
                parsed.typed = Typed(self, places, [*words, *left])
                left = []
        if places and places[0].metavar in ("FILE", "MAILBOX"):
            left = self._swallowed(args or ()) or left
        if left:
            self.complain_of(left, args)
        return parsed, left

    def _swallowed(self, given: Sequence[str]) -> list[str]:
        """Words behind an option's value that are no files, so that they belong to that: `--label night watch`."""
        for option, (_, *words) in self._behind_options(given):
            is_text = self._option_string_actions[option].type is None
            if is_text and not any("." in word or os.path.lexists(word) for word in words):
                return words
        return []

    def _behind_options(self, given: Sequence[str]) -> Iterator[tuple[str, list[str]]]:
        """The options that take one word, each with the words behind it, where there are more."""
        for place, option in enumerate(given):
            known = self._option_string_actions.get(option)
            end = next((n for n in range(place + 1, len(given)) if given[n].startswith("-")), len(given))
            if known and known.nargs is None and end > place + 2:
                yield option, [*given[place + 1 : end]]

    def _takes_names(self, places: Sequence[argparse.Action]) -> bool:
        if not 0 < len(places) < 3 or self.command.startswith("hub "):  # whoever runs a hub needs no book
            return False
        named = places[0].metavar in _NAMES or bool(self.get_default("in_words"))
        return named or [one.metavar for one in places] == ["NAME", "mN"]

    def complain_of(self, left: Sequence[str], given: Sequence[str]) -> NoReturn:
        """Words and options that there is no place for, of those that were given. Raises UnclearError."""
        import shlex  # only for a mistake: it costs start-up time

        from barnacle.cli.console import meant

        one = next((word for word in left if word.startswith("-")), None)
        if one is None:
            takes_words = any(not action.option_strings and action.type is None for action in self._actions)
            instead = (
                self._as_options(left)
                or self._as_one_value(left, given)
                or meant.for_message(left[0], given)
                or meant.for_one_too_many(self.command, takes_words)
            )
            raise UnclearError(f"`{visible(left[0], 60)}` is one word too many. {instead}{self._see()}")
        option = one.partition("=")[0]
        instead = meant.for_option(self.command, option, self._option_string_actions)
        if not instead and "--set" in self._option_string_actions:
            instead = f"A field of your own is set with `--set {shlex.quote(option.lstrip('-') + '=VALUE')}`. "
        if not self.command:
            raise UnclearError(in_front(option))
        raise UnclearError(f"There is no option `{visible(option, 40)}` here. {instead}{self._see()}")

    def _as_options(self, left: Sequence[str]) -> str:
        """What to write instead of words that say what options say: `contact edit bo phone 01632…`."""
        import shlex  # only for a mistake: it costs start-up time

        known, named = self._option_string_actions, self.option_called
        if not named(left[0]):
            bare = "--address" if "@" in left[0] else "--set" if "=" in left[0] else ""
            is_fit = bare in known and "--set" in known  # where a person is described
            return f"Write `{bare} {visible(shlex.join(left), 80)}`. " if is_fit else ""
        said: list[str] = []
        while left:
            option = named(left[0])
            end = next((n for n, word in enumerate(left) if n and named(word)), len(left))
            if known[option].nargs == 0 or end < 2:
                return ""
            alone = known[option].nargs is None
            said += [option, shlex.quote(" ".join(left[1:end])) if alone else shlex.join(left[1:end])]
            left = left[end:]
        return f"Write `{visible(' '.join(said), 100)}`. "

    def _as_one_value(self, left: Sequence[str], given: Sequence[str]) -> str:
        """What to write where words belong to the value of the option in front of them: `--use Slipway closed`."""
        import shlex  # only for a mistake: it costs start-up time

        # What has a blank in it was put together by whoever typed it.
        found = (one for one in self._behind_options(given) if one[1][1:] == [*left] and " " not in one[1][0])
        return next((f"Write `{one} {visible(shlex.quote(' '.join(words)), 80)}`. " for one, words in found), "")

    def error(self, message: str) -> NoReturn:
        unknown = re.match(r"argument (\S+): invalid choice: '(.*)' \(choose from (.*)\)", message)
        if unknown:
            what, given, known = unknown.groups()
            ways = re.findall(r"'([^']+)'", known) or known.split(", ")
            if what in ("COMMAND", "VERB", "SERVER", "REPORT"):
                raise UnknownWordError(given, what.lower(), self.command, ways)
            from barnacle.cli.console import meant

            near = meant.value_meant(given, ways)
            together = "" if what.startswith("-") else f"{meant.TOGETHER} "
            can_be = meant.ELSEWHERE.get((self.command, given.lower()), f"It can be {', '.join(ways)}.")
            instead = f"Did you mean `{near}`? " if near else f"{can_be} {together}"
            raise UnclearError(f"{what} cannot be `{visible(given, 40)}`. {instead}{self._see()}")
        missing = re.match(r"the following arguments are required: (.*)", message)
        if missing and missing[1] in ("VERB", "SERVER"):
            from barnacle.cli.console import meant

            ways = meant.in_lines([(f"{self.prog} {verb}", self.purpose(verb)) for verb in self.verbs()])
            raise UnclearError(f"Say what to do:\n{ways}\n{self._help} explains it.")
        if missing:
            shown = next((f"{way} " for word, way in _SHOWN if missing[1].startswith(word)), "")
            if option := self._option_string_actions.get(missing[1].split("/")[0]):
                raise UnclearError(f"{missing[1]} {option.metavar} is missing: {option.help}. {self._see()}")
            raise UnclearError(f"{missing[1].partition(',')[0]} is missing. {shown}{self._see()}")
        if whole := re.match(r"argument (\S+): invalid int value: '(.*)'", message):
            more = "`barnacle undo` alone undoes the last change; `barnacle history` shows the numbers of others. "
            if self.command != "undo":
                about = (one.help for one in self._actions if one.metavar == whole[1])
                more = "".join(f"It is {text}. " for text in about if text)
            raise UnclearError(f"{whole[1]} must be a whole number, not `{visible(whole[2], 40)}`. {more}{self._see()}")
        if lacking := re.match(r"argument (\S+): expected (?:one|at least one) argument", message):
            option = self._option_string_actions[lacking[1].split("/")[0]]
            stands = option.metavar or tuple(option.choices or ())
            words = stands if isinstance(stands, str) else " or ".join(map(str, stands))
            raise UnclearError(f"Behind {lacking[1]} stands {words}: {option.help}. {self._see()}")
        if either := re.match(r"argument (\S+): not allowed with argument (\S+)", message):
            raise UnclearError(f"Either {either[1]} or {either[2]} can be given, not both. {self._see()}")
        text = re.sub(r"^argument (\S+): ", r"\1: ", message)
        raise UnclearError(f"{text[:1].upper()}{text[1:].rstrip('.')}. {self._see()}")

    @property
    def _help(self) -> str:
        return f"`{f'{PROGRAM} help {self.command}'.strip()}`"

    def _see(self) -> str:
        return f"{self._help} shows how to use it."

    def format_help(self) -> str:
        """What it is for, examples, and then the options: its own before those of every command."""
        about = self._get_formatter()
        about.add_text(self.description)
        rest = self._get_formatter()
        rest.add_usage(None, [one for one in self._actions if not self._is_common(one)], [])
        groups = sorted(self._action_groups, key=lambda group: (group.title == COMMON, group.title == "options"))
        for group in groups:
            rest.start_section(group.title)
            rest.add_arguments(group._group_actions)
            rest.end_section()
        from barnacle.cli.console.examples import shown  # only for help

        return f"{about.format_help()}\n{shown(self.command)}{rest.format_help()}"

    def _is_common(self, action: argparse.Action) -> bool:
        return any(action in group._group_actions for group in self._action_groups if group.title == COMMON)


def _common() -> list[str]:
    """The options that every command takes, as they may stand in front of it."""
    return [name for action in common_options()._actions for name in action.option_strings]


def in_front(option: str) -> str:
    """What is to be said of an option in front of the command, where there is none of that name."""
    there = listed([name for name in _common() if name not in ("-h", "--help")], 9)
    return (
        f"There is no option `{visible(option, 40)}` in front of a command. There can be {there}; any other stands "
        f"behind it, and `{PROGRAM} help COMMAND` shows which."
    )


def option_in_front(words: Sequence[str], word: str) -> str:
    """The first option in front of a word that none is; empty where there is none such."""
    before = words[: words.index(word)] if word in words else ()
    found = (one.partition("=")[0] for one in before if one.startswith("-") and one != "-")
    known = [*_common(), "--version"]
    return next((option for option in found if option not in known), "")


def common_options() -> Parser:
    """The options that every command takes."""
    parser = Parser(argument_default=argparse.SUPPRESS)
    group = parser.add_argument_group(COMMON)
    group.add_argument("-h", "--help", action="help", help="show this help")
    group.add_argument("--book", metavar="FILE", type=Path, help="use another book instead of your usual one")
    group.add_argument("--json", action="store_true", help="print one JSON value and nothing else")
    group.add_argument("--yes", action="store_true", help="answer yes to every question; replaces files, too")
    group.add_argument("--quiet", action="store_true", help="print only results")
    group.add_argument(
        "--debug", action="store_true", help="write barnacle-debug.log for a bug report, without anybody's address"
    )
    return parser
