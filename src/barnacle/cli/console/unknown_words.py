"""What is answered to a line that begins with no command: `add Una to crew`, `who is on crew?`, `crew`. Loaded for a
mistake."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from barnacle.cli.console import meant
from barnacle.core.errors import BarnacleError
from barnacle.core.patterns import pattern
from barnacle.core.text import visible
from barnacle.jobs import search
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import Named, list_or_person, named_among, read_and_typed

# What has to be named for a command to be meant: one of several kinds, or two together, in the order of the alphabet.
_WANTS = {
    "check": ("list",),
    "compose": ("list", "contact", "contact list"),
    "contact add": ("address", "address contact"),
    "contact edit": ("contact",),
    "contact merge": ("contact",),
    "contact optin": ("contact",),
    "contact optout": ("contact",),
    "contact remove": ("contact",),
    "contact show": ("contact",),
    "export": ("list",),
    "find": ("", "contact", "contact list", "list"),
    "import": ("file", "file list"),
    "list add": ("contact list", "address list", "address contact list"),
    "list compare": ("list",),
    "list copy": ("list",),
    "list pick": ("list",),
    "list remove": ("list",),
    "list rename": ("list",),
    "list show": ("list",),
    "list take": ("contact list",),
    "outbox edit": ("message",),
    "outbox remove": ("message",),
    "outbox show": ("message",),
    "share end": ("contact list",),
    "share stop": ("list",),
}
# Words behind the first one that say of which command it is.
_OF = {
    "group": "list", "list": "list", "member": "list", "contact": "contact", "person": "contact", "people": "contact",
    "label": "label", "tag": "label", "text": "text", "template": "text", "message": "outbox", "mail": "outbox",
    "email": "outbox", "draft": "outbox",
}  # fmt: skip
# A number or an address that somebody asks after.
_TELLS = pattern(r"[0-9]{5}|\S@\S")
_SMALL = frozenset("of the my our a an new another please to all named called".split())


def words_of(given: Sequence[str], first: str) -> list[str]:
    """The words of a line that begins with `first`, without options; none where another book is asked."""
    words = [word for word in given if not word.startswith("-")]
    return words if "--book" not in given and words[:1] == [first] else []


def named(words: Sequence[str]) -> str:
    """What to do with a list or a person whose name stands where a command should."""
    for text in dict.fromkeys((" ".join(words), *words[:1])):
        kind, name, typed = in_the_book(text)
        if kind == "list":
            to_write = f"`barnacle compose --for {typed}` writes to it"
            return f"`{name}` is a list: `barnacle list show {typed}` shows it, {to_write}. "
        if kind == "several":
            return f"Several are called so: `barnacle find {typed}` shows them. "
        if kind:
            return f"`{name}` is in the book: `barnacle contact show {typed}` shows all about them. "
    return ""


def asked_of(words: Sequence[str]) -> str:
    """Which commands answer a question, by the list, the person and the message that are named in it."""
    asked = [word.rstrip("?").removesuffix("'s") for word in words]
    found: dict[str, str] = {}
    if {"accepted", "accept", "joined"} & {word.lower() for word in asked}:
        found["share"] = "`barnacle share who LIST` shows who has accepted. "
    among = _among(asked[1:])
    both = [name for kind, name, _ in among if kind == "list" and name]
    if len(both) > 1:
        compared = shlex.join(("list", "compare", *both[:2]))
        found["list"] = f"`barnacle {compared}` shows who is on both, and who on only one. "
    for kind, name, _ in among:
        typed = shlex.quote(name)
        if kind == "list":
            found.setdefault(kind, f"`barnacle list show {typed}` shows who is on {name}, since when and by whom. ")
        elif kind == "message":
            seen = f"`barnacle preview {name}` what they see"
            found.setdefault(kind, f"`barnacle outbox show {name}` shows who gets it, {seen}. ")
        elif name:
            shows = f"shows all of {name}, and which lists they are on"
            found.setdefault(kind, f"`barnacle contact show {typed}` {shows}. ")
    if found:
        return "".join(found.values())
    if told := next((word for word in asked if _TELLS.search(word)), ""):
        return f"`barnacle find {shlex.quote(told)}` looks for it. "
    return _of_the_book(asked)


def _of_the_book(asked: Sequence[str]) -> str:
    """Which command answers a question that names nobody: who opted out, who has no phone."""
    try:
        return search.asked_otherwise(Desk(), " ".join(asked))
    except (BarnacleError, OSError):
        return ""


def filled(words: Sequence[str]) -> tuple[str, list[str]]:
    """Which command is meant, by the first word and by what is named behind it, and the whole of it; or nothing."""
    ways = meant.ways_meant(words[0])
    rest = _without_small(words[1:])
    command = _OF.get(rest[0].lower().rstrip("s"), "") if rest else ""
    if command:
        ways = [way for way in ways if way.startswith(f"{command} ")]
        rest = _without_small(rest[1:])
    if not rest:
        return "", []
    among = _among(rest)
    kinds = {one.kind for one in among}
    # An address that is not known may be put where somebody is.
    wanted = {" ".join(sorted(kinds)), " ".join(sorted({"contact" if kind == "address" else kind for kind in kinds}))}
    way = next((way for way in ways if wanted.intersection(_WANTS.get(way, ()))), ways[0] if command and ways else "")
    if way == "compose":
        rest = [one.name or one.text for one in among]
    if way == "import":
        rest = [word for one in among for word in (["--into"] * (one.kind == "list") + [one.name or one.text])]
    return way, [*way.split(), *rest]


def typed(words: Sequence[str]) -> str:
    """A command as somebody would type it, in backticks."""
    return f"`barnacle {visible(shlex.join(words), 100)}`"


def in_the_book(text: str) -> tuple[str, str, str]:
    """What is called so, as `list_or_person` has it; its name to be read, and as it is typed. Empty where there is no
    book, or where it cannot be read: that is not what was asked."""
    try:
        kind, title = list_or_person(Desk(), text)
    except (BarnacleError, OSError):
        return "", "", ""
    return kind, *read_and_typed(title)


def _among(words: Sequence[str]) -> list[Named]:
    try:
        return named_among(Desk(), words, meant.SMALL)
    except (BarnacleError, OSError):
        return []


def _without_small(words: Sequence[str]) -> list[str]:
    """Words without the small ones that stand in front."""
    begin = next((n for n, word in enumerate(words) if word.lower() not in _SMALL), len(words))
    return [*words[begin:]]
