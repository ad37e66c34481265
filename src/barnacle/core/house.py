"""House lists: lists with an address of their own, and who may write to them, come onto them, or see who is on them."""

from __future__ import annotations

import re

from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.core.typed import Any, NamedTuple

# Who may write, in an order in which each takes in those before it; who may come onto a list; who may see its members.
WRITERS = ("keepers", "members", "staff", "anyone")
JOINING = ("closed", "asked", "staff", "anyone")
LOOKING = ("keepers", "members", "staff")
# How somebody came onto a list, and how it stands with them.
INVITED, ASKED, JOINED, ADDED = "invited", "asked", "joined", "added"
ON, PAUSED, OFF = "on", "paused", "off"
# What is done with a posting that cannot simply go on.
REFUSE, HOLD, PASS = "refuse", "hold", "pass"
REQUEST = "-request"  # RFC 2142 section 6
_NAME = re.compile(r"[a-z0-9]+(?:[._-][a-z0-9]+)*")
_NAME_LIMIT = 40
# RFC 2142, RFC 5321 section 4.5.1, and what the hub takes mail at itself.
_RESERVED = frozenset((
    "postmaster", "abuse", "hostmaster", "webmaster", "noc", "security", "info", "marketing", "sales", "support",
    "usenet", "news", "www", "uucp", "ftp", "mailer-daemon", "root", "noreply", "no-reply", "bounce",
    "leave", "join", "back",
))  # fmt: skip


class Rules(NamedTuple):
    """The rules of a house list. `otherwise` is what is done with a posting of somebody who may not write, `named` with
    one that names a member in its text or header; `pace` is how many postings go out in an hour, `size` how many octets
    one may have."""

    writers: str = "members"
    joining: str = "closed"
    looking: str = "members"
    outsiders: bool = False
    listed: bool = True
    otherwise: str = REFUSE
    named: str = PASS
    pace: int = 20
    size: int = 10_000_000


_ONE_OF = {
    "writers": WRITERS,
    "joining": JOINING,
    "looking": LOOKING,
    "otherwise": (REFUSE, HOLD),
    "named": (PASS, HOLD),
}
_NUMBERS = {"pace": (1, 10_000), "size": (1_000, 25_000_000)}


def changed_rules(rules: Rules, wanted: dict[str, Any]) -> Rules:
    """The rules with some of them changed; those that have no value stay. Raises UnclearError."""
    given = {name: value for name, value in wanted.items() if value is not None and name in Rules._fields}
    for name, value in given.items():
        if name in _ONE_OF and value not in _ONE_OF[name]:
            raise UnclearError(f"`{visible(str(value), 40)}` is no value for {name}: {', '.join(_ONE_OF[name])}.")
        if name in _NUMBERS and not (
            isinstance(value, int) and not isinstance(value, bool) and _NUMBERS[name][0] <= value <= _NUMBERS[name][1]
        ):
            least, most = _NUMBERS[name]
            raise UnclearError(f"{name} is a number from {least:,} to {most:,}.")
        if name in ("outsiders", "listed") and not isinstance(value, bool):
            raise UnclearError(f"{name} is yes or no.")
    if given.get("outsiders") and "named" not in given and not rules.outsiders:
        given["named"] = HOLD  # where outsiders read, a member who is named may not want to be
    return rules._replace(**given)


def check_name(text: str) -> str:
    """The name in front of the @ of a house list's address. Raises UnclearError."""
    name = text.strip().lower()
    if not _NAME.fullmatch(name) or len(name) > _NAME_LIMIT:
        raise UnclearError(
            f"`{visible(text, 60)}` cannot stand before the @ of a list's address. Use letters without accents, "
            f"digits, and dots or hyphens between them, such as ferry-crews; {_NAME_LIMIT} characters at most."
        )
    if name in _RESERVED or name.endswith(REQUEST):
        raise UnclearError(f"Mail to {name} is read by other people or programs. Choose another name.")
    return name


class Who(NamedTuple):
    """Somebody who asks, writes or wants to come: what they are to a list. A keeper owns the shared list, an editor may
    change it, staff are the hub's people and addresses of the house's own domains. One may be several, or none: an
    outsider."""

    keeper: bool = False
    editor: bool = False
    member: bool = False
    staff: bool = False


def may_write(rules: Rules, who: Who | None) -> str:
    """What becomes of a posting by somebody, or by somebody who is not proven (None): PASS, HOLD or REFUSE. An unproven
    one is never refused: the answer would go to whoever was named without having written."""
    allowed = {
        "keepers": who is not None and who.keeper,
        "members": who is not None and (who.keeper or who.member),
        "staff": who is not None and (who.keeper or who.staff),
        "anyone": True,
    }[rules.writers]
    if allowed:
        return PASS
    return HOLD if who is None else rules.otherwise


def why_not_write(rules: Rules, title: str) -> str:
    """What is said to somebody who may not write."""
    who = {
        "keepers": "only its keepers write to it",
        "members": "only its members write to it",
        "staff": "only the staff of the house write to it",
    }[rules.writers]
    return f"Not passed on: {title} is a list of the house, and {who}."


def may_look(rules: Rules, who: Who) -> bool:
    """Whether somebody may see who is on the list."""
    return (
        who.keeper
        or who.editor
        or (rules.looking in ("members", "staff") and who.member)
        or (rules.looking == "staff" and who.staff)
    )


def may_know_of(rules: Rules, who: Who) -> bool:
    """Whether the list exists for somebody."""
    return who.keeper or who.editor or who.member or (rules.listed and who.staff)


def may_join(rules: Rules, who: Who) -> str:
    """What becomes of a wish to come onto the list: PASS, HOLD (a keeper is asked) or REFUSE."""
    if who.keeper or who.editor:
        return PASS
    if not (who.staff or rules.outsiders):
        return REFUSE
    if rules.joining == "anyone" or (rules.joining == "staff" and who.staff):
        return PASS
    return HOLD if rules.joining == "asked" else REFUSE


def in_words(rules: Rules) -> list[str]:
    """The rules as sentences, for people."""
    writers = {
        "keepers": "Its keepers",
        "members": "Its members",
        "staff": "Anybody of the staff",
        "anyone": "Anybody at all",
    }[rules.writers]
    others = "" if rules.writers == "anyone" else f"; others are {'held' if rules.otherwise == HOLD else 'turned away'}"
    joining = {
        "closed": "Only its keepers put people on it",
        "asked": "Whoever wants to be on it asks its keepers",
        "staff": "Anybody of the staff may join",
        "anyone": "Anybody may join",
    }[rules.joining]
    looking = {"keepers": "Its keepers", "members": "Its members", "staff": "All of the staff"}[rules.looking]
    return [
        f"{writers} may write to it{others}.",
        f"{joining}; outsiders {'may' if rules.outsiders else 'cannot'} be on it.",
        f"{looking} see who is on it. {'The staff find it with `house find`' if rules.listed else 'It is not listed'}.",
        f"A posting that shows a member's address {'waits for a keeper' if rules.named == HOLD else 'goes on'}.",
        f"At most {rules.pace} postings go out in an hour, of at most {rules.size:,} octets.",
    ]
