"""Lists and their members in the book."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import tee

from barnacle.book import shares, sums
from barnacle.book.store import Book
from barnacle.book.stored_contact import each_stored, stored_from
from barnacle.core.contact import Contact
from barnacle.core.errors import TakenError
from barnacle.core.patterns import pattern
from barnacle.core.sharing import opt_out_of
from barnacle.core.text import fold, plain_title, visible, words
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from barnacle.core.rules import Rule

# What may stand in front of a title: `the`, `all members of the`, `everyone on`.
_ALL_OF = pattern(
    r"(?:(?:all|the|whole|entire) )*(?:(?:members?|people|everyone|everybody|those) (?:of|on|in|from) )?"
    r"(?:the )?(?:(?:list|group) (?:of )?)?",
    re.IGNORECASE,
)


class ContactList(NamedTuple):
    """A list without its members. `created` is ISO 8601 in UTC."""

    id: int
    title: str
    about: str
    pinned: bool
    created: str
    rule: Rule | None = None
    sender: str | None = None  # as whom one usually writes to it

    @property
    def kind(self) -> str:
        """How its members come to it."""
        return "by rule" if self.rule else "by hand"


class Member(NamedTuple):
    """A contact on a list: the address chosen for this list, if any, since when, and by which command."""

    id: int
    contact: Contact
    address: str | None
    since: str
    by: str


class Overview(NamedTuple):
    """A list with its counts: how many are on it, and how many of them a message to it would reach."""

    list: ContactList
    members: int
    reachable: int


_COLUMNS = "l.id, l.title, l.about, l.pinned, l.created, l.rule, l.sender"


def _list(row: tuple[int, str, str, int, str, str | None, str | None]) -> ContactList:
    return ContactList(row[0], row[1], row[2], bool(row[3]), row[4], json.loads(row[5]) if row[5] else None, row[6])


def new(book: Book, title: str, about: str = "") -> ContactList:
    """Make an empty list. Raises UnclearError for a title that cannot be one, TakenError when another list has it."""
    title = plain_title(title)
    taken = book.db.execute("SELECT title FROM list WHERE title_key = ?", (fold(title),)).fetchone()
    if taken:
        raise TakenError(
            f"There is already a list {visible(taken[0])}. `barnacle list add` adds people to it; "
            "choose another title for a new one."
        )
    at = book.running.at
    row = book.db.execute(
        "INSERT INTO list(title, title_key, about, pinned, created) VALUES(?, ?, ?, 0, ?)",
        (title, fold(title), about, at),
    ).lastrowid
    assert row is not None
    sums.renew(book.db, "list", row)
    return ContactList(row, title, about, False, at)


def by_title(book: Book, text: str) -> list[ContactList]:
    """Which lists may be meant: the title to the letter, else one that begins so, else one with all the words; and
    else one of which `all members of it` are named."""
    rows = [_list(r) for r in book.db.execute(f"SELECT {_COLUMNS} FROM list l ORDER BY l.title_key")]
    keyed = [(fold(one.title), one) for one in rows]
    key = fold(text)
    return _titled(keyed, key) or _titled(keyed, bare_title(key) if key else "")


def bare_title(text: str) -> str:
    """A title without words that say no more than that it is a list's, with all who are on it."""
    return _ALL_OF.sub("", text, count=1)


def _titled(keyed: Sequence[tuple[str, ContactList]], key: str) -> list[ContactList]:
    if not (wanted := words(key)):
        return []
    return (
        [one for title, one in keyed if title == key]
        or [one for title, one in keyed if title.startswith(key)]
        or [one for title, one in keyed if all(any(h.startswith(w) for h in words(title)) for w in wanted)]
    )


def by_exact_title(book: Book, title: str) -> ContactList | None:
    """The list with that very title, capitals and accents aside."""
    row = book.db.execute(f"SELECT {_COLUMNS} FROM list l WHERE l.title_key = ?", (fold(title),)).fetchone()
    return _list(row) if row else None


def numbers(book: Book) -> list[int]:
    """The numbers of all lists."""
    return [row for (row,) in book.db.execute("SELECT id FROM list ORDER BY id")]


def titles(book: Book) -> list[str]:
    """All titles, pinned lists first."""
    return [title for (title,) in book.db.execute("SELECT title FROM list ORDER BY NOT pinned, title_key")]


def get(book: Book, row: int) -> ContactList | None:
    """The list with that number."""
    found = book.db.execute(f"SELECT {_COLUMNS} FROM list l WHERE l.id = ?", (row,)).fetchone()
    return _list(found) if found else None


def overview(book: Book) -> list[Overview]:
    """All lists with counts, pinned ones first."""
    rows = book.db.execute(
        f"SELECT {_COLUMNS}, n.members, n.reachable FROM list l LEFT JOIN list_count n ON n.list = l.id"
        " ORDER BY NOT l.pinned, l.title_key"
    )
    return [Overview(_list(row[:7]), row[7] or 0, row[8] or 0) for row in rows]


