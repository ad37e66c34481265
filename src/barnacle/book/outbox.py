"""Messages that wait to be sent, and the delivery journal of those that were."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence

from barnacle.book import lists
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.book.sums import OF_DELIVERY, DamagedError, renew, row_sum
from barnacle.core.addresses import address_key
from barnacle.core.errors import NotFoundError
from barnacle.core.mail.delivery import Answer, State
from barnacle.core.mail.message import Message, Mode, from_doc, to_doc
from barnacle.core.text import fold, people, visible
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from barnacle.core.mail.audience import Recipient


class StoredMessage(NamedTuple):
    """A message of the outbox: what identifies it, what was chosen and written, and when sending began, if ever (ISO
    8601, as `created`)."""

    id: int
    token: str
    subject: str
    mode: Mode
    content: Message
    created: str
    begun: str | None

    @property
    def number(self) -> str:
        """`m1`: what the user calls it."""
        return f"m{self.id}"

    @property
    def due(self) -> str | None:
        """When it is to be sent, where a time is kept for it and sending has not begun."""
        return self.content.due if self.begun is None else None

    @property
    def is_overdue(self) -> bool:
        """Whether that time is over."""
        return self.due is not None and self.due <= now()


# What is said of recipients who were being sent to when it ended.
BROKE_OFF = "the connection or the program broke off before the server answered"


class Delivery(NamedTuple):
    """One recipient of a message as the journal has it."""

    address: str
    names: list[str]
    state: State
    code: int | None
    reply: str
    tried: str | None


_SELECT = (
    "SELECT m.id, m.token, m.subject, m.mode, m.doc, m.created, d.begun, m.sum"
    " FROM message m LEFT JOIN dispatch d ON d.message = m.id"
)


def _message(row: tuple[Any, ...]) -> StoredMessage:
    if row[7] != row_sum(*row[1:6]):
        raise DamagedError(f"m{row[0]} is not as it was written")
    return StoredMessage(row[0], row[1], row[2], Mode(row[3]), from_doc(json.loads(row[4])), row[5], row[6])


def _stored(content: Message) -> str:
    return json.dumps(to_doc(content), ensure_ascii=False)


def add(book: Book, token: str, subject: str, mode: Mode, content: Message) -> StoredMessage:
    """Keep a composed message; it gets the next number."""
    at = book.running.at
    row = book.db.execute(
        "INSERT INTO message(token, subject, mode, doc, created) VALUES(?, ?, ?, ?, ?)",
        (token, subject, mode, _stored(content), at),
    ).lastrowid
    assert row is not None
    renew(book.db, "message", row)
    return StoredMessage(row, token, subject, mode, content, at, None)


def save(book: Book, message: StoredMessage) -> None:
    """Write a changed message back."""
    book.need_action()
    book.db.execute(
        "UPDATE message SET subject = ?, mode = ?, doc = ? WHERE id = ?",
        (message.subject, message.mode, _stored(message.content), message.id),
    )
    renew(book.db, "message", message.id)


def remove(book: Book, message: StoredMessage) -> None:
    """Remove a message that was never begun."""
    assert message.begun is None
    book.db.execute("DELETE FROM message WHERE id = ?", (message.id,))


def get(book: Book, number: str) -> StoredMessage:
    """The message with a number such as `m3`. Raises NotFoundError with the way on."""
    digits = number.lower().removeprefix("m")
    row = None
    if digits.isascii() and digits.isdigit() and len(digits) < 12:
        row = book.db.execute(f"{_SELECT} WHERE m.id = ?", (int(digits),)).fetchone()
    if row is None:
        raise NotFoundError(
            f"The outbox has no message {visible(number, 40)}. {_meant(book, number)}`barnacle outbox` shows the "
            "messages and their numbers."
        )
    return _message(row)


_LAST = ("last", "latest", "newest", "the last")


def _meant(book: Book, text: str) -> str:
    """What somebody is likely to have meant who gave a subject, or a list, for a number."""
    key = fold(text)
    messages = every(book)
    subjects = [one for one in messages if key and key in fold(one.subject)] or messages[-1:] * (key in _LAST)
    if len(subjects) == 1:
        return f"Did you mean {subjects[0].number}, `{visible(subjects[0].subject, 60)}`? "
    titles = [visible(one.title) for one in lists.by_title(book, text)]
    return f'`barnacle compose --for "{titles[0]}"` writes a message to that list. ' if len(titles) == 1 else ""


def every(book: Book) -> list[StoredMessage]:
    """All messages, oldest first."""
    return [_message(row) for row in book.db.execute(f"{_SELECT} ORDER BY m.id")]


def unfinished(book: Book) -> list[StoredMessage]:
    """The messages that were not begun, or of which a recipient is neither accepted nor refused, oldest first."""
    rows = book.db.execute(
        f"{_SELECT} WHERE d.message IS NULL OR EXISTS(SELECT 1 FROM delivery x WHERE x.message = m.id"
        " AND x.state NOT IN ('accepted', 'refused')) ORDER BY m.id"
    )
    return [_message(row) for row in rows]


def latest(book: Book, most: int) -> list[StoredMessage]:
    """The messages that were composed last, oldest first."""
    rows = book.db.execute(f"{_SELECT} ORDER BY m.id DESC LIMIT ?", (most,))
    return [_message(row) for row in rows][::-1]


def how_many(book: Book) -> int:
    """The number of messages."""
    return int(book.db.execute("SELECT count(*) FROM message").fetchone()[0])


def last(book: Book) -> StoredMessage:
    """The message that was composed last. Raises NotFoundError where there is none."""
    if not (found := latest(book, 1)):
        raise NotFoundError("The outbox is empty. `barnacle compose` writes a message.")
    return found[0]


def keep_little(book: Book) -> None:
    """Hold half a megabyte of the book in memory at most: sending goes through it once."""
    book.db.execute("PRAGMA cache_size = -500")


def begin(book: Book, message: StoredMessage, recipients: Iterable[Recipient]) -> StoredMessage:
    """Fix the audience at the first try: every recipient is `waiting`.

    The date is kept too, so that a second try sends the same bytes.
    """
    message = message._replace(begun=now())
    book.db.execute("INSERT INTO dispatch(message, begun) VALUES(?, ?)", (message.id, message.begun))
    who: list[tuple[int, int, str]] = []

    def rows() -> Iterator[tuple[Any, ...]]:
        for one in recipients:
            row = (message.id, one.address, json.dumps(one.names, ensure_ascii=False), State.WAITING)
            who.extend((number, message.id, one.address) for number in one.who if isinstance(number, int))
            yield *row, row_sum(*row, None, "", None)

    book.db.executemany("INSERT INTO delivery(message, address, people, state, sum) VALUES(?, ?, ?, ?, ?)", rows())
    book.db.executemany("INSERT OR IGNORE INTO delivery_contact(contact, message, address) VALUES(?, ?, ?)", who)
    return message


def _need_sound(book: Book, message: int) -> None:
    """Raises DamagedError where what became of a recipient is not as it was written."""
    if message not in book.sound:
        row = book.db.execute(
            f"SELECT address FROM delivery WHERE message = ? AND sum IS NOT row_sum({OF_DELIVERY}) LIMIT 1", (message,)
        ).fetchone()
        if row is not None:
            raise DamagedError(f"what became of a recipient of m{message} is not as it was written")
        book.sound.add(message)


_DELIVERY = "SELECT d.address, d.people, d.state, d.code, d.reply, d.tried FROM delivery d WHERE d.message = ?"


def deliveries(
    book: Book, message: int, addresses: Sequence[str] | None = None, accepted: bool = True
) -> list[Delivery]:
    """Each recipient of a message that was begun, by address; or those at some addresses, or who are not accepted."""
    _need_sound(book, message)
    where, values = _among(addresses)
    where += "" if accepted else " AND d.state <> 'accepted'"
    rows = book.db.execute(f"{_DELIVERY}{where} ORDER BY d.address", (message, *values))
    return [Delivery(row[0], json.loads(row[1]), State(row[2]), row[3], row[4], row[5]) for row in rows]


def _among(addresses: Sequence[str] | None) -> tuple[str, Sequence[str]]:
    if addresses is None:
        return "", ()
    return f" AND d.address IN ({', '.join('?' * len(addresses))})", addresses


def counts(book: Book, message: int) -> dict[str, int]:
    """How many recipients are in each state."""
    _need_sound(book, message)
    return dict(book.db.execute("SELECT state, count(*) FROM delivery WHERE message = ? GROUP BY state", (message,)))


def counts_of_all(book: Book) -> dict[int, dict[str, int]]:
    """The same of every message that was begun, to look for some: no checksum is asked."""
    found: dict[int, dict[str, int]] = {}
    for message, state, number in book.db.execute("SELECT message, state, count(*) FROM delivery GROUP BY 1, 2"):
        found.setdefault(message, {})[state] = number
    return found


def sent_to(book: Book, key: str) -> set[int]:
    """The messages that were begun and go to an address, by its key."""
    rows = book.db.execute("SELECT DISTINCT address FROM delivery")
    spelt = [address for (address,) in rows if address_key(address) == key]
    messages = (book.db.execute("SELECT message FROM delivery WHERE address = ?", (address,)) for address in spelt)
    return {message for found in messages for (message,) in found}


def addresses_in(book: Book, message: int, states: Sequence[State]) -> list[str]:
    """The recipients in any of these states."""
    _need_sound(book, message)
    marks = ", ".join("?" * len(states))
    return [
        row[0]
        for row in book.db.execute(
            f"SELECT address FROM delivery WHERE message = ? AND state IN ({marks}) ORDER BY address",
            (message, *states),
        )
    ]


def record(book: Book, message: int, answers: Iterable[Answer]) -> None:
    """Write recipients' states; on disk when this returns."""
    at = now()
    with book.transaction():
        book.db.executemany(
            "UPDATE delivery SET state = ?1, code = ?2, reply = ?3, tried = ?4,"
            " sum = row_sum(message, address, people, ?1, ?2, ?3, ?4) WHERE message = ?5 AND address = ?6",
            [(a.state, a.code, a.reply, at, message, a.address) for a in answers],
        )


