"""Looking after the members of house lists: whose mail comes back, whom nobody has told yet, what has ended."""

from __future__ import annotations

import json
import time

from sqlalchemy import Engine, and_, delete, select, update

from barnacle.core.house import INVITED, OFF, ON, PAUSED
from barnacle.core.text import tidy
from barnacle.core.typed import Any
from barnacle.hub import schema
from barnacle.hub.base import Part, now
from barnacle.hub.house import notices as words
from barnacle.hub.house.people import HousePeople, answer_address, leave_link, yes_link
from barnacle.hub.house.queue import notice
from barnacle.hub.house.rows import H, M, count, find_house, keepers, settings_of

_FAIL_DAYS, _HOUR, _MONTH = 3, 3600, 30 * 86_400


class HouseCare(Part):
    """What is done without anybody asking."""

    def __init__(self, engine: Engine, people: HousePeople) -> None:
        super().__init__(engine)
        self.people = people

    def came_back(self, member_id: int, for_good: bool, why: str) -> None:
        """Mail to a member came back: if for good at once, else after three days, nothing more is sent there."""
        with self.engine.begin() as connection:
            member = connection.execute(select(schema.house_member).where(M.id == member_id).with_for_update()).first()
            house = find_house(connection, member.list) if member is not None else None
            if member is None or house is None or member.state != ON:
                return
            count(connection, house.made, "came back")
            days = sorted({*json.loads(member.fails), now()[:10]})[-10:]
            values: dict[str, Any] = {"fails": json.dumps(days)}
            if for_good or len(days) >= _FAIL_DAYS:
                values |= {"state": PAUSED, "asked": time.time(), "why": tidy(why, 200), "reported": False}
            connection.execute(update(schema.house_member).where(M.id == member_id).values(**values))

    def complained(self, member_id: int) -> None:
        """Somebody told their mail service that they do not want this (RFC 5965): as if they had left."""
        with self.reading() as connection:
            token = connection.execute(select(M.token).where(M.id == member_id)).scalar()
        if token:
            self.people.leave_by(str(token))

    def report_fails(self) -> None:
        """Tell the keepers of each list whose mail comes back, once an hour at most."""
        moment = time.time()
        with self.engine.begin() as connection:
            new = select(M.list).where(and_(M.state == PAUSED, ~M.reported)).distinct()
            late = and_(H.list.in_(new), H.told_of_fails < moment - _HOUR, H.closed.is_(None))
            for made in list(connection.execute(select(H.list).where(late)).scalars()):
                house = find_house(connection, made)
                assert house is not None
                whose = and_(M.list == made, M.state == PAUSED, ~M.reported)
                rows = connection.execute(select(schema.house_member).where(whose).order_by(M.name, M.key)).all()
                letter = words.paused(house, [f"{row.name or row.address} <{row.address}>: {row.why}" for row in rows])
                for keeper in keepers(connection, made):
                    notice(connection, house, keeper.address, letter)
                connection.execute(update(schema.house_member).where(whose).values(reported=True))
                connection.execute(update(schema.house).where(H.list == made).values(told_of_fails=moment))

    def tell_the_new(self) -> None:
        """Tell those whom a colleague has put on the shared list, in whatever program, with the way out."""
        with self.engine.begin() as connection:
            settings = settings_of(connection)
            untold = and_(M.state == ON, ~M.told, ~M.opted_out)
            for member in connection.execute(select(schema.house_member).where(untold).limit(200)).all():
                connection.execute(update(schema.house_member).where(M.id == member.id).values(told=True))
                house = find_house(connection, member.list)
                if house is not None and not house.closed:
                    letter = words.was_put_on(house, member.by, leave_link(settings, member.token))
                    notice(connection, house, member.address, letter, member=member.id)

    def ask_the_paused(self) -> None:
        """Once a month one question to those who are sent nothing more; invitations that nobody answered end."""
        moment = time.time()
        with self.engine.begin() as connection:
            settings = settings_of(connection)
            due = and_(M.state == PAUSED, M.asked < moment - _MONTH)
            for member in connection.execute(select(schema.house_member).where(due).limit(200)).all():
                house = find_house(connection, member.list)
                connection.execute(update(schema.house_member).where(M.id == member.id).values(asked=moment))
                if house is not None and not house.closed:
                    letter = words.still_there(house, yes_link(settings, member.token))
                    answer = answer_address(house, member.token)
                    notice(connection, house, member.address, letter, answer)
            ended = and_(M.state == INVITED, M.until < moment)
            connection.execute(delete(schema.house_member).where(and_(ended, M.card.is_(None))))
            connection.execute(update(schema.house_member).where(ended).values(state=OFF))
