"""Whom each rule brings in, kept up to date at the end of every action."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping

from barnacle.book import contacts
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core.contact import Contact
from barnacle.core.own_fields import COMPARISONS, comparison, is_understood, own_value
from barnacle.core.phones import digits
from barnacle.core.rules import (
    DATE_FIELDS,
    Rule,
    directory_filters_in,
    lists_in,
    matches,
    own_tests_in,
    own_title,
    told,
)
from barnacle.core.text import fold
from barnacle.core.typed import Any, NamedTuple

# So many touched contacts are held against the rules one by one; of more, all that is derived is worked out anew,
# whoever they are.
FEW = 200
# Of so many it is worked out whether a rule can tell if they fit.
_LOOKED_AT = 1000


class BookFacts:
    """What the book knows of a contact, for a rule to ask."""

    def __init__(self, book: Book, kept: StoredContact) -> None:
        self._book = book
        self._row = kept.id
        self.contact: Contact = kept.contact

    def is_on(self, number: int) -> bool:
        """Whether the contact is on the list with that number."""
        return (
            self._book.db.execute(
                "SELECT 1 FROM on_list WHERE list = ? AND contact = ?", (number, self._row)
            ).fetchone()
            is not None
        )

    def by_hand(self, number: int) -> bool | None:
        """Whether a hand put the contact on a list or keeps it off; None where neither."""
        kinds = "SELECT kind = 'on' FROM member WHERE list = ? AND contact = ? AND kind IN ('on', 'off')"
        row = self._book.db.execute(kinds, (number, self._row)).fetchone()
        return None if row is None else bool(row[0])

    def is_found_by(self, directory_filter: str) -> bool:
        """Whether a filter of the organisation's directory found the contact at the last refresh."""
        found = self._book.db.execute(
            "SELECT 1 FROM directory_match m JOIN directory_link l ON l.entry = m.entry"
            " WHERE m.filter = ? AND l.uid = ?",
            (directory_filter, self.contact.uid),
        )
        return found.fetchone() is not None

    @property
    def written(self) -> str:
        """When a message to the contact was last begun."""
        row = self._book.db.execute(
            "SELECT max(d.begun) FROM delivery_contact dc JOIN dispatch d ON d.message = dc.message"
            " WHERE dc.contact = ?",
            (self._row,),
        ).fetchone()
        return row[0] or ""


def all_rules(book: Book) -> dict[int, Rule]:
    """Every list's rule, a list after those that its rule refers to."""
    rules = {
        row: json.loads(text)
        for row, text in book.db.execute("SELECT id, rule FROM list WHERE rule IS NOT NULL ORDER BY id")
    }
    ordered: dict[int, Rule] = {}

    def place(row: int) -> None:
        if row in rules and row not in ordered:
            for other in lists_in(rules[row]):
                place(other)
            ordered[row] = rules[row]

    for row in rules:
        place(row)
    return ordered


def refers_to(book: Book, row: int) -> list[int]:
    """The lists whose rules refer to that list."""
    return [one for one, rule in all_rules(book).items() if row in set(lists_in(rule))]


def reaches(book: Book, rule: Rule, row: int) -> bool:
    """Whether a rule leads to that list, directly or through other lists' rules."""
    rules, seen, todo = all_rules(book), set(), set(lists_in(rule))
    while todo:
        one = todo.pop()
        if one == row:
            return True
        if one not in seen:
            seen.add(one)
            todo |= set(lists_in(rules[one])) if one in rules else set()
    return False


def refresh(book: Book, touched: list[int]) -> set[int]:
    """Work out anew what the running action may have changed. `touched` are the contacts whose card, membership or mail
    it changed. Returns the lists of which somebody came or went.

    A few contacts are held against each rule one by one, as `core.rules.matches` says; many, and everybody for a list
    whose rule changed, by the same rule as SQL.
    """
    rules = all_rules(book)
    changed = {row for (row,) in _journalled(book, "list")}
    gone = {row for (row,) in book.db.execute("SELECT DISTINCT list FROM rule_member")} - set(rules)
    for row in gone:
        book.db.execute("DELETE FROM rule_member WHERE list = ?", (row,))
    # What refers to a list that changed is worked out anew for everybody too; the order lets one pass do.
    anew = set(changed)
    for row, rule in rules.items():
        by_directory = book.directory_changed and any(directory_filters_in(rule))
        if len(touched) > FEW or by_directory or anew & {row, *lists_in(rule)}:
            anew.add(row)
    moved = gone
    rest = {row: rule for row, rule in rules.items() if row not in anew}
    if len(touched) > FEW:
        stale = "contact NOT IN (SELECT id FROM contact)"
        moved |= {one for (one,) in book.db.execute(f"SELECT DISTINCT list FROM rule_member WHERE {stale}")}
        book.db.execute(f"DELETE FROM rule_member WHERE {stale}")
    for row in touched if len(touched) <= FEW else ():
        kept = contacts.get(book, row)
        if kept is None:
            moved |= {one for (one,) in book.db.execute("SELECT list FROM rule_member WHERE contact = ?", (row,))}
            book.db.execute("DELETE FROM rule_member WHERE contact = ?", (row,))
        elif rest:
            moved |= _work_out(book, rest, kept)
    # Last, since these may refer to the rest, and none of the rest to these.
    return moved | {row for row in rules if row in anew and _work_out_all(book, row, rules[row], book.running.at)}


