"""An import's first half, which needs no book: entries of a file become rows ready to be written.

It may run in a process of its own, ahead of the other half (`taking`).
"""

from __future__ import annotations

import gc
import marshal
from array import array
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import compress
from operator import itemgetter

from barnacle.book.bulk import Place, PlainPeople, Rows, wanted
from barnacle.book.contacts import new_uids
from barnacle.core.contact import Contact, OptOut
from barnacle.core.text import fold
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.drafts import Defect, Draft, Fitting, ListDraft
from barnacle.files.source import Source, Table
from barnacle.files.tables.remarks import mark_the_dead
from barnacle.jobs.imports.fast_rows import Gathered, PlainRows, Seen, Stamp

AT_FIRST, AT_ONCE = 250, 5000
# What a reader tells of an entry, each by the name that a draft and a report have for it.
TOLD = ("refused", "left_out", "doubtful", "cleaned")
# Slots that say which addresses stood further up in a file; a slot taken by chance costs a question to the book.
SLOTS = 1 << 24


class Entry(NamedTuple):
    """A row of a file: its place, the numbers of its people, the lists that it names."""

    row: int
    numbers: range
    lists: tuple[str, ...]


@dataclass(slots=True)
class Glances:
    """Rows of one table that were only glanced at, since their people may well be in the book just so, column by
    column: the number the person will have if it is new, domain and hash of its first address, what its card says, the
    row's parts. `question` asks the book for holders of those addresses."""

    plain: PlainRows
    question: str = ""
    numbers: list[int] = field(default_factory=list)
    domains: list[str] = field(default_factory=list)
    hashes: list[int] = field(default_factory=list)
    says: list[str] = field(default_factory=list)
    parts: list[str] = field(default_factory=list)

    def columns(self) -> list[list[Any]]:
        """All columns, in order."""
        return [self.numbers, self.domains, self.hashes, self.says, self.parts]

    def add(self, numbers: list[int], seen: Seen) -> None:
        """Rows of one shape."""
        first = seen.shape.addresses[0]
        self.numbers += numbers
        self.domains += seen.domains[first]
        self.hashes += seen.hashes(first)
        self.says += seen.says()
        self.parts += map("\n".join, zip(*seen.parts, strict=True))

    def ask(self) -> None:
        """Word the question."""
        self.question = wanted(sorted(zip(self.domains, self.hashes, self.numbers, strict=True)))


@dataclass(slots=True)
class Batch:
    """Some entries of a file: their people as rows of the book, each under the number it will have if it is new.

    The people are numbered from `first` in the order of the entries, whose places in the file are `places`; `odd` has,
    by its number here, each entry that is not one person and no list: how many people, which lists. `glances` are
    those of whom `rows` has nothing yet. `answered` is the title of the column that says when each row was answered.
    `alone` are the numbers that must be looked at one by one: people without an
    address, with a uid of their own, or with an address that stands further up in the batch. `question` asks the book
    for holders of the addresses that it may know. `told` has what the reader tells, by the names of TOLD.
    """

    first: int
    stamp: tuple[str, str]
    places: list[int] = field(default_factory=list)
    odd: dict[int, tuple[int, tuple[str, ...]]] = field(default_factory=dict)
    alone: set[int] = field(default_factory=set)
    question: str = ""
    told: dict[str, list[Defect]] = field(default_factory=dict)
    oddest: tuple[int, int] = (0, 0)  # how odd the oddest of the people is, and its number
    groups: list[ListDraft] = field(default_factory=list)
    answered: str = ""
    glances: Glances | None = None
    rows: Rows = field(default_factory=Rows)

    def entries(self) -> Iterator[Entry]:
        """The entries one by one."""
        number = self.first
        for place, row in enumerate(self.places):
            count, lists = self.odd.get(place, _PLAIN)
            yield Entry(row, range(number, number + count), lists)
            number += count

    def complete(self, same: Container[int] = (), slots: bytearray | None = None) -> None:
        """Make rows of all that was glanced at, but for people who are the `same` as in the book, give those of the
        plain kind uids, and word the question. It leaves out addresses whose slot is free, and takes the slots. The
        other half's work, since the reader has more to do."""
        rows = self.rows
        if self.glances:
            glanced = zip(self.glances.numbers, self.glances.parts, strict=True)
            new = [(number, tuple(parts.split("\n"))) for number, parts in glanced if number not in same]
            left = Gathered()
            parts = [one for _, one in new]
            left.add(self.glances.plain.shapes(parts), [number for number, _ in new], parts)
            left.into(rows)
        rows.people.identify(new_uids(len(rows.people.numbers)))
        rows.stamp = self.stamp
        rows.places.sort(key=itemgetter(0))
        values = [value for _, value, _ in rows.places]
        if len(set(values)) < len(values):
            self.alone |= _again(rows.places)
        self.question = wanted(rows.places if slots is None else _met(slots, rows.places, values))

    def __reduce__(self) -> tuple[Any, ...]:
        # Between processes the bulk goes as few plain values: a small part of the time that pickling takes.
        rows, glances = self.rows, self.glances
        places = list(zip(*rows.places, strict=True)) or [(), (), ()]
        bulk = [
            rows.contacts,
            rows.facts,
            rows.labels,
            rows.own,
            *map(_packed, (*places, *rows.people.columns())),
        ]
        about = (self.first, self.stamp, self.places, self.odd, self.alone, self.question)
        told = (self.told, self.oddest, self.groups, self.answered)
        glanced = glances and (glances.plain, glances.question, *map(_packed, glances.columns()))
        return _unpacked, (about, told, marshal.dumps(bulk), glanced)


