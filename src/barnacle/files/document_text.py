"""People in the text of a document that stands in no table: a line for each, or several in one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from barnacle.core.addresses import split_pasted
from barnacle.core.text import tidy
from barnacle.files.drafts import Defect, Draft
from barnacle.files.encoding import Encoding
from barnacle.files.pasted import draft_of, in_parts
from barnacle.files.tables.document import lines


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Everybody in it; `row` is the line. One without an address is left out, and told."""
    for number, line in lines(path):
        if "@" in line:
            for part in in_parts(line):
                yield from (draft_of(piece, number) for piece in split_pasted(part))
        else:
            draft = Draft(number)
            draft.left_out.append(Defect(number, "", tidy(line, 80), "there is no address in this line"))
            yield draft


def addressed(path: Path) -> int:
    """How many lines of it have addresses."""
    return sum("@" in line for _, line in lines(path))
