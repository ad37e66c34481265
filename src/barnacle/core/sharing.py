"""Sharing a list: roles, what of a contact is shared, and how both sides' changes come together."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from barnacle.core.addresses import address_key
from barnacle.core.card_fields import OPT_IN, OPT_OUT
from barnacle.core.contact import Address, Contact, Extra, OptOut, Phone
from barnacle.core.contact_fields import FIELDS, TEXTS, Shared
from barnacle.core.own_fields import set_own, stored_fields
from barnacle.core.text import fold
from barnacle.core.threeway import merge
from barnacle.core.typed import Any, NamedTuple

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
MORE = (*(field.shared_as or field.name for field in FIELDS if field.shared is Shared.IF_ASKED), "fields")
# How the fields of one's own are named among a member's shared ones, each by itself: with the folded title behind. The
# title as it is written stands in front of the value.
OWN, _BEHIND = "field:", " · "
ALWAYS = frozenset(("address", "opt_out", *(field.name for field in FIELDS if field.shared is Shared.ALWAYS)))
# What stands for "is on the list" where a conflict is about that.
ON = "member"
_TEXTS = {field.shared_as or field.name: field.name for field in TEXTS}

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
    found |= {f"{OWN}{fold(title)}": f"{title}{_BEHIND}{value}" for title, value in stored_fields(contact).items()}
    return narrowed(found, names)


def narrowed(fields: Fields, names: Collection[str]) -> Fields:
    """Those of the fields that are shared."""
    return {name: value for name, value in fields.items() if is_named(name, names) or name in ALWAYS}


def is_named(name: str, names: Collection[str]) -> bool:
    """Whether a field is among those that are named; all of one's own are named together."""
    return name in names or (name.startswith(OWN) and "fields" in names)


def _set_own_fields(contact: Contact, old: Fields, new: Fields) -> None:
    for name in dict.fromkeys([*old, *new]):
        if name.startswith(OWN) and new.get(name) != old.get(name):
            title, _, value = new.get(name, "").partition(_BEHIND)
            set_own(contact, title or name.removeprefix(OWN), value)


def fields_of_card(card: Contact, names: Collection[str], known: Fields | None = None, prefers: bool = True) -> Fields:
    """What of a member stands on its shared card, as far as it is shared. What another program may have left out, or
    written so that nobody can read it, is as it was `known`: whether somebody opted out, the address where the card has
    none but such a one, and, on a card that does not say which of its addresses it `prefers`, which of them the list
    uses."""
    known = known or {}
    said = opt_out_on(card)
    card.opt_out = opt_out_of(known.get("opt_out", "") if said is None else said)
    found = fields_of(card, None if prefers else card.find_address(known.get("address", "")), names)
    if "address" not in found and "address" in known and any(map(_is_address, card.extra)):
        found["address"] = known["address"]
    return found


def _is_address(extra: Extra) -> bool:
    """Whether something that was kept of a card is an address, though none that can be written to."""
    return extra.key.partition("#")[0] == "vcard:EMAIL"


def opt_out_said(values: Mapping[str, str]) -> str | None:
    """What a card's properties say of an opt-out: since when and why, nothing where it was withdrawn since, None where
    they do not speak of it."""
    out, back = values.get(OPT_OUT), values.get(OPT_IN)
    if out is None and back is None:
        return None
    return out if out and not (back and back.partition(" ")[0] > out.partition(" ")[0]) else ""


def opt_out_on(card: Contact) -> str | None:
    """What a card that was read says of an opt-out, as `opt_out_said` has it."""
    return opt_out_said({extra.key: extra.value.partition(":")[2] for extra in card.extra})


def opt_out_of(text: str) -> OptOut | None:
    """An opt-out as it stands on a card: since when, and why."""
    since, _, why = text.partition(" ")
    return OptOut(since, why) if since else None


