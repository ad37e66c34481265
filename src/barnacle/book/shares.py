"""Lists that are shared through a hub: the connection, what was last agreed about each member, and open conflicts."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, NamedTuple

from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact, as_json
from barnacle.core.errors import StoppedError
from barnacle.core.sharing import OWNER, READER, Sharer
from barnacle.core.text import visible


class Connection(NamedTuple):
    """The hub that a book is connected to, and as whom."""

    url: str
    address: str


class Share(NamedTuple):
    """A list of the book that is shared. `title` is what it is called at the hub, `owner` an owner's address, `fields`
    what is shared of each member, `token` where the next exchange begins, `at` when the last was."""

    row: int
    remote: str
    title: str
    owner: str
    role: str
    fields: list[str]
    token: str
    at: str
    action: int
    people: list[Sharer]


class SharedMember(NamedTuple):
    """A member: the card's name at the hub, the contact's number and uid here, and what both sides had."""

    name: str
    contact: int
    uid: str
    etag: str
    card: str
    here: dict[str, Any]
    there: dict[str, Any]


class Open(NamedTuple):
    """A conflict that nobody has settled. `mine` and `theirs` are values of the field, None for "taken off"; `holds` is
    what the book had when it arose."""

    number: int
    row: int
    contact: int
    name: str
    field: str
    mine: Any
    theirs: Any
    holds: Any


def connection(book: Book) -> Connection | None:
    """The hub of this book, if any."""
    row = book.db.execute("SELECT url, address FROM hub").fetchone()
    return Connection(*row) if row else None


def connect(book: Book, one: Connection) -> None:
    """Remember a hub, in place of any other."""
    with book.transaction():
        book.db.execute("DELETE FROM hub")
        book.db.execute("INSERT INTO hub(url, address) VALUES(?, ?)", one)


_SHARE = "SELECT list, remote, title, owner, role, fields, token, at, action, people FROM share"
_LINK = "SELECT name, contact, uid, etag, card, here, there FROM share_member"


def _share(found: tuple[Any, ...]) -> Share:
    row, remote, title, owner, role, fields, token, at, action, people = found
    return Share(row, remote, title, owner, role, json.loads(fields), token, at, action, _sharers(people))


def _sharers(text: str) -> list[Sharer]:
    return [Sharer(**one) for one in json.loads(text)]


def _link(row: tuple[Any, ...]) -> SharedMember:
    name, contact, uid, etag, card, here, there = row
    return SharedMember(name, contact, uid, etag, card, json.loads(here), json.loads(there))


def every(book: Book) -> list[Share]:
    """All shares, also of lists that have been removed here since."""
    return [_share(row) for row in book.db.execute(f"{_SHARE} ORDER BY list")]


def of(book: Book, row: int) -> Share | None:
    """How a list is shared, if it is."""
    found = book.db.execute(f"{_SHARE} WHERE list = ?", (row,)).fetchone()
    return _share(found) if found else None


def save(book: Book, one: Share) -> None:
    """Keep how a list is shared."""
    values = (
        *one[:5],
        json.dumps(one.fields),
        *one[6:9],
        json.dumps([p._asdict() for p in one.people], ensure_ascii=False),
    )
    book.db.execute(f"INSERT OR REPLACE INTO share VALUES({', '.join('?' * len(values))})", values)


def forget(book: Book, row: int) -> None:
    """Forget that a list is shared; the list itself stays."""
    for table in ("share_member", "share_conflict", "share"):
        book.db.execute(f"DELETE FROM {table} WHERE list = ?", (row,))


def links(book: Book, row: int, names: Iterable[str]) -> dict[str, SharedMember]:
    """What was agreed about some cards, by their names."""
    rows = book.db.execute(
        f"{_LINK} WHERE list = ? AND name IN (SELECT value FROM json_each(?))", (row, json.dumps(list(names)))
    )
    return {link.name: link for link in map(_link, rows)}


def all_links(book: Book, row: int) -> list[SharedMember]:
    """What was agreed about all cards of a list."""
    return [_link(found) for found in book.db.execute(f"{_LINK} WHERE list = ? ORDER BY name", (row,))]


def has_card(book: Book, row: int, contact: int) -> bool:
    """Whether there is a card of somebody."""
    found = book.db.execute("SELECT 1 FROM share_member WHERE list = ? AND contact = ?", (row, contact)).fetchone()
    return found is not None


def chosen_address(book: Book, row: int, kept: StoredContact) -> str | None:
    """The address that a list has chosen for somebody, if any."""
    found = book.db.execute("SELECT address FROM member WHERE list = ? AND contact = ?", (row, kept.id)).fetchone()
    return kept.contact.find_address(found[0]) if found and found[0] else None


def save_link(book: Book, row: int, link: SharedMember) -> None:
    """Keep what was agreed about a member."""
    save_links(book, row, [link])


def save_links(book: Book, row: int, some: Iterable[SharedMember]) -> None:
    """Keep what was agreed about several members."""
    book.db.executemany(
        "INSERT OR REPLACE INTO share_member(list, name, contact, uid, etag, card, here, there)"
        " VALUES(?, ?, ?, ?, ?, ?, ?, ?)",
        [(row, *link[:5], *_sides(link)) for link in some],
    )


def _sides(link: SharedMember) -> tuple[str, str]:
    here = as_json(link.here)
    return here, here if link.here == link.there else as_json(link.there)


def drop_link(book: Book, row: int, name: str) -> None:
    """Forget a card that is gone."""
    book.db.execute("DELETE FROM share_member WHERE list = ? AND name = ?", (row, name))


def unlinked(book: Book, row: int) -> list[int]:
    """Members who have no card yet."""
    rows = book.db.execute(
        "SELECT o.contact FROM on_list o WHERE o.list = ? AND NOT EXISTS"
        " (SELECT 1 FROM share_member s WHERE s.contact = o.contact AND s.list = ?) ORDER BY o.contact",
        (row, row),
    )
    return [number for (number,) in rows]


def left(book: Book, row: int) -> list[SharedMember]:
    """Cards whose contact is on the list no more, or is gone."""
    rows = book.db.execute(
        f"{_LINK} s WHERE s.list = ? AND s.contact NOT IN (SELECT contact FROM on_list WHERE list = ?)", (row, row)
    )
    return [_link(found) for found in rows]


def touched(book: Book, row: int, since: int) -> list[SharedMember]:
    """Cards whose contact, or the address that the list uses, was changed by actions after that one."""
    rows = book.db.execute(
        f"{_LINK} WHERE list = ? AND contact IN ("
        " SELECT row FROM journal WHERE tbl = 'contact' AND action > ?"
        " UNION SELECT m.contact FROM journal j JOIN member m ON m.id = j.row"
        "  WHERE j.tbl = 'member' AND j.action > ? AND m.list = ?) ORDER BY name",
        (row, since, since, row),
    )
    return [_link(found) for found in rows]


def last_action(book: Book) -> int:
    """The number of the latest action."""
    return int(book.db.execute("SELECT coalesce(max(id), 0) FROM action").fetchone()[0])


def merged_into(book: Book, uid: str) -> int | None:
    """The contact into which one with that uid was merged."""
    row = book.db.execute("SELECT contact FROM contact_former WHERE uid = ?", (uid,)).fetchone()
    return int(row[0]) if row else None


def add_conflict(book: Book, row: int, contact: int, name: str, field: str, mine: Any, theirs: Any, holds: Any) -> None:
    """Keep a conflict to look at; a newer one about the same field takes its place."""
    book.db.execute("DELETE FROM share_conflict WHERE list = ? AND contact = ? AND field = ?", (row, contact, field))
    values = [json.dumps(value, ensure_ascii=False) for value in (mine, theirs, holds)]
    book.db.execute(
        "INSERT INTO share_conflict(list, contact, name, field, mine, theirs, holds, since)"
        " VALUES(?, ?, ?, ?, ?, ?, ?, ?)",
        (row, contact, name, field, *values, now()),
    )


def conflicts(book: Book, row: int | None = None) -> list[Open]:
    """Open conflicts, of one list or all, oldest first."""
    rows = book.db.execute(
        "SELECT number, list, contact, name, field, mine, theirs, holds FROM share_conflict"
        " WHERE ?1 IS NULL OR list = ?1 ORDER BY number",
        (row,),
    )
    return [Open(*found[:5], *(json.loads(value) for value in found[5:])) for found in rows]


def settle(book: Book, number: int) -> None:
    """Take a conflict away."""
    book.db.execute("DELETE FROM share_conflict WHERE number = ?", (number,))


def need_right(book: Book, row: int, only_owner: bool = False) -> None:
    """Raises StoppedError where one's role in a shared list does not let one change it."""
    if book.exchanging:
        return
    found = book.db.execute("SELECT role, title FROM share WHERE list = ?", (row,)).fetchone()
    if found is None:
        return
    role, title = found
    if role == READER:
        raise StoppedError(
            f"{visible(title)} is shared with you to read. To change it, ask an owner for the role editor "
            "(`barnacle share who` names them), or make a copy: `barnacle list copy`."
        )
    if only_owner and role != OWNER:
        raise StoppedError(f"Only owners rename {visible(title)}: it is shared. `barnacle share who` names them.")


def need_no_owner(book: Book, row: int) -> None:
    """Raises StoppedError for a shared list that one owns: removed here, it would go on at the hub without its
    owner."""
    share = of(book, row)
    if share is not None and share.role == OWNER:
        raise StoppedError(
            f"{visible(share.title)} is shared, and you own it. Stop sharing it first (`barnacle share stop`), or make "
            "somebody else its owner (`barnacle share role`) and leave it (`barnacle share leave`)."
        )
