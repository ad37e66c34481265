"""People in nested data: JSON (RFC 8259), a value a line as well, and XML.

Each list of things alike in which there are people is a table, called by where it stands, and each of them a row. What
stands deeper in a thing is a column that is called by the last word on the way there, or by all of it where that word
comes on two ways; an entry of several of a kind (`{"type": "work", "value": "bo@…"}`) by its kind: `emails work`.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.drafts import COLUMNS, Defect, Row
from barnacle.files.encoding import Encoding
from barnacle.files.tables.titles import read_title

# The text, and what is made of it, is in memory as a whole.
_LIMIT = 16 << 20
_DEPTH = 24
_SHEETS = 200
# So many things of a list tell what it holds.
_SAMPLE = 50
_NAMES = frozenset(("name", "given", "family", "both"))
# What an entry of several is called by, and what it says.
_KINDS = ("type", "kind", "label", "use", "name")
_VALUES = ("value", "address", "email", "mail", "number", "phone", "uri", "text")
_ADDRESS = re.compile(r"[^\s@<>]{1,64}@[^\s@<>]{1,255}")

_Record = dict[str, Any]
_Way = tuple[str, ...]


class Tables(NamedTuple):
    """Tables by their titles, each with the titles of its columns as row 0; and how many more there were."""

    rows: dict[str, list[Row]]
    unread: int


def of_json(path: Path, encoding: Encoding) -> Tables:
    """The tables of a JSON file. Raises FileError."""
    _check_size(path, "JSON")
    with _not_too_deep(path):
        return _tables(_json(path, encoding))


def of_xml(path: Path, root: Any) -> Tables:
    """The tables of an XML file, as those of JSON."""
    with _not_too_deep(path):
        return _tables(_of_element(root, 0))


@contextmanager
def _not_too_deep(path: Path) -> Iterator[None]:
    try:
        yield
    except RecursionError:
        raise FileError(f"{visible(path.name)} is nested too deeply. Nothing was added.") from None


def _check_size(path: Path, kind: str) -> None:
    if path.stat().st_size > _LIMIT:
        raise FileError(
            f"{visible(path.name)} has over {_LIMIT >> 20} MB, more than is read of {kind}. Split it, or save its "
            "table as CSV and import that."
        )


def _tables(value: Any) -> Tables:
    people = _People(value)
    some = list(people.found.items())[:_SHEETS]
    rows = {title: list(_rows([people.cells(one) for one in things])) for title, things in some}
    return Tables(rows, len(people.found) - len(some))


def _json(path: Path, encoding: Encoding) -> Any:
    text = path.read_text(encoding=encoding.codec, errors=encoding.errors).lstrip("\ufeff \t\r\n")
    # Numbers stay as they are written: phones and postal codes are some.
    plain = json.JSONDecoder(parse_int=str, parse_float=str, parse_constant=str)
    try:
        value, end = plain.raw_decode(text)
        if not text[end:].strip():
            return value
        return [plain.decode(line) for line in text.splitlines() if line.strip()]
    except json.JSONDecodeError as error:
        place = "" if error.doc is not text else f": see line {error.lineno}, column {error.colno}"
        raise FileError(f"{visible(path.name)} is not valid JSON{place}. Nothing was added.") from None


def read_xml(path: Path) -> Any:
    """The root of an XML file. Raises FileError where it is too large, has entities, or is none."""
    _check_size(path, "XML")
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, parse

    try:
        return parse(path).getroot()
    except (DefusedXmlException, ValueError, LookupError):
        raise FileError(f"{visible(path.name)} has entities in it, which are not read. Nothing was added.") from None
    except ParseError as error:
        line, column = error.position
        where = f"see line {line}, column {column + 1}"
        raise FileError(f"{visible(path.name)} is not valid XML: {where}. Nothing was added.") from None


def _of_element(element: Any, depth: int) -> Any:
    """An element as a value: its text, or its attributes and what is in it; what is there several times is a list."""
    if depth > _DEPTH:
        raise RecursionError
    found: _Record = {_local(name): value for name, value in element.attrib.items()}
    for child in element:
        if not isinstance(child.tag, str):  # a remark
            continue
        name, value = _local(child.tag), _of_element(child, depth + 1)
        if name not in found:
            found[name] = value
        elif isinstance(found[name], list):
            found[name].append(value)
        else:
            found[name] = [found[name], value]
    text = (element.text or "").strip()
    if not found:
        return text
    return found | ({"value": text} if text and "value" not in found else {})


def _local(name: str) -> str:
    return name.rpartition("}")[2]


class _People:
    """Where people stand in a value. What was found out of a thing is kept: each is asked about on many ways."""

    def __init__(self, value: Any) -> None:
        self.found: dict[str, list[_Record]] = {}
        self._signs: dict[int, frozenset[str]] = {}
        self._holds: dict[int, bool] = {}
        self._alive: list[_Record] = []  # whose places in memory stand for them
        self._gather(value, "", 0)

    def _gather(self, value: Any, title: str, depth: int) -> None:
        """Every list of people in a value, by its title, also within one of them."""
        _check_depth(depth)
        if isinstance(value, list):
            things = [one for one in value if isinstance(one, dict)] or self._by_address(value)
        elif isinstance(value, dict):
            things = self._by_keys(value) or [value] * _is_one(value)
        else:
            return
        some = things[:_SAMPLE]
        taken = bool(things) and 2 * sum(map(self._is_person, some)) >= len(some)
        if taken:
            own = [one for one in things if self._is_person(one) or not any(map(self._holds_people, one.values()))]
            self.found.setdefault(title, []).extend(own)
        for one in things or ([value] if isinstance(value, dict) else []):
            called = _called(one) if isinstance(value, list) else ""
            for key, part in one.items():
                if isinstance(part, dict | list) and (not taken or self._holds_people(part)):
                    self._gather(part, called or (title if isinstance(value, list) else key), depth + 1)

    def _by_keys(self, value: _Record) -> list[_Record]:
        """The things of an object that has one under each key; an address may be the key."""
        things = list(value.values())
        if len(things) < 2 or not all(isinstance(one, dict) for one in things):
            return []
        named = [{"email": key} | one if _ADDRESS.fullmatch(key) else one for key, one in value.items()]
        self._alive += named
        return named

    def _by_address(self, value: list[Any]) -> list[_Record]:
        """The people of a list of addresses."""
        named = [{"email": one} for one in value if isinstance(one, str) and _ADDRESS.search(one)]
        self._alive += named
        return named

    def _is_person(self, thing: _Record) -> bool:
        """Whether an address stands in a thing or in what is its own, or a name and a phone."""
        signs = self._signs_of(thing, 0)
        return "address" in signs or ("phone" in signs and not signs.isdisjoint(_NAMES))

    def _signs_of(self, thing: _Record, depth: int) -> frozenset[str]:
        """What stands in a thing, and not in other people's: an address, and what its titles speak of."""
        _check_depth(depth)
        if (known := self._signs.get(id(thing))) is not None:
            return known
        found: set[str] = set()
        for key, one in self._parts(thing, depth):
            if not isinstance(one, dict):
                found |= _signs_in(key, _text(one))
            elif said := _entry(one):
                found |= _signs_in(key, said[1])
            else:
                found |= self._signs_of(one, depth + 1)
        self._signs[id(thing)] = frozenset(found)
        return self._signs[id(thing)]

    def _parts(self, thing: _Record, depth: int) -> Iterator[tuple[str, Any]]:
        """What is a thing's own: each of its values, and each of those that it lists, if they are not other people."""
        for key, value in thing.items():
            if isinstance(value, list):
                if not self._are_others(value, depth + 1):
                    yield from ((key, one) for one in value if not isinstance(one, list))
            elif not isinstance(value, dict) or _entry(value) or not self._by_keys(value):
                yield key, value

    def _are_others(self, value: list[Any], depth: int = 0) -> bool:
        """Whether somebody is in a list: an object that has a name, and an address beside it. A list of all of one
        person's addresses has nobody."""
        return any(self._is_other(one, depth) for one in value if isinstance(one, dict))

    def _is_other(self, thing: _Record, depth: int) -> bool:
        titles = [read_title(key) for key, value in thing.items() if value]
        if len(titles) < 2 or not any(title.is_sure and title.concept in _NAMES for title in titles):
            return False
        return "address" in self._signs_of(thing, depth)

    def _holds_people(self, value: Any, depth: int = 0) -> bool:
        """Whether people stand in a value who are others than whoever has it."""
        _check_depth(depth)
        if not isinstance(value, dict | list):
            return False
        if (known := self._holds.get(id(value))) is None:
            some: list[Any] = value if isinstance(value, list) else list(value.values())
            things = some if isinstance(value, list) else self._by_keys(value)
            known = self._are_others(things, depth) or any(self._holds_people(one, depth + 1) for one in some)
            self._holds[id(value)] = known
        return known

    def cells(self, thing: _Record) -> dict[_Way, str]:
        """The texts of a thing by the ways to them, without those of other people. Several in one list stand together;
        what else comes again has a number."""
        found: dict[_Way, str] = {}
        times: Counter[_Way] = Counter()
        for way, text, is_listed in self._flat(thing):
            if is_listed and way in found:
                found[way] += f", {text}"
            else:
                times[way] += 1
                found[way if times[way] == 1 else (*way, str(times[way]))] = text
        return found

    def _flat(self, thing: _Record) -> Iterator[tuple[_Way, str, bool]]:
        for key, one in self._parts(thing, 0):
            if not isinstance(one, dict):
                if text := _text(one):
                    yield (key,), text, True
            elif said := _entry(one):
                yield (key, *said[0]), said[1], False
            else:
                yield from (((key, *way), text, is_listed) for way, text, is_listed in self._flat(one))