def last_written(book: Book) -> dict[int, str]:
    """When a message to each list was last begun, by the list's number."""
    return dict(
        book.db.execute(
            "SELECT json_extract(f.value, '$.list'), max(d.begun) FROM dispatch d JOIN message m ON m.id = d.message,"
            " json_each(m.doc, '$.for') f WHERE json_extract(f.value, '$.list') IS NOT NULL GROUP BY 1"
        )
    )


def members(book: Book, row: int) -> list[Member]:
    """Everybody on a list, by name."""
    return list(each_member(book, row))


def each_member(book: Book, row: int) -> Iterator[Member]:
    """Everybody on a list, by name, one after the other: a long list is never held whole."""
    rows = book.db.execute(f"{_MEMBERS} WHERE m.list = ? ORDER BY c.name_key, c.id", (row,))
    yield from _members(rows)


def doubtful(book: Book, row: int, sharers: Collection[int]) -> Iterator[Member]:
    """Those on a list whom a message may not reach: something on the card stands against it, or they are `sharers`."""
    rows = book.db.execute(
        f"{_MEMBERS} JOIN contact_facts f ON f.contact = m.contact"
        " WHERE m.list = ? AND (NOT f.reachable OR held IS NOT NULL OR m.contact IN (SELECT value FROM json_each(?)))",
        (row, json.dumps(list(sharers))),
    )
    yield from _members(rows)


# `held`: what this list alone says of an opt-out (`shares.SharedMember`).
_MEMBERS = (
    "SELECT c.id, c.uid, c.card, c.sum, m.address, m.since, m.by, (SELECT s.held FROM share_member s INDEXED BY"
    "  share_member_held WHERE s.list = m.list AND s.contact = m.contact AND s.held != '' LIMIT 1) AS held"
    " FROM on_list m JOIN contact c ON c.id = m.contact"
)


def _members(rows: Iterable[tuple[Any, ...]]) -> Iterator[Member]:
    mine, its = tee(rows)
    for kept, (_, _, _, _, address, since, by, held) in zip(each_stored(mine), its, strict=True):
        if held and kept.contact.opt_out is None:
            kept.contact.opt_out = opt_out_of(held)
        chosen = kept.contact.find_address(address) if address else None
        yield Member(kept.id, kept.contact, chosen, since, by)


def count(book: Book, row: int) -> int:
    """How many are on a list."""
    return int(book.db.execute("SELECT count(*) FROM on_list WHERE list = ?", (row,)).fetchone()[0])


def numbers_on(book: Book, row: int) -> set[int]:
    """The numbers of those on a list."""
    return {contact for (contact,) in book.db.execute("SELECT contact FROM on_list WHERE list = ?", (row,))}


def numbers_on_none(book: Book) -> set[int]:
    """The numbers of those who are on no list."""
    rows = book.db.execute("SELECT id FROM contact WHERE id NOT IN (SELECT contact FROM on_list)")
    return {contact for (contact,) in rows}


def titles_of_members(book: Book, some: Sequence[int] | None = None) -> dict[int, list[str]]:
    """The titles of the lists that people are on, or some of them, by the contact's number."""
    found: dict[int, list[str]] = {}
    among = "" if some is None else "WHERE o.contact IN (SELECT value FROM json_each(?))"
    for contact, title in book.db.execute(
        f"SELECT o.contact, l.title FROM on_list o JOIN list l ON l.id = o.list {among} ORDER BY l.title_key",
        () if some is None else (json.dumps(some),),
    ):
        found.setdefault(contact, []).append(title)
    return found


def memberships(book: Book, contact: int) -> list[tuple[ContactList, str | None, str, str]]:
    """The lists that a contact is on: list, address chosen for it, since, by."""
    rows = book.db.execute(
        f"SELECT {_COLUMNS}, m.address, m.since, m.by FROM on_list m JOIN list l ON l.id = m.list"
        " WHERE m.contact = ? ORDER BY l.title_key",
        (contact,),
    )
    return [(_list(row[:7]), *row[7:]) for row in rows]


def add_member(
    book: Book, list_row: int, contact: int, by: str, address: str | None = None, since: str | None = None
) -> bool:
    """Put a contact on a list; `address` is the one this list shall use. False when it is on it already (a given
    address is then chosen all the same)."""
    shares.need_right(book, list_row)
    if is_on(book, list_row, contact):
        if address:
            choose_address(book, list_row, contact, address)
        return False
    book.db.execute(
        "INSERT INTO member(list, contact, kind, address, since, by) VALUES(?, ?, 'on', ?, ?, ?)"
        " ON CONFLICT(list, contact) DO UPDATE SET kind = 'on', address = excluded.address, since = excluded.since,"
        " by = excluded.by",
        (list_row, contact, address, since or book.running.at, by),
    )
    return True


def add_members(book: Book, list_row: int, new: Sequence[int], since: str, by: str) -> None:
    """Put new contacts on a list, many at once."""
    book.need_action()
    book.db.execute(
        "INSERT INTO member(list, contact, since, by) SELECT ?, value, ?, ? FROM json_each(?)",
        (list_row, since, by, json.dumps(new)),
    )


