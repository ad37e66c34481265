"""JSContact (RFC 9553): a contact as a Card, and back. The card as it came is kept, and written with what changed."""

from __future__ import annotations

import copy
import json
import re
import uuid

from barnacle.core.addresses import check_address, suggest
from barnacle.core.contact import Address, Contact, Extra, Phone
from barnacle.core.contact_fields import PLAIN
from barnacle.core.errors import BadAddressError, UnclearError
from barnacle.core.names import display_name
from barnacle.core.phones import check_phone
from barnacle.core.text import NAME_LIMIT, has_unsafe, tidy, visible
from barnacle.core.typed import Any
from barnacle.files.cards.properties import clean_label
from barnacle.files.drafts import Defect, Draft, ListDraft, Values, cleaned, was_cut

KEY = "jscontact:card"
_CONTEXTS = {"work": "work", "private": "home"}
_CARD_LIMIT = 256 * 1024


def draft(value: Any, number: int) -> Draft:
    """The contact or list of a card. Raises TypeError or ValueError for what is none."""
    if not isinstance(value, dict) or value.get("@type", "Card") != "Card":
        raise ValueError("not a Card")
    result = Draft(number)
    value = _sound(value, result)
    if value.get("kind") == "group":
        name = tidy(_name(value), 120)
        if not any(c.isalnum() for c in name):
            result.refused.append(Defect(number, "name", visible(name, 80), "the group has no name"))
        else:
            members = value.get("members") or {}
            result.group = ListDraft(name, [_bare_uid(str(m)) for m, on in members.items() if on])
        return result
    contact = _contact(value, result)
    if contact.addresses or (contact.called and not result.refused):
        kept = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
        if len(kept) > _CARD_LIMIT:
            result.refused.append(Defect(number, "", contact.title, f"it has over {_CARD_LIMIT // 1024} KB"))
            return result
        if value != card(contact):
            contact.extra.append(Extra(KEY, kept))
        result.people.append(contact)
    elif not result.refused:
        result.refused.append(Defect(number, "", "", "the card has neither a name nor an address"))
    return result


# Groups of entries, and the text of an entry that counts here.
_ENTRIES = {"emails": "address", "phones": "number", "notes": "note", **dict(f.jscontact for f in PLAIN)}


def _sound(value: dict[str, Any], result: Draft) -> dict[str, Any]:
    """A card without what is not shaped as it must be (RFC 9553 section 2); that is said, and the rest counts."""
    value = dict(value)

    def drop(holder: dict[str, Any], key: str, name: str) -> None:
        shown = visible(json.dumps(holder.pop(key), ensure_ascii=False), 80)
        result.cleaned.append(Defect(result.row, name, shown, "it is not structured as this must be and was left out"))

    for key, kinds in (("uid", str), ("kind", str), ("name", dict), ("keywords", dict), ("members", dict)):
        if key in value and not isinstance(value[key], kinds):
            drop(value, key, key)
    if "name" in value:
        whole = value["name"] = dict(value["name"])
        if not isinstance(whole.get("full", ""), str):
            drop(whole, "full", "name")
        parts = whole.get("components", [])
        if not isinstance(parts, list) or not all(
            isinstance(p, dict) and all(isinstance(p.get(k, ""), str) for k in ("kind", "value")) for p in parts
        ):
            drop(whole, "components", "name")
    for group, text in _ENTRIES.items():
        if group not in value:
            continue
        if not isinstance(value[group], dict):
            drop(value, group, group)
            continue
        entries = value[group] = dict(value[group])
        for key, entry in list(entries.items()):
            if not isinstance(entry, dict) or not isinstance(entry.get(text, ""), str):
                drop(entries, key, group)
                continue
            entry = entries[key] = dict(entry)
            for of, kind in (("pref", int), ("contexts", dict), ("features", dict)):
                if of in entry and not isinstance(entry[of], kind):
                    drop(entry, of, f"{group} {of}")
    return value


def _contact(value: dict[str, Any], result: Draft) -> Contact:
    contact = Contact(uid=_bare_uid(str(value.get("uid") or "")))
    name = value.get("name") or {}
    parts: dict[str, list[str]] = {}
    for part in name.get("components") or ():
        parts.setdefault(part.get("kind", ""), []).append(tidy(str(part.get("value", "")), NAME_LIMIT))
    contact.given = " ".join(parts.get("given", ()))
    contact.family = " ".join(parts.get("surname", ()))
    full = _name(value)
    if has_unsafe(full):
        result.cleaned.append(cleaned(result.row, "name", full))
    contact.name = tidy(full, NAME_LIMIT) or display_name(contact.given, contact.family)
    values = Values(contact)
    for entry in _by_preference(value.get("emails")):
        text = str(entry.get("address", ""))
        try:
            address = check_address(text.strip())
        except BadAddressError as error:
            result.refused.append(Defect(result.row, "emails", tidy(text, 80), error.reason, suggest(text)))
            continue
        values.add_address(Address(address, _kind(entry)))
    for entry in _by_preference(value.get("phones")):
        try:
            number = check_phone(re.sub(r"^tel:", "", str(entry.get("number", "")), flags=re.IGNORECASE))
        except UnclearError:
            continue
        kind = "mobile" if "mobile" in (entry.get("features") or {}) else _kind(entry)
        contact.phones.append(Phone(number, kind))
    for field in PLAIN:
        group, key = field.jscontact
        text = str(_first(value.get(group), key))
        if len(text) > field.limit:
            result.cleaned.append(was_cut(result.row, group, text, field.limit))
        setattr(contact, field.name, tidy(text, field.limit))
    contact.note = "; ".join(tidy(str(n.get("note", ""))) for n in (value.get("notes") or {}).values())
    for label, on in (value.get("keywords") or {}).items():
        if on and (clean := clean_label(str(label))):
            contact.labels.append(clean)
    if contact.name == contact.org and not (contact.given or contact.family):
        contact.name = ""
    contact.drop_implied_parts()
    return contact


