"""What becomes of mail that comes to the hub: a posting, a wish about a list, an answer, a report of delivery.

Nothing here takes long: a posting is on disk when this is done, and is looked through afterwards (`looking`).
"""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from email import message_from_bytes
from email.policy import compat32

from sqlalchemy import Connection, select, update

from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import BadAddressError
from barnacle.core.house import HOLD, REFUSE, REQUEST, may_write, why_not_write
from barnacle.core.mail.list_id import id_of
from barnacle.core.mail.posting import Posting, UnfitError, read_posting, why_circular, writer_of
from barnacle.core.mail.vouched import Vouched, read_results
from barnacle.core.text import tidy
from barnacle.core.typed import NamedTuple
from barnacle.files.delivery_reports import may_be_report, read_report
from barnacle.hub import schema
from barnacle.hub.app import Hub
from barnacle.hub.house.held import hold
from barnacle.hub.house.queue import HELD, TAKEN, C, P, address_copies, lately, take, was_here
from barnacle.hub.house.rows import H, House, count, house_at, house_of, keepers, refresh, settings_of, who_is

_UNKNOWN = "550 5.1.1 There is no such list here"
_CLOSED = "550 5.1.6 That list has been closed"
_ALONE = 30 * 86_400
_MOST_REPORT = 2_000_000
# A report that a copy is only late (RFC 3464 section 2.3.3).
_LATE = re.compile(rb"(?im)^Action:[ \t]*delayed")
_YES = ("yes", "ja", "oui", "sí", "si", "sì", "sim", "tak", "kyllä", "ok")


class Meant(NamedTuple):
    """What an address of the hub's is for: a list (`posting`, `request`), or the token of somebody (`bounce`, `leave`,
    `join`)."""

    kind: str
    house: House | None = None
    token: str = ""


