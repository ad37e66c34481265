"""`barnacle house`: lists with an address of their own, to which others write from any mail program."""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Callable

from barnacle.cli.console.screen import Screen, local_time
from barnacle.core.errors import UnclearError
from barnacle.core.house import JOINING, LOOKING, WRITERS
from barnacle.core.text import count, listed, visible
from barnacle.core.typed import Any
from barnacle.jobs.desk.desk import Desk

_YES_NO = ("yes", "no")
_NUMBER = "a number that `house held` shows"
_HOW = {"invited": "invited by", "asked": "let on by", "added": "put on by"}


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Lists of the house: whoever writes to the list's address reaches all on it."
    parser.set_defaults(run=run_mine)
    verbs = parser.add_subparsers(title="what to do", metavar="VERB", prog=parser.prog)

    def verb(name: str, purpose: str, run: Callable[..., int], *names: str) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = verbs.add_parser(name, help=purpose, parents=[common])
        for one in names:
            made.add_argument(one.lower(), metavar=one)
        # These are of lists that may not be in the book.
        made.set_defaults(run=run, verb=name, in_words=name in ("join", "leave", "held", "numbers"))
        return made

    verb("find", "find house lists by their title or address", run_find).add_argument(
        "words", metavar="WORDS", nargs="*", help="words of its title or address; none: all of them"
    )
    made = verb("open", "give a list of yours an address", run_open, "LIST")
    made.add_argument("--at", metavar="NAME", required=True, help="what stands before the @, such as ferry-crews")
    _rules(made)
    _rules(verb("rules", "see or change who may write, join, look", run_rules, "LIST"))
    verb("members", "see who is on a list, and how they came", run_members, "LIST")
    for name, purpose in (
        ("invite", "ask people whether they want to be on a list"),
        ("add", "put people on a list at once"),
    ):
        verb(name, purpose, run_put_on, "LIST").add_argument("who", metavar="WHO", nargs="+")
    verb("join", "come onto a list", run_join, "LIST")
    verb("leave", "leave a list", run_leave, "LIST")
    verb("held", "see what waits for you as a keeper", run_held).add_argument("list", metavar="LIST", nargs="?")
    verb("let", "let through what is held", run_settle).add_argument(
        "numbers", metavar="NUMBER", nargs="+", type=int, help=_NUMBER
    )
    made = verb("refuse", "do not let through what is held", run_settle)
    made.add_argument("numbers", metavar="NUMBER", nargs="+", type=int, help=_NUMBER)
    made.add_argument("--why", metavar="TEXT", default="", help="what the writer is told")
    verb("numbers", "see a list's postings and copies by month", run_numbers, "LIST")
    verb("close", "end a list's address, for good; the list stays", run_close, "LIST")


