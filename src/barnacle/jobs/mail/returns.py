"""What comes back: delivery reports and opt-out replies, marked on the contacts that they are about."""

from __future__ import annotations

import shlex
import time
from collections.abc import Callable
from contextlib import nullcontext
from dataclasses import dataclass, field
from functools import cached_property

from barnacle.book import contacts, lists, outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Failing, OptOut
from barnacle.core.errors import MailError
from barnacle.core.mail import returned
from barnacle.core.mail.decoding import decoded_header
from barnacle.core.mail.letter import OPT_OUT_DIGITS, token_for
from barnacle.core.mail.message import Mode
from barnacle.core.mail.returned import Verdict
from barnacle.core.moments import later
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import NamedTuple
from barnacle.files.delivery_reports import (
    Report,
    Undelivered,
    addresses_named,
    may_be_report,
    read_report,
    reason_for,
    text_of,
)
from barnacle.files.mailbox import Mail
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.senders import own_addresses
from barnacle.jobs.mail import marks, sent_copies
from barnacle.jobs.mail.inbox import Inbox, Place
from barnacle.jobs.people import edit as editing

_Unsure = Callable[..., None]
# How long a mailbox is watched before the line is made anew: it might have died in silence.
_WATCH_SECONDS = 1500.0
_AWAY_SECONDS = 60.0
_COMPLAINED = "complained that the message was not wanted"


class Marked(NamedTuple):
    """An address or contact that was marked: who, the address, what it is now, why, and the lists that it is on."""

    name: str
    address: str
    state: str
    why: str
    lists: list[str]


class Settling(NamedTuple):
    """What would settle something unsure: `fails`, `optout` or `address`; for whom; and the new address, or why."""

    what: str
    who: str
    more: str = ""

    @property
    def command(self) -> str:
        """The same as one types it."""
        if self.what == "fails":
            return f"barnacle returns --fails {shlex.quote(self.who)}"
        if self.what == "optout":
            return f"barnacle contact optout {shlex.quote(self.who)} --why {shlex.quote(self.more)}"
        return f"barnacle contact edit {shlex.quote(self.who)} --address {shlex.quote(self.more)}"


class Unsure(NamedTuple):
    """Something that may ask for a change and is not certain: what it may be (`bounce`, `opt-out`, `new address`,
    `complaint`), from whom, its subject, its place in which mailbox, why it was not believed, whom it is about, and
    what would settle it (None: nothing that is known)."""

    kind: str
    sender: str
    subject: str
    place: str
    why: str
    about: str
    settling: Settling | None

    @property
    def command(self) -> str:
        """The command that would settle it; empty where none would."""
        return self.settling.command if self.settling else ""


@dataclass(slots=True)
class Returned:
    """What mailboxes came to: how many messages were read, what was marked, what somebody should look at, addresses
    that nobody has, how many reports brought nothing new, of which messages not everything could be read, what else is
    to be said, and which messages were dealt with, by their box."""

    messages: int = 0
    marked: list[Marked] = field(default_factory=list)
    unsure: list[Unsure] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    already: int = 0
    unread: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    dealt_with: dict[str, list[int]] = field(default_factory=dict)


class _Sent:
    """The messages that were sent, by what comes back of them: the token in a Message-ID, or its beginning in a way
    out."""

    def __init__(self, book: Book) -> None:
        self._book = book
        self._known: dict[int, dict[str, str]] = {}

    @cached_property
    def _by_token(self) -> dict[str, tuple[StoredMessage, str]]:
        found: dict[str, tuple[StoredMessage, str]] = {}
        for message in outbox.every(self._book):
            if message.begun is None:
                continue
            each = self.recipients(message).values() if message.mode == Mode.EACH else ()
            for token, address in [(token_for(message.token, a), a) for a in each] or [(message.token, "")]:
                found[token] = found[token[:OPT_OUT_DIGITS]] = (message, address)
        return found

    @cached_property
    def _turns(self) -> dict[int, str]:
        turns: dict[int, str] = {}
        last = ""
        for message in sorted((m for m in outbox.every(self._book) if m.begun), key=lambda m: (m.begun or "", m.id)):
            last = max(message.begun or "", later(last, 1) if last else "")
            turns[message.id] = last
        return turns

    def turn(self, message: StoredMessage) -> str:
        """When a message was begun, so that no two have the same moment: of several in one second each counts."""
        return self._turns[message.id]

    def of(self, tokens: set[str]) -> tuple[StoredMessage, str] | None:
        """The message that tokens belong to, with the recipient of a copy for one."""
        return next((self._by_token[token] for token in sorted(tokens) if token in self._by_token), None)

    def recipients(self, message: StoredMessage) -> dict[str, str]:
        """The addresses that a message went to, by their keys."""
        if message.id not in self._known:
            found = outbox.deliveries(self._book, message.id)
            self._known[message.id] = {address_key(one.address): one.address for one in found}
        return self._known[message.id]