def make_anew(book: Book) -> None:
    """Work out for every rule whom it brings in; who was there already is so since then."""
    for row, rule in all_rules(book).items():
        _work_out_all(book, row, rule, now())


def _journalled(book: Book, table: str) -> list[tuple[int]]:
    return book.db.execute(
        "SELECT DISTINCT row FROM journal WHERE action = ? AND tbl = ?", (book.running.id, table)
    ).fetchall()


def touched_contacts(book: Book) -> list[int]:
    """The contacts whose card, membership or mail the running action changed: the journal knows. Of more than FEW only
    so many that one sees it."""
    rows = book.db.execute(
        "SELECT row FROM journal WHERE action = :a AND tbl = 'contact'"
        " UNION SELECT coalesce(json_extract(j.before, '$.contact'), m.contact) FROM journal j"
        "  LEFT JOIN member m ON m.id = j.row WHERE j.action = :a AND j.tbl = 'member'"
        " UNION SELECT dc.contact FROM delivery_contact dc JOIN dispatch d ON d.message = dc.message"
        "  JOIN action a ON a.id = :a WHERE a.command = 'send' AND d.begun >= a.at LIMIT :most",
        {"a": book.running.id, "most": FEW + 1},
    )
    return [row for (row,) in rows if row is not None]


def _work_out(book: Book, rules: dict[int, Rule], kept: StoredContact) -> set[int]:
    facts = BookFacts(book, kept)
    had = {row for (row,) in book.db.execute("SELECT list FROM rule_member WHERE contact = ?", (kept.id,))}
    moved = set()
    for row, rule in rules.items():  # in order: a later rule may ask for an earlier one's list
        fits = matches(rule, facts)
        if fits == (row in had):
            continue
        moved.add(row)
        if fits:
            book.db.execute(
                "INSERT INTO rule_member(list, contact, since) VALUES(?, ?, ?)", (row, kept.id, book.running.at)
            )
        else:
            book.db.execute("DELETE FROM rule_member WHERE list = ? AND contact = ?", (row, kept.id))
    return moved


def _work_out_all(book: Book, row: int, rule: Rule, at: str) -> bool:
    teach(book.db)
    condition, values = as_sql(rule)
    book.db.execute("CREATE TEMP TABLE IF NOT EXISTS fitting(contact INTEGER PRIMARY KEY)")
    book.db.execute("DELETE FROM fitting")
    book.db.execute(f"INSERT INTO fitting SELECT f.contact FROM contact_facts f WHERE {condition}", values)
    before = book.db.total_changes
    book.db.execute("DELETE FROM rule_member WHERE list = ? AND contact NOT IN (SELECT contact FROM fitting)", (row,))
    book.db.execute(
        "INSERT OR IGNORE INTO rule_member(list, contact, since) SELECT ?, contact, ? FROM fitting",
        (row, at),
    )
    return book.db.total_changes != before


def fitting(book: Book, rule: Rule) -> set[int]:
    """The numbers of all contacts that fit a rule."""
    teach(book.db)
    condition, values = as_sql(rule)
    return {row for (row,) in book.db.execute(f"SELECT f.contact FROM contact_facts f WHERE {condition}", values)}


class Unclear(NamedTuple):
    """Somebody of whom a rule cannot tell whether they fit: what a field of one's own was taken for
    (`own_fields.asked_for`), its title, and the value that is nothing of that kind."""

    who: Contact
    kind: str
    title: str
    value: str


def unclear(book: Book, rule: Rule, most: int, list_row: int | None = None) -> tuple[list[Unclear], bool]:
    """The first `most` of those of whom a rule, that of a list or any other, cannot tell whether they fit, and whether
    there may be more. Whom hands put on a list or keep off is told by them."""
    others = all_rules(book) if any(lists_in(rule)) else {}
    within, todo = {None: rule}, list(lists_in(rule))
    while todo:
        if (one := todo.pop()) in others and one not in within:
            within[one] = others[one]
            todo += lists_in(others[one])
    odd: dict[int, tuple[str, str]] = {}
    for title, kind in dict.fromkeys(test for one in within.values() for test in own_tests_in(one)):
        values = book.db.execute("SELECT value, contact FROM contact_own WHERE title = ?", (fold(title),))
        known: dict[str, bool] = {}  # most have one of a few
        for value, contact in values if kind else ():
            if value not in known:
                known[value] = is_understood(value, kind)
            if not known[value]:
                odd.setdefault(contact, (kind, title))
    found: list[Unclear] = []
    for row in sorted(odd)[:_LOOKED_AT]:
        facts = BookFacts(book, StoredContact(row, contacts.need(book, row)))
        if _told(facts, rule, list_row, others) is None:
            if len(found) == most:
                return found, True
            kind, title = odd[row]
            found.append(Unclear(facts.contact, kind, title, own_value(facts.contact, title)))
    return found, len(odd) > _LOOKED_AT


