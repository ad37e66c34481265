"""Filters of addressbook-query (RFC 6352 section 10.5)."""

from __future__ import annotations

import io
import unicodedata
from collections.abc import Callable, Iterable
from xml.etree.ElementTree import Element

from barnacle.core.contentline import Property, parse_line, unescape, unfolded
from barnacle.hub.davxml import c
from barnacle.hub.refusals import UnmetError


def _casemap(text: str) -> str:
    """i;unicode-casemap (RFC 5051): capitals aside, and however accents are written; but accents count."""
    return unicodedata.normalize("NFKD", unicodedata.normalize("NFKD", text).casefold())


_CAPITALS = str.maketrans({chr(code): chr(code + 32) for code in range(65, 91)})
# RFC 4790 section 9.
_ALIKE: dict[str, Callable[[str], str]] = {
    "i;unicode-casemap": _casemap, "i;ascii-casemap": lambda text: text.translate(_CAPITALS), "i;octet": str,
}  # fmt: skip
COLLATIONS = tuple(_ALIKE)
# What one filter may ask of each card.
MOST_TESTS = 300
Fits = Callable[[str], bool]
_HOW: dict[str, Callable[[str, str], bool]] = {
    "equals": lambda value, wanted: value == wanted,
    "contains": lambda value, wanted: wanted in value,
    "starts-with": str.startswith,
    "ends-with": str.endswith,
}


def read_filter(root: Element | None) -> Fits:
    """Whether a card fits, by a CARDDAV:filter; without one all do. Raises UnmetError for what is not supported."""
    if root is None:
        return lambda text: True
    if sum(1 for _ in root.iter()) > MOST_TESTS:
        raise UnmetError("supported-filter", f"A filter may have {MOST_TESTS} parts at most.")
    tests = [_of_property(one) for one in root.findall(c("prop-filter"))]
    together = _together(root)

    def fits(text: str) -> bool:
        properties = _properties(text)
        return together(test(properties) for test in tests)

    return fits if tests else lambda text: True


def _properties(text: str) -> list[Property]:
    found = (parse_line(line) for _, line in unfolded(io.StringIO(text, newline="\n")))
    return [prop for prop in found if prop is not None]


def _together(one: Element) -> Callable[[Iterable[bool]], bool]:
    return all if one.get("test") == "allof" else any


def _of_property(one: Element) -> Callable[[list[Property]], bool]:
    name = one.get("name", "").upper()
    if one.find(c("is-not-defined")) is not None:
        return lambda properties: all(p.name != name for p in properties)
    tests = [_of_text(match) for match in one.findall(c("text-match"))]
    params = [_of_parameter(param) for param in one.findall(c("param-filter"))]
    together = _together(one)

    def fits(prop: Property) -> bool:
        return together([*(test(unescape(prop.value)) for test in tests), *(test(prop) for test in params)])

    return lambda properties: any((not tests and not params) or fits(p) for p in properties if p.name == name)


def _of_parameter(one: Element) -> Callable[[Property], bool]:
    name = one.get("name", "").upper()
    if one.find(c("is-not-defined")) is not None:
        return lambda prop: not _values(prop, name)
    match = one.find(c("text-match"))
    test = _of_text(match) if match is not None else lambda text: True
    return lambda prop: any(test(value) for value in _values(prop, name))


def _values(prop: Property, name: str) -> list[str]:
    """All values of a parameter, as they are written."""
    return [part for key, values in prop.params if key == name for value in values for part in value.split(",")]


def _of_text(one: Element) -> Callable[[str], bool]:
    collation = one.get("collation", "i;unicode-casemap")
    if collation not in COLLATIONS:
        raise UnmetError("supported-collation", f"Texts are compared by {', '.join(COLLATIONS)}.")
    how = _HOW.get(one.get("match-type", "contains"))
    if how is None:
        raise UnmetError("supported-filter", f"Texts are matched by {', '.join(_HOW)}.")
    negated = one.get("negate-condition") == "yes"
    alike = _ALIKE[collation]
    wanted = alike(one.text or "")
    return lambda text: how(alike(text), wanted) != negated
