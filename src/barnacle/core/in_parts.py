"""Long work that can be done in parts at once, by whoever has the means."""

from __future__ import annotations

from collections.abc import Callable

from barnacle.core.typed import Any

# A part of a piece of work: which it is, and of how many. Only the first, 0, tells how far it is; what it returns may
# be handed from one process to another.
Part = Callable[[int, int], list[Any]]
# Does all parts, and returns what they return, one after the other.
InParts = Callable[[Part], list[Any]]


def alone(part: Part) -> list[Any]:
    """All of the work as one part."""
    return part(0, 1)
