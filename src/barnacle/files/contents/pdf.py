"""PDF (ISO 32000): the words of its pages, its notes, links, forms and properties, and the files in it."""

from __future__ import annotations

import io
import logging
from collections.abc import Iterator

from barnacle.core.typed import Any
from barnacle.files.contents.bounds import Found, Locked, Trail, Unread

_MOST_OBJECTS = 200_000


def pages(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """Everything in a PDF that is text: what its pages show, and every string and every embedded file in it."""
    import pypdf

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    reader = pypdf.PdfReader(io.BytesIO(data))
    if reader.is_encrypted and not reader.decrypt(""):
        raise Locked
    silent = 0
    for number, page in enumerate(reader.pages, 1):
        text = page.extract_text()
        silent += not text.strip()
        trail.bounds.take(len(text))
        yield from trail.passage(text, f"page {number}")
        if (again := page.extract_text(extraction_mode="layout") if "@" in text else "") and again != text:
            yield from trail.passage(again, f"page {number}")
    if silent:
        yield Unread("pages that are pictures" if silent > 1 else "a page that is a picture", trail.file)
    strings: list[str] = []
    numbers = {(n, generation) for generation, some in reader.xref.items() for n in some}
    numbers |= {(n, 0) for n in reader.xref_objStm}
    for number, generation in sorted(numbers)[:_MOST_OBJECTS]:
        trail.bounds.take(1)
        found = reader.get_object(pypdf.generic.IndirectObject(number, generation, reader))
        _strings(found, strings, 0)
        if isinstance(found, pypdf.generic.StreamObject):
            kind, sub = str(found.get("/Type", "")), str(found.get("/Subtype", ""))
            if kind == "/EmbeddedFile":
                content = found.get_data()
                trail.bounds.take(len(content))
                yield from trail.as_document().open("a file", content)
            elif kind == "/Metadata" or sub in ("/XML", "/text#2Fxml"):
                yield from trail.passage(found.get_data().decode("utf-8", "replace"), "the properties")
    yield from trail.passage("\n".join(strings), "the links, notes and properties")


def _strings(value: Any, strings: list[str], depth: int) -> None:
    """All strings in an object, not those that it refers to."""
    import pypdf

    generic = pypdf.generic
    if isinstance(value, generic.TextStringObject):
        strings.append(str(value))
    elif isinstance(value, generic.ByteStringObject):
        strings.append(bytes(value).decode("latin-1"))
    elif depth < 20 and isinstance(value, dict):
        for inner in value.values():
            _strings(inner, strings, depth + 1)
    elif depth < 20 and isinstance(value, list):
        for inner in value:
            _strings(inner, strings, depth + 1)
