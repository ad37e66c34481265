"""House lists as rows of the hub's tables: the lists, who is on them, and what somebody is to one."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Iterable, Sequence

from sqlalchemy import Connection, Row, and_, delete, func, insert, or_, select, update

from barnacle.core.addresses import address_key, ascii_domain
from barnacle.core.contact import Address, Contact
from barnacle.core.house import ADDED, OFF, ON, PAUSED, Rules, Who
from barnacle.core.sharing import EDITOR, OWNER, opt_out_on
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.cards.vcard import read_card, write
from barnacle.hub import schema
from barnacle.hub.base import JOINED, Person, find_person, find_role, now
from barnacle.hub.refusals import ConflictError, MissingError

H, M = schema.house.c, schema.house_member.c
# So many cards are read from the database at a time.
_AT_A_TIME = 500


class Settings(NamedTuple):
    """How this hub takes and passes on mail. `list_domain` is that of official lists, `own_domain` of people's own;
    `house` are the domains of the staff; `trusted` is the name under which the mail server says what it has found out
    (RFC 8601); `public_url` is where the pages are; `rewrite` says when a list stands in From in place of the writer;
    `put_on` is how many people one keeper may put on in a day without asking them."""

    list_domain: str = ""
    own_domain: str = ""
    house: tuple[str, ...] = ()
    trusted: str = ""
    public_url: str = ""
    rewrite: str = "auto"
    put_on: int = 50
    size: int = 25_000_000

    @property
    def domains(self) -> tuple[str, ...]:
        """The domains whose mail the hub takes."""
        return tuple(dict.fromkeys(domain for domain in (self.list_domain, self.own_domain) if domain))

    def is_staff_address(self, address: str) -> bool:
        """Whether an address is of a domain of the house."""
        domain = ascii_domain(address.rpartition("@")[2].lower())
        return any(domain == ascii_domain(one.lower()) for one in self.house)


def keep_settings(connection: Connection, settings: Settings) -> None:
    """Remember them, for every process and command."""
    connection.execute(delete(schema.house_setting))
    connection.execute(insert(schema.house_setting).values(name="mail", value=json.dumps(settings._asdict())))


def settings_of(connection: Connection) -> Settings:
    """As they were last kept."""
    text = connection.execute(select(schema.house_setting.c.value)).scalar()
    doc = json.loads(text) if text else {}
    known = {name: value for name, value in doc.items() if name in Settings._fields}
    return Settings(**{**known, "house": tuple(known.get("house", ()))})


class House(NamedTuple):
    """A house list. `made` is the shared list's id."""

    made: str
    title: str
    address: str
    official: bool
    rules: Rules
    closed: str | None
    read: int
    by: str
    alone: float | None

    @property
    def domain(self) -> str:
        return self.address.rpartition("@")[2]

    @property
    def opener(self) -> str:
        """Who opened it, without their address, which is nobody's business."""
        return self.by.partition(" <")[0] if " <" in self.by else "a colleague"

    @property
    def request(self) -> str:
        """Where one writes about the list."""
        return self.address.replace("@", "-request@", 1)


def house_of(row: Row[Any]) -> House:
    return House(
        row.list, row.title, row.address, bool(row.official), Rules(**json.loads(row.rules)), row.closed, row.read,
        row.by, row.alone,
    )  # fmt: skip


def find_house(connection: Connection, made: str) -> House | None:
    """The house list that a shared list is."""
    row = connection.execute(select(schema.house).where(H.list == made)).first()
    return house_of(row) if row else None


def house_at(connection: Connection, key: str) -> House | None:
    """The house list that has an address, or once had it, also a closed one."""
    a = schema.house_address.c
    row = connection.execute(
        select(schema.house).join(schema.house_address, a.list == H.list).where(a.key == key)
    ).first()
    return house_of(row) if row else None


def need_house(connection: Connection, made: str) -> House:
    """Raises MissingError for a list that has no address (any more)."""
    house = find_house(connection, made)
    if house is None or house.closed:
        raise MissingError("That list has no address of its own.")
    return house


def take_address(connection: Connection, made: str, address: str) -> None:
    """Give a list an address that nobody ever had. Raises ConflictError."""
    key = address_key(address)
    a = schema.house_address.c
    there = connection.execute(select(a.list).where(a.key == key)).scalar()
    if there not in (None, made):
        raise ConflictError(f"{address} belongs to a list, or once did. An address is never given to another list.")
    if there is None:
        connection.execute(insert(schema.house_address).values(key=key, list=made))


def new_token() -> str:
    """A token that nobody guesses, in letters and digits that any mail server lets through in either case."""
    return secrets.token_hex(16)


