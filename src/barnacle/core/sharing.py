"""Sharing a list: roles, what of a contact is shared, and how both sides' changes come together."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any, NamedTuple

from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact, Extra, OptOut, Phone
from barnacle.core.contact_fields import FIELDS, TEXTS, Shared
from barnacle.core.threeway import merge

READER, EDITOR, OWNER = "reader", "editor", "owner"
# Each may do what those before it may.
ROLES = (READER, EDITOR, OWNER)
MAY = {READER: "see it", EDITOR: "see and change it", OWNER: "see and change it, and share it further"}


class Sharer(NamedTuple):
    """Somebody who has a role in a list (`joined`), or is offered one (`offered`), and since when (ISO 8601)."""

    address: str
    name: str
    role: str
    state: str
    since: str

    @property
    def called(self) -> str:
        """The name, else the address."""
        return self.name or self.address


# What is shared of a member unless somebody says otherwise, and what only where it was asked for.
USUAL = ("name", "address", *(field.name for field in FIELDS if field.shared is Shared.USUALLY))
MORE = tuple(field.shared_as or field.name for field in FIELDS if field.shared is Shared.IF_ASKED)
ALWAYS = frozenset(("address", "opt_out", *(field.name for field in FIELDS if field.shared is Shared.ALWAYS)))
# What stands for "is on the list" where a conflict is about that.
ON = "member"
_TEXTS = {field.shared_as or field.name: field.name for field in TEXTS}
# RFC 6350 section 6.10: a property of our own for who must not be written to.
OPT_OUT = "vcard:X-OPT-OUT"

# The shared fields of a member as plain values, empty ones left out: text, or a list of [value, kind].
Fields = dict[str, Any]


def shared_fields(include: Iterable[str] = (), exclude: Iterable[str] = ()) -> list[str]:
    """The names of the fields that are shared: the usual ones, more, or fewer."""
    wanted = {*USUAL, *include} - set(exclude)
    return [name for name in (*USUAL, *MORE) if name in wanted or name in ALWAYS]


def named(fields: Collection[str]) -> list[str]:
    """The fields of a share as the hub names them, with those that are always shared."""
    return shared_fields(fields, set(USUAL) - set(fields))


def fields_of(contact: Contact, address: str | None, names: Collection[str]) -> Fields:
    """What of a contact is shared with those who have the list; `address` is the one that the list uses."""
    address = address or contact.preferred or ""
    found: Fields = {name: value for name, its in _TEXTS.items() if (value := getattr(contact, its))}
    if address:
        found["address"] = address
    if contact.phones:
        found["phones"] = [[p.number, p.kind] for p in contact.phones]
    if others := [[a.address, a.kind] for a in contact.addresses if a.address != address]:
        found["addresses"] = others
    if contact.labels:
        found["labels"] = [[label] for label in contact.labels]
    if contact.opt_out:
        found["opt_out"] = " ".join(contact.opt_out)
    return narrowed(found, names)


def narrowed(fields: Fields, names: Collection[str]) -> Fields:
    """Those of the fields that are shared."""
    return {name: value for name, value in fields.items() if name in names or name in ALWAYS}


def fields_of_card(card: Contact, names: Collection[str]) -> Fields:
    """What of a member stands on its shared card, as far as it is shared."""
    for extra in card.extra:
        if extra.key == OPT_OUT:
            card.opt_out = _opt_out(extra.value.partition(":")[2])
    return fields_of(card, None, names)


def _opt_out(text: str) -> OptOut | None:
    since, _, why = text.partition(" ")
    return OptOut(since, why) if since else None


def put_on_card(card: Contact, fields: Fields, names: Collection[str]) -> None:
    """Write shared fields onto a card; what is not shared, and what others have put there, stays as it is."""
    old = fields_of(card, None, (*USUAL, *MORE))
    for name, its in _TEXTS.items():
        if name in names or name in ALWAYS:
            setattr(card, its, fields.get(name, ""))
    address = fields.get("address", "")
    others = fields.get("addresses", []) if "addresses" in names else old.get("addresses", [])
    kind = next((a.kind for a in card.addresses if address_key(a.address) == address_key(address)), "")
    card.addresses = [Address(address, kind)] if address else []
    card.addresses += [Address(*one) for one in others if address_key(one[0]) != address_key(address)]
    if "phones" in names:
        card.phones = [Phone(*one) for one in fields.get("phones", [])]
    if "labels" in names:
        card.labels = [label for (label,) in fields.get("labels", [])]
    card.extra = [extra for extra in card.extra if extra.key != OPT_OUT]
    if opt_out := fields.get("opt_out"):
        card.extra.append(Extra(OPT_OUT, f"X-OPT-OUT:{opt_out}"))


def put_on_contact(contact: Contact, old: Fields, new: Fields) -> str | None:
    """Take what changed from `old` to `new` over into one's own contact. Returns the address that the list should use
    from now on, where that has changed."""
    for name, its in _TEXTS.items():
        if (value := new.get(name, "")) != old.get(name, ""):
            setattr(contact, its, value)
    if new.get("phones", []) != old.get("phones", []):
        contact.phones = [Phone(*one) for one in new.get("phones", [])]
    if new.get("labels", []) != old.get("labels", []):
        contact.labels = [label for (label,) in new.get("labels", [])]
    if new.get("opt_out", "") != old.get("opt_out", ""):
        contact.opt_out = _opt_out(new.get("opt_out", ""))
    address = new.get("address", "")
    changed = address if address != old.get("address", "") else None
    if old.get("addresses"):
        gone = {address_key(one[0]) for one in old["addresses"]} - {
            address_key(one[0]) for one in new.get("addresses", [])
        }
        contact.addresses = [a for a in contact.addresses if address_key(a.address) not in gone or a.address == address]
    have = set(contact.address_keys())
    wanted = [[address, ""]] if changed else []
    for one in (*wanted, *new.get("addresses", [])):
        if address_key(one[0]) not in have:
            have.add(address_key(one[0]))
            contact.addresses.append(Address(*one))
    return (contact.find_address(changed) or changed) if changed else None


class Clash(NamedTuple):
    """A field that both sides changed: its value here and at the hub, None for none."""

    field: str
    mine: Any
    theirs: Any


class Met(NamedTuple):
    """What both sides' changes of a member come to: the fields here, those for the hub, and where they clashed."""

    here: Fields
    there: Fields
    clashes: list[Clash]


