"""The lines of a text, and addresses as a line to paste: `Name <address>, …` (RFC 5322 section 3.4)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.files.drafts import Line
from barnacle.files.encoding import Encoding

_LINE_LIMIT = 1 << 20


def lines_of(path: Path, encoding: Encoding) -> Iterator[Line]:
    """The lines of a text that are not empty; a very long one in parts."""
    with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
        number, rest = 1, ""
        while text := file.readline(_LINE_LIMIT):
            # The last line of a file may end without a line break.
            line, rest = _cut(rest + text) if len(text) >= _LINE_LIMIT else (rest + text, "")
            if line.strip():
                yield Line(number, line.strip(), False)
            number += line.endswith("\n")
        if rest.strip():
            yield Line(number, rest.strip(), False)


def _cut(text: str) -> tuple[str, str]:
    """A line, or of a longer one what ends between two people, and the rest."""
    if text.endswith("\n") or len(text) >= 2 * _LINE_LIMIT:
        return text, ""
    # A comma may stand within a name, and so does a space.
    place = next((place for sign in (">", ";", ",", " ", "\t") if (place := text.rfind(sign)) >= 0), -1)
    return (text[: place + 1], text[place + 1 :]) if place >= 0 else ("", text)


def in_parts(line: str) -> Iterator[str]:
    """A line, or of a longer one parts that end between two people."""
    while len(line) > _LINE_LIMIT:
        part = _cut(line[:_LINE_LIMIT])[0] or line[:_LINE_LIMIT]
        yield part
        line = line[len(part) :]
    yield line


def write(mailboxes: Iterable[tuple[str, str]]) -> str:
    """Pairs of name and address as one line to paste; names quoted where the grammar asks for it."""
    shown = []
    for name, address in mailboxes:
        plain = all(c.isalnum() or c in " !#$%&'*+-/=?^_`{|}~" for c in name)
        quoted = name if plain else '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'
        shown.append(f"{quoted} <{address}>" if name else address)
    return ", ".join(shown) + "\n"
