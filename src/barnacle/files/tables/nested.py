"""People in nested data: JSON (RFC 8259), a value a line as well, and XML.

Each list of things alike in which there are people is a table, called by where it stands, and each of them a row. What
stands deeper in a thing is a column that is called by the last word on the way there, or by all of it where that word
comes on two ways; an entry of several of a kind (`{"type": "work", "value": "bo@…"}`) by its kind: `emails work`.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any
from barnacle.files.drafts import COLUMNS, Row
from barnacle.files.encoding import Encoding
from barnacle.files.tables.titles import read_title

# The text, and what is made of it, is in memory as a whole.
_LIMIT = 16 << 20
_DEPTH = 40
_SHEETS = 200
# So many things of a list tell what it holds.
_SAMPLE = 50
# So many entries of one kind are columns.
_ENTRIES = 10
_NAMES = frozenset(("name", "given", "family", "both"))
# What an entry of several is called by, and what it says.
_KINDS = ("type", "kind", "label", "use", "name")
_VALUES = ("value", "address", "email", "mail", "number", "phone", "uri", "text")
_ADDRESS = re.compile(r"[^\s@<>]{1,64}@[^\s@<>]{1,255}")

_Record = dict[str, Any]


def of_json(path: Path, encoding: Encoding) -> dict[str, list[Row]]:
    """The tables of a JSON file by their titles: the titles of columns as row 0, then the entries. Raises FileError."""
    _check_size(path, "JSON")
    with _not_too_deep(path):
        return _tables(_json(path, encoding))


def of_xml(path: Path, root: Any) -> dict[str, list[Row]]:
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


def _tables(value: Any) -> dict[str, list[Row]]:
    found: dict[str, list[_Record]] = {}
    _gather(value, "", found, 0)
    return {title: list(_rows(records)) for title, records in found.items()}


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


def _gather(value: Any, title: str, found: dict[str, list[_Record]], depth: int) -> None:
    """Every list of people in a value, by its title, also within one of them."""
    if depth > _DEPTH:
        raise RecursionError
    if isinstance(value, list):
        things = [one for one in value if isinstance(one, dict)]
    elif isinstance(value, dict):
        things = _by_keys(value) or [value] * _is_one(value)
    else:
        return
    taken = bool(things) and _are_people(things)
    if taken and (title in found or len(found) < _SHEETS):
        own = [one for one in things if _is_person(one) or not any(map(_holds_people, one.values()))]
        found.setdefault(title, []).extend(own)
    for one in things or ([value] if isinstance(value, dict) else []):
        called = _called(one) if isinstance(value, list) else ""
        for key, part in one.items():
            if isinstance(part, dict | list) and (not taken or _holds_people(part)):
                _gather(part, called or (title if isinstance(value, list) else key), found, depth + 1)


def _is_one(value: _Record) -> bool:
    """Whether an object may be a person, not what one stands in alone."""
    return len(value) > 1 or not isinstance(next(iter(value.values()), None), dict)


def _by_keys(value: _Record) -> list[_Record]:
    """The things of an object that has one under each key; an address may be the key."""
    things = list(value.values())
    if len(things) < 2 or not all(isinstance(one, dict) for one in things):
        return []
    return [{"email": key} | one if _ADDRESS.fullmatch(key) else one for key, one in value.items()]


def _called(thing: _Record) -> str:
    """What a thing with people in it is called."""
    named = (value for key, value in thing.items() if isinstance(value, str) and key.lower() in ("name", "title"))
    return tidy(next(named, ""), 80)


def _are_people(things: list[_Record]) -> bool:
    some = things[:_SAMPLE]
    return 2 * sum(map(_is_person, some)) >= len(some)


def _is_person(thing: _Record) -> bool:
    """Whether an address stands in a thing, or in what is its own: not in a list of other people."""
    said = list(_flat(thing))
    if any(_ADDRESS.search(text) for _, text in said):
        return True
    concepts = {read_title(way[-1]).concept for way, _ in said}
    return "phone" in concepts and not concepts.isdisjoint(_NAMES)


def _holds_people(value: Any, depth: int = 0) -> bool:
    """Whether people stand in a value who are others than whoever has it: things with a name of their own beside what
    they say. A list of all of somebody's addresses has none."""
    if depth > _DEPTH:
        raise RecursionError
    if isinstance(value, dict):
        some: Iterable[Any] = value.values()
        if any(map(_has_name, _by_keys(value))):
            return True
    elif isinstance(value, list):
        some = value
        if any(isinstance(one, dict) and _has_name(one) for one in value):
            return True
    else:
        return False
    return any(_holds_people(one, depth + 1) for one in some if isinstance(one, dict | list))


