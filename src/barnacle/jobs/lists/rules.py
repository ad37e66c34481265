"""Lists that follow a rule: set, shown as text, explained."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import lists, rule_members
from barnacle.book.lists import ContactList, Member
from barnacle.book.rule_members import Unclear
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core import rules
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.own_fields import A_DAY, A_DAY_OF_A_YEAR, A_NUMBER, EITHER, YES_OR_NO
from barnacle.core.rules import Rule
from barnacle.core.text import listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list, read_rule

# What people say to be rid of a rule.
_NO_RULE = ("off", "none", "no", "remove", "clear", "delete", "stop")


def understand(desk: Desk, book: Book, text: str, for_list: ContactList | None = None) -> Rule:
    """A rule from its text, with the lists in it found. Raises UnclearError for a mistake, a list that is not there, or
    one that leads back to `for_list` itself."""
    if text.strip().lower() in _NO_RULE:
        raise UnclearError(f"`{visible(text)}` is no rule. `barnacle list rule LIST --none` takes a list's rule away.")
    first, _, rest = text.strip().partition(" ")
    rule = read_rule(desk, book, rest if first.lower() == "where" and rest else text)
    if for_list is not None and rule_members.reaches(book, rule, for_list.id):
        raise UnclearError(f"The rule would make {visible(for_list.title)} depend on itself. Nothing was changed.")
    return rule


def as_text(book: Book, rule: Rule) -> str:
    """A rule as one would type it."""
    return rules.write(rule, lambda number: _title(book, number))


def _title(book: Book, number: int) -> str:
    found = lists.get(book, number)
    return found.title if found else "a list that was removed"


_SHOWN = 5
_NOT_READ = {
    YES_OR_NO: "is neither yes nor no",
    A_DAY: "is not read as a day",
    A_DAY_OF_A_YEAR: "is not read as a day",
    A_NUMBER: "is not read as a number",
    EITHER: "is read neither as a day nor as a number",
}


def not_read(one: Unclear) -> str:
    """What stands against a value that a rule asks for."""
    return f'`{visible(one.value, 60)}` in "{visible(one.title, 80)}" {_NOT_READ[one.kind]}'


def unclear(book: Book, rule: Rule | None, list_row: int | None = None) -> list[str]:
    """What to say of those of whom a rule cannot tell whether they fit, a sentence for each value."""
    if rule is None:
        return []
    some, more = rule_members.unclear(book, rule, _SHOWN, list_row)
    whose: dict[str, list[str]] = {}
    for one in some:
        whose.setdefault(not_read(one), []).append(visible(one.who.title))
    told = [f"{said}: the rule cannot tell about {listed(names)}." for said, names in whose.items()]
    return [*told, "There may be more such people; `barnacle check` names them."] if told and more else told


def reasons(book: Book, one: ContactList, members: Sequence[Member]) -> dict[int, str]:
    """For each member whom the list's rule brings in, by its number, the part of the rule that does."""
    if one.rule is None:
        return {}
    result = {}
    for member in members:
        if member.by == "rule":
            facts = rule_members.BookFacts(book, StoredContact(member.id, member.contact))
            result[member.id] = rules.why(one.rule, facts, lambda number: _title(book, number))
    return result


class Changed(NamedTuple):
    """A list with its rule as text, how many are on it, and what the rule cannot tell."""

    target: ContactList
    rule: str | None
    members: int
    notes: list[str]


def change(desk: Desk, title: str, text: str | None) -> Changed:
    """Give a list a rule, or end the one it has; then its members of that moment stay on it. Raises UnclearError,
    NotFoundError."""
    with desk.open() as book:
        with book.action("list rule") as action:
            target = need_list(desk, book, title)
            if text is None:
                if target.rule is None:
                    raise NotFoundError(f"{visible(target.title)} has no rule; you put its members on it yourself.")
                for member in lists.members(book, target.id):
                    if member.by == "rule":
                        lists.keep_on(book, target.id, member.id, member.address, member.since, "list rule --none")
                lists.set_rule(book, target.id, None)
                action.title = f"{target.title} no longer follows a rule"
            else:
                rule = understand(desk, book, text, target)
                lists.set_rule(book, target.id, rule)
                action.title = f"{target.title} follows the rule {as_text(book, rule)}"
        now = lists.get(book, target.id)
        assert now is not None
        written = as_text(book, now.rule) if now.rule else None
        return Changed(now, written, lists.count(book, now.id), unclear(book, now.rule, now.id))


def show(desk: Desk, title: str) -> tuple[ContactList, str | None]:
    """A list with its rule as text."""
    with desk.open() as book:
        found = need_list(desk, book, title)
        return found, as_text(book, found.rule) if found.rule else None