_PLAIN: tuple[int, tuple[str, ...]] = 1, ()


def _unpacked(about: tuple[Any, ...], told: tuple[Any, ...], bulk: bytes, glanced: tuple[Any, ...] | None) -> Batch:
    contacts, facts, labels, own, *packed = marshal.loads(bulk)
    domains, values, numbers, *people = map(_column, packed)
    batch = Batch(*about, *told)
    places = list(zip(domains, values, numbers, strict=True))
    batch.rows = Rows(contacts, facts, labels, own, places, PlainPeople(*people), batch.stamp)
    if glanced:
        plain, question, *packed = glanced
        batch.glances = Glances(plain, question, *map(_column, packed))
    return batch


def _packed(column: Sequence[Any]) -> str | bytes | None:
    """A column of numbers, or of words, in one value."""
    if not column:
        return None
    return array("q", column).tobytes() if isinstance(column[0], int) else "\0".join(column)


def _column(packed: str | bytes | None) -> list[Any]:
    if packed is None:
        return []
    return array("q", packed).tolist() if isinstance(packed, bytes) else packed.split("\0")


def _oddity(person: Contact, remarks: int, people: int) -> int:
    """How far somebody is from what most rows come to: what is worth a look before a file is taken in."""
    lacks = (not person.name) + (not person.addresses)
    several = len(person.addresses) + len(person.phones) + len(person.extra)
    return 10 * remarks + 5 * lacks + 3 * (people - 1) + several + len(person.name) // 30


def _again(places: list[Place]) -> set[int]:
    """Whose addresses stand further up in the batch."""
    seen: set[int] = set()
    again = set()
    for _, value, number in sorted(places, key=itemgetter(2)):
        if value in seen:
            again.add(number)
        seen.add(value)
    return again


def _met(slots: bytearray, places: list[Place], values: list[int]) -> list[Place]:
    """Those of the addresses that may stand in a batch further up in the file; from now on all of them do."""
    own = [value % SLOTS for value in values]
    met = list(compress(places, map(slots.__getitem__, own)))
    for slot in own:
        slots[slot] = 1
    return met


def prepare(source: Source, first: int, stamp: Stamp, anew: bool) -> Iterator[Batch]:
    """All entries of a source, in batches; the people are numbered from `first`. `anew` says that the book holds no
    addresses yet but those of this source. Raises FileError."""
    return _Preparing(first, stamp, anew).run(source)


def prepare_alone(source: Source, first: int, stamp: Stamp, anew: bool) -> Iterator[Batch]:
    """`prepare` in a process that does nothing else: what it makes has no cycles, so nothing needs collecting."""
    gc.disable()
    return prepare(source, first, stamp, anew)


