"""Coming onto a house list and leaving it: by its keepers, by oneself, by link, by mail."""

from __future__ import annotations

import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection, Engine, Row, and_, delete, func, insert, select, update

from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import BadAddressError
from barnacle.core.house import (
    ADDED,
    ASKED,
    HOLD,
    INVITED,
    JOINED,
    OFF,
    ON,
    PAUSED,
    REFUSE,
    Who,
    in_words,
    may_join,
    may_know_of,
)
from barnacle.core.moments import in_utc
from barnacle.core.sharing import EDITOR
from barnacle.core.text import tidy
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.cards.vcard import read_card
from barnacle.hub import schema
from barnacle.hub.base import Part, Person, lock, need, now
from barnacle.hub.house import notices as words
from barnacle.hub.house.queue import notice
from barnacle.hub.house.rows import (
    House,
    M,
    Settings,
    card_of,
    count,
    find_house,
    member_at,
    member_by,
    need_house,
    new_token,
    outsiders,
    refresh,
    settings_of,
    who_is,
)
from barnacle.hub.refusals import ForbiddenError, MissingError, RefusalError, WrongError
from barnacle.hub.shelves import Shelves, Wanted

INVITED_DAYS = 14
MOST_AT_ONCE = 500
_ASKED_A_DAY = 3
_OUTSIDER = "an outsider, and this list is closed to outsiders (`house rules LIST --outsiders yes`)"
_DAY = 86_400


class Page(NamedTuple):
    """What a link leads to: the list, the address it is for, and how things stand."""

    house: House
    address: str
    state: str
    how: str


def leave_link(settings: Settings, token: str) -> str:
    """The page that takes somebody off a list."""
    return f"{settings.public_url.rstrip('/')}/house/leave/{token}"


def yes_link(settings: Settings, token: str) -> str:
    """The page on which somebody says yes: to an invitation, or to mail that reaches them again."""
    return f"{settings.public_url.rstrip('/')}/house/yes/{token}"


def answer_address(house: House, token: str) -> str:
    """Where the answer yes is sent."""
    return f"join+{token}@{house.domain}"


