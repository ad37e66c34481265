"""A short way for rows that hold nothing unusual, nine of ten in a long file: the same result in a quarter of the time.

`tests/test_import.py` holds it against the long way (`files.people.RowReader`, then `Rows.add`).
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from barnacle.book.bulk import Rows
from barnacle.book.index import address_hash
from barnacle.core.addresses import LOCAL_LIMIT, SPECIAL
from barnacle.core.names import may_be_split
from barnacle.files.columns import Columns
from barnacle.files.table import Table

if TYPE_CHECKING:
    from barnacle.jobs.preparing import Stamp

# Nothing that these let through needs escaping in JSON, tidying, or turning round; the address is of the kind that
# `core.addresses.plain_address` takes.
_PATTERNS = {
    "name": r"([A-Za-z]{1,60} [A-Za-z]{1,60})",
    "address": r"(?:([A-Za-z0-9]+(?:[._-][A-Za-z0-9]+)*)@((?:[A-Za-z0-9]{1,30}\.){1,4}[A-Za-z]{2,30}))?",
    "phone": r"((?:0[0-9](?: ?[0-9]){4,15})?)",
    "org": r"([A-Za-z0-9&'./() -]{0,200})",
}
_SOURCE = re.compile(r"[A-Za-z0-9&'./() -]+").fullmatch


class PlainRows:
    """The short way for one table: one person in a row, with a name in two words and at least one address."""

    def __init__(self, columns: Columns, stamp: Stamp) -> None:
        uses = [use for use in columns.uses if use]
        self._match = re.compile("\n".join(_PATTERNS[use.field] for use in uses)).fullmatch
        # The groups of the pattern, in which an address has two.
        self._addresses: list[tuple[int, str]] = []
        self._phones: list[tuple[int, str]] = []
        self._org = self._name = 0
        group = 0
        for use in uses:
            if use.field == "name":
                self._name = group
            elif use.field == "org":
                self._org = group
            else:
                (self._phones if use.field == "phone" else self._addresses).append((group, use.kind))
            group += 2 if use.field == "address" else 1
        self._has_org = any(use.field == "org" for use in uses)
        self._added = stamp.added
        self._source = stamp.source.lower()
        self._end = f',"source":"{stamp.source}","added":"{stamp.added}"}}'

    @staticmethod
    def of(table: Table, stamp: Stamp) -> PlainRows | None:
        """The short way for a table, or None where its columns or the stamp are not of the plain kind."""
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
        return PlainRows(columns, stamp) if plain else None

    def add(self, rows: Rows, number: int, uid: str, cells: list[str]) -> list[int] | None:
        """Add the person of a row. Returns the hashes of its addresses; None, and nothing is added, where the row is
        not of the plain kind."""
        match = self._match("\n".join(cells))
        if match is None:
            return None
        groups = match.groups()
        name = groups[self._name]
        low = name.lower()
        given, _, family = low.partition(" ")
        org = groups[self._org] if self._has_org else ""
        if not may_be_split(given, family) or (org and (org.strip() != org or "  " in org)):
            return None
        keys: list[str] = []
        before_at: list[str] = []
        written: list[str] = []
        places: list[tuple[str, int, int]] = []
        for group, kind in self._addresses:
            local = groups[group]
            if local is None:
                continue
            domain = groups[group + 1].lower()
            key = f"{local.lower()}@{domain}"
            if len(local) > LOCAL_LIMIT or domain.endswith(SPECIAL) or key in keys:
                return None
            keys.append(key)
            before_at.append(f"{local.lower()}@\n")
            places.append((domain, address_hash(key), number))
            written.append(f'["{local}@{domain}","{kind}"]')
        if not keys:
            return None
        card = f'{{"name":"{name}","org":"{org}",' if org else f'{{"name":"{name}",'
        card += f'"addresses":[{",".join(written)}]'
        phones = ""
        if numbers := {groups[group]: kind for group, kind in reversed(self._phones) if groups[group]}:
            written = [f'["{number}","{kind}"]' for number, kind in reversed(numbers.items())]
            card += f',"phones":[{",".join(written)}]'
            phones = "\n" + "\n".join(reversed(numbers)).replace(" ", "") + "\n"
        addresses = "\n" + "\n".join(keys) + "\n"
        org = org.lower()
        rows.addresses += places
        rows.contacts.append((number, uid, name, low, False, card + self._end))
        rows.facts.append(
            (number, low, given, family, org, "", "", "", self._source, self._added, True, addresses, phones, "", "")
        )
        words = (low, org, "\n" + "".join(before_at), phones)
        rows.words.append((number, "\n".join([part for part in words if part])))
        return [value for _, value, _ in places]
