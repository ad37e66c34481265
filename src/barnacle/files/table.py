"""A table of text cells, whatever file it came from, and what was wrong with it."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(slots=True)
class Defect:
    """Something in a file that could not be taken: where, what and why. Rows count from 1, the header included."""

    row: int
    column: str
    value: str
    reason: str


@dataclass(slots=True)
class Row:
    """A row of cells with its place in the file, or what is wrong with it as a whole."""

    number: int
    cells: list[str] = field(default_factory=list)
    defect: Defect | None = None
