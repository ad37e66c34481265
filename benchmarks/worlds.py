"""The made-up books by name, and how a set of pairs is measured."""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations

from people import World
from strangers import Bureau, Registry

from barnacle.core.contact import Contact
from barnacle.core.matching.grouping import find_groups
from barnacle.core.matching.judging import CERTAIN
from barnacle.files.worker import in_two

Book = tuple[list[Contact], list[tuple[int, str]]]
WORLDS: dict[str, Callable[[int, int], Book]] = {
    "usual": lambda seed, number: World(seed, number).book(),
    "other": lambda seed, number: World(seed, number, other=True).book(),
    "registry": lambda seed, number: Registry(seed, number).book(),
    "bureau": lambda seed, number: Bureau(seed, number).book(),
}


def rates(found: set, true: set) -> tuple[float, float, float]:  # type: ignore[type-arg]
    """Precision, recall and their harmonic mean."""
    hits = len(found & true)
    precision, recall = hits / max(len(found), 1), hits / max(len(true), 1)
    return precision, recall, 2 * precision * recall / max(precision + recall, 1e-9)


def true_pairs(who: list[tuple[int, str]]) -> set[tuple[int, int]]:
    """The pairs of places that are one person."""
    places: dict[int, list[int]] = {}
    for place, (person, _) in enumerate(who):
        places.setdefault(person, []).append(place)
    return {pair for members in places.values() for pair in combinations(members, 2)}


def found_pairs(contacts: list[Contact]) -> tuple[set[tuple[int, int]], set[tuple[int, int]]]:
    """The pairs that are in one certain group, and those in one of either verdict."""
    certain: set[tuple[int, int]] = set()
    both: set[tuple[int, int]] = set()
    for group in find_groups(contacts, "GB", in_parts=in_two):
        pairs = set(combinations(sorted(group.members), 2))
        both |= pairs
        certain |= pairs if group.verdict == CERTAIN else set()
    return certain, both


def f1_of(contacts: list[Contact], who: list[tuple[int, str]]) -> float:
    """F1 of certain and likely together."""
    return rates(found_pairs(contacts)[1], true_pairs(who))[2]