def _check_depth(depth: int) -> None:
    if depth > _DEPTH:
        raise RecursionError


def _is_one(value: _Record) -> bool:
    """Whether an object may be a person, not what one stands in alone."""
    return len(value) > 1 or not isinstance(next(iter(value.values()), None), dict | list)


def _called(thing: _Record) -> str:
    """What a thing with people in it is called."""
    named = (value for key, value in thing.items() if isinstance(value, str) and key.lower() in ("name", "title"))
    return tidy(next(named, ""), 80)


def _signs_in(key: str, text: str) -> set[str]:
    return ({read_title(key).concept} | ({"address"} if _ADDRESS.search(text) else set())) if text else set()


def _entry(thing: _Record) -> tuple[_Way, str] | None:
    """The kind and the value of an entry of several; None for what is none."""
    if not all(isinstance(one, str | bool | None) for one in thing.values()):
        return None
    said = {key.lower(): one for key, one in thing.items() if isinstance(one, str)}
    kind = next((said[key] for key in _KINDS if key in said), "")
    value = next((key for key in _VALUES if key in said), "")
    if not value or said.keys() - {value, *_KINDS} or not (kind or value == "value"):
        return None
    return (kind,) if kind else (), _text(said[value])


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return tidy(value) if isinstance(value, str) else ""


