"""A message as it was composed: whom it is for, what it says, and how it goes."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from barnacle.core import references
from barnacle.core.addresses import Mailbox
from barnacle.core.references import ListRef, Ref
from barnacle.core.typed import Any, NamedTuple


class Mode(StrEnum):
    """How a message goes: nobody sees who else gets it; to each by itself; or with everybody's address in To."""

    BLIND = "blind"
    EACH = "each"
    OPEN = "open"


class Choice(NamedTuple):
    """Whom a message is for, as the words were understood: `within` narrows it to see who is on a list too, `also` adds
    somebody whom that does not narrow."""

    wanted: Sequence[Ref] = ()
    without: Sequence[Ref] = ()
    within: ListRef | None = None
    also: Sequence[Ref] = ()

    def has_list(self, number: int) -> bool:
        """Whether it is for the people on a list, by the list's number in the book."""
        return any(isinstance(ref, ListRef) and ref.number == number for ref in (*self.wanted, *self.also))


class Enclosure(NamedTuple):
    """A file that goes along, as its message remembers it: name, MIME type, SHA-256 of its content, octets."""

    name: str
    kind: str
    digest: str
    size: int


class Message(NamedTuple):
    """What was chosen and written. `to` is what stands in To of a blind one (`me`, `title` or `none`), `allowed` are
    the keys of addresses that may stand in it, `open_to` how many will see each other in an open one, `invite` a
    calendar (RFC 5545). `composed_for` are the addresses it was for when it was composed; `held` says why it cannot be
    sent as it is, `handed` where it was handed to one's own mail program. `allowed_files` may go though they could
    not be searched. `reply_to` is where answers go, if not to the sender; `due` when it is to be sent (ISO 8601)."""

    sender: Mailbox
    choice: Choice = Choice()
    text: str = ""
    to: str = "me"
    copy_me: bool = False
    allowed: Sequence[str] = ()
    markdown: bool = False
    open_to: int | None = None
    enclosures: Sequence[Enclosure] = ()
    invite: str | None = None
    composed_for: Sequence[str] = ()
    held: str | None = None
    handed: str | None = None
    allowed_files: Sequence[str] = ()
    reply_to: str | None = None
    due: str | None = None


_PLAIN = ("text", "to", "copy_me", "allowed", "markdown", "open_to", "invite", "composed_for", "held", "handed",
          "allowed_files", "reply_to", "due")  # fmt: skip


def to_doc(message: Message) -> dict[str, Any]:
    """A message as plain values for storing."""
    choice = message.choice
    doc: dict[str, Any] = {
        "for": [references.to_doc(ref) for ref in choice.wanted],
        "without": [references.to_doc(ref) for ref in choice.without],
        "within": references.to_doc(choice.within) if choice.within else None,
        "also": [references.to_doc(ref) for ref in choice.also],
        "sender": list(message.sender),
        "attachments": [one._asdict() for one in message.enclosures],
    }
    return doc | {name: value for name in _PLAIN if (value := getattr(message, name)) is not None}


def from_doc(doc: dict[str, Any]) -> Message:
    """The message that `to_doc` gave."""
    wanted, without, also = ([references.from_doc(ref) for ref in doc[name]] for name in ("for", "without", "also"))
    within = ListRef(doc["within"]["list"], doc["within"]["title"]) if doc["within"] else None
    return Message(
        Mailbox(*doc["sender"]),
        Choice(wanted, without, within, also),
        enclosures=[Enclosure(**one) for one in doc.get("attachments", ())],
        **{name: doc[name] for name in _PLAIN if name in doc},
    )
