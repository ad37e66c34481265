"""Pasted address lines: `Name <address>, …`, however they are separated (RFC 5322 section 3.4, and as people type)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.core.addresses import parse_mailbox, split_pasted, suggest
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import BadAddressError
from barnacle.core.names import turned
from barnacle.core.text import has_unsafe, tidy
from barnacle.files.drafts import Defect, Draft, cleaned
from barnacle.files.encoding import Encoding

_LINE_LIMIT = 1 << 20


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Everybody in a text; `row` is the line."""
    with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
        number, rest = 1, ""
        while line := file.readline(_LINE_LIMIT):
            line, rest = _cut(rest + line)
            for piece in split_pasted(line):
                yield draft_of(piece, number)
            number += line.endswith("\n")
        for piece in split_pasted(rest):
            yield draft_of(piece, number)


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


def draft_of(piece: str, number: int) -> Draft:
    """The person of one piece."""
    draft = Draft(number)
    try:
        mailbox = parse_mailbox(piece)
    except BadAddressError as error:
        address = piece.rpartition("<")[2]
        draft.refused.append(Defect(number, "", tidy(piece, 80), error.reason, suggest(address)))
        return draft
    if has_unsafe(piece):
        draft.cleaned.append(cleaned(number, "", piece))
    draft.people.append(Contact(name=turned(tidy(mailbox.name, 200)), addresses=[Address(mailbox.address)]))
    return draft


def write(mailboxes: Iterable[tuple[str, str]]) -> str:
    """Pairs of name and address as one line to paste; names quoted where the grammar asks for it."""
    shown = []
    for name, address in mailboxes:
        plain = all(c.isalnum() or c in " !#$%&'*+-/=?^_`{|}~" for c in name)
        quoted = name if plain else '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'
        shown.append(f"{quoted} <{address}>" if name else address)
    return ", ".join(shown) + "\n"