class _Preparing:
    def __init__(self, first: int, stamp: Stamp, anew: bool) -> None:
        self.number = first
        self.stamp = stamp
        self.folded_stamp = fold(stamp.source), stamp.added
        self.uids: list[str] = []
        self.anew = anew
        self.answered = ""
        self.batch = Batch(first, self.folded_stamp)
        self.gathered = Gathered()

    def run(self, source: Source) -> Iterator[Batch]:
        most = AT_FIRST  # so that whoever waits for the first batch has work soon
        for table in source.tables():
            columns = table.columns if table.list_by is None else None
            self.answered = table.columns.stamp if table.columns else ""
            plain = PlainRows.of(columns, table.separator, self.stamp)
            for item in table.items(plain.take_apart if plain else None):
                if not isinstance(item, Fitting):
                    self.draft(item if isinstance(item, Draft) else table.read(item), table.sheet)
                elif plain:
                    self.fitting(table, plain, item)
                if len(self.batch.places) >= most:
                    yield self._full(plain)
                    most = min(2 * most, AT_ONCE)
            yield self._full(plain)

    def _full(self, plain: PlainRows | None) -> Batch:
        batch, self.batch = self.batch, Batch(self.number, self.folded_stamp)
        batch.answered = self.answered
        gathered, self.gathered = self.gathered, Gathered()
        if plain and not self.anew:
            batch.glances = Glances(plain)
            for numbers, seen in gathered.each():
                batch.glances.add(numbers, seen)
            batch.glances.ask()
        else:
            gathered.into(batch.rows)
        return batch

    def fitting(self, table: Table, plain: PlainRows, some: Fitting) -> None:
        """Rows that were taken apart."""
        shapes = plain.shapes(some.parts)
        numbers: list[int] = []
        places = range(some.number, some.number + len(shapes))
        if all(shapes):
            numbers += range(self.number, self.number + len(shapes))
            self.batch.places += places
            self.number += len(shapes)
        else:
            for place, shape in zip(places, shapes, strict=True):
                numbers.append(self.number)
                if shape:
                    self.batch.places.append(place)
                    self.number += 1
                else:
                    self.draft(table.read(table.row(some, place)), table.sheet)
        self.gathered.add(shapes, numbers, some.parts)

    def uid(self) -> str:
        """A new uid."""
        self.uids = self.uids or new_uids(AT_ONCE)[::-1]
        return self.uids.pop()

    def draft(self, draft: Draft, sheet: str) -> None:
        """An entry of a sheet, or of a file without, that was read the long way."""
        batch = self.batch
        mark_the_dead(draft, self.stamp.added, sheet)
        for what in TOLD:
            if some := getattr(draft, what):
                batch.told.setdefault(what, []).extend(some)
        if not (draft.people or draft.refused or draft.group):
            return  # a line that is no people's, or of a table that stands beside another one and is shorter
        if draft.group:
            batch.groups.append(draft.group)
        if draft.group and not draft.people and not draft.refused:
            return
        remarks = len(draft.refused) + len(draft.doubtful) + len(draft.cleaned)
        for person in draft.people:
            number, self.number = self.number, self.number + 1
            person.drop_false_name()
            batch.oddest = max(batch.oddest, (_oddity(person, remarks, len(draft.people)), number), key=itemgetter(0))
            person.source, person.added = self.stamp.source, self.stamp.added
            if self.stamp.labels:
                have = {fold(label) for label in person.labels}
                person.labels += [label for label in self.stamp.labels if fold(label) not in have]
            if self.stamp.opted_out and not person.opt_out:
                person.opt_out = OptOut(self.stamp.added, self.stamp.source)
            if person.uid or not person.addresses:
                batch.alone.add(number)
            person.uid = person.uid or self.uid()
            batch.rows.add(number, person)
        if len(draft.people) != 1 or draft.lists:
            batch.odd[len(batch.places)] = len(draft.people), tuple(draft.lists)
        batch.places.append(draft.row)
