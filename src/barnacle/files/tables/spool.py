"""Rows of a table that wait until it is known which columns it has."""

from __future__ import annotations

import marshal
from collections.abc import Iterable, Iterator, Mapping
from itertools import islice
from tempfile import SpooledTemporaryFile

# So many rows are written at once, and so many octets kept in memory.
_AT_ONCE, _IN_MEMORY = 500, 1 << 20


class Spool:
    """Rows, each a mapping of columns to cells; many wait in a temporary file that has no name. `columns` are those in
    which any of them has something, as they came. They can be gone through once."""

    def __init__(self, rows: Iterable[dict[str, str]]) -> None:
        found: dict[str, str] = {}
        self._file = SpooledTemporaryFile(_IN_MEMORY)  # noqa: SIM115
        self._sizes: list[int] = []
        rest = iter(rows)
        while some := list(islice(rest, _AT_ONCE)):
            for row in some:
                if not row.keys() <= found.keys():
                    found.update(row)
            self._sizes.append(self._file.write(marshal.dumps(some)))
        self.columns = tuple(found)

    def __iter__(self) -> Iterator[Mapping[str, str]]:
        with self._file as file:
            file.seek(0)
            for size in self._sizes:
                yield from marshal.loads(file.read(size))
