"""A short way for rows that hold nothing unusual, nine of ten in a long file: the same in a fraction of the time.

What most rows take is done for all of them at once, column by column. `tests/test_import.py` holds it against the long
way (`files.people.RowReader`, then `Rows.add`).
"""

from __future__ import annotations

import re
from array import array
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import repeat

from barnacle.book.bulk import Place, PlainPeople, Rows
from barnacle.book.stored_contact import address_hashes, plain_card, plain_end
from barnacle.core.addresses import LOCAL_LIMIT, SPECIAL, plain_address
from barnacle.core.names import may_be_split
from barnacle.core.phones import with_zero
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.tables.blanks import may_be_blank
from barnacle.files.tables.columns import Columns

_WORD = "[A-Za-z0-9&'./()-]{1,60}"
# Nothing that these let through needs escaping in JSON, or tidying. Their groups are the parts of a row: two of a name,
# two of an address.
_PATTERNS = {
    "name": "([A-Za-z]{1,60}) ([A-Za-z]{1,60})",
    "address": r"(?:([A-Za-z0-9]+(?:[._-][A-Za-z0-9]+)*)@((?:[A-Za-z0-9]+\.)+[A-Za-z]{2,30}))?",
    "phone": r"((?:0|\+[1-9])[0-9](?: ?[0-9]){4,15})?",
    "org": f"({_WORD}(?: {_WORD}){{0,4}})?",
}
# By these a family name is known, McDONALD too.
_CAPITALS = re.compile("[A-Z]{3}").search
_SOURCE = re.compile(r"[A-Za-z0-9&'./() -]+").fullmatch
_LABEL = 30  # octets, of a label of the plain kind
_SPECIAL = re.compile(rf"(?im)(?:{'|'.join(map(re.escape, SPECIAL))})$").search


class Stamp(NamedTuple):
    """What every contact of an import is given: the command it came by, when (ISO 8601, UTC), labels, an opt-out.
    `one_by_one` says that each must be looked at, whatever it is."""

    source: str
    added: str
    labels: tuple[str, ...]
    opted_out: bool = False
    one_by_one: bool = False


class _Column(NamedTuple):
    """A column of plain rows: what it holds, its kind, and which part of a row is its first."""

    field: str
    kind: str
    part: int


