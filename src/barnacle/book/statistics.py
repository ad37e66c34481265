"""What a book has counted, day by day: for reports. The same rows as `list`, `outbox` and `check` read."""

from __future__ import annotations

import json
from collections.abc import Sequence

from barnacle.book.store import Book
from barnacle.core.typed import NamedTuple


class Change(NamedTuple):
    """How many came to a list (or, below nought, left it) on a day (ISO 8601)."""

    list: int
    day: str
    number: int


def comings_and_goings(book: Book) -> list[Change]:
    """Who was put on lists by hand and taken off, from the journal, latest first; read backwards from what is now, so
    that what it adds up to is what is there. A day is never later than the one read before it, whatever the clock
    said."""
    rows = {row: (number, kind == "on") for row, number, kind in book.db.execute("SELECT id, list, kind FROM member")}
    found: list[Change] = []
    day = "9999"
    entries = book.db.execute(
        "SELECT j.row, j.before, substr(a.at, 1, 10) FROM journal j JOIN action a ON a.id = j.action"
        " WHERE j.tbl = 'member' ORDER BY j.id DESC"
    )
    for row, before, at in entries:
        day = min(day, at)
        now = rows.pop(row, None)
        was = None
        if before is not None:
            image = json.loads(before)
            was = rows[row] = image["list"], image.get("kind", "on") == "on"
        for one, sign in ((now, 1), (was, -1)):
            if one is not None and one[1]:
                found.append(Change(one[0], day, sign))
    return found


def joined_by_rule(book: Book) -> list[Change]:
    """Since when those are on a list whom its rule brings in now, latest first. Who left again is not known."""
    rows = book.db.execute(
        "SELECT r.list, substr(r.since, 1, 10), count(*) FROM rule_member r LEFT JOIN member m"
        " ON m.list = r.list AND m.contact = r.contact WHERE m.kind IS NULL OR m.kind = 'address'"
        " GROUP BY 1, 2 ORDER BY 2 DESC"
    )
    return [Change(*row) for row in rows]


def deliveries_by_day(book: Book, since: str) -> list[tuple[str, str, int]]:
    """How many recipients came to each state on each day (ISO 8601) from one on, of those who were tried; an empty one
    is any."""
    return book.db.execute(
        "SELECT substr(tried, 1, 10), state, count(*) FROM delivery WHERE tried >= ? GROUP BY 1, 2 ORDER BY 1", (since,)
    ).fetchall()


def refusals_by_domain(book: Book, since: str) -> list[tuple[str, int]]:
    """How many recipients were refused at each domain from a day on, most first."""
    return book.db.execute(
        "SELECT lower(substr(address, instr(address, '@') + 1)), count(*) FROM delivery WHERE state = 'refused'"
        " AND tried >= ? GROUP BY 1 ORDER BY 2 DESC, 1",
        (since,),
    ).fetchall()


def heard_by_month(book: Book, since: str) -> list[tuple[int, str, int]]:
    """How many messages each contact got in each month (`2026-11`) since a day, as far as a server accepted them."""
    return book.db.execute(
        "SELECT dc.contact, substr(d.tried, 1, 7), count(*) FROM delivery_contact dc"
        " JOIN delivery d ON d.message = dc.message AND d.address = dc.address"
        " WHERE d.state = 'accepted' AND d.tried >= ? AND dc.contact IN (SELECT id FROM contact) GROUP BY 1, 2",
        (since,),
    ).fetchall()


def together(book: Book, numbers: Sequence[int]) -> dict[frozenset[int], int]:
    """How many people are on just these of some lists, for each such set of lists."""
    marks = ", ".join("?" * len(numbers))
    found: dict[frozenset[int], int] = {}
    rows = book.db.execute(
        f"SELECT group_concat(list) FROM (SELECT DISTINCT contact, list FROM on_list WHERE list IN ({marks})"
        " ORDER BY contact, list) GROUP BY contact",
        tuple(numbers),
    )
    kept: dict[str, frozenset[int]] = {}
    for (text,) in rows:
        key = kept.get(text)
        if key is None:
            key = kept[text] = frozenset(map(int, text.split(",")))
        found[key] = found.get(key, 0) + 1
    return found
