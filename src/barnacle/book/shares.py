"""Lists that are shared through a hub: the connection, and what was last agreed about each
member."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence

from barnacle.book import share_conflicts
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact, as_json
from barnacle.core.errors import StoppedError
from barnacle.core.sharing import OWNER, READER, Sharer
from barnacle.core.text import visible
from barnacle.core.typed import Any, NamedTuple


class Connection(NamedTuple):
    """The hub that a book is connected to, and as whom."""

    url: str
    address: str


class Share(NamedTuple):
    """A list of the book that is shared. `title` is what it is called at the hub, `owner` an owner's address, `fields`
    what is shared of each member, `token` where the next exchange begins, `at` when the last was, `people_mark` what
    the hub said of `people` when they were asked for, `giver` who offered it. `house` is the address that the list has
    of its own, if any, and its rules in words."""

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
    people_mark: str = ""
    giver: str = ""
    house: Sequence[str] = ()


class SharedMember(NamedTuple):
    """A member: the card's name at the hub, the contact's number and uid here, and what both sides had. The list may
    change a contact of its `own`: one that came by it, that was put on it here, or that a person had follow it; of
    several lists the one that was first (`since`). `held` is the opt-out that the card says of somebody whom it may not
    change, `problems` what of the card could not be read. A card that is yet to go out has no ETag.
    `last_by` and `last_at` say who changed it last, and when."""

    name: str
    contact: int
    uid: str
    etag: str
    card: str
    here: dict[str, Any]
    there: dict[str, Any]
    own: bool = True
    since: int = 0
    held: str = ""
    problems: Sequence[str] = ()
    last_by: str = ""
    last_at: str = ""


class Trace(NamedTuple):
    """What was agreed of a card that was taken off (`off`; `mine` is what the book had then), or is on its way out
    (`sent`)."""

    name: str
    contact: int
    kind: str
    own: bool
    since: int
    here: dict[str, Any]
    there: dict[str, Any]
    mine: dict[str, Any]


OFF, SENT = "off", "sent"


def connection(book: Book) -> Connection | None:
    """The hub of this book, if any."""
    row = book.db.execute("SELECT url, address FROM hub").fetchone()
    return Connection(*row) if row else None


def connect(book: Book, one: Connection) -> None:
    """Remember a hub, in place of any other."""
    with book.transaction():
        book.db.execute("DELETE FROM hub")
        book.db.execute("INSERT INTO hub(url, address) VALUES(?, ?)", one)


_SHARE = (
    "SELECT list, remote, title, owner, role, fields, token, at, action, people, people_mark, giver, house FROM share"
)
_LINK = (
    "SELECT name, contact, uid, etag, card, here, there, own, since, held, problems, last_by, last_at FROM share_member"
)


def _share(found: tuple[Any, ...]) -> Share:
    row, remote, title, owner, role, fields, token, at, action, people, mark, giver, house = found
    lists = json.loads(fields), json.loads(house)
    return Share(row, remote, title, owner, role, lists[0], token, at, action, _sharers(people), mark, giver, lists[1])


def _sharers(text: str) -> list[Sharer]:
    return [Sharer(**one) for one in json.loads(text)]


def _link(row: tuple[Any, ...]) -> SharedMember:
    name, contact, uid, etag, card, here, there, own, since, held, problems, *last = row
    sides = json.loads(here), json.loads(there)
    return SharedMember(name, contact, uid, etag, card, *sides, bool(own), since, held, json.loads(problems), *last)


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
        one.people_mark,
        one.giver,
        json.dumps(list(one.house), ensure_ascii=False),
    )
    book.db.execute(f"INSERT OR REPLACE INTO share VALUES({', '.join('?' * len(values))})", values)


def record(book: Book, command: str, title: str) -> None:
    """Put into the history what was done at the hub. Others know of it, so that no undo takes it back."""
    with book.action(command, title) as action:
        action.final = True


def forget(book: Book, row: int) -> None:
    """Forget that a list is shared; the list itself stays."""
    for table in ("share_member", "share_conflict", "share_trace", "share"):
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


def links_of(book: Book, row: int, contact: int) -> list[SharedMember]:
    """What was agreed about somebody's cards."""
    rows = book.db.execute(f"{_LINK} WHERE list = ? AND contact = ? ORDER BY name", (row, contact))
    return [_link(found) for found in rows]


def follows_another(book: Book, row: int, contact: int, since: int | None) -> bool:
    """Whether somebody follows another list already: one that has been shared longer than `since` (None: at all)."""
    found = book.db.execute(
        "SELECT 1 FROM share_member WHERE contact = ?1 AND list != ?2 AND own"
        " AND (?3 IS NULL OR since < ?3 OR (since = ?3 AND list < ?2))",
        (contact, row, since),
    )
    return found.fetchone() is not None


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
        "INSERT OR REPLACE INTO share_member(list, name, contact, uid, etag, card, here, there, own, since, held,"
        " problems, last_by, last_at) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (row, *link[:5], *_sides(link), link.own, link.since, link.held,
             json.dumps(link.problems, ensure_ascii=False) if link.problems else "[]", link.last_by, link.last_at)
            for link in some
        ],
    )  # fmt: skip


def _sides(link: SharedMember) -> tuple[str, str]:
    here = as_json(link.here)
    return here, here if link.here == link.there else as_json(link.there)


def unsent(book: Book, row: int) -> list[SharedMember]:
    """Cards that the hub has lost and that go there again as they were."""
    return [_link(found) for found in book.db.execute(f"{_LINK} WHERE list = ? AND etag = ''", (row,))]


