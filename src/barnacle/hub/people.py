"""The people of the hub: codes, tokens, and wrong tries."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, and_, bindparam, delete, func, insert, select, update
from sqlalchemy.dialects import postgresql, sqlite

from barnacle.core.addresses import address_key, check_address
from barnacle.core.sharing import OWNER
from barnacle.core.text import tidy
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Keeper, Person, digest, find_person, is_last_owner, now
from barnacle.hub.refusals import ConflictError, MissingError, WrongError

CODE_DAYS = 7


# Asked with every request, so built once.
_HOLDER = (
    select(
        schema.person.c.id, schema.person.c.key, schema.person.c.address, schema.person.c.name, schema.token.c.last_used
    )
    .join(schema.token, schema.token.c.person == schema.person.c.id)
    .where(schema.token.c.digest == bindparam("digest"))
)


class People(Keeper):
    """Who may use the hub, and by which token."""

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

    def remove_person(self, address: str) -> Person:
        """Take somebody off the hub: tokens, code and roles end. Raises MissingError, ConflictError for the last owner
        of a list."""
        with self.engine.begin() as connection:
            found = find_person(connection, address)
            if found is None:
                raise MissingError(f"Nobody here has the address {address}.")
            lonely = [
                row.title
                for row in connection.execute(
                    select(schema.shared.c.id, schema.shared.c.title)
                    .join(schema.role, schema.role.c.list == schema.shared.c.id)
                    .where(and_(schema.role.c.person == found.id, schema.role.c.role == OWNER))
                )
                if is_last_owner(connection, row.id, found.id)
            ]
            if lonely:
                raise ConflictError(
                    f"{found.called} is the last owner of {', '.join(lonely)}. Another owner is needed first, or the "
                    "list must be stopped."
                )
            # Whoever offered or added something stays known by it; the row goes only where nothing refers to it.
            connection.execute(delete(schema.token).where(schema.token.c.person == found.id))
            connection.execute(delete(schema.role).where(schema.role.c.person == found.id))
            others = connection.execute(select(schema.role.c.list).where(schema.role.c.by == found.id)).first()
            if others:
                gone = {"key": f"-{found.id}", "address": "", "code": None}
                connection.execute(update(schema.person).where(schema.person.c.id == found.id).values(**gone))
            else:
                connection.execute(delete(schema.person).where(schema.person.c.id == found.id))
            return found

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
            return self._new_token(connection, row.id, name)

    def new_token(self, person: Person, name: str) -> str:
        """Another token, for another program. Raises ConflictError where the name is taken, WrongError where it is
        none."""
        if not tidy(name, 60):
            raise WrongError("A token needs a name, such as phone.")
        with self.engine.begin() as connection:
            taken = select(schema.token.c.name).where(
                and_(schema.token.c.person == person.id, schema.token.c.name == tidy(name, 60))
            )
            if connection.execute(taken).first():
                raise ConflictError(
                    f"There is a token called {tidy(name, 60)} already. Choose another name, or revoke it."
                )
            return self._new_token(connection, person.id, name)

    def _new_token(self, connection: Connection, person: int, name: str) -> str:
        secret = secrets.token_urlsafe(32)
        names = set(connection.execute(select(schema.token.c.name).where(schema.token.c.person == person)).scalars())
        wanted = tidy(name, 60) or "Barnacle"
        free = next(n for n in (wanted, *(f"{wanted} {i}" for i in range(2, 10_000))) if n not in names)
        connection.execute(
            insert(schema.token).values(digest=digest(secret), person=person, name=free, since=now(), last_used=None)
        )
        return secret

    def tokens(self, person: Person) -> list[dict[str, Any]]:
        """A person's tokens by name."""
        with self.reading() as connection:
            rows = connection.execute(
                select(schema.token).where(schema.token.c.person == person.id).order_by(schema.token.c.name)
            )
            return [{"name": r.name, "since": r.since, "last_used": r.last_used} for r in rows]

    def revoke(self, person: Person, name: str) -> None:
        """End a token. Raises MissingError."""
        with self.engine.begin() as connection:
            done = connection.execute(
                delete(schema.token).where(and_(schema.token.c.person == person.id, schema.token.c.name == name))
            )
            if not done.rowcount:
                raise MissingError("There is no token of that name.")

    def who_has(self, secret: str, address: str | None = None) -> Person | None:
        """Whose token that is (and, where an address is given too, whether it is that person's)."""
        t = schema
        with self.reading() as connection:
            row = connection.execute(_HOLDER, {"digest": digest(secret)}).first()
        if row is None or (address is not None and address_key(address) != row.key):
            return None
        today = now()
        if (row.last_used or "")[:16] != today[:16]:  # once a minute is exact enough
            with self.engine.begin() as connection:
                connection.execute(update(t.token).where(t.token.c.digest == digest(secret)).values(last_used=today))
        return Person(row.id, row.address, row.name)

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
