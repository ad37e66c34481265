"""Shared lists and who has which role in them."""

from __future__ import annotations

import json
import secrets
from collections.abc import Sequence

from sqlalchemy import Engine, and_, delete, func, insert, or_, select, update

from barnacle.core.addresses import address_key
from barnacle.core.house import in_words
from barnacle.core.sharing import OWNER, READER, ROLES
from barnacle.core.text import plain_title, tidy
from barnacle.core.typed import Any
from barnacle.hub import schema
from barnacle.hub.base import (
    DECLINED,
    JOINED,
    OFFERED,
    Part,
    Person,
    find_person,
    find_role,
    give,
    is_last_owner,
    lock,
    need,
    new_mark,
    newest,
    now,
    own,
    owners_of,
    people_marks,
)
from barnacle.hub.house.rows import close_with, houses_among
from barnacle.hub.refusals import ConflictError, MissingError, NeedsMoreError, WrongError


class Lists(Part):
    """The lists, their offers and roles. `most_lists` is how many one person may have."""

    def __init__(self, engine: Engine, most_lists: int = 1_000) -> None:
        super().__init__(engine)
        self.most_lists = most_lists

    def lists(self, person: Person) -> list[dict[str, Any]]:
        """The lists that somebody has a role in or is offered; of those not joined no more than an offer tells."""
        t = schema
        giver = t.person.alias("giver")
        with self.reading() as connection:
            rows = connection.execute(
                select(
                    t.shared.c.id, t.shared.c.title, t.shared.c.fields, t.role.c.role, t.role.c.state,
                    t.role.c.since, giver.c.address.label("giver"),
                )
                .join(t.role, t.role.c.list == t.shared.c.id)
                .join(giver, giver.c.id == t.role.c.by)
                .where(and_(t.role.c.person == person.id, t.role.c.state != DECLINED))
                .order_by(t.shared.c.title, t.shared.c.id)
            ).all()  # fmt: skip
            joined = [r.id for r in rows if r.state == JOINED]
            owners, marks, tokens = (ask(connection, joined) for ask in (owners_of, people_marks, newest))
            houses = houses_among(connection, joined)
        result = []
        for r in rows:
            one = {"id": r.id, "title": r.title, "role": r.role, "state": r.state, "from": r.giver, "since": r.since}
            if r.state == JOINED:
                one |= {"fields": json.loads(r.fields), "owner": owners.get(r.id, "")}
                one |= {"token": tokens[r.id], "people": marks.get(r.id, "")}
                if house := houses.get(r.id):
                    one["house"] = [house.address, *in_words(house.rules)]
            result.append(one)
        return result

    def make_list(self, person: Person, title: str, fields: Sequence[str]) -> str:
        """Share a new, empty list; its maker owns it. Returns its id."""
        made = secrets.token_hex(12)
        with self.engine.begin() as connection:
            having = select(func.count()).where(schema.role.c.person == person.id)
            if connection.execute(having).scalar_one() >= self.most_lists:
                raise NeedsMoreError(f"One person may be on {self.most_lists:,} lists.")
            connection.execute(
                insert(schema.shared).values(
                    id=made, title=plain_title(title), fields=json.dumps(list(fields)), created=now(), seq=0
                )
            )
            connection.execute(insert(schema.change).values(list=made, seq=0, mark=new_mark()))
            give(connection, made, person.id, OWNER, JOINED, person.id)
        return made

    def change_list(self, person: Person, made: str, title: str | None, fields: Sequence[str] | None) -> None:
        """Rename a list or change which fields are shared. Owners only."""
        values: dict[str, Any] = {}
        if title is not None:
            values["title"] = plain_title(title)
        if fields is not None:
            values["fields"] = json.dumps(list(fields))
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            if values:
                connection.execute(update(schema.shared).where(schema.shared.c.id == made).values(**values))

    def stop(self, person: Person, made: str) -> None:
        """Stop sharing: the list is gone from the hub, with all its cards and roles. Owners only."""
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            for table in (schema.card, schema.change, schema.happened, schema.role):
                connection.execute(delete(table).where(table.c.list == made))
            close_with(connection, made)
            connection.execute(delete(schema.shared).where(schema.shared.c.id == made))

    def roles(self, person: Person, made: str) -> list[dict[str, Any]]:
        """Who has which role in a list, or is offered one."""
        t = schema
        with self.reading() as connection:
            need(connection, made, person, READER, hold=False)
            rows = connection.execute(
                select(t.person.c.address, t.person.c.name, t.role.c.role, t.role.c.state, t.role.c.since)
                .join(t.role, t.role.c.person == t.person.c.id)
                .where(t.role.c.list == made)
                .order_by(t.person.c.key)
            )
            return [dict(row) for row in rows.mappings()]

    def offer(self, person: Person, made: str, address: str, role: str) -> dict[str, str]:
        """Offer a list to somebody of this hub, or change a role. Owners only; the last owner stays one."""
        if role not in ROLES:
            raise WrongError(f"A role is one of {', '.join(ROLES)}.")
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            other = find_person(connection, address)
            if other is None:
                raise ConflictError(f"{tidy(address, 200)} does not use this hub. Ask whoever runs it to add them.")
            there = find_role(connection, made, other.id)
            if there is None or there.state == DECLINED:
                give(connection, made, other.id, role, OFFERED, person.id)
                return {"state": OFFERED}
            if role != OWNER and is_last_owner(connection, made, other.id):
                raise ConflictError("A list must have an owner. Make somebody else an owner first.")
            connection.execute(
                update(schema.role)
                .where(and_(schema.role.c.list == made, schema.role.c.person == other.id))
                .values(role=role)
            )
            return {"state": there.state}

    def end(self, person: Person, made: str, address: str) -> None:
        """End somebody's role, or withdraw an offer: owners anybody's, everybody their own."""
        with self.engine.begin() as connection:
            own = address_key(address) == address_key(person.address)
            need(connection, made, person, READER if own else OWNER)
            other = find_person(connection, address)
            there = find_role(connection, made, other.id) if other else None
            if other is None or there is None:
                raise MissingError("That person has no role in this list.")
            if is_last_owner(connection, made, other.id):
                raise ConflictError(
                    "The last owner cannot leave a list. Make somebody else an owner first, or stop sharing it."
                )
            connection.execute(
                delete(schema.role).where(and_(schema.role.c.list == made, schema.role.c.person == other.id))
            )

    def answer(self, person: Person, made: str, accept: bool) -> None:
        """Accept or decline an offer. Raises MissingError where there is none."""
        with self.engine.begin() as connection:
            lock(connection, made)
            there = find_role(connection, made, person.id)
            if there is None or there.state == DECLINED:
                raise MissingError("There is no such list.")
            if there.state == JOINED:
                if not accept:
                    raise ConflictError("That list has been accepted already. Leave it instead.")
                return
            connection.execute(
                update(schema.role)
                .where(and_(schema.role.c.list == made, schema.role.c.person == person.id))
                .values(state=JOINED if accept else DECLINED)
            )

    # For whoever runs the hub

    def every(self) -> list[dict[str, Any]]:
        """All lists, each with its number of cards and who has which role."""
        t = schema
        cards = select(func.count()).where(and_(t.card.c.list == t.shared.c.id, ~t.card.c.gone)).scalar_subquery()
        r, p = t.role.c, t.person.c
        with self.reading() as connection:
            order = t.shared.c.title, t.shared.c.id
            shared = connection.execute(select(t.shared, cards.label("cards")).order_by(*order)).all()
            roles = connection.execute(
                select(r.list, p.address, p.name, r.role, r.state, r.since)
                .join(t.person, p.id == r.person)
                .order_by(p.key)
            ).all()
        people: dict[str, list[dict[str, str]]] = {}
        for row in roles:
            facts = {"address": row.address, "name": row.name, "role": row.role, "state": row.state, "since": row.since}
            people.setdefault(row.list, []).append(facts)
        return [
            {"id": r.id, "title": r.title, "created": r.created, "cards": r.cards, "people": people.get(r.id, [])}
            for r in shared
        ]

    def hand_over(self, made: str, address: str) -> tuple[str, Person]:
        """Make somebody an owner of a list, by its id or its title where that is the only one. Returns its title.
        Raises MissingError, ConflictError."""
        with self.engine.begin() as connection:
            shared = schema.shared.c
            meant = or_(shared.id == made, shared.title == made)
            found = connection.execute(select(shared.id, shared.title).where(meant)).all()
            if not found:
                raise MissingError(f"There is no list {tidy(made, 80)}. `barnacle hub list` shows all.")
            if len(found) > 1:
                raise ConflictError(f"Several lists are called {tidy(made, 80)}: name one by its id.")
            person = find_person(connection, address)
            if person is None:
                raise MissingError(f"Nobody on this hub has the address {tidy(address, 200)}.")
            there = find_role(connection, found[0].id, person.id)
            if there is None or there.state != JOINED:
                give(connection, found[0].id, person.id, OWNER, JOINED, person.id)
            else:
                own(connection, found[0].id, person.id)
            return found[0].title, person