class TakingIn:
    """Takes in what the mail server hands over."""

    def __init__(self, hub: Hub) -> None:
        self.hub = hub

    def knows(self, address: str) -> str:
        """The answer to a recipient."""
        with self.hub.houses.reading() as connection:
            meant = self._meant(connection, address)
        if meant is None:
            return _UNKNOWN
        if meant.house is not None and meant.house.closed:
            return _CLOSED
        return "250 2.1.5 Here"

    def _meant(self, connection: Connection, address: str) -> Meant | None:
        local, _, domain = address.rpartition("@")
        if domain.lower() not in {one.lower() for one in settings_of(connection).domains}:
            return None
        verb, plus, token = local.partition("+")
        if plus and verb.lower() in ("bounce", "leave", "join"):
            return Meant(verb.lower(), token=token.lower()[:64])
        key = address_key(address)
        house = house_at(connection, key)
        if house is not None:
            return Meant("posting", house)
        if local.lower().endswith(REQUEST):
            house = house_at(connection, key.replace(f"{REQUEST}@", "@"))
            return Meant("request", house) if house is not None else None
        return None

    def take(self, sender: str, recipients: Sequence[str], raw: bytes) -> list[str]:
        """The answer for each recipient. 250 only once all that is to come of it is on disk."""
        try:
            posting = read_posting(raw)
        except UnfitError as error:
            return [f"554 {error.status} Not passed on: {error}"] * len(recipients)
        return [self._take(sender, one, posting) for one in recipients]

    def _take(self, sender: str, recipient: str, posting: Posting) -> str:
        with self.hub.houses.reading() as connection:
            meant = self._meant(connection, recipient)
        if meant is None:
            return _UNKNOWN
        if meant.kind == "posting" and meant.house is not None:
            with self.hub.engine.begin() as connection:
                return self._post(connection, meant.house.made, sender, posting)
        if meant.kind == "request" and meant.house is not None:
            return self._request(meant.house, sender, posting)
        if meant.kind == "bounce":
            return self._came_back(meant.token, posting)
        if not why_circular(posting, sender, (), ()):
            if meant.kind == "leave":
                self.hub.house_people.leave_by(meant.token)
            elif _first_word(posting) in _YES:
                self.hub.house_people.say_yes(meant.token)
        return "250 2.0.0 Done"  # the same for every token, good or not

    def _post(self, connection: Connection, made: str, sender: str, posting: Posting) -> str:
        """A posting to a list."""
        settings = settings_of(connection)
        refresh(connection, made)
        house = self._open(connection, made)
        if house is None:
            return _CLOSED
        own = [id_of(one) for one in connection.execute(select(H.address)).scalars()]
        if why := why_circular(posting, sender, own, settings.domains):
            count(connection, made, "not passed on")
            return f"250 2.0.0 Not passed on: {why}"
        try:
            writer = writer_of(posting)
        except UnfitError as error:
            return self._keep(connection, house, posting, Vouched(), "", str(error))
        if address_key(writer.address).rpartition("@")[2] in settings.domains:
            count(connection, made, "not passed on")
            return "250 2.0.0 Not passed on: a list does not write to a list"
        vouched = read_results(posting, settings.trusted, writer.address)
        who = who_is(connection, house, settings, writer.address) if vouched.writer else None
        answer = may_write(house.rules, who)
        if self._is_alone(connection, house):
            if who is None:
                return self._keep(connection, house, posting, vouched, writer.address, "nobody keeps the list")
            count(connection, made, "turned away")
            return "550 5.7.1 Nobody keeps this list any more, so it passes nothing on"
        if answer == REFUSE:
            count(connection, made, "turned away")
            return f"550 5.7.1 {why_not_write(house.rules, house.title)}"
        why = ""
        if answer == HOLD:
            why = "nothing proves who wrote it" if who is None else "the writer may not write to this list"
        elif len(posting.raw) > house.rules.size:
            why = f"it has {len(posting.raw):,} octets"
        elif lately(connection, made) >= house.rules.pace:
            why = f"more than {house.rules.pace} postings within an hour"
        return self._keep(connection, house, posting, vouched, writer.address, why)

    def _open(self, connection: Connection, made: str) -> House | None:
        row = connection.execute(select(schema.house).where(H.list == made).with_for_update()).first()
        return house_of(row) if row is not None and not row.closed else None

    def _is_alone(self, connection: Connection, house: House) -> bool:
        """Whether a list has had no keeper for thirty days."""
        if keepers(connection, house.made):
            if house.alone is not None:
                connection.execute(update(schema.house).where(H.list == house.made).values(alone=None))
            return False
        if house.alone is None:
            connection.execute(update(schema.house).where(H.list == house.made).values(alone=time.time()))
            return False
        return house.alone < time.time() - _ALONE

    def _keep(
        self, connection: Connection, house: House, posting: Posting, vouched: Vouched, address: str, why: str
    ) -> str:
        message_id = tidy(posting.first("message-id"), 300)
        if was_here(connection, house.made, message_id):
            return "250 2.0.0 It came before"
        subject = tidy(posting.first("subject"), 200)
        values = {
            "message_id": message_id, "sender": address, "proven": vouched.writer, "signed": vouched.signed,
            "subject": subject,
        }  # fmt: skip
        number = take(connection, house, values, posting.raw, HELD if why else TAKEN)
        if why:
            hold(connection, house.made, number, address or "somebody who cannot be told", subject, why)
            return "250 2.0.0 Held for the list's keepers"
        many = address_copies(connection, number, house.made)
        count(connection, house.made, "postings")
        return f"250 2.0.0 Taken for {many} members"

    def _request(self, house: House, sender: str, posting: Posting) -> str:
        """A wish about a list, such as `join` in the subject or the first line."""
        if house.closed:
            return _CLOSED
        if not why_circular(posting, sender, (), ()):
            try:
                writer = writer_of(posting)
            except UnfitError:
                return "250 2.0.0 Done"
            verb = tidy(posting.first("subject"), 40).lower() or _first_word(posting)
            self.hub.house_people.request(house.made, writer.address, writer.name, verb)
        return "250 2.0.0 Done"

    def _came_back(self, token: str, posting: Posting) -> str:
        """Mail to the return address of a copy: what it says of that copy's member."""
        with self.hub.houses.reading() as connection:
            row = connection.execute(
                select(C.member, C.address, P.list).join(schema.posting, P.id == C.posting).where(C.token == token)
            ).first()
        if row is None or not row.member or len(posting.raw) > _MOST_REPORT:
            return "250 2.0.0 Done"
        message = message_from_bytes(posting.raw, policy=compat32)
        automatic = posting.first("auto-submitted").lower() not in ("", "no")
        report = read_report(message, automatic) if may_be_report(message, automatic) else None
        if report is None or _LATE.search(posting.raw):
            return "250 2.0.0 Done"  # an answer of somebody's holiday program, or of a person
        if report.complaint:
            self.hub.house_care.complained(row.member)
            return "250 2.0.0 Done"
        # The return address says whose it is; what the report names may be where that was passed on to.
        found = [one for one in report.recipients if _same(one.address, row.address)] or report.recipients[:1]
        for one in found[:1]:
            if one.verdict.value != "unclear" or report.formal:
                self.hub.house_care.came_back(row.member, one.for_good, one.why)
        return "250 2.0.0 Done"


def _first_word(posting: Posting) -> str:
    """The first word of what was written, or of the subject behind its `Re:`."""
    message = message_from_bytes(posting.raw, policy=compat32)
    for part in message.walk():
        if part.get_content_type() == "text/plain":
            octets = part.get_payload(decode=True)
            text = octets.decode("utf-8", "replace") if isinstance(octets, bytes) else ""
            words = text.split(maxsplit=1)
            return words[0].strip(".!,;:\"'").lower() if words else ""
    return ""


def _same(one: str, other: str) -> bool:
    try:
        return address_key(check_address(one)) == address_key(other)
    except BadAddressError:
        return False