def is_on(book: Book, list_row: int, contact: int) -> bool:
    """Whether a contact is on a list, by hand or by its rule."""
    row = book.db.execute("SELECT 1 FROM on_list WHERE list = ? AND contact = ?", (list_row, contact)).fetchone()
    return row is not None


def take_member(book: Book, list_row: int, contact: int, by: str = "list take") -> bool:
    """Take a contact off a list; the contact stays. Whom the list's rule brings in is kept off by hand from now on.
    False when it was not on it."""
    book.need_action()
    shares.need_right(book, list_row)
    if not is_on(book, list_row, contact):
        return False
    by_rule = book.db.execute(
        "SELECT 1 FROM rule_member WHERE list = ? AND contact = ?", (list_row, contact)
    ).fetchone()
    book.db.execute("DELETE FROM member WHERE list = ? AND contact = ?", (list_row, contact))
    if by_rule:
        keep_off(book, list_row, contact, by)
    return True


def keep_on(book: Book, list_row: int, contact: int, address: str | None, since: str, by: str) -> None:
    """Make somebody whom a rule brought in a member by hand."""
    book.need_action()
    shares.need_right(book, list_row)
    book.db.execute(
        "INSERT OR REPLACE INTO member(list, contact, kind, address, since, by) VALUES(?, ?, 'on', ?, ?, ?)",
        (list_row, contact, address, since, by),
    )


def exceptions(book: Book, contact: int) -> list[int]:
    """The lists whose rule a hand keeps a contact off."""
    rows = book.db.execute("SELECT list FROM member WHERE contact = ? AND kind = 'off'", (contact,))
    return [row for (row,) in rows]


def keep_off(book: Book, list_row: int, contact: int, by: str) -> None:
    """Keep a contact off a rule's list by hand."""
    shares.need_right(book, list_row)
    book.db.execute(
        "INSERT OR IGNORE INTO member(list, contact, kind, since, by) VALUES(?, ?, 'off', ?, ?)",
        (list_row, contact, book.running.at, by),
    )


def kept_off(book: Book, list_row: int) -> list[str]:
    """The names of those whom a hand keeps off a rule's list."""
    rows = book.db.execute(
        "SELECT c.id, c.uid, c.card, c.sum FROM member m JOIN contact c ON c.id = m.contact"
        " WHERE m.list = ? AND m.kind = 'off' ORDER BY c.name_key",
        (list_row,),
    )
    return [stored_from(row).contact.title for row in rows]


def drop_contact(book: Book, contact: int) -> None:
    """Forget all that any list knows of a contact which is about to go."""
    book.need_action()
    book.db.execute("DELETE FROM member WHERE contact = ?", (contact,))


def copy_exceptions(book: Book, source: int, target: int) -> None:
    """Give a copied rule list the same members by hand, exceptions and addresses."""
    book.db.execute(
        "INSERT INTO member(list, contact, kind, address, since, by)"
        " SELECT ?, contact, kind, address, ?, 'list copy' FROM member WHERE list = ?",
        (target, book.running.at, source),
    )


def set_rule(book: Book, list_row: int, rule: Rule | None) -> None:
    """Give a list a rule or take it away; whom it brings in is worked out at the end of the action."""
    book.need_action()
    shares.need_right(book, list_row)
    text = None if rule is None else json.dumps(rule, ensure_ascii=False)
    book.db.execute("UPDATE list SET rule = ? WHERE id = ?", (text, list_row))
    sums.renew(book.db, "list", list_row)


def choose_address(book: Book, list_row: int, contact: int, address: str | None) -> None:
    """Which of its addresses a list uses for a member; None for the preferred one, whichever that is."""
    shares.need_right(book, list_row)
    book.db.execute(
        "INSERT INTO member(list, contact, kind, address, since, by) VALUES(?, ?, 'address', ?, ?, '')"
        " ON CONFLICT(list, contact) DO UPDATE SET address = excluded.address",
        (list_row, contact, address, book.running.at),
    )


def change(book: Book, one: ContactList) -> None:
    """Write a list's title, description, pin and usual sender back. Raises TakenError, UnclearError."""
    book.need_action()
    title = plain_title(one.title)
    if (old := get(book, one.id)) is not None and old.title != title:
        shares.need_right(book, one.id, only_owner=True)
    taken = book.db.execute("SELECT title FROM list WHERE title_key = ? AND id != ?", (fold(title), one.id)).fetchone()
    if taken:
        raise TakenError(f"There is already a list {visible(taken[0])}. Choose another title.")
    book.db.execute(
        "UPDATE list SET title = ?, title_key = ?, about = ?, pinned = ?, sender = ? WHERE id = ?",
        (title, fold(title), one.about, one.pinned, one.sender, one.id),
    )
    sums.renew(book.db, "list", one.id)


def remove(book: Book, list_row: int) -> None:
    """Remove a list and its memberships; the contacts stay. Raises StoppedError for one that others have from us."""
    book.need_action()
    shares.need_no_owner(book, list_row)
    book.db.execute("DELETE FROM member WHERE list = ?", (list_row,))
    book.db.execute("DELETE FROM list WHERE id = ?", (list_row,))
