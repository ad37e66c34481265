"""Why a message may not go out as it is."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from barnacle.book import outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.mail import merge_fields
from barnacle.core.mail.audience import Audience, LeftOut
from barnacle.core.mail.message import Mode
from barnacle.core.moments import in_utc, in_words
from barnacle.core.own_fields import own_fields
from barnacle.core.text import count, fold, listed, people, visible
from barnacle.core.typed import NamedTuple
from barnacle.files.contents.bounds import NAME_SHOWN, Unsearched
from barnacle.files.contents.search import Leak, Searched, find_leaks, search
from barnacle.jobs.desk.stale_lists import stale
from barnacle.jobs.mail import placeholders
from barnacle.jobs.mail.letters import Mailing

# Above that many a yes is not enough to show everybody's address to everybody: the number must be said.
OPEN_WITHOUT_NUMBER = 20
_SHOWN = 3
# Days within which the same text is taken for the same message: less than the week after which one may write it again.
_LATELY = 5


class FileLooked(NamedTuple):
    """A file that goes along: its name, its size in octets, why it could not be searched (empty: it was), and what of
    it nobody has read (`what pictures show`)."""

    name: str
    size: int
    unsearched: str = ""
    unread: Sequence[str] = ()


class Examined(NamedTuple):
    """What was found of a message before it is sent: why it cannot go as it is, if it cannot; what the user may want to
    know; its files, with how far each was searched; whether there was anybody to search for; and the word by which the
    text speaks of an attachment, where there is none."""

    held: str | None = None
    warnings: Sequence[str] = ()
    files: Sequence[FileLooked] = ()
    searched: bool = False
    misses_attachment: str = ""


def _sent_lately(book: Book, message: StoredMessage, audience: Audience) -> list[str]:
    """What to say where the same went to some of these people a few days ago: it may have been composed twice."""
    told = []
    here = {recipient.address for recipient in audience.recipients}
    since = in_utc(datetime.now(UTC) - timedelta(days=_LATELY))
    for number, begun, reached in outbox.sent_alike(book, message, since):
        if again := len(here & reached):
            which = f"{again} of these {len(here)} addresses" if again < len(here) else "all of them"
            day = in_words(datetime.fromisoformat(begun).astimezone().date())
            told.append(f"m{number}, with the same subject and text, was accepted for {which} on {day}.")
    return told[:_SHOWN]


def examine(book: Book, mailing: Mailing, audience: Audience, most: int, allow: Allowed | None = None) -> Examined:
    """Look a message through: nobody to send it to, fields that have no value, an open one without its number,
    somebody's address in it, a file that cannot be searched. `most` is how many may be in one message that is not
    split."""
    message = mailing.message
    allow = allow or Allowed()
    if not audience.recipients:
        return Examined(f"Nobody would get this message{_in_short(audience.left_out)}. Nothing was sent.")
    leaks: list[Leak] = []
    if message.mode == Mode.EACH:
        problem, leaks = _field_problems(message, audience)
        if problem:
            return Examined(problem)
    if message.mode == Mode.OPEN and (problem := _open_problem(message, audience, most, allow.open_to)):
        return Examined(problem)
    free = {address_key(message.content.sender.address), *message.content.allowed, *allow.mentions}
    if message.mode == Mode.OPEN:
        free |= {address_key(r.address) for r in audience.recipients}
    everybody = audience.recipients if message.mode == Mode.OPEN else ()
    guarded = {key: owner for key, owner in audience.guarded.items() if key not in free}
    found = search(mailing.raw(everybody=everybody), guarded)
    leaks = [*(leak for leak in found.leaks if leak.certain), *(leak for leak in leaks if leak.address in guarded)]
    let_through = {visible(name, NAME_SHOWN) for name in (*message.content.allowed_files, *allow.files)}
    held = None
    if leaks:
        held = _leak_sentence(message, leaks)
    elif locked := [one for one in found.unsearched if one.file not in let_through]:
        held = _unsearched_sentence(message, locked)
    files = []
    for one in message.content.enclosures:
        unsearched, unread = found.of(visible(one.name, NAME_SHOWN))
        why = "; ".join(dict.fromkeys(u.why if u.name == u.file else f"{u.name}: {u.why}" for u in unsearched))
        files.append(FileLooked(one.name, one.size, why, unread))
    missed = _spoken_of(message)
    old = stale(book, message.content.choice.has_list)
    warnings = [*old, *_sent_lately(book, message, audience), *_warnings(message, found, missed)]
    return Examined(held, warnings, files, bool(guarded), missed)


class Allowed(NamedTuple):
    """What may go though it would be held: addresses by their keys, files by their names, and how many may see each
    other in an open message."""

    mentions: Sequence[str] = ()
    files: Sequence[str] = ()
    open_to: int | None = None


def _warnings(message: StoredMessage, found: Searched, missed: str) -> list[str]:
    """What does not stop a message and may not be meant."""
    told = _left_open(message)
    for leak in [leak for leak in found.leaks if not leak.certain][:_SHOWN]:
        told.append(
            f"Something in {visible(leak.where)} can be read as {visible(leak.address)} ({visible(leak.owner)}), "
            "though it is not written as an address."
        )
    told += [
        f"{visible(file)} has the names of at least {people(len(names))} who get this message, or were left out of it."
        for file, names in found.named.items()
        if len(names) > 1
    ]
    if missed:
        told.append(f"The text mentions an attachment (“{missed}”), but nothing is attached.")
    return told


def _left_open(message: StoredMessage) -> list[str]:
    """What was to be filled in, and would be sent as it is."""
    told = []
    is_filled = message.mode == Mode.EACH
    for where, text in (("the subject", message.subject), ("the text", message.content.text)):
        found = list(placeholders.left_open(text, is_filled))
        for one in found[:_SHOWN]:
            line = f", line {one.line}" if where == "the text" else ""
            how = "be sent as it is" if one.written[0] != "{" or not is_filled else "not be filled in"
            said = f"`{visible(one.written)}` (in {where}{line}) would {how}."
            field = f"{{{one.field}}}"
            if one.field and is_filled:
                said += f" `{field}` is filled in for each person."
            elif one.field:
                write = "" if one.written == field else f"`{field}` and "
                said += f" Did you mean {write}--each, which fills it in for each person?"
            told.append(said)
        if len(found) > _SHOWN:
            told.append(f"{count(len(found) - _SHOWN, 'more such place')} in {where}.")
    return told


# In the languages of the harbour's guests: what one writes of a file that goes along.
_ATTACHED = re.compile(
    r"\b(attached|attachments?|enclosed|enclosure|anbei|im anhang|angehängt|beigefügt|ci-joint[es]*|pièces? jointes?|"
    r"en pièce|adjunt[oa]s?|allegat[oi]|in allegato|bijlagen?|bijgevoegd|vedlagt|vedhæftet|vedlegg|bifogad|bifogas|"
    r"bilaga|liitteenä|em anexo|anexad[oa]s?|w załączniku|v příloze|v prílohe|csatoltan|csatolmány\w*|mellékel\w+|"
    r"atașat\w*|anexat\w*|во вложении|прилага\w+|у вкладенні|прикачен\w*|συνημμέν\w+|επισυνάπτ\w+|ekte|ekteki|"
    r"u privitku|u prilogu|v priponki|v prilogi|manuses|pielikumā|pridedu|pridedam\w*|í viðhengi|מצורף|מצורפת|مرفق)\b"
    r"|(添付|附件|첨부)",
    re.IGNORECASE,
)


def _spoken_of(message: StoredMessage) -> str:
    """The word by which a text speaks of an attachment where there is none; what is quoted or signed aside."""
    if message.content.enclosures or message.content.invite:
        return ""
    own = message.content.text.partition("\n-- \n")[0]
    found = _ATTACHED.search("\n".join(line for line in own.split("\n") if not line.startswith(">")))
    return found[0] if found else ""


def _unsearched_sentence(message: StoredMessage, locked: Sequence[Unsearched]) -> str:
    told = listed([f"{visible(one.name, 120)} ({one.why})" for one in locked], _SHOWN)
    names = list(dict.fromkeys(one.file for one in locked))
    options = " ".join(f"--allow-file {shlex.quote(name)}" for name in names)
    return (
        f"{message.number} could not be searched completely for its recipients' addresses: {told}. Nothing was "
        f"sent. Look into {'it' if len(locked) == 1 else 'them'}, then leave it out, or allow it by name: "
        f"`barnacle send {message.number} {options}`."
    )


def _field_problems(message: StoredMessage, audience: Audience) -> tuple[str | None, list[Leak]]:
    """Fields that are unknown, or empty for somebody; and addresses of others in what fields bring in."""
    texts = (("the subject", message.subject), ("the text", message.content.text))
    cuts = [merge_fields.pieces(text) for _, text in texts]
    own = {fold(title) for one in audience.recipients for person in one.people for title in own_fields(person)}
    for (where, _), cut in zip(texts, cuts, strict=True):
        if wrong := merge_fields.unknown(cut, own):
            line = f", line {wrong[0].line}" if where == "the text" else ""
            some = [*merge_fields.NAMES, *sorted(own)]
            known = listed([f"{{{visible(name, 30)}}}" for name in some], 30)
            meant = placeholders.field_meant(wrong[0].name)
            asked = f"Did you mean `{{{meant}}}`? " if meant else ""
            return (
                f"There is no field `{{{visible(wrong[0].name, 30)}}}` (in {where}{line}). {asked}Fields are {known}; "
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
        for name in [name for name in names if "@" in merge_fields.value_of(name, values)]:
            own = {key for contact in people_here for key in contact.address_keys()} | {address_key(recipient.address)}
            where = f"the {name} of {recipient.address}"
            found = find_leaks(f"\n{merge_fields.value_of(name, values)}".encode(), audience.guarded)
            leaks += [leak._replace(where=where) for leak in found if leak.address not in own]
    if not empty:
        return None, leaks
    told = [f"`{{{name}}}` is empty for {people(len(who))}: {listed(who, _SHOWN)}" for name, who in empty.items()]
    name = next(iter(empty))
    return f"{'; '.join(told)}. Give a word for those people, as in `{{{name}|neighbour}}`. Nothing was sent.", []


def _open_problem(message: StoredMessage, audience: Audience, most: int, open_to: int | None) -> str | None:
    number = len(audience.recipients)
    if number > most:
        return (
            f"An open message cannot be split, and {number} is more than your settings allow at once ({most}). "
            "Nothing was sent. Send it blind, or to each."
        )
    said = open_to if open_to is not None else message.content.open_to
    if number > OPEN_WITHOUT_NUMBER and said != number:
        wrong = f" (not {said})" if said is not None else ""
        return (
            f"{people(audience.people)} would see each other's {number} addresses. If you mean that, confirm the "
            f"number: --open-to {number}{wrong}. Nothing was sent."
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
        f"in {visible(first.where)}{more}. Nothing was sent. Remove it, or allow it by name: "
        f"`barnacle send {message.number} --allow-mention {visible(first.address)}`."
    )