def changed(book: Book, row: int) -> dict[int, tuple[str, str]]:
    """Who changed each contact's card last, and when, as far as the hub has said."""
    rows = book.db.execute(
        "SELECT contact, last_by, last_at FROM share_member WHERE list = ? AND last_by != ''", (row,)
    )
    return {contact: (by, at) for contact, by, at in rows}


def unreadable(book: Book, row: int) -> list[tuple[int, list[str]]]:
    """Contacts of whose card something could not be read, and what."""
    rows = book.db.execute(
        "SELECT contact, problems FROM share_member WHERE list = ? AND problems != '[]' ORDER BY name", (row,)
    )
    return [(contact, json.loads(problems)) for contact, problems in rows]


def save_traces(book: Book, row: int, some: Iterable[Trace]) -> None:
    """Keep what was agreed of cards that are going."""
    book.db.executemany(
        "INSERT OR REPLACE INTO share_trace(list, name, contact, kind, own, since, here, there, mine)"
        " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [(row, *one[:5], *map(as_json, one[5:])) for one in some],
    )


_TRACE = "SELECT name, contact, kind, own, since, here, there, mine FROM share_trace"


def sent(book: Book, row: int, names: Iterable[str]) -> dict[str, Trace]:
    """Those of some cards that were on their way out when an exchange broke off."""
    rows = book.db.execute(
        f"{_TRACE} WHERE list = ? AND kind = '{SENT}' AND name IN (SELECT value FROM json_each(?))",
        (row, json.dumps(list(names))),
    )
    return {one.name: one for one in map(_trace, rows)}


def was_on(book: Book, row: int, contact: int) -> Trace | None:
    """What was agreed of somebody who was taken off there, if anybody was."""
    rows = book.db.execute(f"{_TRACE} WHERE list = ? AND contact = ? AND kind = '{OFF}'", (row, contact))
    return next(map(_trace, rows), None)


def _trace(row: tuple[Any, ...]) -> Trace:
    name, contact, kind, own, since, here, there, mine = row
    return Trace(name, contact, kind, bool(own), since, json.loads(here), json.loads(there), json.loads(mine))


def drop_traces(book: Book, row: int, kind: str, names: Iterable[str]) -> None:
    """Forget what is left of cards."""
    book.db.execute(
        "DELETE FROM share_trace WHERE list = ? AND kind = ? AND name IN (SELECT value FROM json_each(?))",
        (row, kind, json.dumps(list(names))),
    )


def is_on_again(book: Book, row: int, contacts: Iterable[int]) -> None:
    """Forget what was agreed of people when they were taken off."""
    book.db.executemany(
        f"DELETE FROM share_trace WHERE list = ? AND contact = ? AND kind = '{OFF}'", [(row, one) for one in contacts]
    )


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


def has_news(book: Book, share: Share) -> bool:
    """Whether anything of a list may have been changed here since the last exchange."""
    row = share.row
    if book.db.execute("SELECT 1 FROM action WHERE id > ? LIMIT 1", (share.action,)).fetchone() is None:
        return False
    return bool(left(book, row) or unlinked(book, row) or touched(book, row, share.action) or unsent(book, row))


def exchanged(book: Book, rows: Iterable[int]) -> None:
    """Some lists were exchanged just now, and nothing was new."""
    book.db.executemany("UPDATE share SET at = ? WHERE list = ?", [(now(), row) for row in rows])


class Offer(NamedTuple):
    """A list that a colleague offers, as the last exchange found it."""

    title: str
    giver: str
    role: str
    since: str


def keep_offers(book: Book, some: Iterable[Offer]) -> None:
    """Remember what is offered, in place of what was."""
    book.db.execute("DELETE FROM share_offer")
    book.db.executemany("INSERT INTO share_offer(title, giver, role, since) VALUES(?, ?, ?, ?)", some)


def offers(book: Book) -> list[Offer]:
    """What colleagues offer, as the last exchange found it."""
    return [Offer(*row) for row in book.db.execute("SELECT title, giver, role, since FROM share_offer ORDER BY title")]


def last_action(book: Book) -> int:
    """The number of the latest action."""
    return int(book.db.execute("SELECT coalesce(max(id), 0) FROM action").fetchone()[0])


def merged_into(book: Book, uid: str) -> int | None:
    """The contact into which one with that uid was merged."""
    row = book.db.execute("SELECT contact FROM contact_former WHERE uid = ?", (uid,)).fetchone()
    return int(row[0]) if row else None


def merged(book: Book, old: int, new: int) -> None:
    """A contact was merged into another: what was agreed of somebody who was taken off, and what waits for a choice, is
    about that one from now on."""
    book.db.execute("UPDATE OR IGNORE share_trace SET contact = ? WHERE contact = ?", (new, old))
    share_conflicts.merged(book, old, new)


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
            f"{visible(title)} is shared with you to read only. To change it, ask an owner for the role editor "
            "(`barnacle share who` names them), or make a copy: `barnacle list copy`."
        )
    if only_owner and role != OWNER:
        raise StoppedError(f"Only the owners of {visible(title)} can rename it. `barnacle share who` names them.")


def need_no_owner(book: Book, row: int) -> None:
    """Raises StoppedError for a shared list that one owns: removed here, it would go on at the hub without its
    owner."""
    share = of(book, row)
    if share is not None and share.role == OWNER:
        raise StoppedError(
            f"{visible(share.title)} is shared, and you own it. Stop sharing it first (`barnacle share stop`), or make "
            "somebody else its owner (`barnacle share role`) and leave it (`barnacle share leave`)."
        )
