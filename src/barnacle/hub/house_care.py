"""Looking after the members of house lists: whose mail comes back, whom nobody has told yet, what has ended."""

from __future__ import annotations

import json
import time
from typing import Any

from sqlalchemy import Connection, Engine, and_, delete, select, update

from barnacle.core.house import INVITED, OFF, ON, PAUSED
from barnacle.core.text import tidy
from barnacle.hub import house_notices as words
from barnacle.hub import schema
from barnacle.hub.base import Part, now
from barnacle.hub.house_people import HousePeople, answer_address, leave_link, yes_link
from barnacle.hub.house_queue import notice
from barnacle.hub.house_rows import House, M, count, find_house, keepers, settings_of

_FAIL_DAYS, _MONTH = 3, 30 * 86_400


class HouseCare(Part):
    """What is done without anybody asking."""

    def __init__(self, engine: Engine, people: HousePeople) -> None:
        super().__init__(engine)
        self.people = people

    def came_back(self, member_id: int, for_good: bool, why: str) -> None:
        """Mail to a member came back: if for good at once, else after three days, nothing more is sent there, and the
        keepers are told."""
        with self.engine.begin() as connection:
            member = connection.execute(select(schema.house_member).where(M.id == member_id).with_for_update()).first()
            house = find_house(connection, member.list) if member is not None else None
            if member is None or house is None or member.state != ON:
                return
            count(connection, house.made, "came back")
            days = sorted({*json.loads(member.fails), now()[:10]})[-10:]
            values: dict[str, Any] = {"fails": json.dumps(days)}
            if for_good or len(days) >= _FAIL_DAYS:
                values |= {"state": PAUSED, "asked": time.time()}
                self._tell(connection, house, words.paused(house, member.name, member.address, tidy(why, 200)))
            connection.execute(update(schema.house_member).where(M.id == member_id).values(**values))

    def complained(self, member_id: int) -> None:
        """Somebody told their mail service that they do not want this (RFC 5965): as if they had left."""
        with self.reading() as connection:
            token = connection.execute(select(M.token).where(M.id == member_id)).scalar()
        if token:
            self.people.leave_by(str(token))

    def _tell(self, connection: Connection, house: House, letter: words.Letter) -> None:
        for keeper in keepers(connection, house.made):
            notice(connection, house.made, keeper.address, words.written(house, keeper.address, letter))

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
                    raw = words.written(house, member.address, letter)
                    notice(connection, house.made, member.address, raw, member.id)

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
                    notice(connection, house.made, member.address, words.written(house, member.address, letter, answer))
            ended = and_(M.state == INVITED, M.until < moment)
            connection.execute(delete(schema.house_member).where(and_(ended, M.card.is_(None))))
            connection.execute(update(schema.house_member).where(ended).values(state=OFF))