def _told(facts: BookFacts, rule: Rule, number: int | None, others: Mapping[int, Rule]) -> bool | None:
    """`core.rules.told` of a list, for which it takes the rule, or of a rule alone."""
    if number is not None and (by_hand := facts.by_hand(number)) is not None:
        return by_hand

    def inside(one: int) -> bool | None:
        return _told(facts, others[one], one, others) if one in others else facts.is_on(one)

    return told(rule, facts, inside)


_TESTS = {
    "is": "{0} = ?1",
    "has": "instr({0}, ?1) > 0",
    "starts": "substr({0}, 1, length(?1)) = ?1",
    "ends": "substr({0}, -length(?1)) = ?1",
    "before": "{0} != '' AND substr({0}, 1, length(?1)) < ?1",
    "after": "substr({0}, 1, length(?1)) > ?1",
}
# The same for fields whose values stand on lines of one text.
_LINES = {"address": "f.addresses", "phone": "f.phones"}
_LINE_TESTS = {"is": "\n{}\n", "has": "{}", "starts": "\n{}", "ends": "{}\n"}
# Fields of which a contact may have several values: table and column.
_SEVERAL = {
    "domain": ("contact_address", "domain"),
    "label": ("contact_label", "key"),
}
_WRITTEN = (
    "(SELECT dc.contact, max(d.begun) AS begun FROM delivery_contact dc JOIN dispatch d ON d.message = dc.message"
    " GROUP BY dc.contact)"
)


_FOUND_THERE = (
    "f.contact IN (SELECT c.id FROM directory_match m JOIN directory_link l ON l.entry = m.entry"
    " JOIN contact c ON c.uid = l.uid WHERE m.filter = ?)"
)


def as_sql(rule: Rule) -> tuple[str, list[Any]]:
    """A rule as a condition on `contact_facts f`, with its values; means the same as `core.rules.matches`."""
    kind = rule[0]
    if kind in ("and", "or"):
        parts = [as_sql(part) for part in rule[1:]]
        return "(" + f" {kind.upper()} ".join(sql for sql, _ in parts) + ")", [v for _, some in parts for v in some]
    if kind == "not":
        sql, values = as_sql(rule[1])
        return f"NOT ({sql})", values
    if kind == "in":
        return "f.contact IN (SELECT contact FROM on_list WHERE list = ?)", [rule[1]]
    if kind == "directory":
        return _FOUND_THERE, [rule[1]]
    field = rule[1]
    if (title := own_title(field)) is not None:
        return _own_as_sql(kind, fold(title), rule[2:])
    table, column = (_WRITTEN, "begun") if field == "written" else _SEVERAL.get(field, ("", f"f.{field}"))
    column = _LINES.get(field, column)
    if kind == "missing":
        return (f"f.contact NOT IN (SELECT contact FROM {table})" if table else f"{column} = ''"), []
    if field in DATE_FIELDS:
        wanted, kind = rule[2], "starts" if kind == "is" else kind
    else:
        wanted = digits(rule[2]) if field == "phone" else fold(rule[2])
    if not wanted:
        return "0", []
    if field in _LINES:
        return f"instr({column}, ?) > 0", [_LINE_TESTS[kind].format(wanted)]
    # Each ?1 becomes a mark of its own, so that conditions can be put together.
    test = _TESTS[kind].format(column)
    number = test.count("?1")
    test = test.replace("?1", "?")
    return (f"f.contact IN (SELECT contact FROM {table} WHERE {test})" if table else f"({test})"), [wanted] * number


def _own_as_sql(kind: str, title: str, wanted: list[str]) -> tuple[str, list[Any]]:
    """The same for a field of one's own."""
    some = "SELECT contact FROM contact_own WHERE title = ?"
    if kind == "missing":
        return f"f.contact NOT IN ({some})", [title]
    value = fold(wanted[0])
    if not value:
        return "0", []
    if compares := comparison(kind, wanted[0]):
        return f"f.contact IN ({some} AND {compares.__name__}(value, ?))", [title, wanted[0]]
    test = _TESTS[kind].format("value")
    number = test.count("?1")
    return f"f.contact IN ({some} AND {test.replace('?1', '?')})", [title, *[value] * number]


def teach(db: sqlite3.Connection) -> None:
    """Let a connection compare values of one's own fields as rules do."""
    for function in COMPARISONS:
        db.create_function(function.__name__, 2, function, deterministic=True)