def read_returns(desk: Desk, place: Place, file_away: str | None = None) -> Returned:
    """Mark failing addresses and opt-outs, from files or one's own mailbox, and list what is not certain. Reading the
    same mail again marks nothing again. What was dealt with is moved to the folder `file_away`. Raises FileError,
    MailError, NotFoundError."""
    with nullcontext() if place.paths else Inbox(desk, place) as inbox:
        result = _read_in(desk, place, inbox)
        return result if inbox is None else _filed(inbox, result, file_away)


def watch(desk: Desk, place: Place, file_away: str | None, tell: Callable[[Returned], None]) -> None:
    """Read what comes into the first of the folders, again and again, until stopped; a mailbox that was there and is
    away is tried again. Raises as above."""
    was_there = False
    while True:
        try:
            with Inbox(desk, place) as inbox:
                tell(_filed(inbox, _read_in(desk, place, inbox), file_away))
                was_there = True
                while True:
                    # What came while that was read is not announced any more.
                    if inbox.has_new(inbox.box.open(place.folders[0])) or inbox.box.wait(_WATCH_SECONDS):
                        tell(_filed(inbox, _read_in(desk, place, inbox), file_away))
        except MailError as error:
            if not was_there:
                raise
            tell(Returned(remarks=[f"{error} Barnacle tries it again each minute."]))
            time.sleep(_AWAY_SECONDS)


def _filed(inbox: Inbox, result: Returned, file_away: str | None) -> Returned:
    if file_away and any(result.dealt_with.values()):
        try:
            result.remarks.append(inbox.file_away(result.dealt_with, file_away))
        except MailError as error:
            result.remarks.append(str(error))
    return result


def _read_in(desk: Desk, place: Place, inbox: Inbox | None) -> Returned:
    with desk.open() as book:
        copies = [] if inbox is None else sent_copies.make(desk, book)
        reading = _Reading(book, {address_key(one) for one in own_addresses(desk)})
        # Others may use the book meanwhile: a mailbox may take its time.
        for box, mail in inbox.messages(book, reading.wants) if inbox else place.files(headers_only=False):
            reading.result.unread += mail.unread(box)
            reading.read(mail, box)
        with book.action("returns") as action:
            reading.mark()
            if inbox:
                inbox.remember(book)
                action.facts = True
            names = [one.name for one in reading.result.marked]
            action.title = f"Read returned mail: {listed(names, 3) or 'nothing new'}"
    again = listed(list(dict.fromkeys(reading.lifted)))
    reading.result.remarks = [
        *place.remarks,
        *copies,
        *([f"Not marked again, since you took the mark away after that: {again}."] if again else []),
    ]
    place.remarks.clear()
    return reading.result


