"""Whom each rule brings in, kept up to date at the end of every action."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator

from barnacle.book import contacts
from barnacle.book.contacts import Kept
from barnacle.book.store import Book
from barnacle.core.contact import Contact
from barnacle.core.rules import Rule, lists_in, matches


class BookFacts:
    """What the book knows of a contact, for a rule to ask."""

    def __init__(self, book: Book, kept: Kept) -> None:
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


def refresh(book: Book) -> None:
    """Work out anew what the running action may have changed: everybody for lists whose rule changed, and for all
    rules everybody whose card, membership or mail changed. The journal says who that is."""
    rules = all_rules(book)
    changed_lists = book.db.execute(
        "SELECT 1 FROM journal WHERE action = ? AND tbl = 'list' LIMIT 1", (book.action_id,)
    ).fetchone()
    if changed_lists:
        marks = ", ".join("?" * len(rules))
        book.db.execute(f"DELETE FROM rule_member WHERE list NOT IN ({marks})", list(rules))
        people: Iterable[Kept] = contacts.search(book, "")
    else:
        people = _touched(book)
    if rules or changed_lists:
        for kept in people:
            _work_out(book, rules, kept)


def _touched(book: Book) -> Iterator[Kept]:
    rows = book.db.execute(
        "SELECT row FROM journal WHERE action = :a AND tbl = 'contact'"
        " UNION SELECT coalesce(json_extract(j.before, '$.contact'), m.contact) FROM journal j"
        "  LEFT JOIN member m ON m.id = j.row WHERE j.action = :a AND j.tbl = 'member'"
        " UNION SELECT dc.contact FROM delivery_contact dc JOIN dispatch d ON d.message = dc.message"
        "  JOIN action a ON a.id = :a WHERE a.command = 'send' AND d.begun >= a.at",
        {"a": book.action_id},
    ).fetchall()
    for (row,) in rows:
        kept = contacts.get(book, row) if row is not None else None
        if kept is None:
            book.db.execute("DELETE FROM rule_member WHERE contact = ?", (row,))
        else:
            yield kept


def _work_out(book: Book, rules: dict[int, Rule], kept: Kept) -> None:
    facts = BookFacts(book, kept)
    had = {row for (row,) in book.db.execute("SELECT list FROM rule_member WHERE contact = ?", (kept.id,))}
    assert book.current is not None
    for row, rule in rules.items():  # in order: a later rule may ask for an earlier one's list
        fits = matches(rule, facts)
        if fits and row not in had:
            book.db.execute(
                "INSERT INTO rule_member(list, contact, since) VALUES(?, ?, ?)", (row, kept.id, book.current.at)
            )
        elif not fits and row in had:
            book.db.execute("DELETE FROM rule_member WHERE list = ? AND contact = ?", (row, kept.id))