def _has_name(thing: _Record) -> bool:
    titles = [read_title(key) for key, value in thing.items() if value]
    return len(titles) > 1 and any(title.is_sure and title.concept in _NAMES for title in titles) and _is_person(thing)


def _flat(thing: _Record, depth: int = 0) -> Iterator[tuple[tuple[str, ...], str]]:
    """The texts of a thing, each with the way to it; those of other people in it are not its own."""
    if depth > _DEPTH:
        raise RecursionError
    for key, value in thing.items():
        if isinstance(value, dict):
            said = _entry(value)
            if said is not None:
                yield (key, *said[0]), said[1]
            elif not _by_keys(value):
                yield from (((key, *way), text) for way, text in _flat(value, depth + 1))
        elif isinstance(value, list):
            if any(isinstance(one, dict) and _has_name(one) for one in value):
                continue
            texts = [_text(one) for one in value if not isinstance(one, dict | list)]
            if any(texts):
                yield (key,), ", ".join(filter(None, texts))
            things = [one for one in value if isinstance(one, dict)]
            for number, one in enumerate(things[:_ENTRIES], 1):
                said = _entry(one)
                behind = () if number == 1 else (str(number),)
                if said is not None:
                    yield (key, *(said[0] or behind)), said[1]
                else:
                    yield from (((key, *way, *behind), text) for way, text in _flat(one, depth + 1))
        elif text := _text(value):
            yield (key,), text


def _entry(thing: _Record) -> tuple[tuple[str, ...], str] | None:
    """The kind and the value of an entry of several; None for what is none."""
    if not all(isinstance(one, str | bool | None) for one in thing.values()):
        return None
    small = {key.lower(): one for key, one in thing.items()}
    kind = next((small[key] for key in _KINDS if isinstance(small.get(key), str)), "")
    value = next((key for key in _VALUES if isinstance(small.get(key), str)), "")
    others = [key for key, one in small.items() if key not in (*_KINDS, value) and isinstance(one, str)]
    return (
        None
        if not value or others or not (kind or value == "value")
        else ((kind,) if kind else (), _text(small[value]))
    )


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return tidy(value) if isinstance(value, str) else ""


def _rows(records: Iterable[_Record]) -> Iterator[Row]:
    flat = [dict(_flat(record)) for record in records]
    ways = list(dict.fromkeys(way for one in flat for way in one))[:COLUMNS]
    last = [way[-1].lower() for way in ways]
    # A word that stands on one way alone, and says something by itself, is enough.
    alone = [last.count(word) == 1 and word not in _VALUES and not word.isdecimal() for word in last]
    titles = [way[-1] if one and _says(way) else " ".join(way) for way, one in zip(ways, alone, strict=True)]
    yield Row(0, [tidy(title, 80) for title in titles])
    for number, one in enumerate(flat, 1):
        yield Row(number, [one.get(way, "") for way in ways])


def _says(way: tuple[str, ...]) -> bool:
    """Whether the last word of a way says enough: it is understood, or neither it nor what it belongs to is any of a
    person's data."""
    first, last = read_title(way[0]), read_title(way[-1])
    return len(way) == 1 or last.concept != "" or not (first.concept or last.is_known or way[-1].lower() in _KINDS)