class HousePeople(Part):
    """Who comes onto house lists, and who leaves them."""

    def __init__(self, engine: Engine, shelves: Shelves) -> None:
        super().__init__(engine)
        self.shelves = shelves

    def invite(self, person: Person, made: str, people: Sequence[tuple[str, str]]) -> list[dict[str, str]]:
        """Ask people whether they want to be on a list: each gets a message with a link. Keepers and editors."""
        with self.engine.begin() as connection:
            house, settings = self._begin(connection, person, made, people)
            return [self._outcome(address, self._invite, connection, house, settings, person, address, name)
                    for address, name in people]  # fmt: skip

    def add(self, person: Person, made: str, people: Sequence[tuple[str, str]]) -> list[dict[str, str]]:
        """Put people on at once, up to a number a day: each is told, with the way out. Keepers and editors."""

        def put_on(connection: Connection) -> list[dict[str, str]]:
            house, settings = self._begin(connection, person, made, people)
            return [self._outcome(address, self._add, connection, house, settings, person, address, name)
                    for address, name in people]  # fmt: skip

        return self.shelves.turns.write(made, put_on)

    def _begin(
        self, connection: Connection, person: Person, made: str, people: Sequence[tuple[str, str]]
    ) -> tuple[House, Settings]:
        need(connection, made, person, EDITOR)
        house = need_house(connection, made)
        if not people or len(people) > MOST_AT_ONCE:
            raise WrongError(f"Name from one to {MOST_AT_ONCE} people at a time.")
        refresh(connection, made)
        return house, settings_of(connection)

    @staticmethod
    def _outcome(address: str, do: Any, *args: Any) -> dict[str, str]:
        try:
            return {"address": address, "state": do(*args)}
        except (RefusalError, BadAddressError) as error:
            return {"address": address, "state": "refused", "why": str(error)}

    def _fit(
        self, connection: Connection, house: House, settings: Settings, address: str
    ) -> tuple[str, Row[Any] | None]:
        address = check_address(address)
        who = who_is(connection, house, settings, address)
        if not who.staff and not house.rules.outsiders:
            raise ForbiddenError(_OUTSIDER)
        return address, member_at(connection, house.made, address_key(address))

    def _invite(
        self, connection: Connection, house: House, settings: Settings, person: Person, address: str, name: str
    ) -> str:
        address, known = self._fit(connection, house, settings, address)
        if known is not None and known.state in (ON, PAUSED):
            return "on it already"
        day_ago = in_utc(datetime.now(UTC) - timedelta(days=1))
        if known is not None and known.state == INVITED and known.how == INVITED and known.since >= day_ago:
            return "invited already"
        lately = and_(M.how == INVITED, M.by == person.called, M.since >= day_ago)
        if connection.execute(select(func.count()).where(lately)).scalar_one() >= MOST_AT_ONCE:
            raise ForbiddenError(f"not more than {MOST_AT_ONCE} invitations in a day")
        token = self._wait_for(connection, house, address, name, INVITED, person.called, known)
        letter = words.invitation(house, person.called, yes_link(settings, token))
        notice(connection, house, address, letter, answer_address(house, token))
        return "invited"

    def _wait_for(
        self, connection: Connection, house: House, address: str, name: str, how: str, by: str, known: Row[Any] | None
    ) -> str:
        """Somebody who is on the list once they say so themselves. Returns the token for that."""
        token = new_token()
        until = time.time() + INVITED_DAYS * _DAY
        values = {"how": how, "by": by, "since": now(), "state": INVITED, "until": until}
        if known is None:
            connection.execute(
                insert(schema.house_member).values(
                    list=house.made, key=address_key(address), address=address, name=tidy(name, 200), others="",
                    opted_out=False, token=token, fails="[]", told=True, **values,
                )
            )  # fmt: skip
        else:
            token = known.token
            connection.execute(delete(schema.held).where(schema.held.c.member == known.id))
            connection.execute(update(schema.house_member).where(M.id == known.id).values(**values))
        return token

    def _add(
        self, connection: Connection, house: House, settings: Settings, person: Person, address: str, name: str
    ) -> str:
        address, known = self._fit(connection, house, settings, address)
        if known is not None and known.state == PAUSED:
            connection.execute(
                update(schema.house_member).where(M.id == known.id).values(state=ON, fails="[]", asked=None)
            )
            return "taken up again"
        if known is not None and known.state == ON:
            return "on it already"
        if known is not None and known.state == OFF and known.left_self:
            raise ForbiddenError("left this list; invite them, so that they can say yes themselves")
        wait = self._cap(connection, house.made, person, settings)
        if wait:
            raise ForbiddenError(
                f"not more than {settings.put_on} in a day; it goes on at {wait} (UTC). Or invite them"
            )
        member = self.put_on(connection, house, address, name, ADDED, person.called, person)
        letter = words.was_put_on(house, person.called, leave_link(settings, member.token))
        notice(connection, house, address, letter, member=member.id)
        return ADDED

    def _cap(self, connection: Connection, made: str, person: Person, settings: Settings) -> str:
        """From when on somebody may put people on again; nothing where they may now."""
        day_ago = in_utc(datetime.now(UTC) - timedelta(days=1))
        some = and_(M.how == ADDED, M.by == person.called, M.since >= day_ago)
        since = sorted(connection.execute(select(M.since).where(some)).scalars())
        if len(since) < settings.put_on:
            return ""
        oldest = datetime.fromisoformat(since[len(since) - settings.put_on])
        return in_utc(oldest + timedelta(days=1))[:16].replace("T", " ")

    def put_on(
        self, connection: Connection, house: House, address: str, name: str, how: str, by: str, writer: Person
    ) -> Row[Any]:
        """A card for somebody, and the membership that comes of it. Raises ForbiddenError for an outsider where the
        list is closed to them."""
        if not house.rules.outsiders and outsiders(connection, [address_key(address)]):
            raise ForbiddenError(_OUTSIDER)
        seq = lock(connection, house.made)
        known = member_at(connection, house.made, address_key(address))
        if known is None or not self._has_card(connection, house, known):
            card = card_of(address, tidy(name, 200))
            uid = next(line for line in card.splitlines() if line.startswith("UID:")).partition(":")[2]
            self.shelves.keep_for(connection, writer, house.made, seq, Wanted(f"{uid}.vcf", card, None, "*"))
        refresh(connection, house.made)
        member = member_at(connection, house.made, address_key(address))
        assert member is not None
        values = {
            "how": how, "by": by, "since": now(), "left": None, "left_self": False, "until": None, "state": ON,
            "fails": "[]", "told": True,
        }  # fmt: skip
        connection.execute(delete(schema.held).where(schema.held.c.member == member.id))  # nobody need be asked now
        connection.execute(update(schema.house_member).where(M.id == member.id).values(**values))
        count(connection, house.made, "joined")
        return member

    def _has_card(self, connection: Connection, house: House, member: Row[Any]) -> bool:
        """Whether a card of somebody who is not on the list stands there all the same."""
        c = schema.card.c
        here = and_(c.list == house.made, c.name == member.card, ~c.gone)
        return connection.execute(select(c.name).where(here)).first() is not None

    def join(self, person: Person, made: str) -> str:
        """Come onto a list, as a person of the hub. Returns `on`, `asked`. Raises MissingError, ForbiddenError."""

        def come(connection: Connection) -> str:
            house = need_house(connection, made)
            settings = settings_of(connection)
            refresh(connection, made)
            who = who_is(connection, house, settings, person.address, person)
            if not may_know_of(house.rules, who):
                raise MissingError("There is no such list.")
            return self._come(connection, house, settings, person.address, person.name, who)

        return self.shelves.turns.write(made, come)

    def _come(self, connection: Connection, house: House, settings: Settings, address: str, name: str, who: Who) -> str:
        """Somebody whose address is proven wants to be on a list."""
        known = member_at(connection, house.made, address_key(address))
        if known is not None and known.state == ON:
            return ON
        if known is not None and known.state == PAUSED:
            connection.execute(
                update(schema.house_member).where(M.id == known.id).values(state=ON, fails="[]", asked=None)
            )
            return ON
        invited = (
            known is not None and known.state == INVITED and known.how == INVITED and (known.until or 0) > time.time()
        )
        answer = may_join(house.rules, who)
        if not invited and answer == REFUSE:
            raise ForbiddenError("Only its keepers put people on this list.")
        if not invited and answer == HOLD:
            self._hold(connection, house, address, name, known)
            return ASKED
        how, by = (INVITED, known.by) if invited and known is not None else (JOINED, address)
        writer = Person(0, address, known.name if known is not None and known.name else name)
        member = self.put_on(connection, house, address, writer.name, how, by, writer)
        letter = words.welcome(house, leave_link(settings, member.token))
        notice(connection, house, address, letter, member=member.id)
        return ON

    def _hold(self, connection: Connection, house: House, address: str, name: str, known: Row[Any] | None) -> None:
        """A keeper is asked."""
        self._wait_for(connection, house, address, name, ASKED, address, known)
        member = member_at(connection, house.made, address_key(address))
        assert member is not None
        connection.execute(update(schema.house_member).where(M.id == member.id).values(state=ASKED))
        connection.execute(
            insert(schema.held).values(
                list=house.made, kind="request", member=member.id, sender=address, subject=tidy(name, 200),
                why="wants to be on the list", since=time.time(),
            )
        )  # fmt: skip

    def leave(self, person: Person, made: str) -> None:
        """Leave a list, as a person of the hub. Raises MissingError for who is not on it."""

        def go(connection: Connection) -> None:
            house = need_house(connection, made)
            refresh(connection, made)
            member = member_at(connection, made, address_key(person.address))
            if member is None or member.state not in (ON, PAUSED):
                raise MissingError("You are not on that list.")
            self._go(connection, house, member)

        self.shelves.turns.write(made, go)

    def leave_by(self, token: str) -> Page | None:
        """Whoever has the link, or answers by one click, is on the list no more. None for a token that is none."""
        page = self.page(token)
        if page is None:
            return None

        def go(connection: Connection) -> None:
            refresh(connection, page.house.made)
            member = member_by(connection, token)
            if member is not None and member.state in (ON, PAUSED):
                self._go(connection, page.house, member)
            elif member is not None and member.state in (INVITED, ASKED):
                connection.execute(delete(schema.held).where(schema.held.c.member == member.id))
                values = {"state": OFF, "left": now(), "left_self": True}
                connection.execute(update(schema.house_member).where(M.id == member.id).values(**values))

        self.shelves.turns.write(page.house.made, go)
        return page

    def _go(self, connection: Connection, house: House, member: Row[Any]) -> None:
        """Take off every card on which this address is the one that the list uses."""
        seq = lock(connection, house.made)
        c = schema.card.c
        some = and_(c.list == house.made, ~c.gone, func.lower(c.data).contains(member.address.lower(), autoescape=True))
        leaver = Person(0, member.address, member.name)
        for row in connection.execute(select(c.name, c.data).where(some)).all():
            contact = read_card(row.data)
            if row.name == member.card or (
                contact and contact.preferred and address_key(contact.preferred) == member.key
            ):
                self.shelves.keep_for(connection, leaver, house.made, seq, Wanted(row.name, None, None, None))
                seq += 1
        refresh(connection, house.made)
        values = {"state": OFF, "left": now(), "left_self": True}
        connection.execute(update(schema.house_member).where(M.id == member.id).values(**values))
        count(connection, house.made, "left")

    def page(self, token: str) -> Page | None:
        """What a link leads to."""
        with self.reading() as connection:
            member = member_by(connection, token[:64])
            house = find_house(connection, member.list) if member is not None else None
            if member is None or house is None or house.closed:
                return None
            state = member.state
            if state == INVITED and (member.until or 0) < time.time():
                state = OFF
            return Page(house, member.address, state, member.how)

    def say_yes(self, token: str) -> str | None:
        """Whoever was sent this token says yes: to an invitation, to a request of their own, to mail that reaches them
        again. Returns `on`, `asked`, `off` (it is too late, or nobody asked); None for a token that is none."""
        page = self.page(token)
        if page is None:
            return None

        def come(connection: Connection) -> str:
            settings = settings_of(connection)
            refresh(connection, page.house.made)
            member = member_by(connection, token)
            if member is None or page.state == OFF:
                return OFF
            if member.state == ASKED:
                return ASKED
            who = who_is(connection, page.house, settings, member.address)
            try:
                return self._come(connection, page.house, settings, member.address, member.name, who)
            except ForbiddenError:
                return OFF

        return self.shelves.turns.write(page.house.made, come)

    def request(self, made: str, address: str, name: str, verb: str) -> None:
        """Somebody wrote to the list's address for requests: `join`, `leave`, or anything else for help. What comes of
        it is sent to the address itself, and tells nobody else anything."""
        with self.engine.begin() as connection:
            house, settings = need_house(connection, made), settings_of(connection)
            if not self._may_answer(connection, address):
                return
            refresh(connection, made)
            who = who_is(connection, house, settings, address)
            known = member_at(connection, made, address_key(address))
            on = known is not None and known.state in (ON, PAUSED)
            if verb == "leave" and on and known is not None:
                letter = words.confirm(house, verb, leave_link(settings, known.token))
                answer = f"leave+{known.token}@{house.domain}"
            elif verb == "join" and not on and may_join(house.rules, who) != REFUSE:
                token = self._wait_for(connection, house, address, name, JOINED, address, known)
                letter = words.confirm(house, verb, yes_link(settings, token))
                answer = answer_address(house, token)
            else:
                letter, answer = words.how_to(house, in_words(house.rules)), ""
            notice(connection, house, address, letter, answer)

    def _may_answer(self, connection: Connection, address: str) -> bool:
        """Whether somebody may be written to by itself once more today (RFC 3834 section 2); counts it."""
        a = schema.house_answer.c
        key, today = address_key(address), now()[:10]
        row = connection.execute(select(schema.house_answer).where(a.key == key).with_for_update()).first()
        if row is not None and row.day == today and row.number >= _ASKED_A_DAY:
            return False
        connection.execute(delete(schema.house_answer).where(a.key == key))
        number = row.number + 1 if row is not None and row.day == today else 1
        connection.execute(insert(schema.house_answer).values(key=key, day=today, number=number))
        return True
