"""What changed of a contact, in words: for the history, so that one need not guess what `changed` means."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import TEXTS
from barnacle.core.own_fields import own_fields
from barnacle.core.text import listed


def in_words(before: Contact, after: Contact) -> str:
    """`phone added, job changed`: each field once; nothing where both are the same."""
    found = []
    for field in TEXTS:
        one, other = getattr(before, field.name), getattr(after, field.name)
        if one != other and not (field.name in ("given", "family") and before.name != after.name):
            found.append(f"{field.title.lower()} {_verb(one, other)}")
    for what, was, now in (
        ("address", [a.address for a in before.addresses], [a.address for a in after.addresses]),
        ("phone", [p.number for p in before.phones], [p.number for p in after.phones]),
        ("label", before.labels, after.labels),
    ):
        found += _of_several(what, was, now)
    mine, theirs = own_fields(before), own_fields(after)
    for title in dict.fromkeys([*mine, *theirs]):
        if mine.get(title, "") != theirs.get(title, ""):
            found.append(f"{title} {_verb(mine.get(title, ''), theirs.get(title, ''))}")
    if not found and str(before) != str(after):
        found.append("order or kind changed")
    return listed(found, 4)


def _verb(one: str, other: str) -> str:
    return "added" if not one else "removed" if not other else "changed"


def _of_several(what: str, was: Sequence[str], now: Sequence[str]) -> list[str]:
    gone, new = [one for one in was if one not in now], [one for one in now if one not in was]
    if len(gone) == len(new) == 1:
        return [f"{what} changed"]
    return [f"{what} added"] * bool(new) + [f"{what} removed"] * bool(gone)