def refresh(connection: Connection, made: str) -> None:
    """Bring the members up to date with the cards that have changed since."""
    seq = connection.execute(
        select(schema.shared.c.seq, schema.shared.c.title).where(schema.shared.c.id == made)
    ).first()
    house = find_house(connection, made)
    if seq is None or house is None or (seq.seq == house.read and seq.title == house.title):
        return
    c = schema.card.c
    query = select(c.name, c.data, c.gone, c.by, c.added, c.last_by, c.changed)
    rows = connection.execute(query.where(and_(c.list == made, c.seq > house.read)).order_by(c.seq)).all()
    for start in range(0, len(rows), _AT_A_TIME):
        _take_over(connection, house, rows[start : start + _AT_A_TIME])
    connection.execute(update(schema.house).where(H.list == made).values(read=seq.seq, title=seq.title))


def refresh_all(connection: Connection) -> None:
    """The same for all lists of which something has changed."""
    s = schema.shared.c
    stale = and_(H.closed.is_(None), or_(s.seq != H.read, s.title != H.title))
    for made in list(connection.execute(select(H.list).join(schema.shared, s.id == H.list).where(stale)).scalars()):
        refresh(connection, made)


def _take_over(connection: Connection, house: House, rows: Sequence[Any]) -> None:
    names, made = [row.name for row in rows], house.made
    of_cards = {
        one.card: one
        for one in connection.execute(select(schema.house_member).where(and_(M.list == made, M.card.in_(names))))
    }
    read = [(row, None if row.gone else address_on(row.data)) for row in rows]
    keys = [found[0] for _, found in read if found]
    by_key = {
        one.key: one
        for one in connection.execute(select(schema.house_member).where(and_(M.list == made, M.key.in_(keys))))
    }
    # Who is on it when it is opened, the keeper has been asked about.
    opening = house.read < 0
    outside = set() if opening or house.rules.outsiders else outsiders(connection, keys)
    fresh: dict[str, dict[str, Any]] = {}
    for row, found in read:
        old = of_cards.get(row.name)
        if old is not None and (found is None or found[0] != old.key):
            _off(connection, old, row.changed)
        if found is None:
            continue
        key, address, name, others, opted_out = found
        known = by_key.get(key)
        values = {"card": row.name, "address": address, "name": name, "others": others, "opted_out": opted_out}
        if known is None:
            if key in fresh:
                continue  # the same address on two cards: one copy
            fresh[key] = {
                "list": made, "key": key, **values, "how": ADDED, "by": row.by, "since": row.added,
                "state": OFF if key in outside else ON, "token": new_token(), "fails": "[]", "told": opening,
            }  # fmt: skip
        elif known.state in (ON, PAUSED) or key in outside or (known.state == OFF and known.left_self):
            # Who left by themselves comes back by a yes of their own alone.
            connection.execute(update(schema.house_member).where(M.id == known.id).values(**values))
        else:
            came = {
                **values, "how": ADDED, "by": row.last_by or row.by, "since": row.changed, "state": ON, "left": None,
                "left_self": False, "until": None, "fails": "[]", "told": False,
            }  # fmt: skip
            connection.execute(update(schema.house_member).where(M.id == known.id).values(**came))
    if fresh:
        connection.execute(insert(schema.house_member), list(fresh.values()))


def outsiders(connection: Connection, keys: Iterable[str]) -> set[str]:
    """Which comparable addresses are neither of the house's domains nor of people of the hub."""
    settings = settings_of(connection)
    others = [key for key in keys if not settings.is_staff_address(key)]
    p = schema.person.c
    known = {
        key
        for start in range(0, len(others), _AT_A_TIME)
        for key in connection.execute(select(p.key).where(p.key.in_(others[start : start + _AT_A_TIME]))).scalars()
    }
    return set(others) - known


def _off(connection: Connection, member: Row[Any], at: str) -> None:
    if member.state in (ON, PAUSED):
        connection.execute(
            update(schema.house_member).where(M.id == member.id).values(state=OFF, left=member.left or at)
        )


def address_on(data: str) -> tuple[str, str, str, str, bool] | None:
    """Of a card: the key of the address that the list uses, the address, the name, the keys of the others, and whether
    somebody opted out. None for one that has no address."""
    contact = read_card(data)
    if contact is None or not contact.preferred:
        return None
    key = address_key(contact.preferred)
    others = "".join(f"\n{one}" for one in contact.address_keys() if one != key)
    return key, contact.preferred, contact.called, f"{others}\n" if others else "", bool(opt_out_on(contact))


def card_of(address: str, name: str) -> str:
    """A new card for somebody of whom no more is known."""
    contact = Contact(uid=secrets.token_hex(16), name=name, addresses=[Address(address)])
    return "".join(write([contact], "4.0"))


