"""A short way for rows that hold nothing unusual, nine of ten in a long file: the same result in a quarter of the time.

`tests/test_import.py` holds it against the long way (`files.people.RowReader`, then `Rows.add`).
"""

from __future__ import annotations

import re
from hashlib import blake2b
from typing import TYPE_CHECKING

from barnacle.book.bulk import Place, Rows
from barnacle.core.addresses import LOCAL_LIMIT, SPECIAL
from barnacle.core.names import may_be_split
from barnacle.files.columns import Columns
from barnacle.files.table import Table

if TYPE_CHECKING:
    from barnacle.jobs.preparing import Stamp

# Nothing that these let through needs escaping in JSON, tidying, or turning round; the address is of the kind that
# `core.addresses.plain_address` takes.
_PATTERNS = {
    "name": r"[A-Za-z]{1,60} [A-Za-z]{1,60}",
    "address": r"(?:[A-Za-z0-9]+(?:[._-][A-Za-z0-9]+)*@(?:[A-Za-z0-9]{1,30}\.){1,4}[A-Za-z]{2,30})?",
    "phone": r"(?:0[0-9](?: ?[0-9]){4,15})?",
    "org": r"[A-Za-z0-9&'./() -]{0,200}",
}
_SOURCE = re.compile(r"[A-Za-z0-9&'./() -]+").fullmatch


class PlainRows:
    """The short way for one table: one person in a row, with a name in two words and at least one address."""

    def __init__(self, columns: Columns, stamp: Stamp, words: bool) -> None:
        self._no_words = not words
        uses = [use for use in columns.uses if use]
        self._match = re.compile("\n".join(_PATTERNS[use.field] for use in uses)).fullmatch
        places = [(place, use) for place, use in enumerate(columns.uses) if use]
        self._name = next(place for place, use in places if use.field == "name")
        self._org = next((place for place, use in places if use.field == "org"), None)
        self._addresses = [(place, use.kind) for place, use in places if use.field == "address"]
        self._phones = [(place, use.kind) for place, use in places if use.field == "phone"]
        self._end = f',"source":"{stamp.source}","added":"{stamp.added}"}}'

    @staticmethod
    def of(table: Table, stamp: Stamp, words: bool) -> PlainRows | None:
        """The short way for a table, or None where its columns or the stamp are not of the plain kind. `words` says
        that these are wanted too: what most rows have if nobody knows their people."""
        columns = table.columns
        if columns is None or stamp.labels or table.list_by is not None:
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
        return PlainRows(columns, stamp, words) if plain else None

    def add(self, rows: Rows, number: int, uid: str, cells: list[str]) -> bool:
        """Add the person of a row; nothing is added where the row is not of the plain kind."""
        joined = "\n".join(cells)
        if self._match(joined) is None:
            return False
        folded = joined.lower().split("\n")
        name, low = cells[self._name], folded[self._name]
        given, _, family = low.partition(" ")
        org = low_org = ""
        if self._org is not None:
            org, low_org = cells[self._org], folded[self._org]
        if not may_be_split(given, family) or (org and (org.strip() != org or "  " in org)):
            return False
        keys: list[str] = []
        places: list[Place] = []
        before_at = written = ""
        from_octets = int.from_bytes
        for place, kind in self._addresses:
            key = folded[place]
            if not key:
                continue
            local, _, domain = key.partition("@")
            if len(local) > LOCAL_LIMIT or domain.endswith(SPECIAL) or key in keys:
                return False
            keys.append(key)
            before_at += f"\n{local}@"
            digest = blake2b(key.encode(), digest_size=8).digest()  # `index.address_hash`, without a call's cost
            places.append((domain, from_octets(digest, "big", signed=True), number))
            written += f'["{cells[place][: len(local)]}@{domain}","{kind}"],'
        if not keys:
            return False
        card = f'{{"name":"{name}","org":"{org}",' if org else f'{{"name":"{name}",'
        card += f'"addresses":[{written[:-1]}]'
        numbers = ""
        phones = "\n"
        for place, kind in self._phones:
            if (cell := cells[place]) and f'["{cell}",' not in numbers:
                numbers += f'["{cell}","{kind}"],'
                phones += cell.replace(" ", "") + "\n"
        if numbers:
            card += f',"phones":[{numbers[:-1]}]'
        else:
            phones = ""
        rows.contacts.append((number, uid, name, low, False, card + self._end))
        rows.plain_facts.append((number, low, given, family, low_org, "\n" + "\n".join(keys) + "\n", phones))
        rows.addresses += places
        if self._no_words:
            return True
        words = f"{low}\n{low_org}\n{before_at}\n" if org else f"{low}\n{before_at}\n"
        rows.words.append((number, f"{words}\n{phones}" if phones else words))
        return True
