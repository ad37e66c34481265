"""Content lines, the shape of vCards of every version (RFC 6350 section 3.3, RFC 2426, and 2.1 as it is found)."""

from __future__ import annotations

import quopri
import re
from collections.abc import Iterable, Iterator
from functools import lru_cache

from barnacle.core.typed import NamedTuple

LINE_OCTETS = 75  # RFC 6350 section 3.2
# A picture in a card has some hundred thousand characters.
LOGICAL_LIMIT = 4 << 20
_NAME = re.compile(r"(?:([A-Za-z0-9-]+)\.)?([A-Za-z0-9-]+)")
_PARAM = re.compile(r';\s*([A-Za-z0-9-]+)\s*(=)?((?:"[^"]*"|[^";:,])*(?:,(?:"[^"]*"|[^";:,])*)*)')
_SIMPLE = re.compile(r"[A-Za-z0-9-]+(?:;[A-Za-z0-9-]+=[A-Za-z0-9 /_-]+(?:,[A-Za-z0-9 /_-]+)*)*").fullmatch
_ENCODINGS = {"QUOTED-PRINTABLE", "BASE64", "B", "8BIT", "7BIT"}
_TO_ESCAPE = re.compile(r"[\\\r\n,;]").search
_ESCAPED = re.compile(r"\\(.)", re.DOTALL)


class Property(NamedTuple):
    """A property: its group if any, its name in capitals, its parameters with their values, and its value as it
    stands in a vCard 4.0 (escaped)."""

    group: str
    name: str
    params: tuple[tuple[str, tuple[str, ...]], ...]
    value: str

    def param(self, name: str) -> list[str]:
        """All values of a parameter, in small letters; those that stand together in quotes, apart."""
        return _parameter(self.params, name) if self.params else []

    def __str__(self) -> str:
        """The property as one line, whatever is in it: from files in JSON anything may be."""
        head = _head(self.group, self.name, self.params)
        return f"{head}:{self.value if self.value.isprintable() else _one_line(self.value)}"


# Names of groups, properties and parameters (RFC 6350 section 3.3).
is_name = re.compile(r"[A-Za-z0-9-]+").fullmatch
_BREAK = re.compile(r"\r\n?|\n")
# What may not stand in a value (RFC 6350 section 3.3, VALUE-CHAR).
_CONTROL = re.compile("[\x00-\x08\x0a-\x1f\x7f\ud800-\udfff]")


def _named(name: str) -> str:
    return name if is_name(name) else "X-" + (re.sub(r"[^A-Za-z0-9-]+", "-", name).strip("-") or "UNNAMED")


def _one_line(value: str) -> str:
    """A value with its line breaks escaped, and without other control characters."""
    return _CONTROL.sub("", _BREAK.sub(r"\\n", value))


Params = tuple[tuple[str, tuple[str, ...]], ...]


# The same few heads and parameters stand before thousands of values.
@lru_cache(maxsize=4096)
def _head(group: str, name: str, params: Params) -> str:
    text = (f"{group}." if group and is_name(group) else "") + _named(name)
    for key, values in params:
        if is_name(key):
            text += f";{key}=" + ",".join(_quoted(value) for value in values)
    return text


@lru_cache(maxsize=4096)
def _simple_head(head: str) -> tuple[str, Params] | None:
    """Name and parameters of a head whose parameters have no quotes and each a name; None for all others."""
    if not _SIMPLE(head):
        return None
    name, *rest = head.split(";")
    pairs = [part.partition("=") for part in rest]
    return name.upper(), tuple([(key.upper(), tuple(values.split(","))) for key, _, values in pairs])


@lru_cache(maxsize=4096)
def _parameter(params: Params, name: str) -> list[str]:
    found = (value for key, values in params if key == name for value in values)
    return [part for value in found for part in value.lower().split(",")]


def _quoted(value: str) -> str:
    """A parameter's value with what may not stand in it escaped (RFC 6868)."""
    value = _CONTROL.sub("", _BREAK.sub("^n", value.replace("^", "^^"))).replace('"', "^'")
    return f'"{value}"' if re.search(r"[,;:]", value) else value


def _unquoted(value: str) -> str:
    value = value.strip().strip('"')
    if "^" not in value:
        return value
    return re.sub(r"\^([n^'])", lambda m: {"n": "\n", "^": "^", "'": '"'}[m[1]], value)


def parse_line(line: str) -> Property | None:
    """An unfolded line as a property; None where it is none."""
    head, colon, value = line.partition(":")
    if colon and (simple := _simple_head(head)):
        return Property("", simple[0], simple[1], value)
    match = _NAME.match(line)
    if not match:
        return None
    params: list[tuple[str, tuple[str, ...]]] = []
    place = match.end()
    while found := _PARAM.match(line, place):
        place = found.end()
        name, sign, rest = found[1].upper(), found[2], found[3]
        if sign:
            params.append((name, tuple(_unquoted(v) for v in re.findall(r'"[^"]*"|[^",]+', rest))))
        elif name in _ENCODINGS:  # 2.1 leaves the parameter's name out
            params.append(("ENCODING", (name,)))
        else:
            params.append(("TYPE", (name,)))
    if line[place : place + 1] != ":":
        return None
    return Property(match[1] or "", match[2].upper(), tuple(params), line[place + 1 :])