def _name(value: dict[str, Any]) -> str:
    name = value.get("name") or {}
    return str(name.get("full") or "")


def _bare_uid(text: str) -> str:
    return tidy(re.sub(r"^urn:uuid:|^mailto:", "", text, flags=re.IGNORECASE), 200)


def _by_preference(entries: Any) -> list[dict[str, Any]]:
    return sorted((entries or {}).values(), key=lambda e: e.get("pref", 101))


def _kind(entry: dict[str, Any]) -> str:
    return next((kind for context, kind in _CONTEXTS.items() if (entry.get("contexts") or {}).get(context)), "")


def _first(entries: Any, key: str) -> Any:
    return next((e.get(key) or "" for e in (entries or {}).values()), "")


def _fresh(contact: Contact) -> dict[str, Any]:
    """A contact as a card of what its fields say alone."""
    return _fill({"@type": "Card", "version": "1.0", "uid": contact.uid}, contact)


def card(contact: Contact) -> dict[str, Any]:
    """A contact as a card: the one that it came from, with what its fields say now."""
    came = next((json.loads(e.value) for e in contact.extra if e.key == KEY), None)
    if came is None:
        # No card is without one (section 2.1.9): where none was asked for, it is one that tells nothing.
        uid = contact.uid or str(uuid.uuid4())
        ours = re.fullmatch(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}", uid)
        return _fresh(contact) | {"uid": f"urn:uuid:{uid}" if ours else uid}
    return _fill(_sound(copy.deepcopy(came), Draft(0)), contact)


def _fill(value: dict[str, Any], contact: Contact) -> dict[str, Any]:
    """Bring a card up to what the contact's fields say; whatever says it already stays as it is."""
    was = _contact(value, Draft(0))
    if (was.name, was.parts()) != (contact.name, contact.parts()):
        name: dict[str, Any] = {}
        if contact.name or not contact.org:
            name["full"] = contact.title
        given, family = contact.parts()
        parts = [("given", given), ("surname", family)]
        if contact.name and (given or family):
            name["components"] = [{"kind": kind, "value": text} for kind, text in parts if text]
        if name:
            value["name"] = name
    _fill_entries(value, "emails", "address", [(a.address, a.kind) for a in contact.addresses], was.addresses)
    _fill_entries(value, "phones", "number", [(p.number, p.kind) for p in contact.phones], was.phones)
    for field in PLAIN:
        group, key = field.jscontact
        now = getattr(contact, field.name)
        if now != getattr(was, field.name):
            entries = value.setdefault(group, {})
            if field.name == "note":
                entries.clear()
            place = next(iter(entries), "1")
            if now:
                entries[place] = {**entries.get(place, {}), key: now}
            else:
                entries.pop(place, None)
            if not entries:
                del value[group]
    if contact.labels != was.labels:
        value["keywords"] = dict.fromkeys(contact.labels, True)
        if not contact.labels:
            del value["keywords"]
    return value


def _fill_entries(
    value: dict[str, Any], group: str, key: str, now: list[tuple[str, str]], was: list[Address] | list[Phone]
) -> None:
    """The addresses or numbers of a card: those that are gone leave it, new ones come, others stay as they are."""
    if now == [tuple(one) for one in was]:
        return
    kept = {re.sub("^tel:", "", str(e.get(key, ""))).lower(): e for e in (value.get(group) or {}).values()}
    entries: dict[str, Any] = {}
    before = {one[0].lower(): one[1] for one in was}
    for number, (text, kind) in enumerate(now, 1):
        entry = dict(kept.get(text.lower(), {key: text}))
        if before.get(text.lower(), "") != kind:
            entry.pop("contexts", None)
            entry.pop("features", None)
        if kind == "mobile":
            entry["features"] = {"mobile": True}
        elif context := next((c for c, k in _CONTEXTS.items() if k == kind), None):
            entry["contexts"] = {context: True}
        entry.pop("pref", None)
        if len(now) > 1:
            entry["pref"] = number
        entries[str(number)] = entry
    value.pop(group, None)
    if entries:
        value[group] = entries
