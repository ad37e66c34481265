"""The pages of a book's file, read without SQLite (its file format, sections 1 and 2), so that what stands on sound
pages of a damaged book can be had."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from barnacle.core.typed import NamedTuple

_HEADER = 100
_USUAL = 4096
_TABLE_LEAF, _TABLE_INTERIOR, _INDEX_LEAF, _INDEX_INTERIOR = 0x0D, 0x05, 0x0A, 0x02
_KINDS = (_TABLE_LEAF, _TABLE_INTERIOR, _INDEX_LEAF, _INDEX_INTERIOR)
_INTEGERS = {1: 1, 2: 2, 3: 3, 4: 4, 5: 6, 6: 8}
_COLUMNS = 60

Value = int | float | str | bytes | None


class Record(NamedTuple):
    """A row as it stands on a page: the page, its rowid (None in an index), the pages that it takes up, its values."""

    page: int
    rowid: int | None
    pages: tuple[int, ...]
    values: list[Value]


class BrokenPageError(ValueError):
    """What should be a record is none."""


class Pages:
    """The pages of a database file."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        size = int.from_bytes(data[16:18], "big")
        size = 65536 if size == 1 else size
        sound = data[:16] == b"SQLite format 3\0" and 512 <= size <= 65536 and size & (size - 1) == 0
        self.size = size if sound else _USUAL
        self.usable = self.size - (data[20] if sound and data[20] < 64 else 0)
        self.number = len(data) // self.size

    def page(self, number: int) -> bytes:
        """A page, counted from 1. Raises BrokenPageError where there is none of that number."""
        if not 1 <= number <= self.number:
            raise BrokenPageError(f"there is no page {number}")
        return self.data[(number - 1) * self.size : number * self.size]

    def kind(self, number: int) -> int:
        """What kind of page of a tree it is, 0 where it is none."""
        page = self.page(number)
        kind = page[_HEADER if number == 1 else 0]
        return kind if kind in _KINDS else 0

    def free(self) -> set[int]:
        """The pages that are in use for nothing, as far as the list of them can be read."""
        found: set[int] = set()
        trunk = int.from_bytes(self.data[32:36], "big")
        while trunk and trunk not in found:
            try:
                page = self.page(trunk)
            except BrokenPageError:
                break
            found.add(trunk)
            trunk, leaves = struct.unpack(">II", page[:8])
            if leaves > self.usable // 4 - 2:
                break
            found.update(struct.unpack(f">{leaves}I", page[8 : 8 + 4 * leaves]))
        return found

    def tree(self, root: int) -> set[int]:
        """The pages of a tree that can be reached from its root."""
        found: set[int] = set()
        todo = [root]
        while todo:
            number = todo.pop()
            if number in found:
                continue
            try:
                kind = self.kind(number)
            except BrokenPageError:
                continue
            found.add(number)
            if kind in (_TABLE_INTERIOR, _INDEX_INTERIOR):
                todo += self._children(number)
        return found

    def _children(self, number: int) -> list[int]:
        page = self.page(number)
        start = _HEADER if number == 1 else 0
        found = [int.from_bytes(page[start + 8 : start + 12], "big")]
        for at in self._cells(page, start, 12):
            if at + 4 <= self.size:
                found.append(int.from_bytes(page[at : at + 4], "big"))
        return found

    def _cells(self, page: bytes, start: int, header: int) -> list[int]:
        cells = int.from_bytes(page[start + 3 : start + 5], "big")
        begin = start + header
        if begin + 2 * cells > self.size:
            return []
        return list(struct.unpack(f">{cells}H", page[begin : begin + 2 * cells]))

    def records(self, number: int) -> Iterator[Record | None]:
        """The records of a page of a tree; None for each that cannot be read."""
        try:
            page, kind = self.page(number), self.kind(number)
        except BrokenPageError:
            return
        if kind not in (_TABLE_LEAF, _INDEX_LEAF, _INDEX_INTERIOR):
            return
        start = _HEADER if number == 1 else 0
        for at in self._cells(page, start, 12 if kind == _INDEX_INTERIOR else 8):
            try:
                yield self._record(number, page, at + (4 if kind == _INDEX_INTERIOR else 0), kind == _TABLE_LEAF)
            except (BrokenPageError, IndexError, struct.error, UnicodeDecodeError):
                yield None

    def _record(self, number: int, page: bytes, at: int, is_table: bool) -> Record:
        length, at = _varint(page, at)
        rowid = None
        if is_table:
            rowid, at = _varint(page, at)
        if length > len(self.data):
            raise BrokenPageError("a record is longer than the file")
        payload, used = self._payload(page, at, length, is_table)
        return Record(number, rowid, (number, *used), _values(payload))

    def _payload(self, page: bytes, at: int, length: int, is_table: bool) -> tuple[bytes, list[int]]:
        most = self.usable - 35 if is_table else (self.usable - 12) * 64 // 255 - 23
        if length <= most:
            return page[at : at + length], []
        least = (self.usable - 12) * 32 // 255 - 23
        here = least + (length - least) % (self.usable - 4)
        here = least if here > most else here
        parts, left = [page[at : at + here]], length - here
        following = int.from_bytes(page[at + here : at + here + 4], "big")
        used: list[int] = []
        while left > 0:
            more = self.page(following)
            used.append(following)
            if len(used) > self.number:
                raise BrokenPageError("a record runs in a circle")
            parts.append(more[4 : 4 + min(left, self.usable - 4)])
            left -= self.usable - 4
            following = int.from_bytes(more[:4], "big")
        return b"".join(parts), used


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = 0
    for n in range(9):
        octet = data[at]
        at += 1
        if n == 8:
            return (value << 8) | octet, at
        value = (value << 7) | (octet & 0x7F)
        if octet < 0x80:
            break
    return value, at


def _values(payload: bytes) -> list[Value]:
    """The values of a record (section 2.1)."""
    length, at = _varint(payload, 0)
    if length > len(payload):
        raise BrokenPageError("a record's header is longer than the record")
    kinds = []
    while at < length:
        kind, at = _varint(payload, at)
        kinds.append(kind)
    if len(kinds) > _COLUMNS or at != length:
        raise BrokenPageError("a record's header is broken")
    found: list[Value] = []
    for kind in kinds:
        size = _INTEGERS.get(kind, 8 if kind == 7 else 0 if kind < 12 else (kind - 12) // 2)
        part = payload[at : at + size]
        if len(part) < size:
            raise BrokenPageError("a record is cut off")
        at += size
        if kind in _INTEGERS:
            found.append(int.from_bytes(part, "big", signed=True))
        elif kind == 7:
            found.append(struct.unpack(">d", part)[0])
        elif kind in (8, 9):
            found.append(kind - 8)
        elif kind >= 12:
            found.append(part.decode("utf-8") if kind % 2 else part)
        elif kind == 0:
            found.append(None)
        else:
            raise BrokenPageError("a value is of a kind that is not known")
    if at != len(payload):
        raise BrokenPageError("a record is longer than its values")
    return found
