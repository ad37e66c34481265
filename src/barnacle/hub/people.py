"""The people of the hub: codes, tokens, and wrong tries."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence

from sqlalchemy import Connection, Engine, and_, bindparam, delete, func, insert, select, update
from sqlalchemy.dialects import postgresql, sqlite

from barnacle.core.addresses import address_key, check_address
from barnacle.core.sharing import OWNER
from barnacle.core.text import tidy
from barnacle.core.typed import Any, NamedTuple
from barnacle.hub import schema
from barnacle.hub.base import (
    CARDS,
    EVERYTHING,
    JOINED,
    Part,
    Person,
    digest,
    find_person,
    is_last_owner,
    now,
    pass_on,
)
from barnacle.hub.refusals import ConflictError, MissingError, NeedsMoreError, WrongError

CODE_DAYS = 7


# Asked with every request, so built once.
_HOLDER = (
    select(
        schema.person.c.id,
        schema.person.c.key,
        schema.person.c.address,
        schema.person.c.name,
        schema.token.c.scope,
        schema.token.c.last_used,
        schema.token.c.last_from,
    )
    .join(schema.token, schema.token.c.person == schema.person.c.id)
    .where(schema.token.c.digest == bindparam("digest"))
)


class Passed(NamedTuple):
    """A list that got another owner, or nobody where nobody has joined it."""

    id: str
    title: str
    owner: Person | None


class Removed(NamedTuple):
    """Somebody who was taken off the hub, and the lists of which that was the last owner."""

    person: Person
    passed: list[Passed]


class People(Part):
    """Who may use the hub, and by which token. `most_tokens` is how many one person may have."""

    def __init__(self, engine: Engine, most_tokens: int = 50) -> None:
        super().__init__(engine)
        self.most_tokens = most_tokens

    def add_person(self, address: str, name: str | None) -> tuple[Person, str]:
        """A person with a new code to sign in with; an older code ends. Raises BadAddressError."""
        address = check_address(address)
        code = "-".join(secrets.token_hex(3) for _ in range(4))
        values = {"code": digest(code), "code_until": time.time() + CODE_DAYS * 86_400}
        with self.engine.begin() as connection:
            known = find_person(connection, address)
            if known is None:
                connection.execute(
                    insert(schema.person).values(
                        key=address_key(address), address=address, name=tidy(name or "", 200), since=now(), **values
                    )
                )
            else:
                more = {"name": tidy(name, 200)} if name is not None else {}
                connection.execute(update(schema.person).where(schema.person.c.id == known.id).values(**values, **more))
            found = find_person(connection, address)
        assert found is not None
        return found, code

    def people(self) -> list[dict[str, Any]]:
        """Everybody, with how many tokens and lists each has, and whether a code waits."""
        t = schema
        tokens = select(func.count()).where(t.token.c.person == t.person.c.id).scalar_subquery()
        lists = (
            select(func.count())
            .where(and_(t.role.c.person == t.person.c.id, t.role.c.state == JOINED))
            .scalar_subquery()
        )
        with self.reading() as connection:
            rows = connection.execute(
                select(t.person, tokens.label("tokens"), lists.label("lists")).order_by(t.person.c.key)
            )
            return [
                {"address": r.address, "name": r.name, "since": r.since, "tokens": r.tokens, "lists": r.lists,
                 "code": bool(r.code and r.code_until > time.time())}
                for r in rows
            ]  # fmt: skip

    def remove_person(self, address: str) -> Removed:
        """Take somebody off the hub: tokens, code and roles end at once. A list whose last owner that was gets another:
        who has the most of a role, longest. Raises MissingError."""
        with self.engine.begin() as connection:
            found = self._need(connection, address)
            owned = connection.execute(
                select(schema.shared.c.id, schema.shared.c.title)
                .join(schema.role, schema.role.c.list == schema.shared.c.id)
                .where(and_(schema.role.c.person == found.id, schema.role.c.role == OWNER))
                .order_by(schema.shared.c.title)
            ).all()
            lonely = [row for row in owned if is_last_owner(connection, row.id, found.id)]
            # Whoever offered or added something stays known by it; the row goes only where nothing refers to it.
            connection.execute(delete(schema.token).where(schema.token.c.person == found.id))
            connection.execute(delete(schema.role).where(schema.role.c.person == found.id))
            passed = [Passed(row.id, row.title, pass_on(connection, row.id)) for row in lonely]
            others = connection.execute(select(schema.role.c.list).where(schema.role.c.by == found.id)).first()
            if others:
                gone = {"key": f"-{found.id}", "address": "", "code": None}
                connection.execute(update(schema.person).where(schema.person.c.id == found.id).values(**gone))
            else:
                connection.execute(delete(schema.person).where(schema.person.c.id == found.id))
            return Removed(found, passed)

    def _need(self, connection: Connection, address: str) -> Person:
        found = find_person(connection, address)
        if found is None:
            raise MissingError(f"Nobody on this hub has the address {tidy(address, 200)}.")
        return found

    def unlock(self, address: str) -> Person:
        """Forget all wrong tries at somebody's address. Raises MissingError."""
        with self.reading() as connection:
            found = self._need(connection, address)
        self.forgive(f"address {address_key(found.address)}")
        return found

    def tokens_of(self, address: str) -> list[dict[str, Any]]:
        """Somebody's tokens, for whoever runs the hub. Raises MissingError."""
        with self.reading() as connection:
            found = self._need(connection, address)
        return self.tokens(found)

    def revoke_of(self, address: str, name: str) -> None:
        """End somebody's token, as whoever runs the hub. Raises MissingError."""
        with self.reading() as connection:
            found = self._need(connection, address)
        self.revoke(found, name)

    def fresh_codes(self) -> list[tuple[Person, str]]:
        """End every token there is, and give everybody a new code."""
        with self.engine.begin() as connection:
            connection.execute(delete(schema.token))
            rows = connection.execute(select(schema.person).where(schema.person.c.address != "")).all()
        return [self.add_person(row.address, None) for row in rows]

    def redeem(self, address: str, code: str, name: str) -> str | None:
        """The first token, for a code that is still good; None for any other."""
        with self.engine.begin() as connection:
            row = connection.execute(
                select(schema.person).where(schema.person.c.key == address_key(address)).with_for_update()
            ).first()
            good = row is not None and row.code == digest(code.strip().lower()) and row.code_until > time.time()
            if not good or row is None:
                return None
            connection.execute(update(schema.person).where(schema.person.c.id == row.id).values(code=None))
            return self._new_token(connection, row.id, name, EVERYTHING)

    def new_token(self, person: Person, name: str, scope: str) -> str:
        """Another token, for another program. Raises ConflictError where the name is taken, WrongError where it or the
        scope is none, NeedsMoreError for too many."""
        if scope not in (EVERYTHING, CARDS):
            raise WrongError(f"A token is good for {EVERYTHING} or {CARDS}.")
        if not tidy(name, 60):
            raise WrongError("A token needs a name, such as phone.")
        with self.engine.begin() as connection:
            taken = select(schema.token.c.name).where(
                and_(schema.token.c.person == person.id, schema.token.c.name == tidy(name, 60))
            )
            if connection.execute(taken).first():
                raise ConflictError(
                    f"There is already a token called {tidy(name, 60)}. Choose another name, or revoke it."
                )
            return self._new_token(connection, person.id, name, scope)

    def _new_token(self, connection: Connection, person: int, name: str, scope: str) -> str:
        secret = secrets.token_urlsafe(32)
        names = set(connection.execute(select(schema.token.c.name).where(schema.token.c.person == person)).scalars())
        if len(names) >= self.most_tokens:
            raise NeedsMoreError(f"One person may have {self.most_tokens} tokens. Revoke one first.")
        wanted = tidy(name, 60) or "Barnacle"
        free = next(n for n in (wanted, *(f"{wanted} {i}" for i in range(2, 10_000))) if n not in names)
        connection.execute(
            insert(schema.token).values(
                digest=digest(secret), person=person, name=free, since=now(), last_used=None, scope=scope
            )
        )
        return secret

    def tokens(self, person: Person) -> list[dict[str, Any]]:
        """A person's tokens by name."""
        with self.reading() as connection:
            rows = connection.execute(
                select(schema.token).where(schema.token.c.person == person.id).order_by(schema.token.c.name)
            )
            return [
                {"name": r.name, "since": r.since, "last_used": r.last_used, "last_from": r.last_from, "scope": r.scope}
                for r in rows
            ]

    def revoke(self, person: Person, name: str) -> None:
        """End a token. Raises MissingError."""
        with self.engine.begin() as connection:
            done = connection.execute(
                delete(schema.token).where(and_(schema.token.c.person == person.id, schema.token.c.name == name))
            )
            if not done.rowcount:
                raise MissingError("There is no token of that name.")

    def who_has(self, secret: str, address: str | None = None, caller: str = "") -> Person | None:
        """Whose token that is (and, where an address is given too, whether it is that person's); it is noted when and
        from where it was used."""
        t = schema
        with self.reading() as connection:
            row = connection.execute(_HOLDER, {"digest": digest(secret)}).first()
        if row is None or (address is not None and address_key(address) != row.key):
            return None
        today = now()
        # Once a minute is exact enough.
        if (row.last_used or "")[:16] != today[:16] or (caller and row.last_from != caller):
            with self.engine.begin() as connection:
                used = {"last_used": today, "last_from": caller or row.last_from}
                connection.execute(update(t.token).where(t.token.c.digest == digest(secret)).values(**used))
        return Person(row.id, row.address, row.name, row.scope)

    def wait_for(self, keys: Sequence[str]) -> float:
        """How many seconds more a caller must wait before the next try."""
        with self.reading() as connection:
            rows = connection.execute(select(schema.attempt).where(schema.attempt.c.key.in_(keys))).all()
        moment = time.time()
        # A try that seems to lie in the future (the clock was set back) counts as one of now.
        return max((min(last, moment) + pause_after(tries) - moment for _, tries, last in rows), default=0.0)

    def failed(self, keys: Sequence[str]) -> None:
        """Count a wrong try."""
        make = postgresql.insert if self.engine.dialect.name == "postgresql" else sqlite.insert
        moment = time.time()
        with self.engine.begin() as connection:
            connection.execute(delete(schema.attempt).where(schema.attempt.c.last < moment - 86_400))
            for key in sorted(keys):
                connection.execute(
                    make(schema.attempt)
                    .values(key=key, count=1, last=moment)
                    .on_conflict_do_update(
                        index_elements=[schema.attempt.c.key],
                        set_={"count": schema.attempt.c.count + 1, "last": moment},
                    )
                )

    def forgive(self, key: str) -> None:
        """Forget wrong tries: somebody signed in."""
        with self.reading() as connection:
            if connection.execute(select(schema.attempt).where(schema.attempt.c.key == key)).first() is None:
                return
        with self.engine.begin() as connection:
            connection.execute(delete(schema.attempt).where(schema.attempt.c.key == key))


def pause_after(tries: int) -> float:
    """Seconds to wait after so many wrong tries: none up to the fourth, then twice as long each time, at most an
    hour."""
    return 0.0 if tries < 5 else min(2.0 ** (tries - 4), 3600.0)
