"""How many slips of the pen lie between two words."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache


def slips(one: str, other: str, most: int | None = None) -> int:
    """Letters put in, left out, replaced, or changed places with the next (optimal string alignment distance); of more
    than `most` no more is said than that they are more."""
    return _distance()(one, other, score_cutoff=most)


@cache
def _distance() -> Callable[..., int]:
    from rapidfuzz.distance import OSA  # only where something is compared: it costs start-up time

    distance: Callable[..., int] = OSA.distance
    return distance
