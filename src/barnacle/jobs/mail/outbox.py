"""The messages of the outbox: who they are for, how they stand, what became of each recipient."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from barnacle.book import contacts, outbox
from barnacle.book.outbox import Delivery, StoredMessage
from barnacle.book.store import Book
from barnacle.core.errors import BookError, StoppedError, UnwrittenError
from barnacle.core.mail.audience import Audience, Recipient
from barnacle.core.mail.delivery import MessageState, State, message_state
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.audience import audience_for


class Outcome(NamedTuple):
    """A message as it stands now, and what this run did. `tried` are the recipients that this run handed over or
    tried to; `trouble` is why it stopped early, if it did,
    `paused` what to do about a limit that was reached, `learned` how many the server was found to take at once,
    `copies` what became of the copy in one's own mailbox, in sentences."""

    message: StoredMessage
    state: MessageState
    counts: dict[str, int]
    deliveries: list[Delivery]
    tried: int = 0
    trouble: str | None = None
    paused: str | None = None
    learned: int | None = None
    copies: Sequence[str] = ()

    @property
    def is_complete(self) -> bool:
        """Whether everybody in the audience has been accepted."""
        return set(self.counts) <= {State.ACCEPTED}


def audience_of(book: Book, message: StoredMessage) -> Audience:
    """Who gets the message: as the book stands now, or, once sending has begun, as it was fixed then."""
    if message.begun is None:
        content = message.content
        return audience_for(book, content.choice, content.sender.address if content.copy_me else None)
    return Audience(recipients_of(book, message))


def recipients_of(book: Book, message: StoredMessage, addresses: Sequence[str] | None = None) -> list[Recipient]:
    """The recipients of a message that was begun, or those at some addresses, as they were fixed then."""
    meant: dict[str, list[int]] = {}
    for address, number in outbox.people_of(book, message.id, addresses):
        meant.setdefault(address, []).extend([number] if number is not None else [])
    found = outbox.deliveries(book, message.id, addresses)
    return [_recipient(book, one.address, one.names, meant.get(one.address, [])) for one in found]


def _recipient(book: Book, address: str, names: list[str], numbers: list[int]) -> Recipient:
    holders = [contacts.need(book, number) for number in numbers]
    # In the order of the names that were fixed, so that what people share is written as it was shown.
    order = {name: place for place, name in enumerate(names)}
    holders.sort(key=lambda contact: order.get(contact.called, len(order)))
    return Recipient(address, tuple(holders or [k.contact for k in contacts.by_address(book, address)]))


def state_of(book: Book, message: StoredMessage) -> tuple[MessageState, dict[str, int]]:
    """The message's state in one word or two, and how many recipients are in each state."""
    counts = outbox.counts(book, message.id)
    return state_in(message, counts), counts


def state_in(message: StoredMessage, counts: dict[str, int]) -> MessageState:
    """The message's state in one word or two, from how many recipients are in each."""
    content = message.content
    return message_state(counts, content.held is not None, message.begun is not None, content.handed is not None)


def outcome(
    book: Book, message: StoredMessage, whole: bool = True, at_work: bool = True, recipients: bool = True
) -> Outcome:
    """The message as it stands now; unless `whole`, only with the recipients whom no server has accepted, and without
    `recipients` with none: they are counted. Where no sender is `at_work` any more, those who were being sent to are
    doubtful, though the book could not write it down."""
    counts = outbox.counts(book, message.id)
    deliveries = outbox.deliveries(book, message.id, accepted=whole) if recipients else []
    if not at_work and (left := counts.pop(State.SENDING, 0)):
        counts[State.DOUBTFUL] = counts.get(State.DOUBTFUL, 0) + left
        deliveries = [
            d._replace(state=State.DOUBTFUL, reply=outbox.BROKE_OFF) if d.state is State.SENDING else d
            for d in deliveries
        ]
    if message.begun is None:
        try:
            audience = audience_of(book, message)
        except StoppedError:
            audience = Audience()
        counts = {"waiting": len(audience.recipients)}
        if recipients:
            deliveries = [Delivery(r.address, r.names, State.WAITING, None, "", None) for r in audience.recipients]
    return Outcome(message, state_in(message, counts), counts, deliveries)


def show(desk: Desk, number: str) -> Outcome:
    """A message of the outbox with each recipient's state."""
    with desk.open() as book:
        return settled(desk, book, outbox.get(book, number))


def latest(desk: Desk, most: int | None, recipients: bool = True) -> tuple[list[Outcome], int]:
    """The last messages (None: all), and older ones that are not sent to everybody yet, oldest first; and how many
    there are. Without `recipients` these are only counted."""
    with desk.open() as book:
        total = outbox.how_many(book)
        some = {
            one.id: one for one in (*outbox.unfinished(book), *outbox.latest(book, total if most is None else most))
        }
        return [settled(desk, book, some[number], recipients) for number in sorted(some)], total


def unfinished(desk: Desk) -> list[Outcome]:
    """The messages that are not sent to everybody yet, oldest first; their recipients are only counted."""
    with desk.open() as book:
        return [settled(desk, book, message, recipients=False) for message in outbox.unfinished(book)]


def settled(desk: Desk, book: Book, message: StoredMessage, recipients: bool = True) -> Outcome:
    """A message as it stands, as `outcome` has it. Recipients whose sender died are doubtful."""
    if outbox.addresses_in(book, message.id, [State.SENDING]):
        with suppress(StoppedError), only_sender(desk.path, message.number):
            with suppress(UnwrittenError):
                outbox.settle(book, message.id)
            return outcome(book, message, at_work=False, recipients=recipients)
    return outcome(book, message, recipients=recipients)


@contextmanager
def only_sender(book: Path, number: str) -> Iterator[None]:
    """The right to send from a book, one sender at a time; the system frees the lock however the sender ends."""
    from filelock import FileLock, Timeout

    lock = FileLock(f"{book}.sending", timeout=0, mode=0o600)
    try:
        lock.acquire()
    except Timeout:
        raise StoppedError(
            "Another `barnacle send` is using this book. Let it finish; "
            f"`barnacle outbox show {visible(number, 20)}` shows how far it is."
        ) from None
    except OSError as error:
        raise BookError(
            f"The folder of the book {visible(str(book))} cannot be written to ({error.strerror}). Nothing was sent."
        ) from error
    try:
        yield
    finally:
        lock.release()