def meet(base_here: Fields, base_there: Fields, here: Fields, there: Fields) -> Met:
    """Bring both sides' changes of a member together, field by field, each against what it was when they last agreed.

    Where both have changed a field the hub's value counts, and the other is a clash. What differed from the beginning
    (`base_here` is not `base_there`) and was changed by neither goes on to differ.
    """
    # My changes, as they are on what the hub had.
    mine, _ = merge(base_here, here, base_there)
    merged, clashing = merge(base_there, there, mine)
    result = dict(merged)
    for name in base_here.keys() | base_there.keys():
        if base_here.get(name) == base_there.get(name):
            continue
        if isinstance(here.get(name, []), list) and isinstance(there.get(name, []), list):
            kept, _ = merge({name: base_there.get(name, [])}, {name: there.get(name, [])}, {name: here.get(name, [])})
            result = _set(result, name, kept.get(name))
        elif there.get(name) == base_there.get(name) and here.get(name) == base_here.get(name):
            result = _set(result, name, here.get(name))
        elif there.get(name) != base_there.get(name) and here.get(name) not in (there.get(name), merged.get(name)):
            clashing.append(name)
    return Met(result, merged, [Clash(name, here.get(name), there.get(name)) for name in dict.fromkeys(clashing)])


def meet_again(base_here: Fields, base_there: Fields, here: Fields, there: Fields) -> tuple[Met, Fields]:
    """Bring a member together with what a hub that was put back from a backup says of it, which may be older than what
    was agreed, or newer. Nothing is taken for emptied: what only one side has stays or comes in; a text that differs
    stays as it is here and is a clash. Also returns what counts as agreed here: what is only here goes there again.
    """
    own = {name for name in base_here if base_here[name] != base_there.get(name)}
    filled, _ = merge({}, here, there)
    clashes = [c for c in differences(here, there) if c.field not in own or c.theirs != base_there.get(c.field)]
    agreed = {**there, **{name: base_here[name] for name in own}, **{clash.field: clash.mine for clash in clashes}}
    return Met(filled, there, clashes), agreed


def differences(here: Fields, there: Fields) -> list[Clash]:
    """The fields in which a contact of one's own and a card that turns out to be the same person say something else;
    what only one of them has is no difference."""
    return [
        Clash(name, here[name], there[name])
        for name in here
        if name in there and not isinstance(here[name], list) and here[name] != there[name]
    ]


def _set(fields: Fields, name: str, value: Any) -> Fields:
    rest = {key: one for key, one in fields.items() if key != name}
    return {**rest, name: value} if value else rest


def in_text(value: Any) -> str | None:
    """A field's value as text; None where it has none."""
    if not value:
        return None
    if isinstance(value, list):
        return ", ".join(f"{one[0]} ({one[1]})" if len(one) > 1 and one[1] else str(one[0]) for one in value)
    return str(value)
