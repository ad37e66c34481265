"""What waits for the keepers of a house list: postings that did not simply go on, and people who want to be on it."""

from __future__ import annotations

import time
from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import Connection, Engine, and_, delete, insert, select, update

from barnacle.core.house import ASKED, OFF
from barnacle.core.moments import in_utc
from barnacle.core.sharing import EDITOR, OWNER
from barnacle.core.text import tidy
from barnacle.core.typed import Any
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Part, Person, need, now
from barnacle.hub.house import notices as words
from barnacle.hub.house.people import HousePeople, leave_link
from barnacle.hub.house.queue import DROPPED, QUEUED, WAITING, P, address_copies, notice
from barnacle.hub.house.rows import H, M, count, find_house, keepers, need_house, refresh, settings_of
from barnacle.hub.refusals import MissingError, RefusalError

D = schema.held.c
_TOLD_EVERY = 3600.0
_KEPT = 14 * 86_400


class Held(Part):
    """What is held."""

    def __init__(self, engine: Engine, people: HousePeople) -> None:
        super().__init__(engine)
        self.people = people

    def waiting(self, person: Person, made: str | None) -> list[dict[str, Any]]:
        """What waits on the lists that somebody keeps or edits, or on one of them, the oldest first."""
        r = schema.role.c
        with self.reading() as connection:
            mine = select(r.list).where(and_(r.person == person.id, r.state == JOINED, r.role.in_((OWNER, EDITOR))))
            where = and_(D.list.in_(mine), H.closed.is_(None))
            if made is not None:
                if not self._may(connection, made, person):
                    raise MissingError("There is no such list.")
                where = and_(where, D.list == made)
            rows = connection.execute(
                select(schema.held, H.title).join(schema.house, H.list == D.list).where(where).order_by(D.id)
            )
            return [
                {"number": row.id, "list": row.title, "kind": row.kind, "from": row.sender, "subject": row.subject,
                 "why": row.why, "since": in_utc(datetime.fromtimestamp(row.since, UTC))}
                for row in rows
            ]  # fmt: skip

    def _may(self, connection: Connection, made: str, person: Person) -> bool:
        """Whether somebody keeps or edits a list."""
        try:
            need(connection, made, person, EDITOR, hold=False)
        except RefusalError:
            return False
        return True

    def settle(self, person: Person, numbers: Sequence[int], yes: bool, why: str) -> list[dict[str, Any]]:
        """Let through what is held, or not: each by itself. What is not there, or on nobody's list of theirs, is
        missing. A writer who is proven, and whoever asked to be on a list, are told of a no."""
        return [self._settle(person, number, yes, tidy(why, 500)) for number in numbers]

    def _settle(self, person: Person, number: int, yes: bool, why: str) -> dict[str, Any]:
        with self.reading() as connection:
            row = connection.execute(select(schema.held).where(D.id == number)).first()
        if row is None:
            return {"number": number, "state": "missing"}

        def do(connection: Connection) -> dict[str, Any]:
            still = connection.execute(select(schema.held).where(D.id == number).with_for_update()).first()
            if still is None or not self._may(connection, still.list, person):
                return {"number": number, "state": "missing"}
            house = need_house(connection, still.list)
            connection.execute(delete(schema.held).where(D.id == number))
            if still.kind == "request":
                self._request(connection, still, person, yes, why)
            elif yes:
                refresh(connection, house.made)
                many = address_copies(connection, still.posting, house.made, WAITING)
                connection.execute(update(schema.posting).where(P.id == still.posting).values(state=QUEUED))
                count(connection, house.made, "postings")
                return {"number": number, "state": "let", "members": many}
            else:
                posting = connection.execute(select(P.proven, P.sender, P.subject).where(P.id == still.posting)).first()
                connection.execute(update(schema.posting).where(P.id == still.posting).values(state=DROPPED))
                if posting is not None and posting.proven:
                    said = f"A keeper of the list decided so{': ' + why if why else '.'}"
                    letter = words.not_passed_on(house, posting.subject, said)
                    notice(connection, house, posting.sender, letter)
            return {"number": number, "state": "let" if yes else "refused"}

        return self.people.shelves.turns.write(row.list, do)

    def _request(self, connection: Connection, row: Any, person: Person, yes: bool, why: str) -> None:
        member = connection.execute(select(schema.house_member).where(M.id == row.member)).first()
        house = need_house(connection, row.list)
        if member is None or member.state != ASKED:
            return
        if not yes:
            connection.execute(update(schema.house_member).where(M.id == member.id).values(state=OFF))
            letter = words.not_let_on(house, why)
            notice(connection, house, member.address, letter)
            return
        on = self.people.put_on(connection, house, member.address, member.name, ASKED, person.called, person)
        letter = words.welcome(house, leave_link(settings_of(connection), on.token))
        notice(connection, house, on.address, letter, member=on.id)

    def tell_keepers(self) -> None:
        """Tell the keepers of each list of what came since they were told last, an hour ago or more."""
        moment = time.time()
        with self.engine.begin() as connection:
            new = select(D.list).join(schema.house, H.list == D.list).where(D.since > H.told).distinct()
            late = and_(H.list.in_(new), H.told < moment - _TOLD_EVERY, H.closed.is_(None))
            for made in list(connection.execute(select(H.list).where(late)).scalars()):
                house = find_house(connection, made)
                assert house is not None
                rows = connection.execute(select(schema.held).where(D.list == made).order_by(D.id)).all()
                lines = [f"{row.id}  {row.sender}: {row.subject or '(without a subject)'} ({row.why})" for row in rows]
                letter = words.waits(house, lines)
                for keeper in keepers(connection, made):
                    notice(connection, house, keeper.address, letter)
                connection.execute(update(schema.house).where(H.list == made).values(told=moment))

    def end_old(self) -> None:
        """What nobody settled in time is deleted; writers who are proven are told."""
        with self.engine.begin() as connection:
            rows = connection.execute(select(schema.held).where(D.since < time.time() - _KEPT).limit(200)).all()
            for row in rows:
                connection.execute(delete(schema.held).where(D.id == row.id))
                house = find_house(connection, row.list)
                if row.kind == "request":
                    asked = and_(M.id == row.member, M.state == ASKED)
                    connection.execute(update(schema.house_member).where(asked).values(state=OFF, left=now()))
                    continue
                posting = connection.execute(select(P.proven, P.sender, P.subject).where(P.id == row.posting)).first()
                connection.execute(update(schema.posting).where(P.id == row.posting).values(state=DROPPED))
                if posting is not None and posting.proven and house is not None and not house.closed:
                    letter = words.not_passed_on(
                        house, posting.subject, "No keeper of the list settled it within 14 days."
                    )
                    notice(connection, house, posting.sender, letter)


def hold(connection: Connection, made: str, posting: int, sender: str, subject: str, why: str) -> None:
    """A posting waits for a keeper."""
    connection.execute(
        insert(schema.held).values(
            list=made, kind="posting", posting=posting, sender=sender, subject=subject, why=why, since=time.time()
        )
    )
    count(connection, made, "held")