def tried_since(book: Book, moment: str) -> list[str]:
    """When each recipient who was handed over since a moment (ISO 8601, UTC) was, over all messages, earliest first."""
    rows = book.db.execute(
        "SELECT tried FROM delivery WHERE tried >= ? AND state IN ('accepted', 'sending', 'doubtful') ORDER BY tried",
        (moment,),
    )
    return [tried for (tried,) in rows]


def last_tried(book: Book) -> list[str]:
    """When each recipient of the message that was begun last was tried, earliest first."""
    rows = book.db.execute(
        "SELECT tried FROM delivery WHERE message = (SELECT max(message) FROM delivery WHERE tried IS NOT NULL)"
        " AND tried IS NOT NULL ORDER BY tried"
    )
    return [tried for (tried,) in rows]


def drop(book: Book, message: int, address: str) -> None:
    """Take a recipient who was not written to yet off a begun message (an opt-out that came in between)."""
    with book.transaction():
        book.db.execute("DELETE FROM delivery WHERE message = ? AND address = ?", (message, address))
        book.db.execute("DELETE FROM delivery_contact WHERE message = ? AND address = ?", (message, address))


def settle(book: Book, message: int) -> int:
    """What is `sending` while no sender is at work has an unknown end: `doubtful`. Returns how many."""
    left = addresses_in(book, message, [State.SENDING])
    if left:
        record(book, message, [Answer(a, State.DOUBTFUL, None, BROKE_OFF) for a in left])
    return len(left)


