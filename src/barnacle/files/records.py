"""People whose fields stand below or beside each other, each with its title in front: `Name: Bo Lund | E-mail: bo@…`.

So forms tell what was filled in. They are read as a table is: each title is a column, each person a row.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from itertools import islice
from pathlib import Path

from barnacle.core.text import fold
from barnacle.files.drafts import COLUMNS, Line, Row
from barnacle.files.encoding import Encoding
from barnacle.files.pasted import lines_of
from barnacle.files.tables.titles import read_title

_FIELD = re.compile(r"[ *>•-]*([^\W\d][^:\t\n]{0,59}?)\s*[:\t](?!//)\s*(.*)")
_BESIDE = re.compile(r"[|;]|,(?=\s)")
_NAMES = frozenset(("name", "given", "family", "both", "org"))
_SAMPLE = 200
# Of so many lines one may be none that has a title.
_MOSTLY = 4


def are_records(lines: Iterable[Line]) -> bool:
    """Whether nearly all of some lines are fields with their titles, those of names and of addresses among them."""
    sample = list(islice((line for line in lines if any(map(str.isalnum, line.text))), _SAMPLE))
    said = [fields for line in sample if (fields := _fields(line.text))]
    fields = [field for some in said for field in some]
    if len(fields) < 2 or len(sample) > len(said) + len(said) // _MOSTLY:
        return False
    told = {title: read_title(title) for title in {title for title, _ in fields}}
    concepts = {title.concept for title in told.values() if title.is_sure}
    return (
        "email" in concepts
        and not _NAMES.isdisjoint(concepts)
        and all("@" not in value or told[title].concept for title, value in fields)
    )


def _fields(line: str) -> list[tuple[str, str]]:
    """The titles and values of a line; several where all that stands between signs has a title."""
    parts = [_FIELD.fullmatch(part.strip()) for part in _BESIDE.split(line)]
    if len(parts) > 1 and all(parts):
        return [(found[1], found[2].strip()) for found in parts if found]
    found = _FIELD.fullmatch(line)
    return [(found[1], found[2].strip())] if found else []


def rows(path: Path, encoding: Encoding) -> Iterator[Row]:
    """The titles as the row 0, and each person as a row with the number of the first line."""
    titles: dict[str, str] = {}
    for record in _records(lines_of(path, encoding)):
        for title, _ in record[1]:
            if len(titles) < COLUMNS:
                titles.setdefault(fold(title), title)
    yield Row(0, list(titles.values()))
    for number, fields in _records(lines_of(path, encoding)):
        values: dict[str, str] = {}
        for title, value in fields:
            values[fold(title)] = value
        yield Row(number, [values.get(key, "") for key in titles])


def _records(lines: Iterable[Line]) -> Iterator[tuple[int, list[tuple[str, str]]]]:
    """Each person's fields, with the number of the first line: a title that was there before begins the next one."""
    number = last = 0
    fields: list[tuple[str, str]] = []
    seen: set[str] = set()
    for line in lines:
        told = _fields(line.text)
        if not told:
            if fields and any(map(str.isalnum, line.text)) and line.number == last + 1:
                fields[-1] = (fields[-1][0], f"{fields[-1][1]}\n{line.text}".strip())  # a value of two lines
                last = line.number
            continue
        if not seen.isdisjoint(fold(title) for title, _ in told):
            yield number, fields
            fields, seen = [], set()
        number = number if fields else line.number
        fields += told
        seen |= {fold(title) for title, _ in told}
        last = line.number
    if fields:
        yield number, fields
