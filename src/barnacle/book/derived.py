"""What is worked out from the rest of the book, brought up to date at the end of every action."""

from __future__ import annotations

from collections.abc import Iterable

from barnacle.book import index, lists, reach
from barnacle.book.store import Book

_HAS_RULES = "SELECT 1 FROM list WHERE rule IS NOT NULL UNION ALL SELECT 1 FROM rule_member LIMIT 1"


def refresh(book: Book) -> None:
    """Whom rules bring in, and how many are on each list that the running action touched."""
    if not book.db.execute("SELECT 1 FROM list UNION ALL SELECT 1 FROM list_count LIMIT 1").fetchone():
        return  # nothing is worked out from contacts alone
    from barnacle.book import rule_members

    touched = rule_members.touched_contacts(book)
    moved: set[int] = set()
    if book.db.execute(_HAS_RULES).fetchone():
        moved = rule_members.refresh(book, touched)
    if len(touched) > rule_members.FEW or _opt_outs(book):
        count(book, lists.numbers(book))
    else:
        count(book, moved | _lists_of(book, touched))


def make_anew(book: Book) -> None:
    """Work everything out from the contacts and lists, in tables that are empty."""
    from barnacle.book import rule_members

    index.rebuild(book.db)
    rule_members.make_anew(book)
    count(book, lists.numbers(book))


def _opt_outs(book: Book) -> bool:
    """Whether somebody who was touched opted out, before or now: then others at the same address may be reached no
    more, or again, whatever lists they are on."""
    found = book.db.execute(
        "SELECT 1 FROM journal j LEFT JOIN contact c ON c.id = j.row WHERE j.action = ? AND j.tbl = 'contact'"
        " AND (c.opted_out OR json_extract(j.before, '$.opted_out')) LIMIT 1",
        (book.running.id,),
    )
    return found.fetchone() is not None


def _lists_of(book: Book, touched: Iterable[int]) -> set[int]:
    """The lists that the running action changed, or that somebody touched is on."""
    found = {
        row
        for (row,) in book.db.execute(
            "SELECT row FROM journal WHERE action = :a AND tbl = 'list'"
            " UNION SELECT coalesce(json_extract(j.before, '$.list'), m.list) FROM journal j"
            "  LEFT JOIN member m ON m.id = j.row WHERE j.action = :a AND j.tbl = 'member'",
            {"a": book.running.id},
        )
        if row is not None
    }
    for contact in touched:
        found |= {row for (row,) in book.db.execute("SELECT list FROM on_list WHERE contact = ?", (contact,))}
    return found


def count(book: Book, numbers: Iterable[int]) -> None:
    """Count the members of some lists, and how many of them a message to the list would reach."""
    book.db.execute("DELETE FROM list_count WHERE list NOT IN (SELECT id FROM list)")
    stale = list(numbers)
    sharing = reach.sharers(book) if stale else set()
    for number in stale:
        if lists.get(book, number) is not None:
            members = lists.count(book, number)
            book.db.execute(
                "INSERT OR REPLACE INTO list_count(list, members, reachable) VALUES(?, ?, ?)",
                (number, members, members - len(reach.why_not(book, number, sharing))),
            )