def written_to(book: Book, who: StoredContact) -> list[tuple[str, str, str, str]]:
    """What a contact, and those merged into it, was sent, latest first: message, subject, state, when."""
    contacts = [who.id, *(one.number for one in who.contact.former)]
    marks = ", ".join("?" * len(contacts))
    rows = book.db.execute(
        "SELECT DISTINCT m.id, m.subject, d.address, d.state, coalesce(d.tried, p.begun) FROM delivery_contact dc"
        " JOIN delivery d ON d.message = dc.message AND d.address = dc.address"
        " JOIN message m ON m.id = dc.message JOIN dispatch p ON p.message = m.id"
        f" WHERE dc.contact IN ({marks}) ORDER BY m.id DESC",
        contacts,
    )
    return [(f"m{row[0]}", row[1], f"{row[3]} at {row[2]}", row[4]) for row in rows]


def tell_outcome(book: Book, message: StoredMessage) -> None:
    """Say in the history how many people a message has reached so far, and of how many."""
    reached = meant = 0
    for one in deliveries(book, message.id):
        meant += max(len(one.names), 1)
        reached += max(len(one.names), 1) * (one.state is State.ACCEPTED)
    of = people(meant) if reached == meant else f"{reached:,} of {people(meant)}"
    begun, sent = (f"{word} {message.number}, " for word in ("Started sending", "Sent"))
    with book.transaction():
        book.db.execute(
            "UPDATE action SET title = ? WHERE id = (SELECT max(id) FROM action WHERE command = 'send'"
            " AND (substr(title, 1, ?) = ? OR substr(title, 1, ?) = ?))",
            (f"{sent}{message.subject}, to {of}", len(begun), begun, len(sent), sent),
        )