def put_on_card(
    card: Contact, fields: Fields, names: Collection[str], at: str = "", known: Fields | None = None
) -> None:
    """Write shared fields onto a card, at a moment (ISO 8601) that counts where an opt-out is withdrawn; what is not
    shared, and what others have put there, stays as it is. `known` is what it is held to say."""
    old = fields_of_card(card, (*USUAL, *MORE), known)
    for name, its in _TEXTS.items():
        if name in names or name in ALWAYS:
            setattr(card, its, fields.get(name, ""))
    address = fields.get("address", "")
    others = fields.get("addresses", []) if "addresses" in names else old.get("addresses", [])
    kind = next((a.kind for a in card.addresses if address_key(a.address) == address_key(address)), "")
    mended = address_key(address) != address_key(old.get("address", ""))
    if mended:
        card.extra = [extra for extra in card.extra if not _is_address(extra)]
    # One that cannot be read stays until somebody mends it.
    unread = not card.addresses and any(map(_is_address, card.extra))
    card.addresses = [Address(address, kind)] if address and not unread else []
    card.addresses += [Address(*one) for one in others if address_key(one[0]) != address_key(address)]
    if "phones" in names:
        card.phones = [Phone(*one) for one in fields.get("phones", [])]
    if "fields" in names:
        _set_own_fields(card, old, fields)
    if "labels" in names:
        card.labels = [label for (label,) in fields.get("labels", [])]
    opt_out = fields.get("opt_out", "")
    card.opt_out = None
    if opt_out != old.get("opt_out", ""):
        card.extra = [extra for extra in card.extra if extra.key not in (OPT_OUT, OPT_IN)]
        key, value = (OPT_OUT, opt_out) if opt_out else (OPT_IN, at)
        card.extra.append(Extra(key, f"{key.removeprefix('vcard:')}:{value}"))


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
    _set_own_fields(contact, old, new)
    if new.get("opt_out", "") != old.get("opt_out", ""):
        contact.opt_out = opt_out_of(new.get("opt_out", ""))
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
    (`base_here` is not `base_there`) and was changed by neither continues to differ.
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
    if "opt_out" in clashing:  # whoever must not be written to by one of them is not, until somebody chooses
        out = there.get("opt_out") or here.get("opt_out")
        result, merged = _set(result, "opt_out", out), _set(merged, "opt_out", out)
        if here.get("opt_out") and there.get("opt_out"):
            clashing.remove("opt_out")
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


def told_otherwise(base_there: Fields, mine: Fields, there: Fields) -> list[Clash]:
    """What a card says since it was `base_there`, and a contact does not: for somebody whom the card must not change
    until a person says so. Theirs is what the contact would have then: its own phones are not lost to theirs."""
    found = []
    for name, value in there.items():
        if value != base_there.get(name):
            was, own, new = ({name: side[name]} if name in side else {} for side in (base_there, mine, there))
            taken = merge(was, own, new)[0] if isinstance(value, list) else new
            if taken.get(name) != mine.get(name):
                found.append(Clash(name, mine.get(name), taken.get(name)))
    return found


def of_one_met(agreed: Fields, mine: Fields) -> Fields:
    """What goes out of somebody who has only met a list: that he must not be written to, and nothing else of what has
    changed."""
    return {**agreed, "opt_out": mine["opt_out"]} if mine.get("opt_out") else dict(agreed)


def base_of(
    agreed: tuple[Fields, Fields], mine: Fields, there: Fields, private: Collection[str]
) -> tuple[Fields, Fields]:
    """Against what both sides' values of a card are held that comes in for somebody who is in the book: what was agreed
    of them before (or nothing), but for fields that are `private`, which are as they are on either side."""
    sides = []
    for was, now in zip(agreed, (mine, there), strict=True):
        kept = {name: value for name, value in was.items() if name not in private}
        sides.append(kept | {name: now[name] for name in private if name in now})
    return sides[0], sides[1]


def agreeing(agreed: Fields, mine: Fields, there: Fields) -> Fields:
    """What was agreed on one's own side, with the fields in which both sides say the same by now."""
    same = {name for name in agreed.keys() | mine.keys() | there.keys() if mine.get(name) == there.get(name)}
    kept = {name: value for name, value in agreed.items() if name not in same}
    return kept | {name: mine[name] for name in same if name in mine}


def as_agreed(here: Fields, there: Fields, field: str) -> Fields:
    """What was agreed on one's own side, with a field as the hub has it: whatever is here otherwise now was changed."""
    return _set(here, field, there.get(field))


def differing(one: Fields, other: Fields) -> set[str]:
    """The names of fields in which two sides are not the same."""
    return {name for name in one.keys() | other.keys() if one.get(name) != other.get(name)}


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
