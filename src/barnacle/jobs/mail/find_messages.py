"""Messages of the outbox by how they stand, by a word of what they say, by a list or a person, or since a day."""

from __future__ import annotations

from barnacle.book import contacts, lists, outbox
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.errors import NotFoundError
from barnacle.core.moments import since_when
from barnacle.core.references import ListRef
from barnacle.core.text import fold, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.outbox import Outcome, every

# How a message stands, or one of its recipients; what is said of such messages, and the words that ask for them.
_STATES = (
    ("waiting", "not sent to everybody yet", "waiting unsent unfinished open pending draft drafts"),
    ("due", "to be sent later", "due scheduled later planned timed"),
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
    """The messages, the oldest first, and by what they were found, as it follows on `2 messages`."""

    messages: list[Outcome]
    about: str


def find(desk: Desk, what: str, since: str = "") -> Found:
    """The messages that `what` means: in a state, with it in the subject or the text, for a list or to a person of that
    name. Raises NotFoundError, UnclearError for a day that is none."""
    what, begun, day = since_when(what, since)
    some, about = [one for one in every(desk) if not begun or one.message.created >= begun], ""
    if fold(what):
        with desk.open() as book:
            some, about = _meant(book, what, some)
    if what and not about:
        raise NotFoundError(
            f"No message{f' since {day}' if day else ''} says `{visible(what, 60)}`, is in such a state, or is for a "
            "list or a person of that name. `barnacle outbox` shows all messages."
        )
    return Found(some, " ".join(filter(None, (about, f"since {day}" if day else ""))))


def _meant(book: Book, what: str, some: list[Outcome]) -> tuple[list[Outcome], str]:
    key = fold(what)
    for state, about, words in _STATES:
        if key in words.split() or key == state:
            return [one for one in some if state in _states(one)], about
    kinds: dict[str, list[Outcome]] = {
        f"with `{visible(what, 40)}` in the subject or text": [
            one for one in some if key in fold(one.message.subject) or key in fold(one.message.content.text)
        ]
    }
    for titled in lists.by_title(book, what):
        ref = ListRef(titled.id, titled.title)
        kinds[f"for {visible(titled.title, 60)}"] = [one for one in some if _is_for(one, ref)]
    people = contacts.by_address(book, what) if "@" in what else contacts.by_name(book, what)
    for kept in people if len(people) <= _MOST_PEOPLE else ():
        got = {number for number, *_ in outbox.written_to(book, [kept.id])}
        theirs = {address_key(address.address) for address in kept.contact.addresses}
        kinds[f"to {visible(kept.contact.title, 60)}"] = [
            one for one in some
            if one.message.number in got or (one.message.begun is None and _goes_to(one, theirs))
        ]  # fmt: skip
    if "@" in what and not people:
        kinds[f"to {visible(what, 60)}"] = [one for one in some if _goes_to(one, {address_key(what)})]
    numbers = {one.message.id for found in kinds.values() for one in found}
    # Where there is a list or a person of that name, and no message, that is what is said.
    about = " or ".join([kind for kind, found in kinds.items() if found] or [*kinds][1:])
    return [one for one in some if one.message.id in numbers], about


def _states(one: Outcome) -> set[str]:
    """The state of a message and those of its recipients."""
    due = {"due"} if one.message.content.due and one.message.begun is None else set()
    return {"refused" if state.startswith("refused") else state for state in (str(one.state), *one.counts)} | due


def _is_for(one: Outcome, ref: ListRef) -> bool:
    choice = one.message.content.choice
    return any(isinstance(other, ListRef) and other.number == ref.number for other in (*choice.wanted, *choice.also))


def _goes_to(one: Outcome, keys: set[str]) -> bool:
    return any(address_key(delivery.address) in keys for delivery in one.deliveries)