def member_at(connection: Connection, made: str, key: str) -> Row[Any] | None:
    """Whoever has that address on a list, also as another one of theirs."""
    on = and_(M.list == made, M.key == key)
    row = connection.execute(select(schema.house_member).where(on)).first()
    if row is None:
        other = and_(M.list == made, M.others.contains(f"\n{key}\n", autoescape=True), M.state.in_((ON, PAUSED)))
        row = connection.execute(select(schema.house_member).where(other)).first()
    return row


def member_by(connection: Connection, token: str) -> Row[Any] | None:
    """Whoever a token was given to."""
    return connection.execute(select(schema.house_member).where(M.token == token)).first()


def who_is(connection: Connection, house: House, settings: Settings, address: str, person: Person | None = None) -> Who:
    """What an address, or a person of the hub, is to a list."""
    known = person or find_person(connection, address)
    role = find_role(connection, house.made, known.id) if known else None
    joined = role is not None and role.state == JOINED
    member = member_at(connection, house.made, address_key(address))
    return Who(
        keeper=joined and role is not None and role.role == OWNER,
        editor=joined and role is not None and role.role == EDITOR,
        member=member is not None and member.state in (ON, PAUSED),
        staff=known is not None or settings.is_staff_address(address),
    )


def keepers(connection: Connection, made: str) -> list[Person]:
    """Who keeps a list."""
    r, p = schema.role.c, schema.person.c
    rows = connection.execute(
        select(schema.person)
        .join(schema.role, r.person == p.id)
        .where(and_(r.list == made, r.role == OWNER, r.state == JOINED, p.address != ""))
        .order_by(r.since, p.id)
    )
    return [Person(row.id, row.address, row.name) for row in rows]


# Whoever gets a copy.
IS_REACHED = and_(M.state == ON, ~M.opted_out)


def numbers_of(connection: Connection, mades: Iterable[str]) -> dict[str, tuple[int, int, int]]:
    """For each list how many are on it, how many postings there were in the last thirty days, and how many wait."""
    mades = list(mades)
    found = dict.fromkeys(mades, (0, 0, 0))
    p, d = schema.posting.c, schema.held.c
    since = time.time() - 30 * 86_400
    members = select(M.list, func.count()).where(and_(M.list.in_(mades), M.state.in_((ON, PAUSED)))).group_by(M.list)
    recent = (
        select(p.list, func.count())
        .where(and_(p.list.in_(mades), p.kind == "posting", p.at >= since, p.state.in_(("taken", "queued", "done"))))
        .group_by(p.list)
    )
    waiting = select(d.list, func.count()).where(d.list.in_(mades)).group_by(d.list)
    for place, query in enumerate((members, recent, waiting)):
        for made, number in connection.execute(query):
            row = list(found[made])
            row[place] = number
            found[made] = (row[0], row[1], row[2])
    return found


def count(connection: Connection, made: str, what: str, number: int = 1, month: str = "") -> None:
    """Count something, in this month or another one."""
    n = schema.house_month.c
    month = month or now()[:7]
    here = and_(n.list == made, n.month == month, n.what == what)
    if not connection.execute(update(schema.house_month).where(here).values(number=n.number + number)).rowcount:
        connection.execute(insert(schema.house_month).values(list=made, month=month, what=what, number=number))


def lists_of(connection: Connection, person: Person) -> tuple[list[House], list[House]]:
    """The open house lists that somebody keeps or edits, and those that they are on."""
    r = schema.role.c
    kept = [
        house_of(row)
        for row in connection.execute(
            select(schema.house)
            .join(schema.role, r.list == H.list)
            .where(and_(r.person == person.id, r.state == JOINED, r.role.in_((OWNER, EDITOR)), H.closed.is_(None)))
            .order_by(H.title, H.list)
        )
    ]
    key = address_key(person.address)
    mine = or_(M.key == key, M.others.contains(f"\n{key}\n", autoescape=True))
    on = [
        house_of(row)
        for row in connection.execute(
            select(schema.house)
            .join(schema.house_member, M.list == H.list)
            .where(and_(mine, M.state.in_((ON, PAUSED)), H.closed.is_(None)))
            .order_by(H.title, H.list)
        )
    ]
    return kept, list(dict.fromkeys(on))


def close_with(connection: Connection, made: str) -> None:
    """The shared list is gone: its address ends."""
    connection.execute(update(schema.house).where(and_(H.list == made, H.closed.is_(None))).values(closed=now()))


def houses_among(connection: Connection, mades: Sequence[str]) -> dict[str, House]:
    """Which of some shared lists have an address, by their ids."""
    found: dict[str, House] = {}
    for start in range(0, len(mades), _AT_A_TIME):
        some = and_(H.list.in_(mades[start : start + _AT_A_TIME]), H.closed.is_(None))
        found |= {row.list: house_of(row) for row in connection.execute(select(schema.house).where(some))}
    return found
