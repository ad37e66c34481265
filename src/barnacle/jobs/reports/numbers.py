"""The numbers of reports, from the functions that `list`, `check` and `outbox` have theirs from."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta

from barnacle.book import contacts, lists, reach, statistics
from barnacle.book.lists import ContactList
from barnacle.book.store import Book, now
from barnacle.core.mail.audience import FAILS, NO_ADDRESS, OPTED_OUT
from barnacle.core.mail.delivery import State
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import lists_meant

MOST_LISTS, BUSIEST = 20, 20
# From so many weeks on, months are shown.
_WEEKS = 60
# What becomes of a recipient, by the field of a Span that counts it; who waits or is being sent to is in none.
_OUTCOMES: dict[str, str] = {
    State.ACCEPTED: "accepted", State.REFUSED: "refused", State.NOT_TAKEN: "refused_as_a_message",
    State.DEFERRED: "deferred", State.DOUBTFUL: "doubtful",
}  # fmt: skip


class Reach(NamedTuple):
    """How many are on a list, how many of them a message would reach, and why not the others: the address fails, they
    opted out, have none, or something else."""

    title: str
    members: int
    reached: int
    failing: int
    opted_out: int
    no_address: int
    other: int


class Growth(NamedTuple):
    """How many were on a list at the end of each day on which that changed (ISO 8601), the latest last. `partly` says
    that who left it again is not known."""

    title: str
    days: list[tuple[str, int]]
    partly: bool


class Span(NamedTuple):
    """What became of the recipients who were tried in a week, or a month, from a day on (ISO 8601)."""

    begins: str
    accepted: int = 0
    refused: int = 0
    refused_as_a_message: int = 0
    deferred: int = 0
    doubtful: int = 0


class Deliveries(NamedTuple):
    """Spans without gaps, whether they are months, refusals by domain, most first, and since when (ISO 8601): empty
    where from the first message on."""

    spans: list[Span]
    by_month: bool
    refusals: list[tuple[str, int]]
    since: str = ""


class Together(NamedTuple):
    """People who are on just these lists, of those that are looked at."""

    titles: tuple[str, ...]
    people: int


class Overlap(NamedTuple):
    """Lists with how many are on each, largest first; who is on which of them together, most first; and how many lists
    were left out."""

    lists: list[tuple[str, int]]
    together: list[Together]
    left_out: int


class Hearer(NamedTuple):
    """Somebody, how many messages he or she got in the last twelve months, and most in one month."""

    name: str
    messages: int
    most_in_a_month: int


class Heard(NamedTuple):
    """Who hears most, how many people got anything, and how many messages a month these got on average."""

    busiest: list[Hearer]
    people: int
    a_month: float


class Report(NamedTuple):
    """All of it."""

    reach: list[Reach]
    growth: list[Growth]
    deliveries: Deliveries
    overlap: Overlap
    heard: Heard


def report(
    desk: Desk,
    titles: Sequence[str] = (),
    parts: Sequence[str] = ("reach", "deliveries", "overlap"),
    since: str = "",
) -> Report:
    """The parts of a report that are asked for, of these lists or of all; deliveries from a day on (ISO 8601). Raises
    NotFoundError, AmbiguousError."""
    with desk.open() as book:
        chosen = lists_meant(desk, book, titles)
        none = Deliveries([], False, []), Overlap([], [], 0), Heard([], 0, 0.0)
        if "reach" in parts:
            some = [one for one in lists.overview(book) if not chosen or one.list.id in {c.id for c in chosen}]
            reached = _reach(book, [one.list for one in some])
            grown = _growth(book, [(one.list, one.members) for one in some])
        else:
            reached, grown = [], []
        sent = _deliveries(book, since) if "deliveries" in parts else none[0]
        overlapping, heard = (_overlap(book, chosen), _heard(book)) if "overlap" in parts else none[1:]
        return Report(reached, grown, sent, overlapping, heard)


def _reach(book: Book, some: Sequence[ContactList]) -> list[Reach]:
    sharing = reach.sharers(book)
    found = []
    for one in some:
        members = lists.count(book, one.id)
        why = list(reach.why_not(book, one.id, sharing).values())
        failing = sum(reason.startswith(FAILS) for reason in why)
        opted_out = sum(reason.startswith(OPTED_OUT) for reason in why)
        none = why.count(NO_ADDRESS)
        other = len(why) - failing - opted_out - none
        found.append(Reach(one.title, members, members - len(why), failing, opted_out, none, other))
    return found


def _growth(book: Book, some: Sequence[tuple[ContactList, int]]) -> list[Growth]:
    changes: dict[int, dict[str, int]] = {one.id: {} for one, _ in some}
    for change in (*statistics.comings_and_goings(book), *statistics.joined_by_rule(book)):
        if change.list in changes:
            days = changes[change.list]
            days[change.day] = days.get(change.day, 0) + change.number
    found = []
    for one, members in some:
        there = members
        line: list[tuple[str, int]] = []
        for day in sorted(changes[one.id], reverse=True):
            line.append((day, there))
            there -= changes[one.id][day]
        found.append(Growth(one.title, line[::-1], one.rule is not None))
    return found


def _deliveries(book: Book, since: str) -> Deliveries:
    rows = statistics.deliveries_by_day(book, since)
    days = [date.fromisoformat(day) for day, _, _ in rows]
    by_month = bool(days) and (days[-1] - days[0]).days > 7 * _WEEKS
    counts: dict[date, dict[str, int]] = {}
    for day, (_, state, number) in zip(days, rows, strict=True):
        begins = day.replace(day=1) if by_month else day - timedelta(days=day.weekday())
        if name := _OUTCOMES.get(state):
            there = counts.setdefault(begins, {})
            there[name] = there.get(name, 0) + number
    spans = []
    at = min(counts, default=None)
    while at is not None and at <= max(counts):
        spans.append(Span(at.isoformat(), **counts.get(at, {})))
        at = (at + timedelta(days=32)).replace(day=1) if by_month else at + timedelta(days=7)
    return Deliveries(spans, by_month, statistics.refusals_by_domain(book, since), since)


def _overlap(book: Book, chosen: Sequence[ContactList]) -> Overlap:
    sized = {one.id: (one.title, lists.count(book, one.id)) for one in chosen or [o.list for o in lists.overview(book)]}
    largest = sorted(sized, key=lambda number: (-sized[number][1], sized[number][0]))[:MOST_LISTS]
    if not largest:
        return Overlap([], [], 0)
    order = {number: place for place, number in enumerate(largest)}
    found = [
        Together(tuple(sized[number][0] for number in sorted(some, key=order.__getitem__)), people)
        for some, people in statistics.together(book, largest).items()
    ]
    found.sort(key=lambda one: (-one.people, len(one.titles), one.titles))
    return Overlap([sized[number] for number in largest], found, len(sized) - len(largest))


def _heard(book: Book) -> Heard:
    today = date.fromisoformat(now()[:10])
    since = today.replace(year=today.year - 1, day=1).isoformat()
    totals: dict[int, int] = {}
    most: dict[int, int] = {}
    months: set[str] = set()
    for contact, month, number in statistics.heard_by_month(book, since):
        totals[contact] = totals.get(contact, 0) + number
        most[contact] = max(most.get(contact, 0), number)
        months.add(month)
    busiest = sorted(totals, key=lambda contact: (-totals[contact], contact))[:BUSIEST]
    kept = {number: contacts.get(book, number) for number in busiest}
    names = {number: one.contact.title for number, one in kept.items() if one is not None}
    found = [Hearer(names[number], totals[number], most[number]) for number in busiest if number in names]
    span = _months_between(min(months), today) if months else 1
    return Heard(found, len(totals), sum(totals.values()) / len(totals) / span if totals else 0.0)


def _months_between(first: str, today: date) -> int:
    return max((today.year - int(first[:4])) * 12 + today.month - int(first[5:7]) + 1, 1)