def _rules(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--writers", choices=WRITERS, help="who may write to it (members)")
    parser.add_argument("--joining", choices=JOINING, help="who may come onto it (closed: keepers put people on)")
    parser.add_argument("--looking", choices=LOOKING, help="who may see its members (members)")
    parser.add_argument("--outsiders", choices=_YES_NO, help="whether outsiders may be on it (no)")
    parser.add_argument("--listed", choices=_YES_NO, help="whether `house find` shows it to the staff (yes)")
    parser.add_argument(
        "--others",
        choices=("refuse", "hold"),
        dest="otherwise",
        help="what becomes of other people's postings (refuse)",
    )
    parser.add_argument(
        "--named", choices=("pass", "hold"), help="what becomes of a posting that shows a member's address (pass)"
    )
    parser.add_argument("--pace", metavar="N", type=int, help="postings in an hour; more are held (20)")
    parser.add_argument("--size", metavar="OCTETS", type=int, help="of a posting; larger ones are held (10000000)")
    parser.add_argument(
        "--those-outside",
        dest="outside",
        choices=("keep", "remove"),
        help="what becomes of outsiders on a list that is closed to them",
    )


def _wanted(args: argparse.Namespace) -> dict[str, Any]:
    """The rules that were named, as the hub is told them."""
    names = ("writers", "joining", "looking", "outsiders", "listed", "otherwise", "named", "pace", "size", "outside")
    given = {name: value for name in names if (value := getattr(args, name)) is not None}
    return given | {name: given[name] == "yes" for name in ("outsiders", "listed") if name in given}


_KEYS = (
    "title", "address", "official", "writers", "joining", "looking", "outsiders", "listed", "members", "postings",
    "held",
)  # fmt: skip


def _told(one: Any) -> dict[str, Any]:
    return {name: getattr(one, name) for name in _KEYS}


def run_mine(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    mine = house.mine(desk)
    screen.value({"keep": [_told(one) for one in mine.keep], "on": [_told(one) for one in mine.on]})
    if not mine.keep and not mine.on:
        screen.say("You keep no house list and are on none. `barnacle house find` shows those that there are.")
        return 0
    for heading, some in (("You keep", mine.keep), ("You are on", mine.on)):
        if some:
            screen.say(f"{heading}:")
            _table(screen, some)
            screen.say("")
    if held := sum(one.held for one in mine.keep):
        screen.say(f"{count(held, 'thing waits', 'things wait')} for you: `barnacle house held`.")
    return 0


def _table(screen: Screen, some: Any) -> None:
    held = any(one.held for one in some)
    screen.table(
        ("List", "Address", "Writers", "Members", "30 days", *(["Held"] if held else [])),
        [
            (one.title if one.official else f"{one.title}, of {one.of.partition(' <')[0]}", one.address, one.writers,
             "" if one.members is None else f"{one.members:,}", f"{one.postings:,}",
             *([f"{one.held:,}" if one.held else ""] if held else []))
            for one in some
        ],
    )  # fmt: skip


def run_find(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    found = house.find(desk, " ".join(args.words))
    screen.value([_told(one) for one in found])
    _table(screen, found)
    if not found:
        screen.say("There is no such list, or none that you may see.")
    return 0


def run_open(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one = house.open_list(desk, args.list, args.at, _wanted(args))
    screen.value(_told(one))
    screen.lines(f"{one.title} has the address {one.address} now.")
    _show_rules(screen, one)
    screen.say("\n`barnacle house rules` changes that. Nobody on the list was told of it.")
    return 0


def _show_rules(screen: Screen, one: Any) -> None:
    for line in one.words:
        screen.lines(f"  {line}")


def run_rules(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one = house.rules(desk, args.list, _wanted(args))
    screen.value(_told(one))
    of = "an official list of the house" if one.official else f"a list that {one.of} opened"
    members = "" if one.members is None else f", {count(one.members, 'member')}"
    screen.lines(f"{one.title}  {one.address}")
    screen.lines(f"  It is {of}{members}.")
    _show_rules(screen, one)
    return 0


def run_members(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one, members = house.members(desk, args.list)
    screen.value([
        {name: getattr(m, name) for name in ("address", "name", "since", "how", "role", "state")} for m in members
    ])  # fmt: skip
    # What most have in common is said once, and a column that would be empty throughout says nothing.
    usual, number = Counter(map(_came, members)).most_common(1)[0] if members else ("", 0)
    usual = usual if number > 1 else ""
    rows = [(m, " · ".join(part for part in (_came(m), _state(m)) if part and part != usual)) for m in members]
    roles, remarks = any(m.role for m in members), any(remark for _, remark in rows)
    screen.table(
        ("Name", "Address", *(["Role"] if roles else []), "Since", *(["How"] if remarks else [])),
        [
            (m.name, m.address, *([m.role] if roles else []), local_time(m.since), *([remark] if remarks else []))
            for m, remark in rows
        ],
    )
    screen.say(f"\n{count(one.members or 0, 'person is', 'people are')} on {one.title} ({one.address}).")
    if usual:
        screen.say(f"{'Where nothing else is said: ' if remarks else 'All of them: '}{usual}.")
    return 0


def _came(member: Any) -> str:
    """How somebody came onto the list."""
    by = member.by.partition(" <")[0]
    return f"{_HOW[member.how]} {by}" if by and member.how in _HOW else str(member.how)


def _state(member: Any) -> str:
    """What there is to say of somebody now."""
    if member.state == "off":
        return f"left {local_time(member.left)}" if member.left else f"gets nothing ({member.why or 'off'})"
    if member.state == "paused":
        return "paused: mail came back"
    if member.state != "on":
        return "has not answered yet"
    return f"mail came back on {count(member.fails, 'day')}" if member.fails else ""


def run_put_on(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one, done = house.put_on(desk, args.list, args.who, args.verb == "invite")
    screen.value([{"address": d.address, "state": d.state, "why": d.why} for d in done])
    by_state: dict[str, list[str]] = {}
    for each in done:
        if each.state != "refused":
            by_state.setdefault(each.state, []).append(each.address)
    for state, addresses in by_state.items():
        screen.lines(f"{one.title}: {listed(addresses, 10)}: {state}.")
    for each in done:
        if each.state == "refused":
            screen.error(f"{each.address}: {each.why}")
    if "invited" in by_state:
        screen.say("They are on the list once they say yes, within 14 days.")
    elif "added" in by_state:
        screen.say("They are told, with the way out. `barnacle sync` brings them into your book.")
    refused = sum(each.state == "refused" for each in done)
    return (1 if refused < len(done) else 2) if refused else 0


def run_join(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one, state = house.join(desk, args.list)
    screen.value({"list": one.title, "state": state})
    if state == "asked":
        screen.lines(f"The keepers of {one.title} are asked. You get a message when one of them has decided.")
    else:
        screen.lines(f"You are on {one.title} now. What is written to {one.address} reaches you.")
    return 0


def run_leave(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one = house.leave(desk, args.list)
    screen.value({"list": one.title, "state": "off"})
    screen.lines(f"You are not on {one.title} any more.")
    return 0


def run_held(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    held = house.held(desk, args.list)
    screen.value([
        {"number": h.number, "list": h.list, "kind": h.kind, "from": h.from_, "subject": h.subject, "why": h.why,
         "since": h.since}
        for h in held
    ])  # fmt: skip
    screen.table(
        ("Number", "List", "From", "What", "Since", "Why"),
        [
            (h.number, h.list, h.from_, h.subject if h.kind == "posting" else "wants to be on the list",
             local_time(h.since), h.why if h.kind == "posting" else "")
            for h in held
        ],
    )  # fmt: skip
    screen.say(
        "\n`barnacle house let NUMBER` lets one through, `barnacle house refuse NUMBER` does not. After 14 days it is "
        "deleted."
        if held
        else "Nothing waits for you."
    )
    return 0


def run_settle(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    if any(number < 1 for number in args.numbers):
        raise UnclearError("Name the numbers that `barnacle house held` shows.")
    done = house.settle(desk, args.numbers, args.verb == "let", getattr(args, "why", ""))
    screen.value([{"number": d.number, "state": d.state} for d in done])
    for one in done:
        if one.state == "missing":
            screen.error(f"{one.number}: nothing of that number waits for you; perhaps another keeper has settled it.")
        elif one.state == "let":
            many = f" It goes to {count(one.members, 'member')}." if one.members is not None else ""
            screen.lines(f"{one.number} is let through.{many}")
        else:
            screen.lines(f"{one.number} is refused.")
    missing = sum(one.state == "missing" for one in done)
    return (1 if missing < len(done) else 2) if missing else 0


def run_numbers(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one, months = house.numbers(desk, args.list)
    screen.value(months)
    names = [name for name in (months[0] if months else {}) if name != "month"]
    screen.table(
        ("Month", *(visible(name).capitalize() for name in names)),
        [(visible(str(month["month"])), *(f"{int(month.get(name) or 0):,}" for name in names)) for month in months],
    )
    if not months:
        screen.say(f"Nothing has been written to {one.title} yet.")
    return 0


def run_close(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    from barnacle.jobs.sharing import house

    one = house.meant(desk, args.list)
    question = f"Close {visible(one.address)}, the address of {visible(one.title)}, for good? The list itself stays."
    if not screen.confirm(question, f"{question} In a script, confirm with --yes. Nothing was changed."):
        screen.say("Nothing was changed.")
        return 2
    house.close(desk, one)
    screen.value({"list": one.title, "address": one.address, "closed": True})
    screen.lines(f"{one.address} takes no mail any more, and no other list gets that address.")
    screen.say(f"{one.title} stays in your book.")
    return 0