class PlainRows:
    """The short way for one table: one person in a row, with a name in two words and at least one address. `fits`
    tells a line of that kind."""

    def __init__(self, columns: Columns, separator: str, stamp: Stamp) -> None:
        self._made_of = columns, separator, stamp
        self._columns: list[_Column] = []
        patterns = []
        number = 0
        for use in columns.uses:
            assert use is not None
            pattern = _PATTERNS[use.field]
            if use.field == "address":
                # The same address twice is nothing plain.
                for before in self._columns:
                    if before.field == "address":
                        same = rf"(?i:\{before.part + 1}@\{before.part + 2})"
                        pattern = rf"(?!{same}(?:{re.escape(separator)}|[\r\n]|$))" + pattern
            patterns.append(pattern)
            self._columns.append(_Column(use.field, use.kind, number))
            number += 2 if use.field in ("name", "address") else 1
        self.width = number
        self._separator = separator
        row = re.escape(separator).join(patterns)
        self.fits = re.compile(f"{row}\r?\n?").fullmatch
        self._find = re.compile(f"{row}\r?\n|(.*\n)").findall
        self._end = plain_end(stamp.source, stamp.added)
        self._shapes: dict[tuple[bool, ...], Shape] = {}
        self._name = next(column.part for column in self._columns if column.field == "name")

    def __reduce__(self) -> tuple[Any, ...]:
        return PlainRows, self._made_of

    @staticmethod
    def of(columns: Columns | None, separator: str, stamp: Stamp) -> PlainRows | None:
        """The short way for rows of these columns, or None where they or the stamp are not of the plain kind."""
        if columns is None or columns.family_first or stamp.labels or stamp.opted_out or stamp.one_by_one:
            return None
        fields = [use.field for use in columns.uses if use and use.person == 1]
        plain = (
            len(fields) == len(columns.uses)
            and fields.count("name") == 1
            and fields.count("org") <= 1
            and "address" in fields
            and set(fields) <= set(_PATTERNS)
            and _SOURCE(stamp.source)
            and "  " not in stamp.source
        )
        return PlainRows(columns, separator, stamp) if plain else None

    def _shape(self, filled: tuple[bool, ...]) -> Shape:
        shape = self._shapes.get(filled)
        if shape is None:
            shape = self._shapes[filled] = Shape(self._columns, filled, self._end)
        return shape

    def take_apart(self, lines: list[str]) -> list[tuple[str, ...]]:
        """The parts of many lines, as `files.drafts.Fits` has them. All in one go take half the time."""
        if self._separator == "\n":
            none = ("",) * self.width
            each = zip(map(self.fits, lines), lines, strict=True)
            return [(*match.groups(""), "") if match else (*none, line) for match, line in each]
        text = "".join(lines)
        return self._find(text if text.endswith("\n") else f"{text}\n")

    def shapes(self, rows: Sequence[tuple[str, ...]]) -> list[Shape | None]:
        """The shape of each of some rows that fit, by their parts; None for one that is not plain after all."""
        columns = list(zip(*rows, strict=True))[: self.width]
        if not columns:
            return []
        found = list(map(self._shape, zip(*(map(bool, column) for column in columns), strict=True)))
        odd = set(self._odd(columns))
        for shape in set(found):
            if not shape.is_plain:
                odd.update(n for n, row in enumerate(rows) if found[n] is shape and not shape.differs(row))
        return [None if n in odd else shape for n, shape in enumerate(found)] if odd else list(found)

    def _odd(self, columns: list[tuple[str, ...]]) -> Iterator[int]:
        """Rows that have something in their columns that must be read the long way."""
        given, family = columns[self._name : self._name + 2]
        low = _low(given), _low(family)
        if not may_be_split(*low):
            yield from (n for n, words in enumerate(zip(*low, strict=True)) if not may_be_split(*zip(words)))
        if may_be_blank(given, zip(*low, strict=True)):
            yield from (n for n, pair in enumerate(zip(*low, strict=True)) if may_be_blank((given[n],), (pair,)))
        for column in (given, family):
            if _CAPITALS("\n".join(column)):
                yield from (n for n, word in enumerate(column) if _CAPITALS(word))
        for part in (column.part for column in self._columns if column.field == "address"):
            local, domain = columns[part : part + 2]
            short = max(map(len, local)) <= LOCAL_LIMIT and max(map(len, domain)) <= _LABEL
            if not short or _SPECIAL("\n".join(domain)):
                each = enumerate(map("@".join, zip(local, domain, strict=True)))
                yield from (n for n, one in each if one != "@" and not plain_address(one))


class Shape:
    """What those have in common who have the same columns filled: how they are written. Templates, since they take a
    fraction of the time that a loop over the columns does."""

    def __init__(self, columns: list[_Column], filled: tuple[bool, ...], end: str) -> None:
        here = [column for column in columns if filled[column.part]]
        self.addresses, self.phones, self.orgs, (self.name,) = (
            [column.part for column in here if column.field == field] for field in ("address", "phone", "org", "name")
        )
        # Else its numbers must be looked at, or there is no address.
        self.is_plain = bool(self.addresses) and len(self.phones) < 2
        self.end = end
        self._width = len(filled)
        kinds = {column.part: column.kind for column in here}
        of_addresses, of_phones = ([kinds[part] for part in parts] for parts in (self.addresses, self.phones))
        self._card = plain_card(len(self.orgs), of_addresses, of_phones)

    def differs(self, parts: tuple[str, ...]) -> bool:
        """Whether a row has an address, and no two of its numbers are the same, nor have more than one form."""
        numbers = {parts[part].replace(" ", "") for part in self.phones if parts[part][0] != "+"}
        return bool(self.addresses) and len(numbers) == len(self.phones)

    def seen(self, rows: Sequence[tuple[str, ...]]) -> Seen:
        """The parts of some rows of this shape, column by column."""
        return Seen(self, list(zip(*rows, strict=True))[: self._width])


