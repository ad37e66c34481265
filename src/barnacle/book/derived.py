"""What is worked out from the rest of the book, brought up to date at the end of every action."""

from __future__ import annotations

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
    _count(book, touched if len(touched) <= rule_members.FEW else None, moved)


def _count(book: Book, touched: list[int] | None, moved: set[int]) -> None:
    """Count the members of the lists that the running action touched; of all, where `touched` is None."""
    book.db.execute("DELETE FROM list_count WHERE list NOT IN (SELECT id FROM list)")
    if touched is None:
        stale = {row for (row,) in book.db.execute("SELECT id FROM list")}
    else:
        stale = moved | {
            row
            for (row,) in book.db.execute(
                "SELECT row FROM journal WHERE action = :a AND tbl = 'list'"
                " UNION SELECT coalesce(json_extract(j.before, '$.list'), m.list) FROM journal j"
                "  LEFT JOIN member m ON m.id = j.row WHERE j.action = :a AND j.tbl = 'member'",
                {"a": book.action_id},
            )
        }
        for contact in touched:
            stale |= {row for (row,) in book.db.execute("SELECT list FROM on_list WHERE contact = ?", (contact,))}
    book.db.executemany(
        "INSERT OR REPLACE INTO list_count(list, members, reachable)"
        " SELECT l.id, count(f.contact), coalesce(sum(f.reachable), 0) FROM list l"
        " LEFT JOIN on_list m ON m.list = l.id LEFT JOIN contact_facts f ON f.contact = m.contact WHERE l.id = ?"
        " GROUP BY l.id",
        [(row,) for row in stale if row is not None],
    )
