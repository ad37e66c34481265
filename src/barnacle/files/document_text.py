"""People in the text of a document that stands in no table: a line for each, or several in one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from barnacle.core.addresses import split_pasted
from barnacle.core.asides import taken_apart
from barnacle.core.names import is_organisation, turned
from barnacle.core.text import tidy, visible
from barnacle.files.drafts import Defect, Draft
from barnacle.files.encoding import Encoding
from barnacle.files.pasted import draft_of, in_parts
from barnacle.files.tables.content import looks_like_name
from barnacle.files.tables.document import Line, lines


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Everybody in it; `row` is the line. One without an address is left out, and told, but for a name above it."""
    above: Line | None = None
    for line in lines(path):
        if "@" not in line.text:
            yield from _left_out(above)
            above = line
            continue
        found = [draft_of(piece, line.number) for part in in_parts(line.text) for piece in split_pasted(part)]
        if above and line.goes_on and looks_like_name(above.text) and len(found) == 1 and found[0].people:
            person = found[0].people[0]
            if not person.name:
                person.name, above = turned(above.text), None
        yield from _left_out(above)
        above = None
        for draft in found:
            for person in draft.people:
                if _may_be_a_sentence(person.name):
                    reason = "it may be a part of a sentence rather than a name"
                    draft.doubtful.append(Defect(line.number, "name", visible(person.name, 80), reason))
            yield draft
    yield from _left_out(above)


def _left_out(line: Line | None) -> Iterator[Draft]:
    if line:
        draft = Draft(line.number)
        draft.left_out.append(Defect(line.number, "", tidy(line.text, 80), "there is no address in this line"))
        yield draft


def _may_be_a_sentence(name: str) -> bool:
    plain, _ = taken_apart(name)
    return len(plain.split()) > 2 and not looks_like_name(plain) and not is_organisation(plain)