def take_back_begin(book: Book, message: StoredMessage) -> bool:
    """Make a message that was begun and that no server has taken one that waits, inside the running action. False where
    somebody may have got it."""
    book.need_action()
    if any(counts(book, message.id).get(state) for state in (State.ACCEPTED, State.SENDING, State.DOUBTFUL)):
        return False
    for table in ("delivery_contact", "delivery", "dispatch"):
        book.db.execute(f"DELETE FROM {table} WHERE message = ?", (message.id,))
    return True


def people_of(book: Book, message: int, addresses: Sequence[str] | None = None) -> list[tuple[str, int | None]]:
    """Each recipient's address, or some of them, with the number of the contact who was meant, None for somebody not in
    the book."""
    where, values = _among(addresses)
    rows = book.db.execute(
        "SELECT d.address, c.id FROM delivery d LEFT JOIN delivery_contact dc ON dc.message = d.message"
        " AND dc.address = d.address LEFT JOIN contact c ON c.id = dc.contact"
        f" WHERE d.message = ?{where} ORDER BY d.address, c.id",
        (message, *values),
    )
    return rows.fetchall()


def sent_alike(book: Book, message: StoredMessage, since: str) -> list[tuple[int, str, set[str]]]:
    """The messages with the same subject and text whose sending began since a moment (ISO 8601, UTC), the last first:
    number, when it began, and the addresses for which it was accepted."""
    # A damaged one is no reason not to write another: no sum is asked.
    rows = book.db.execute(
        "SELECT m.id, d.begun FROM message m JOIN dispatch d ON d.message = m.id WHERE m.subject = ? AND m.id != ?"
        " AND d.begun >= ? AND json_extract(m.doc, '$.text') = ? ORDER BY d.begun DESC, m.id DESC",
        (message.subject, message.id, since, message.content.text),
    ).fetchall()
    accepted = "SELECT address FROM delivery WHERE message = ? AND state = ?"
    return [
        (number, begun, {row[0] for row in book.db.execute(accepted, (number, State.ACCEPTED))})
        for number, begun in rows
    ]


def last_to_each(book: Book) -> dict[int, str]:
    """When the last message to each contact was begun, by the contact's number."""
    return dict(
        book.db.execute(
            "SELECT dc.contact, max(d.begun) FROM delivery_contact dc JOIN dispatch d ON d.message = dc.message"
            " GROUP BY dc.contact"
        )
    )


def refused_now(book: Book) -> dict[str, str]:
    """The addresses that were refused when they were last tried, with what the server said."""
    rows = book.db.execute(
        "SELECT address, state, code, reply, max(tried) FROM delivery WHERE state IN ('accepted', 'refused')"
        " GROUP BY address"
    )
    return {address: f"{code or ''} {reply}".strip() for address, state, code, reply, _ in rows if state == "refused"}
