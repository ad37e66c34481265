"""A message as each recipient gets it, and why it cannot go out as it is."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

from barnacle.book import attachments
from barnacle.book.outbox import Kept
from barnacle.book.store import Book
from barnacle.core import fields
from barnacle.core.addresses import Mailbox, address_key
from barnacle.core.audience import Audience, LeftOut, Recipient
from barnacle.core.invitation import invitation
from barnacle.core.message import Attachment, Letter, build, token_for
from barnacle.core.privacy import Leak, find_leaks
from barnacle.core.text import count, listed, people, tidy, visible

BLIND, EACH, OPEN = "blind", "each", "open"
# Above that many a yes is not enough to show everybody's address to everybody: the number must be said.
OPEN_WITHOUT_NUMBER = 20
_SHOWN = 3


class Sheet(NamedTuple):
    """A message with its attachments, ready to be made into letters."""

    message: Kept
    attachments: list[Attachment]

    @staticmethod
    def of(book: Book, message: Kept) -> Sheet:
        """The message with what goes along."""
        return Sheet(message, attachments.of(book, message.doc.get("attachments", [])))

    def raw(self, recipient: Recipient | None = None, everybody: Sequence[Recipient] = ()) -> bytes:
        """The message in wire format, the same bytes each time: for one recipient of a message that goes to each by
        itself; with `everybody` in To of an open one."""
        message, doc = self.message, self.message.doc
        date = datetime.fromisoformat(message.begun or message.created)
        title = ", ".join(ref["title"] for ref in doc["for"] if "title" in ref)
        letter = Letter(message.token, Mailbox(*doc["sender"]), message.subject, doc["text"], date, doc["to"], title)
        letter.attachments = self.attachments
        if message.mode == EACH and recipient is not None:
            values = fields.values_of(recipient.people, recipient.address)
            letter.token = token_for(message.token, recipient.address)
            letter.subject = tidy(fields.fill(fields.pieces(message.subject), values))
            letter.text = fields.fill(fields.pieces(doc["text"]), values)
            # RFC 6531: a local part that is no ASCII would need headers that not every server takes.
            letter.recipients = [_mailbox(recipient)] if recipient.address.isascii() else []
        elif message.mode == OPEN:
            letter.recipients = [_mailbox(one) for one in everybody if one.address.isascii()]
        if calendar := doc.get("invite"):
            # Those in To are named: in a blind message nobody, in one's own that person alone.
            letter.calendar = invitation(calendar, letter.sender, letter.recipients)
        if doc.get("markdown"):
            letter.html = self._html(recipient)
        return build(letter)

    def _html(self, recipient: Recipient | None) -> str:
        from barnacle.core.markdown import as_html, quoted

        text = self.message.doc["text"]
        if self.message.mode == EACH and recipient is not None:
            values = fields.values_of(recipient.people, recipient.address)
            text = fields.fill(fields.pieces(text), values, quoted)
        return as_html(text)


def _mailbox(recipient: Recipient) -> Mailbox:
    return Mailbox(visible(listed(recipient.names)), recipient.address)


def why_held(
    sheet: Sheet, audience: Audience, most: int, allowed: Sequence[str] = (), open_to: int | None = None
) -> str | None:
    """Why the message cannot be sent as it is: nobody to send it to, fields that have no value, an open one without
    its number, or somebody's address in it. `most` is how many may be in one message that is not split."""
    message = sheet.message
    if not audience.recipients:
        return f"Nobody would get this message{_in_short(audience.left_out)}. Nothing was sent."
    leaks: list[Leak] = []
    if message.mode == EACH:
        problem, leaks = _field_problems(message, audience)
        if problem:
            return problem
    if message.mode == OPEN and (problem := _open_problem(message, audience, most, open_to)):
        return problem
    sender = address_key(message.doc["sender"][1])
    free = {sender, *message.doc["allowed"], *allowed}
    if message.mode == OPEN:
        free |= {address_key(r.address) for r in audience.recipients}
    everybody = audience.recipients if message.mode == OPEN else ()
    leaks = [*find_leaks(sheet.raw(everybody=everybody), audience.guarded), *leaks]
    leaks = [leak for leak in leaks if leak.address not in free]
    return _leak_sentence(message, leaks) if leaks else None


def _field_problems(message: Kept, audience: Audience) -> tuple[str | None, list[Leak]]:
    """Fields that are unknown, or empty for somebody; and addresses of others in what fields bring in."""
    texts = (("the subject", message.subject), ("the text", message.doc["text"]))
    cuts = [fields.pieces(text) for _, text in texts]
    for (where, _), cut in zip(texts, cuts, strict=True):
        if wrong := fields.unknown(cut):
            line = f", line {wrong[0].line}" if where == "the text" else ""
            known = listed([f"{{{name}}}" for name in fields.NAMES], len(fields.NAMES))
            return (
                f"There is no field `{{{visible(wrong[0].name, 30)}}}` (in {where}{line}). Fields are {known}; "
                "write {{ for a brace. Nothing was sent."
            ), []
    names = {piece.name for cut in cuts for piece in cut if isinstance(piece, fields.Field)} - {"address"}
    empty: dict[str, list[str]] = {}
    leaks: list[Leak] = []
    for recipient in audience.recipients if names else ():
        people_here = recipient.people
        values = fields.values_of(people_here, recipient.address)
        for name in dict.fromkeys(name for cut in cuts for name in fields.missing(cut, values)):
            empty.setdefault(name, []).append(visible(listed(recipient.names)) or recipient.address)
        # A name that somebody typed another's address into.
        for name in [name for name in names if "@" in values[name]]:
            own = {key for contact in people_here for key in contact.address_keys()} | {address_key(recipient.address)}
            where = f"the {name} of {recipient.address}"
            found = find_leaks(f"\n{values[name]}".encode(), audience.guarded)
            leaks += [leak._replace(where=where) for leak in found if leak.address not in own]
    if not empty:
        return None, leaks
    told = [f"`{{{name}}}` is empty for {people(len(who))}: {listed(who, _SHOWN)}" for name, who in empty.items()]
    name = next(iter(empty))
    return f"{'; '.join(told)}. Give a word for them, as in `{{{name}|neighbour}}`. Nothing was sent.", []


def _open_problem(message: Kept, audience: Audience, most: int, open_to: int | None) -> str | None:
    number = len(audience.recipients)
    if number > most:
        return (
            f"An open message is not split, and {number} is more than may go at once (your settings let {most}). "
            "Nothing was sent. Send it blind, or to each."
        )
    said = open_to if open_to is not None else message.doc.get("open_to")
    if number > OPEN_WITHOUT_NUMBER and said != number:
        wrong = f" (not {said})" if said is not None else ""
        return (
            f"{people(audience.people)} would see each other's {number} addresses. If that is meant, say the number: "
            f"--open-to {number}{wrong}. Nothing was sent."
        )
    return None


def _in_short(left_out: list[LeftOut]) -> str:
    if not left_out:
        return ": the lists it is for are empty"
    return ": " + listed([f"{visible(one.name)} ({visible(one.reason)})" for one in left_out], _SHOWN)


def _leak_sentence(message: Kept, leaks: list[Leak]) -> str:
    first = leaks[0]
    more = f" and {count(len(leaks) - 1, 'more place')}" if len(leaks) > 1 else ""
    return (
        f"{message.number} would show {visible(first.address)} ({visible(first.owner)}) to everybody, "
        f"in {visible(first.where)}{more}. Nothing was sent. Take it out, or let it through by name: "
        f"`barnacle send {message.number} --allow-mention {visible(first.address)}`."
    )
