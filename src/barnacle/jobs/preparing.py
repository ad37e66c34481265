"""An import's first half, which needs no book: entries of a file become rows ready to be written.

It may run in a process of its own, ahead of the other half (`taking`).
"""

from __future__ import annotations

import gc
import marshal
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from barnacle.book.bulk import Rows, wanted
from barnacle.book.contacts import new_uids
from barnacle.core.text import fold
from barnacle.files.source import Source
from barnacle.files.table import Defect, Draft, Group, Row
from barnacle.jobs.plainrows import PlainRows

AT_FIRST, AT_ONCE = 500, 5000


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
    with an address that stands further up in the batch. `question` asks the book for holders of the addresses; `plain`
    says that each entry is one person, and names no list.
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
        bulk = (self.entries, rows.contacts, rows.facts, rows.words, rows.addresses, rows.labels, self.alone)
        rest = (self.question, self.plain, self.refused, self.cleaned, self.groups)
        return _unpacked, (marshal.dumps(bulk), *rest)


def _unpacked(bulk: bytes, *rest: Any) -> Batch:
    entries, contacts, facts, words, addresses, labels, alone = marshal.loads(bulk)
    return Batch(entries, Rows(contacts, facts, words, addresses, labels), alone, *rest)


def prepare(source: Source, first: int, stamp: Stamp) -> Iterator[Batch]:
    """All entries of a source, in batches; the people are numbered from `first`. Raises FileError."""
    return _Preparing(first, stamp).run(source)


def prepare_alone(source: Source, first: int, stamp: Stamp) -> Iterator[Batch]:
    """The same in a process that does nothing else: what it makes has no cycles, so nothing needs collecting."""
    gc.disable()
    return prepare(source, first, stamp)


class _Preparing:
    def __init__(self, first: int, stamp: Stamp) -> None:
        self.number = first
        self.stamp = stamp
        self.batch = Batch()
        self.uids: list[str] = []
        self.seen: set[int] = set()

    def run(self, source: Source) -> Iterator[Batch]:
        most = AT_FIRST  # so that whoever waits for the first batch has work soon
        for table in source.tables():
            plain = PlainRows.of(table, self.stamp) if table.columns else None
            for item in table.items():
                if isinstance(item, Draft):
                    self.draft(item)
                elif plain is None or not self._plain(plain, item):
                    self.draft(table.read(item))
                if len(self.batch.entries) >= most:
                    yield self._full()
                    most = AT_ONCE
        yield self._full()

    def _full(self) -> Batch:
        batch, self.batch, self.seen = self.batch, Batch(), set()
        batch.rows.addresses.sort()
        batch.question = wanted(batch.rows.addresses)
        return batch

    def _plain(self, plain: PlainRows, row: Row) -> bool:
        number, uid = self._next()
        values = plain.add(self.batch.rows, number, uid, row.cells)
        if values is None:
            self.number = number  # it was not used
            return False
        self._places(number, values)
        self.batch.entries.append((row.number, (number,), ()))
        return True

    def _next(self) -> tuple[int, str]:
        if not self.uids:
            self.uids = new_uids(AT_ONCE)
        self.number += 1
        return self.number - 1, self.uids.pop()

    def _places(self, number: int, values: list[int]) -> None:
        for value in values:
            if value in self.seen:
                self.batch.alone.add(number)
            self.seen.add(value)

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
            number, uid = self._next()
            numbers.append(number)
            person.source, person.added = self.stamp.source, self.stamp.added
            if self.stamp.labels:
                have = {fold(label) for label in person.labels}
                person.labels += [label for label in self.stamp.labels if fold(label) not in have]
            if person.uid or not person.addresses:
                batch.alone.add(number)
            person.uid = person.uid or uid
            self._places(number, batch.rows.add(number, person))
        batch.plain &= len(numbers) == 1 and not draft.lists
        batch.entries.append((draft.row, tuple(numbers), tuple(draft.lists)))