class _Reading:
    """One reading of mailboxes: what each message says, and then, in the order of time, what follows from it."""

    def __init__(self, book: Book, own: set[str]) -> None:
        self.book = book
        self.own = own
        self.sent = _Sent(book)
        self.result = Returned()
        self.failed: list[tuple[str, Undelivered]] = []
        self.out: list[tuple[str, str, str]] = []
        self.lifted: list[str] = []  # whose mark somebody took away after what was read now

    def wants(self, mail: Mail) -> bool:
        """Whether a message is to be read whole, by its header: reports are, and what somebody wrote who is
        in the book or may ask for something."""
        senders = mail.people.get("From", [])
        if senders and address_key(senders[0].address) in self.own:
            return False
        if mail.automatic or may_be_report(mail.message, False):
            return may_be_report(mail.message, mail.automatic)
        subject = tidy(decoded_header(str(mail.message.get("Subject", ""))), 200)
        known = bool(senders) and bool(contacts.by_address(self.book, senders[0].address))
        return known or bool(returned.agreed_token(subject)) or returned.asks_out(subject, "") is not None

    def read(self, mail: Mail, box: str) -> None:
        """What one message says."""
        before = len(self.failed) + len(self.out)
        self._read(mail, box)
        if len(self.failed) + len(self.out) > before:
            self.result.dealt_with.setdefault(box, []).append(mail.number)

    def _read(self, mail: Mail, box: str) -> None:
        self.result.messages += 1
        senders = mail.people.get("From", [])
        sender = senders[0].address if senders else ""
        subject = tidy(decoded_header(str(mail.message.get("Subject", ""))), 200)
        place = f"message {mail.number} in {box}"

        def unsure(kind: str, why: str, about: str, settling: Settling | None = None) -> None:
            self.result.unsure.append(Unsure(kind, sender, subject, place, why, about, settling))

        if sender and address_key(sender) in self.own:
            return
        try:
            report = read_report(mail.message, mail.automatic)
            text = text_of(mail.message) if report is None else ""
        except Exception as error:  # the library has many ways to say that it makes no sense of a stranger's mail
            why = f"it is written so that it cannot be read ({type(error).__name__})"
            self.result.unread.append(f"message {mail.number} in {visible(box)}: {why}")
            return
        if report is not None:
            if report.tokens or report.recipients or report.complaint or report.text:
                self._report(report, unsure)
        elif not mail.automatic:
            self._answer(mail, sender, subject, text, unsure)

    def _report(self, report: Report, unsure: _Unsure) -> None:
        found = self.sent.of(report.tokens)
        if found is None:
            about = [one.address for one in report.recipients if one.verdict is not Verdict.UNCLEAR or report.complaint]
            known = [one for one in dict.fromkeys(about) if contacts.by_address(self.book, one)]
            if known or report.recipients:
                why = "it does not seem to belong to any message of yours"
                for address in known or [report.recipients[0].address]:
                    settling = Settling("fails", address) if known and not report.complaint else None
                    unsure("complaint" if report.complaint else "bounce", why, address, settling)
            return
        message, copy_of = found
        if report.complaint:
            self._complaint(report, message, copy_of, unsure)
            return
        recipients = self.sent.recipients(message)
        told = report.recipients or self._in_words(report, recipients)
        if not told:
            unsure("bounce", f"it returns {message.number}, but names none of its recipients", copy_of)
        for one in told:
            ours = recipients.get(address_key(one.address)) or recipients.get(address_key(one.final)) or copy_of
            if not ours:
                unsure("bounce", f"{message.number} did not go to this address", one.address)
            elif one.verdict is Verdict.UNCLEAR:
                unsure("bounce", f"what it says is unclear: {one.why}", ours, Settling("fails", ours))
            else:
                self.failed.append((self.sent.turn(message), one._replace(address=ours)))

    def _in_words(self, report: Report, recipients: dict[str, str]) -> list[Undelivered]:
        """Who of a message's recipients a report without fields names, and why."""
        named = {key for address in addresses_named(report.text) if (key := address_key(address)) in recipients}
        return [Undelivered(recipients[key], *reason_for(recipients[key], report.text)) for key in sorted(named)]

    def _complaint(self, report: Report, message: StoredMessage, copy_of: str, unsure: _Unsure) -> None:
        recipients = self.sent.recipients(message)
        named = [recipients[key] for one in report.recipients if (key := address_key(one.address)) in recipients]
        for address in named or ([copy_of] if copy_of else []):
            self.out.append((message.begun or "", address, _COMPLAINED))
        if not named and not copy_of:
            unsure("complaint", f"somebody who got {message.number} complained, but it does not say who", "")

    def _answer(self, mail: Mail, sender: str, subject: str, text: str, unsure: _Unsure) -> None:
        """A message by a person: does it ask for something?"""
        to_me = any(address_key(p.address) in self.own for h in ("To", "Cc") for p in mail.people.get(h, []))
        token = returned.agreed_token(subject)
        found = self.sent.of({token}) if token else None
        date = mail.date or now()
        if found is not None and to_me and sender:
            address = found[1] or sender
            if (
                found[1]
                or address_key(sender) in self.sent.recipients(found[0])
                or contacts.by_address(self.book, sender)
            ):
                self.out.append((date, address, "asked by mail"))
                return
        asks = returned.asks_out(subject, text)
        known = bool(sender) and bool(contacts.by_address(self.book, sender))
        if asks is Verdict.GONE and to_me and known:
            self.out.append((date, sender, "asked by mail"))
        elif asks is not None:
            why = "it may ask for something else too" if known else "nobody in the book has this address"
            unsure("opt-out", why, sender, Settling("optout", sender, "asked by mail") if known else None)
        elif (new := returned.new_address(subject, text)) is not None and known:
            if new and address_key(new) != address_key(sender):
                unsure("new address", f"it seems to say {new}", sender, Settling("address", sender, new))
            else:
                unsure("new address", "it mentions a change", sender)
        elif returned.complains(subject, text) and known:
            unsure(
                "complaint",
                "it may be a complaint about being written to",
                sender,
                Settling("optout", sender, "complained"),
            )

    def mark(self) -> None:
        """What was read becomes marks, in the order of time."""
        for date, one in sorted(self.failed, key=lambda pair: (pair[0], pair[1].for_good)):
            self._failing(date, one)
        for date, address, why in sorted(self.out):
            self._opted_out(date, address, why)

    def _failing(self, date: str, one: Undelivered) -> None:
        """A report counts once for each message, by when that was begun; a later one may still say: for good."""
        key = address_key(one.address)
        holders = contacts.by_address(self.book, one.address)
        if not holders and one.address not in self.result.unknown:
            self.result.unknown.append(one.address)
        for kept in holders:
            contact = kept.contact
            before = next((f for f in contact.failing if address_key(f.address) == key), None)
            counted = before is not None and before.last >= date
            if before is not None and counted and (before.for_good or not one.for_good):
                self.result.already += 1
                continue
            if before is None and marks.failing_was_taken_away(self.book, kept.id, key, date):
                self.lifted.append(f"{contact.title} ({one.address})")
                continue
            times = (before.times if before else 0) + (not counted)
            spelt = contact.find_address(one.address) or one.address
            contact.failing = [f for f in contact.failing if address_key(f.address) != key]
            for_good = one.for_good or bool(before and before.for_good)
            last = before.last if before is not None and counted else date
            contact.failing.append(Failing(spelt, for_good, times, last, one.why))
            contacts.save(self.book, kept.id, contact)
            why = f"{one.why} ({times} messages)" if times > 1 else one.why
            self._marked(
                Marked(contact.title, spelt, "fails" if for_good else "deferred", why, _lists(self.book, kept))
            )

    def _opted_out(self, date: str, address: str, why: str) -> None:
        holders = contacts.by_address(self.book, address)
        if not holders and address not in self.result.unknown:
            self.result.unknown.append(address)
        for kept in holders:
            if kept.contact.opt_out is not None:
                self.result.already += 1
                continue
            if marks.opt_out_was_taken_away(self.book, kept.id, date):
                self.lifted.append(kept.contact.title)
                continue
            kept.contact.opt_out = OptOut(date, why)
            contacts.save(self.book, kept.id, kept.contact)
            self._marked(Marked(kept.contact.title, address, "opted out", why, _lists(self.book, kept)))

    def _marked(self, one: Marked) -> None:
        """One line for each address, the last one."""
        kept = [m for m in self.result.marked if (m.name, m.address) != (one.name, one.address)]
        self.result.marked = [*kept, one]


def settle(desk: Desk, one: Settling) -> str:
    """Do what would settle something. Returns what was done, in words."""
    if one.what == "fails":
        return f"{listed(marks.mark_failing(desk, [one.who]))} fails"
    if one.what == "optout":
        marked = editing.opt(desk, [one.who], True, one.more)
        return f"{listed([contact.title for contact in marked]) or one.who} opted out"
    wish = editing.Edit({}, addresses=[Address(check_address(one.more))])
    return f"{editing.edit(desk, one.who, wish).contact.title} also has {one.more}"


def _lists(book: Book, kept: StoredContact) -> list[str]:
    return [on.title for on, *_ in lists.memberships(book, kept.id)]
