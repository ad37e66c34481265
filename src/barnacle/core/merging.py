"""Making one contact of two: what is kept, what a person may choose, and what stands side by side for that."""

from __future__ import annotations

import copy
import json
from collections.abc import Callable, Collection, Iterable, Sequence

from barnacle.core.addresses import address_key
from barnacle.core.card_fields import title_on_card, value_on_card
from barnacle.core.contact import Contact, Extra, Former, join
from barnacle.core.contact_fields import FIELDS
from barnacle.core.text import count, fold, listed, words
from barnacle.core.typed import NamedTuple

# The fields of which a contact has one: where both have another, one stays in its place, the other goes to the note.
CHOOSABLE = (*(field.name for field in FIELDS if field.choosable), "address")
_ONE_ONLY = ("ANNIVERSARY", "BDAY", "GENDER", "KIND")
# As much of such a value as goes into the note.
_SHOWN = 200
_TITLES = {field.one or field.name: field.title for field in FIELDS}


def merge(
    kept: Contact, other: Contact, number: int, phone_key: Callable[[str], str], theirs: Collection[str] | None = None
) -> None:
    """Put all of `other`, whose number in the book is given, into `kept`.

    `theirs` names the fields (of CHOOSABLE) for which the other's value is taken; None takes the fuller name and else
    what `kept` has. What gives way is noted; an opt-out wins, the earlier date of coming in counts, and every uid and
    name is remembered.
    """
    other = copy.deepcopy(other)
    taken = (["name"] if _fuller(other, kept) else []) if theirs is None else theirs
    for name in taken:
        if name == "address":
            _prefer(kept, other)
        elif getattr(other, name):
            for part in (name, "given", "family") if name == "name" else (name,):
                mine, its = getattr(kept, part), getattr(other, part)
                setattr(kept, part, its)
                setattr(other, part, mine)
    kept.former += [Former(other.uid, number, other.name), *other.former]
    kept.extra, lost = _both_extras(kept.extra, other.extra)
    _, differences = join(kept, other, phone_key)
    also = [(_TITLES[d.field].lower(), d.file) for d in differences if d.field in _TITLES]
    gone = [
        value if title == "name" else f"{title} {value}"
        for title, value in also
        if title != "name" or not set(words(value)) <= set(words(kept.name))
    ] + lost
    if gone and fold(note := f"also: {', '.join(gone)}") not in fold(kept.note):
        kept.note = f"{kept.note}; {note}" if kept.note else note
    kept.opt_out = kept.opt_out or other.opt_out
    if other.added and (not kept.added or other.added < kept.added):
        kept.added, kept.source = other.added, other.source


def _fuller(one: Contact, other: Contact) -> bool:
    return len(words(one.name)) > len(words(other.name))


def _prefer(kept: Contact, other: Contact) -> None:
    if other.addresses:
        first = other.addresses[0]
        rest = [a for a in kept.addresses if address_key(a.address) != address_key(first.address)]
        kept.addresses = [first, *rest]


def _both_extras(mine: Iterable[Extra], theirs: Iterable[Extra]) -> tuple[list[Extra], list[str]]:
    """What has no field here, of both; and what a contact can have but one of (RFC 6350 section 6), for the note."""
    kept = {one.key: one.value for one in mine}
    lost = []
    for key, value in theirs:
        kind, _, name = key.partition(":")
        old = kept.get(key)
        if old is None or old == value:
            kept[key] = value
        elif kind == "csv":
            kept[key] = old if fold(value) in fold(old) else f"{old}; {value}"
        elif kind == "ldif":  # a list of values (RFC 2849)
            kept[key] = json.dumps(list(dict.fromkeys([*json.loads(old), *json.loads(value)])), ensure_ascii=False)
        elif kind == "vcard" and name.partition("#")[0] not in _ONE_ONLY:
            if value not in kept.values():
                free = next(n for n in range(2, len(kept) + 3) if f"{key.partition('#')[0]}#{n}" not in kept)
                kept[f"{key.partition('#')[0]}#{free}"] = value
        else:
            title = title_on_card(key)
            lost.append(f"{title} {value_on_card(key, value)}" if title else value[:_SHOWN])
    return [Extra(key, value) for key, value in kept.items()], lost


class ComparedRow(NamedTuple):
    """A field of two contacts side by side: its title, both values, whether they differ, the name of the field where
    one of both can be chosen (else empty), and what the merged contact would have."""

    title: str
    left: str
    right: str
    differs: bool
    choice: str
    merged: str


def side_by_side(
    left: Contact,
    right: Contact,
    theirs: Collection[str] | None,
    phone_key: Callable[[str], str],
    lists: tuple[Sequence[str], Sequence[str]] = ((), ()),
) -> list[ComparedRow]:
    """The two contacts and what would become of them, field by field; fields that neither has are left out. `lists`
    are the titles of the lists that each is on."""
    merged = copy.deepcopy(left)
    merge(merged, right, 0, phone_key, theirs)
    rows = []
    for name in CHOOSABLE:
        values = [_value(one, name) for one in (left, right, merged)]
        chosen = name if values[0] and values[1] and fold(values[0]) != fold(values[1]) else ""
        rows.append(ComparedRow(_TITLES[name], values[0], values[1], bool(chosen), chosen, values[2]))
    for title, say in _MANY:
        mine, its = say(left), say(right)
        differs = bool(mine and its) and fold(mine) != fold(its) and title not in _NEVER_DIFFER
        rows.append(ComparedRow(title, mine, its, differs, "", say(merged)))
    numbers = [{phone_key(p.number) for p in one.phones} for one in (left, right)]
    phones = [_phones(one) for one in (left, right, merged)]
    differs = bool(numbers[0] and numbers[1]) and numbers[0] != numbers[1]
    rows.insert(len(CHOOSABLE) + 1, ComparedRow("Phones", phones[0], phones[1], differs, "", phones[2]))
    every = sorted({*lists[0], *lists[1]}, key=fold)
    rows.append(ComparedRow("Lists", listed(list(lists[0])), listed(list(lists[1])), False, "", listed(every)))
    return [row for row in rows if row.left or row.right or row.merged]


def _value(contact: Contact, name: str) -> str:
    if name == "address":
        return contact.preferred or ""
    return str(getattr(contact, name))


def _further_addresses(contact: Contact) -> str:
    return ", ".join(a.address for a in contact.addresses[1:])


def _phones(contact: Contact) -> str:
    return ", ".join(p.number for p in contact.phones)


def _labels(contact: Contact) -> str:
    return ", ".join(contact.labels)


def _note(contact: Contact) -> str:
    return contact.note


def _opt_out(contact: Contact) -> str:
    return f"since {contact.opt_out.since[:10]} {contact.opt_out.why}".strip() if contact.opt_out else ""


def _more(contact: Contact) -> str:
    return count(len(contact.extra), "more field") if contact.extra else ""


def _since(contact: Contact) -> str:
    return " · ".join(p for p in (contact.added[:10], contact.source) if p)


_MANY: tuple[tuple[str, Callable[[Contact], str]], ...] = (
    ("Also at", _further_addresses),
    ("Labels", _labels),
    ("Note", _note),
    ("Opted out", _opt_out),
    ("From files", _more),
    ("In the book", _since),
)
_NEVER_DIFFER = ("From files", "In the book")