def unfolded(lines: Iterable[str], first: int = 1) -> Iterator[tuple[int, str]]:
    """Logical lines with the number of their first line, counted from `first`. Also joins the soft line breaks of
    quoted-printable (2.1).

    What is longer than LOGICAL_LIMIT is cut a little behind it, so that whoever reads it can tell.
    """
    current, begun, soft = "", 0, False
    for number, raw in enumerate(lines, first):
        line = raw.rstrip("\r\n")
        if len(current) > LOGICAL_LIMIT and (soft or line[:1] in (" ", "\t")):
            continue
        if soft:
            current = current[:-1] + line.lstrip(" \t") if line[:1] in " \t" else current[:-1] + line
        elif line[:1] in (" ", "\t") and current:
            current += line[1:]
            continue
        else:
            if current:
                yield begun, current
            current, begun = line, number
        soft = current[-1:] == "=" and "QUOTED-PRINTABLE" in current.partition(":")[0].upper()
    if current:
        yield begun, current


def decoded(prop: Property, version: str) -> Property:
    """A property of vCard 2.1 or 3.0 as it would stand in 4.0: encodings undone, legacy parameters left away."""
    keys = [key for key, _ in prop.params]
    if version != "2.1" and "ENCODING" not in keys and "CHARSET" not in keys:
        return prop
    encoding = next(iter(prop.param("ENCODING")), "")
    charset = next(iter(prop.param("CHARSET")), "utf-8")
    params = tuple((k, v) for k, v in prop.params if k not in ("ENCODING", "CHARSET"))
    value = prop.value
    if encoding == "quoted-printable":
        octets = quopri.decodestring(value.encode("utf-8", "replace"))
        try:
            text = octets.decode(charset, "replace")
        except (LookupError, ValueError):  # a name that is none, or of a codec that keeps no rule
            text = octets.decode("utf-8", "replace")
        value = text.replace("\r\n", "\n").replace("\r", "\n").replace("\n", "\\n")
    elif encoding in ("b", "base64"):
        kind = next((v for k, vs in params if k == "TYPE" for v in vs), "octet-stream").lower()
        media = f"image/{kind}" if prop.name in ("PHOTO", "LOGO") else f"application/{kind}"
        value = f"data:{media};base64,{re.sub(r'[^A-Za-z0-9+/=]', '', value)}"
        params = tuple((k, v) for k, v in params if k not in ("TYPE", "VALUE"))
    if version == "2.1" and encoding not in ("b", "base64"):
        # 2.1 escapes semicolons alone.
        value = re.sub(r"\\(?![;nN,\\])", r"\\\\", value)
        value = value if prop.name in ("CATEGORIES", "N", "ADR", "ORG") else re.sub(r"(?<!\\),", r"\\,", value)
    return prop._replace(params=params, value=value)


def unescape(text: str) -> str:
    """The text that a value stands for (RFC 6350 section 3.4)."""
    if "\\" not in text:
        return text
    return _ESCAPED.sub(lambda m: "\n" if m[1] in "nN" else m[1], text)


def escape(text: str) -> str:
    """A text as a value."""
    if _TO_ESCAPE(text) is None:
        return text
    for plain, escaped in (("\\", "\\\\"), ("\r\n", "\\n"), ("\r", "\\n"), ("\n", "\\n"), (",", "\\,"), (";", "\\;")):
        text = text.replace(plain, escaped)
    return text


def pieces(value: str, separator: str) -> list[str]:
    """A value cut at a separator that is not escaped; the pieces still escaped."""
    if "\\" not in value:
        return value.split(separator)
    found = [""]
    for part in re.findall(rf"\\.|{separator}|[^\\{separator}]+|\\", value, re.DOTALL):
        if part == separator:
            found.append("")
        else:
            found[-1] += part
    return found


def folded(line: str) -> str:
    """A line with its breaks and its end (RFC 6350 section 3.2): no line of over 75 octets, no character cut."""
    if len(line) <= LINE_OCTETS and line.isascii():
        return line + "\r\n"
    octets = line.encode("utf-8", "replace")
    if len(octets) <= LINE_OCTETS:
        return line + "\r\n"
    parts, room = [], LINE_OCTETS
    while len(octets) > room:
        cut = room
        while octets[cut] & 0xC0 == 0x80:
            cut -= 1
        parts.append(octets[:cut])
        octets, room = octets[cut:], LINE_OCTETS - 1
    parts.append(octets)
    return b"\r\n ".join(parts).decode() + "\r\n"
