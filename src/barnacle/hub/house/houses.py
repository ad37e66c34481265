"""House lists as people of the hub see and keep them: opening and closing, rules, members, numbers."""

from __future__ import annotations

import json
from collections.abc import Sequence

from sqlalchemy import Connection, and_, func, insert, or_, select, update

from barnacle.core.addresses import address_key
from barnacle.core.house import (
    INVITED,
    OFF,
    ON,
    PAUSED,
    Rules,
    Who,
    changed_rules,
    check_name,
    in_words,
    may_know_of,
    may_look,
)
from barnacle.core.sharing import EDITOR, OWNER
from barnacle.core.text import fold, people, tidy
from barnacle.core.typed import Any
from barnacle.hub import schema
from barnacle.hub.base import Part, Person, need, now
from barnacle.hub.house.queue import live
from barnacle.hub.house.rows import (
    H,
    House,
    M,
    address_on,
    find_house,
    house_of,
    keepers,
    lists_of,
    need_house,
    numbers_of,
    outsiders,
    refresh,
    refresh_all,
    settings_of,
    take_address,
    who_is,
)
from barnacle.hub.refusals import ConflictError, ForbiddenError, MissingError

Doc = dict[str, Any]


class Houses(Part):
    """The house lists."""

    def mine(self, person: Person) -> Doc:
        """Those that somebody keeps, and those that they are on."""
        with self.engine.begin() as connection:
            refresh_all(connection)
            settings = settings_of(connection)

            def told(houses: list[House]) -> list[Doc]:
                both = [(one, who_is(connection, one, settings, person.address, person)) for one in houses]
                return self._told(connection, both)

            kept, on = lists_of(connection, person)
            return {"keep": told(kept), "on": told(on)}

    def find(self, person: Person, words: str) -> list[Doc]:
        """Those that somebody may know of and whose title or address has all these words; without words, all."""
        wanted = fold(tidy(words, 200)).split()
        with self.engine.begin() as connection:
            refresh_all(connection)
            settings = settings_of(connection)
            found = []
            for house in self._all(connection):
                said = fold(f"{house.title} {house.address}")
                if all(word in said for word in wanted):
                    who = who_is(connection, house, settings, person.address, person)
                    if may_know_of(house.rules, who):
                        found.append((house, who))
            return self._told(connection, found)

    def every(self) -> list[Doc]:
        """All of them, for whoever runs the hub."""
        with self.engine.begin() as connection:
            refresh_all(connection)
            rows = connection.execute(select(schema.house).order_by(H.title, H.list))
            return [
                {**one, "keepers": [p.address for p in keepers(connection, one["id"])]}
                for one in self._told(connection, [(house_of(row), None) for row in rows])
            ]

    def _all(self, connection: Connection) -> list[House]:
        rows = connection.execute(select(schema.house).where(H.closed.is_(None)).order_by(H.title, H.list))
        return [house_of(row) for row in rows]

    def _told(self, connection: Connection, houses: Sequence[tuple[House, Who | None]]) -> list[Doc]:
        """As programs read it, each for what somebody is to it; None for whoever runs the hub. How many are on a list
        only those are told who may see them."""
        numbers = numbers_of(connection, [house.made for house, _ in houses])
        told = []
        for house, who in houses:
            members, postings, held = numbers[house.made]
            looks = who is None or may_look(house.rules, who)
            kept = who is None or who.keeper or who.editor
            told.append(
                {
                    "id": house.made, "title": house.title, "address": house.address, "official": house.official,
                    **{name: getattr(house.rules, name)
                       for name in ("writers", "joining", "looking", "outsiders", "listed")},
                    "members": members if looks else None, "postings": postings, "held": held if kept else 0,
                    "of": house.by, "closed": house.closed,
                }
            )  # fmt: skip
        return told

    def open(self, person: Person, made: str, at: str, wanted: Doc) -> Doc:
        """Give a shared list an address. Its keepers only. Raises ConflictError where it has one, or another list has
        that."""
        name = check_name(at)
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            settings = settings_of(connection)
            domain = settings.own_domain or settings.list_domain
            if not domain:
                raise ConflictError(
                    "This hub takes no mail, so its lists have no addresses. Whoever runs it can change that."
                )
            old = find_house(connection, made)
            if old and not old.closed:
                raise ConflictError(f"{old.title} has an address already: {old.address}.")
            rules = changed_rules(Rules(), wanted)
            address = f"{name}@{domain}"
            take_address(connection, made, address)
            title = connection.execute(select(schema.shared.c.title).where(schema.shared.c.id == made)).scalar_one()
            values = {
                "title": title, "key": address_key(address), "address": address, "official": False,
                "rules": json.dumps(rules._asdict()), "opened": now(), "by": person.called, "closed": None, "told": 0.0,
                "alone": None,
            }  # fmt: skip
            if old:
                connection.execute(update(schema.house).where(H.list == made).values(**values))
            else:
                connection.execute(insert(schema.house).values(list=made, read=-1, **values))
            refresh(connection, made)
            self._outside(connection, made, rules, str(wanted.get("outside") or ""))
            return self._one(connection, made, person)

    def rules(self, person: Person, made: str) -> Doc:
        """What a list's rules are. Raises MissingError for a list that does not exist for somebody."""
        with self.engine.begin() as connection:
            house = need_house(connection, made)
            if not may_know_of(house.rules, who_is(connection, house, settings_of(connection), person.address, person)):
                raise MissingError("There is no such list.")
            return self._one(connection, made, person)

    def _one(self, connection: Connection, made: str, person: Person) -> Doc:
        refresh(connection, made)
        house = need_house(connection, made)
        who = who_is(connection, house, settings_of(connection), person.address, person)
        (told,) = self._told(connection, [(house, who)])
        words = in_words(house.rules)
        if told["members"] is not None and (without := _without_address(connection, made)):
            words.append(
                f"{people(without)} on it {'has' if without == 1 else 'have'} no address, and cannot be reached."
            )
        if told["members"] is not None:
            words += _shut_out(connection, made)
        return {**told, **house.rules._asdict(), "words": words}

    def change(self, person: Person, made: str, wanted: Doc) -> Doc:
        """Change the rules. Its keepers only. A list on which outsiders are cannot be closed to them without a word on
        what becomes of these: `outside` is `keep` or `remove`. Raises ConflictError, UnclearError."""
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            house = need_house(connection, made)
            refresh(connection, made)
            rules = changed_rules(house.rules, wanted)
            if not rules.outsiders:
                self._outside(connection, made, rules, str(wanted.get("outside") or ""))
            elif not house.rules.outsiders:  # who waited outside comes in
                waiting = and_(M.list == made, M.state == OFF, M.left.is_(None), M.card.is_not(None))
                connection.execute(update(schema.house_member).where(waiting).values(state=ON))
            connection.execute(update(schema.house).where(H.list == made).values(rules=json.dumps(rules._asdict())))
            return self._one(connection, made, person)

    def _outside(self, connection: Connection, made: str, rules: Rules, what: str) -> None:
        """What becomes of outsiders on a list that is closed to them: nothing without a word."""
        if rules.outsiders:
            return
        on = {one.key: one for one in _on(connection, made)}
        outside = [on[key] for key in sorted(outsiders(connection, on))]
        if outside and what not in ("keep", "remove"):
            some = ", ".join(one.address for one in outside[:3])
            more = f" and {len(outside) - 3} more" if len(outside) > 3 else ""
            raise ConflictError(
                f"{people(len(outside))} on it {'is an outsider' if len(outside) == 1 else 'are outsiders'}: "
                f"{some}{more}."
                " Let outsiders be on it (--outsiders yes), or say what becomes of these: --those-outside keep or "
                "remove."
            )
        if what == "remove":
            for one in outside:
                connection.execute(update(schema.house_member).where(M.id == one.id).values(state=OFF, left=now()))

    def members(self, person: Person, made: str) -> list[Doc]:
        """Who is on it, is invited or has left, for those who may look."""
        with self.engine.begin() as connection:
            house = need_house(connection, made)
            who = who_is(connection, house, settings_of(connection), person.address, person)
            if not may_know_of(house.rules, who):
                raise MissingError("There is no such list.")
            if not may_look(house.rules, who):
                raise ForbiddenError("Who is on this list see only those whom its keepers let.")
            refresh(connection, made)
            kept = who.keeper or who.editor
            # Who only wrote that they want to come has no business here until they have confirmed it.
            more = or_(M.state == OFF, and_(M.state == INVITED, M.how == INVITED))
            shown = or_(M.state.in_((ON, PAUSED)), more) if kept else M.state.in_((ON, PAUSED))
            rows = connection.execute(
                select(schema.house_member).where(and_(M.list == made, shown)).order_by(M.name, M.key)
            ).all()
            r, p = schema.role.c, schema.person.c
            found = connection.execute(
                select(p.key, r.role)
                .join(schema.role, r.person == p.id)
                .where(and_(r.list == made, r.state == "joined"))
            )
            roles = {row[0]: row[1] for row in found}
            return [
                {
                    "address": row.address, "name": row.name, "since": row.since, "how": row.how,
                    "by": row.by if kept else "",
                    "role": "keeper" if roles.get(row.key) == OWNER else roles.get(row.key, ""),
                    "state": OFF if row.opted_out else row.state, "fails": len(json.loads(row.fails)) if kept else 0,
                    "left": row.left if kept else None, "why": _why_off(row) if kept else "",
                }
                for row in rows
            ]  # fmt: skip

    def numbers(self, person: Person, made: str) -> list[Doc]:
        """Postings and copies by month, the latest first; never who wrote what. Its keepers and editors only."""
        with self.engine.begin() as connection:
            need_house(connection, made)
            need(connection, made, person, EDITOR, hold=False)
            n = schema.house_month.c
            months: dict[str, Doc] = {}
            for row in connection.execute(select(schema.house_month).where(n.list == made).order_by(n.month.desc())):
                month = months.setdefault(row.month, dict.fromkeys(COUNTED, 0))
                if row.what in month:
                    month[row.what] = row.number
            for _, name, state, number in live(connection, made):
                if state in COUNTED:
                    months.setdefault(name, dict.fromkeys(COUNTED, 0))[state] += number
            return [{"month": name, **months[name]} for name in sorted(months, reverse=True)]

    def close(self, person: Person, made: str) -> str:
        """End a list's address, for good; the shared list stays. Its keepers only."""
        with self.engine.begin() as connection:
            need(connection, made, person, OWNER)
            house = need_house(connection, made)
            connection.execute(update(schema.house).where(H.list == made).values(closed=now()))
            return house.address

    def make_official(self, name: str, yes: bool = True) -> House:
        """Vouch for a list, as whoever runs the hub: it gets an address of the list domain; the one it had still works.
        Raises MissingError, ConflictError."""
        with self.engine.begin() as connection:
            settings = settings_of(connection)
            named = [
                house for house in self._all(connection)
                if name in (house.made, house.title) or address_key(name) == address_key(house.address)
            ]  # fmt: skip
            if len(named) != 1:
                raise MissingError(
                    f"{len(named) or 'No'} house list{'s' if named else ''} called {tidy(name, 100)}; name its address."
                )
            (house,) = named
            domain = settings.list_domain if yes else settings.own_domain or settings.list_domain
            if not domain:
                option = "--list-domain" if yes else "--own-domain"
                raise ConflictError(f"The hub was not started with {option}, so there is no such address.")
            address = f"{house.address.partition('@')[0]}@{domain}"
            take_address(connection, house.made, address)
            values = {"official": yes, "address": address, "key": address_key(address)}
            connection.execute(update(schema.house).where(H.list == house.made).values(**values))
            return house._replace(official=yes, address=address)


