"""An import's first half, which needs no book: entries of a file become rows ready to be written.

It may run in a process of its own, ahead of the other half (`taking`).
"""

from __future__ import annotations

import gc
import marshal
from collections.abc import Iterator
from dataclasses import dataclass, field
from operator import itemgetter
from typing import Any, NamedTuple

from barnacle.book.bulk import Place, Rows, wanted
from barnacle.book.contacts import new_uids
from barnacle.core.text import fold
from barnacle.files.source import Source
from barnacle.files.table import Defect, Draft, Group, Row
from barnacle.jobs.plainrows import PlainRows

AT_FIRST, AT_ONCE = 250, 5000
# Slots that say which addresses stood further up in a file; a slot taken by chance costs a question to the book.
_SLOTS = 1 << 24


class Stamp(NamedTuple):
    """What every contact of an import is given: the command it came by, when (ISO 8601, UTC), and labels."""

    source: str
    added: str
    labels: tuple[str, ...]


# Row, the numbers of its people, the lists that it names.
Entry = tuple[int, tuple[int, ...], tuple[str, ...]]


@dataclass(slots=True)
class Batch:
    """Some entries of a file: their people as rows of the book, each under the number it will have if it is new.

    `alone` are the numbers that must be looked at one by one: people without an address, with a uid of their own, or
    with an address that stands further up in the batch. `question` asks the book for holders of the addresses that it
    may know; `plain` says that each entry is one person, and names no list.
    """

    entries: list[Entry] = field(default_factory=list)
    rows: Rows = field(default_factory=Rows)
    alone: set[int] = field(default_factory=set)
    question: str = ""
    plain: bool = True
    refused: list[Defect] = field(default_factory=list)
    cleaned: list[Defect] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)

    def __reduce__(self) -> tuple[Any, ...]:
        # Between processes the bulk goes as plain values: a third of the time that pickling takes.
        rows = self.rows
        bulk = self.entries, self.alone, *(getattr(rows, name) for name in rows.__slots__)
        rest = (self.question, self.plain, self.refused, self.cleaned, self.groups)
        return _unpacked, (marshal.dumps(bulk), *rest)


def _unpacked(bulk: bytes, *rest: Any) -> Batch:
    entries, alone, *rows = marshal.loads(bulk)
    return Batch(entries, Rows(*rows), alone, *rest)


def prepare(source: Source, first: int, stamp: Stamp, anew: bool) -> Iterator[Batch]:
    """All entries of a source, in batches; the people are numbered from `first`. `anew` says that the book holds no
    addresses yet but those of this source. Raises FileError."""
    return _Preparing(first, stamp, anew).run(source)


def prepare_alone(source: Source, first: int, stamp: Stamp, anew: bool) -> Iterator[Batch]:
    """The same in a process that does nothing else: what it makes has no cycles, so nothing needs collecting."""
    gc.disable()
    return prepare(source, first, stamp, anew)


class _Preparing:
    def __init__(self, first: int, stamp: Stamp, anew: bool) -> None:
        self.number = first
        self.stamp = stamp
        self.folded_stamp = fold(stamp.source), stamp.added
        self.batch = Batch()
        self.uids = new_uids(AT_ONCE)[::-1]
        self.slots = bytearray(_SLOTS) if anew else None

    def run(self, source: Source) -> Iterator[Batch]:
        most = AT_FIRST  # so that whoever waits for the first batch has work soon
        for table in source.tables():
            plain = PlainRows.of(table, self.stamp, words=self.slots is not None) if table.columns else None
            for item in table.items():
                if isinstance(item, Draft):
                    self.draft(item)
                elif plain is None or not self.plain(plain, item):
                    self.draft(table.read(item))
                if len(self.batch.entries) >= most:
                    yield self._full()
                    most = min(2 * most, AT_ONCE)
        yield self._full()

    def _full(self) -> Batch:
        batch, self.batch = self.batch, Batch()
        addresses = batch.rows.addresses
        batch.rows.stamp = self.folded_stamp
        if len({value for _, value, _ in addresses}) < len(addresses):
            batch.alone |= _again(addresses)
        addresses.sort(key=itemgetter(0))
        batch.question = wanted(addresses if self.slots is None else self._met(self.slots, addresses))
        return batch

    @staticmethod
    def _met(slots: bytearray, addresses: list[Place]) -> list[Place]:
        """Those of the addresses that may stand further up in the file; from now on all of them do."""
        met = []
        for place in addresses:
            slot = place[1] % _SLOTS
            if slots[slot]:
                met.append(place)
            slots[slot] = 1
        return met

    def plain(self, plain: PlainRows, row: Row) -> bool:
        """A row of a table by the short way, where it is of the plain kind."""
        number, batch = self.number, self.batch
        if not plain.add(batch.rows, number, self.uids[-1], row.cells):
            return False
        self._used()
        batch.entries.append((row.number, (number,), ()))
        return True

    def _used(self) -> None:
        """Go on to the next number and uid."""
        self.number += 1
        self.uids.pop()
        if not self.uids:
            self.uids = new_uids(AT_ONCE)[::-1]

    def draft(self, draft: Draft) -> None:
        """An entry that was read the long way."""
        batch = self.batch
        batch.refused += draft.refused
        batch.cleaned += draft.cleaned
        if draft.group:
            batch.groups.append(draft.group)
        if draft.group and not draft.people and not draft.refused:
            return
        numbers = []
        for person in draft.people:
            number, uid = self.number, self.uids[-1]
            self._used()
            numbers.append(number)
            person.source, person.added = self.stamp.source, self.stamp.added
            if self.stamp.labels:
                have = {fold(label) for label in person.labels}
                person.labels += [label for label in self.stamp.labels if fold(label) not in have]
            if person.uid or not person.addresses:
                batch.alone.add(number)
            person.uid = person.uid or uid
            batch.rows.add(number, person)
        batch.plain &= len(numbers) == 1 and not draft.lists
        batch.entries.append((draft.row, tuple(numbers), tuple(draft.lists)))


def _again(addresses: list[Place]) -> set[int]:
    """Whose addresses stand further up in the batch."""
    seen: set[int] = set()
    again = set()
    for _, value, number in addresses:
        if value in seen:
            again.add(number)
        seen.add(value)
    return again