class Seen:
    """Rows of one shape, column by column."""

    def __init__(self, shape: Shape, parts: list[tuple[str, ...]]) -> None:
        self.shape = shape
        self.parts = parts
        self.domains = {part: _low(parts[part + 1]) for part in shape.addresses}
        self._keys = {
            part: list(map("@".join, zip(_low(parts[part]), self.domains[part], strict=True)))
            for part in shape.addresses
        }

    def hashes(self, part: int) -> array[int]:
        """The hashes of the addresses in a column."""
        return address_hashes(self._keys[part])

    def says(self) -> list[str]:
        """The rows' cards, but for when and how they came."""
        shape, parts = self.shape, self.parts
        written: list[Sequence[str]] = [parts[part] for part in (shape.name, shape.name + 1, *shape.orgs)]
        for part in shape.addresses:
            written += [parts[part], self.domains[part]]
        return _joined(shape._card, *written, *(parts[part] for part in shape.phones))

    def people(self, numbers: list[int]) -> tuple[PlainPeople, list[Place]]:
        """The rows' people, without uids, and where their addresses stand in the index."""
        shape, parts = self.shape, self.parts
        given, family = _low(parts[shape.name]), _low(parts[shape.name + 1])
        names = list(map(" ".join, zip(parts[shape.name], parts[shape.name + 1], strict=True)))
        orgs = [_low(parts[part]) for part in shape.orgs]
        phones = [_numbers(parts[part]) for part in shape.phones]
        places: list[Place] = []
        for part in shape.addresses:
            places += zip(self.domains[part], self.hashes(part), numbers, strict=True)
        cards = [says + shape.end for says in self.says()]
        people = PlainPeople(
            numbers,
            [],
            names,
            _low(names),
            cards,
            [],
            given,
            family,
            orgs[0] if orgs else [""] * len(numbers),
            _lines(*self._keys.values()),
            _lines(*phones) if phones else [""] * len(numbers),
        )
        return people, places


class Gathered:
    """Plain rows by their shape: the numbers of their people, and their parts."""

    def __init__(self) -> None:
        self._by_shape: defaultdict[Shape, tuple[list[int], list[tuple[str, ...]]]] = defaultdict(lambda: ([], []))

    def add(self, shapes: Sequence[Shape | None], numbers: Sequence[int], rows: Sequence[tuple[str, ...]]) -> None:
        """Rows with the numbers of their people, but for those without a shape."""
        if len(same := set(shapes)) == 1:
            (shape,) = same
            if shape:
                some, parts = self._by_shape[shape]
                some += numbers
                parts += rows
            return
        for shape, number, row in zip(shapes, numbers, rows, strict=True):
            if shape:
                some, parts = self._by_shape[shape]
                some.append(number)
                parts.append(row)

    def each(self) -> Iterator[tuple[list[int], Seen]]:
        """The rows of each shape."""
        for shape, (numbers, rows) in self._by_shape.items():
            yield numbers, shape.seen(rows)

    def into(self, rows: Rows) -> None:
        """Make rows of the book of them, but for the uids."""
        for numbers, seen in self.each():
            people, places = seen.people(numbers)
            rows.people.extend(people)
            rows.places += places
        if len(self._by_shape) > 1:
            rows.people.sort()


def _numbers(column: Iterable[str]) -> list[str]:
    """As `core.contact.comparable_numbers` has them."""
    bare = "\n".join(column).replace(" ", "").split("\n")
    return [f"{number[1:]}\n{with_zero(number[1:])}" if number[0] == "+" else number for number in bare]


def _low(column: Iterable[str]) -> list[str]:
    return "\n".join(column).lower().split("\n")


def _lines(*columns: Iterable[str]) -> list[str]:
    """As facts have several values."""
    return list(map("\n".join, zip(repeat(""), *columns, repeat(""))))


def _joined(template: str, *columns: Iterable[str]) -> list[str]:
    return list(map(template.__mod__, zip(*columns, strict=True)))