def _rows(cells: list[dict[_Way, str]]) -> Iterator[Row]:
    ways = list(dict.fromkeys(way for one in cells for way in one))[:COLUMNS]
    last = [way[-1].lower() for way in ways]
    # A word that stands on one way alone, and says something by itself, is enough.
    alone = [last.count(word) == 1 and word not in _VALUES and not word.isdecimal() for word in last]
    titles = [way[-1] if one and _says(way) else " ".join(way) for way, one in zip(ways, alone, strict=True)]
    yield Row(0, [tidy(title, 80) for title in titles])
    for number, one in enumerate(cells, 1):
        row = Row(number, [one.get(way, "") for way in ways])
        beyond = len(one) - sum(way in one for way in ways) if len(ways) == COLUMNS else 0
        reason = f"{beyond:,} values are beyond the {COLUMNS:,} columns that are read, and were left out"
        yield row._replace(odd=(Defect(number, "", "", reason),)) if beyond else row


def _says(way: _Way) -> bool:
    """Whether the last word of a way says enough: it is understood, or neither it nor what it belongs to is any of a
    person's data."""
    first, last = read_title(way[0]), read_title(way[-1])
    return len(way) == 1 or last.concept != "" or not (first.concept or last.is_known or way[-1].lower() in _KINDS)
