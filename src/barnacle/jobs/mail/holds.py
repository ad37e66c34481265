"""Why a message may not go out as it is."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book.outbox import StoredMessage
from barnacle.core.addresses import address_key
from barnacle.core.mail import merge_fields
from barnacle.core.mail.audience import Audience, LeftOut
from barnacle.core.mail.message import Mode
from barnacle.core.mail.privacy import Leak, find_leaks
from barnacle.core.text import count, listed, people, visible
from barnacle.jobs.mail.letters import Mailing

# Above that many a yes is not enough to show everybody's address to everybody: the number must be said.
OPEN_WITHOUT_NUMBER = 20
_SHOWN = 3


def why_held(
    mailing: Mailing, audience: Audience, most: int, allowed: Sequence[str] = (), open_to: int | None = None
) -> str | None:
    """Why the message cannot be sent as it is: nobody to send it to, fields that have no value, an open one without
    its number, or somebody's address in it. `most` is how many may be in one message that is not split."""
    message = mailing.message
    if not audience.recipients:
        return f"Nobody would get this message{_in_short(audience.left_out)}. Nothing was sent."
    leaks: list[Leak] = []
    if message.mode == Mode.EACH:
        problem, leaks = _field_problems(message, audience)
        if problem:
            return problem
    if message.mode == Mode.OPEN and (problem := _open_problem(message, audience, most, open_to)):
        return problem
    sender = address_key(message.content.sender.address)
    free = {sender, *message.content.allowed, *allowed}
    if message.mode == Mode.OPEN:
        free |= {address_key(r.address) for r in audience.recipients}
    everybody = audience.recipients if message.mode == Mode.OPEN else ()
    leaks = [*find_leaks(mailing.raw(everybody=everybody), audience.guarded), *leaks]
    leaks = [leak for leak in leaks if leak.address not in free]
    return _leak_sentence(message, leaks) if leaks else None


def _field_problems(message: StoredMessage, audience: Audience) -> tuple[str | None, list[Leak]]:
    """Fields that are unknown, or empty for somebody; and addresses of others in what fields bring in."""
    texts = (("the subject", message.subject), ("the text", message.content.text))
    cuts = [merge_fields.pieces(text) for _, text in texts]
    for (where, _), cut in zip(texts, cuts, strict=True):
        if wrong := merge_fields.unknown(cut):
            line = f", line {wrong[0].line}" if where == "the text" else ""
            known = listed([f"{{{name}}}" for name in merge_fields.NAMES], len(merge_fields.NAMES))
            return (
                f"There is no field `{{{visible(wrong[0].name, 30)}}}` (in {where}{line}). Fields are {known}; "
                "write {{ for a brace. Nothing was sent."
            ), []
    names = {piece.name for cut in cuts for piece in cut if isinstance(piece, merge_fields.Field)} - {"address"}
    empty: dict[str, list[str]] = {}
    leaks: list[Leak] = []
    for recipient in audience.recipients if names else ():
        people_here = recipient.people
        values = merge_fields.values_of(people_here, recipient.address)
        for name in dict.fromkeys(name for cut in cuts for name in merge_fields.missing(cut, values)):
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


def _open_problem(message: StoredMessage, audience: Audience, most: int, open_to: int | None) -> str | None:
    number = len(audience.recipients)
    if number > most:
        return (
            f"An open message is not split, and {number} is more than may go at once (your settings let {most}). "
            "Nothing was sent. Send it blind, or to each."
        )
    said = open_to if open_to is not None else message.content.open_to
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


def _leak_sentence(message: StoredMessage, leaks: list[Leak]) -> str:
    first = leaks[0]
    more = f" and {count(len(leaks) - 1, 'more place')}" if len(leaks) > 1 else ""
    return (
        f"{message.number} would show {visible(first.address)} ({visible(first.owner)}) to everybody, "
        f"in {visible(first.where)}{more}. Nothing was sent. Take it out, or let it through by name: "
        f"`barnacle send {message.number} --allow-mention {visible(first.address)}`."
    )
