"""Messages of the outbox by how they stand, by a word of what they say, by a list or a person, or since a day."""

from __future__ import annotations

from barnacle.book import contacts, lists, outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.errors import NotFoundError
from barnacle.core.mail.delivery import State
from barnacle.core.moments import since_when
from barnacle.core.text import fold, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.outbox import Outcome, outcome, settled, state_in

# How a message stands, or one of its recipients; what is said of such messages, and the words that ask for them.
_STATES = (
    ("waiting", "not sent to everybody yet", "waiting unsent unfinished open pending draft drafts"),
    ("due", "with a time to be sent", "due scheduled later planned timed"),
    ("overdue", "overdue", "overdue late missed"),
    ("held", "held", "held stuck"),
    ("accepted", "accepted for somebody", "sent accepted done gone"),
    ("refused", "refused for somebody", "refused failed failures bounced rejected undelivered"),
    ("deferred", "deferred for somebody", "deferred delayed"),
    ("doubtful", "doubtful for somebody", "doubtful uncertain unclear"),
    ("handed over", "handed over to a mail program", "handed"),
)
# Of more people of one name than this none is looked for.
_MOST_PEOPLE = 20


class Found(NamedTuple):
    """The messages, the oldest first, how many more were found that are older, and by what they were found, as it
    follows on `2 messages`."""

    messages: list[Outcome]
    older: int
    about: str


class _Standing(NamedTuple):
    """A message, and the states of it and of its recipients."""

    message: StoredMessage
    states: set[str]


def find(desk: Desk, what: str, since: str = "", most: int | None = None, recipients: bool = True) -> Found:
    """The messages that `what` means, or the last of them: in a state, with it in the subject or the text, for a list
    or to a person of that name. Without `recipients` these are only counted. Raises NotFoundError, UnclearError for a
    day that is none."""
    what, begun, day = since_when(what, since)
    with desk.open() as book:
        counts = outbox.counts_of_all(book)
        some = [
            _standing(desk, book, one, counts.get(one.id, {}))
            for one in outbox.every(book) if not begun or one.created >= begun
        ]  # fmt: skip
        about = ""
        if fold(what):
            some, about = _meant(book, what, some)
        if what and not about:
            raise NotFoundError(
                f"No message{f' since {day}' if day else ''} says `{visible(what, 60)}`, is in such a state, or is for "
                "a list or a person of that name. `barnacle outbox --all` shows all messages."
            )
        shown = some[-most:] if most else some
        messages = [settled(desk, book, one.message, recipients) for one in shown]
    said = " ".join(filter(None, (about, f"since {day}" if day else "")))
    return Found(messages, len(some) - len(shown), said)


def _standing(desk: Desk, book: Book, message: StoredMessage, counts: dict[str, int]) -> _Standing:
    if counts.get(State.SENDING):
        counts = settled(desk, book, message, recipients=False).counts
    if message.begun is None:
        counts = {State.WAITING: 0}
    due = {what for what, is_so in (("due", message.due), ("overdue", message.is_overdue)) if is_so}
    states = {"refused" if state.startswith("refused") else state for state in (state_in(message, counts), *counts)}
    return _Standing(message, states | due)


def _meant(book: Book, what: str, some: list[_Standing]) -> tuple[list[_Standing], str]:
    key = fold(what)
    for state, about, words in _STATES:
        if key in words.split() or key == state:
            return [one for one in some if state in one.states], about
    kinds: dict[str, list[_Standing]] = {
        f"with `{visible(what, 40)}` in the subject or text": [
            one for one in some if key in fold(one.message.subject) or key in fold(one.message.content.text)
        ]
    }
    for titled in lists.by_title(book, what):
        kinds[f"for {visible(titled.title, 60)}"] = [
            one for one in some if one.message.content.choice.has_list(titled.id)
        ]
    people = contacts.by_address(book, what) if "@" in what else contacts.by_name(book, what)
    for kept in people if len(people) <= _MOST_PEOPLE else ():
        got = {number for number, *_ in outbox.written_to(book, kept)}
        theirs = {address_key(address.address) for address in kept.contact.addresses}
        kinds[f"to {visible(kept.contact.title, 60)}"] = [
            one for one in some if one.message.number in got or _will_go_to(book, one.message, theirs)
        ]
    if "@" in what and not people:
        key = address_key(what)
        sent = outbox.sent_to(book, key)
        kinds[f"to {visible(what, 60)}"] = [
            one for one in some if one.message.id in sent or _will_go_to(book, one.message, {key})
        ]
    numbers = {one.message.id for found in kinds.values() for one in found}
    # Where there is a list or a person of that name, and no message, that is what is said.
    about = " or ".join([kind for kind, found in kinds.items() if found] or [*kinds][1:])
    return [one for one in some if one.message.id in numbers], about


def _will_go_to(book: Book, message: StoredMessage, keys: set[str]) -> bool:
    """Whether a message that waits is for one of these addresses, as the book stands."""
    if message.begun is not None:
        return False
    return any(address_key(one.address) in keys for one in outcome(book, message).deliveries)
