"""Three-way comparison of records, field by field: what undo takes back, what an exchange of edits merges."""

from __future__ import annotations

import json

from barnacle.core.typed import Any

Record = dict[str, Any]

_ABSENT = object()
# Lists that are one value: since when and why somebody opted out; a sender's name and address.
_ONE_VALUE = ("opt_out", "sender")


def merge(base: Record, mine: Record, theirs: Record) -> tuple[Record, list[str]]:
    """Both sides' changes against `base`. Returns the merged record and the fields that both changed differently.

    In such a field `mine` stays. Fields that hold lists are merged by element (for pairs such as
    `[address, kind]`, by the first of the pair), in the order of `mine`.
    """
    merged: Record = {}
    clashes: list[str] = []
    for name in dict.fromkeys([*mine, *theirs, *base]):
        was, here, there = (side.get(name, _ABSENT) for side in (base, mine, theirs))
        if here == there or there == was:
            value = here
        elif here == was:
            value = there
        elif name not in _ONE_VALUE and _is_set(was) and _is_set(here) and _is_set(there):
            value, clash = _merge_sets(*([] if side is _ABSENT else side for side in (was, here, there)))
            if clash:
                clashes.append(name)
        else:
            value = here
            clashes.append(name)
        if value is not _ABSENT:
            merged[name] = value
    return merged, clashes


def _is_set(value: Any) -> bool:
    return value is _ABSENT or isinstance(value, list)


def _identity(element: Any) -> str:
    return json.dumps(element[0] if isinstance(element, list) and element else element, sort_keys=True)


def _merge_sets(base: list[Any], mine: list[Any], theirs: list[Any]) -> tuple[Any, bool]:
    was = {_identity(e): e for e in base}
    here = {_identity(e): e for e in mine}
    there = {_identity(e): e for e in theirs}
    clash = False
    merged = []
    for key in dict.fromkeys([*here, *there]):
        w, h, t = was.get(key), here.get(key), there.get(key)
        if h == t or t == w:
            value = h
        elif h == w:
            value = t
        else:
            value, clash = h, True
        if value is not None:
            merged.append(value)
    if [k for k in here if k in there] != [k for k in there if k in here] and list(here) == list(was):
        # Only their side changed the order (which address is preferred): theirs counts.
        position = {key: number for number, key in enumerate(there)}
        merged.sort(key=lambda e: position.get(_identity(e), len(position)))
    return merged or _ABSENT, clash