# What is counted of a list in a month.
COUNTED = ("postings", "held", "turned away", "not passed on", "accepted", "refused", "came back", "joined", "left")


def _without_address(connection: Connection, made: str) -> int:
    """How many on the shared list have no address that mail could go to."""
    c = schema.card.c
    named = select(M.card).where(and_(M.list == made, M.card.is_not(None)))
    rows = connection.execute(select(c.data).where(and_(c.list == made, ~c.gone, c.name.not_in(named)))).scalars()
    return sum(address_on(data) is None for data in rows)


def _shut_out(connection: Connection, made: str) -> list[str]:
    """Sentences about those whose card is on the shared list, and who get nothing."""
    c = schema.card.c
    here = select(c.name).where(and_(c.list == made, ~c.gone))
    off = and_(M.list == made, M.state == OFF, M.card.in_(here))
    told = []
    for why, one, several in (
        (M.left.is_(None), "is an outsider", "are outsiders"),
        (M.left.is_not(None), "has left or was taken off", "have left or were taken off"),
    ):
        query = select(func.count()).select_from(schema.house_member).where(and_(off, why))
        if number := int(connection.execute(query).scalar_one()):
            be, get = (one, "gets") if number == 1 else (several, "get")
            told.append(f"{people(number)} on the shared list {be}, and {get} nothing.")
    return told


def _why_off(row: Any) -> str:
    """Why somebody whose card is on the list gets nothing."""
    if row.opted_out:
        return "opted out"
    return "an outsider, and the list is closed to them" if row.state == OFF and row.left is None else ""


def _on(connection: Connection, made: str) -> list[Any]:
    return list(connection.execute(select(schema.house_member).where(and_(M.list == made, M.state.in_((ON, PAUSED))))))
