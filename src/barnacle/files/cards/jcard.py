"""jCard (RFC 7095): the properties of a vCard 4.0 as JSON."""

from __future__ import annotations

import json
import re

from barnacle.core.contact import Contact
from barnacle.core.contentline import Property, escape, is_name, pieces, unescape
from barnacle.core.text import visible
from barnacle.core.typed import Any
from barnacle.files.cards.properties import draft_of, of_own_fields, properties_of
from barnacle.files.cards.vcard import kept_properties, uid_of
from barnacle.files.drafts import Defect, Draft

# Types that a property has where it names none (RFC 6350 section 6); all others are text.
_TYPES = {
    "URL": "uri", "UID": "uri", "MEMBER": "uri", "PHOTO": "uri", "LOGO": "uri", "SOUND": "uri", "KEY": "uri",
    "SOURCE": "uri", "GEO": "uri", "IMPP": "uri", "RELATED": "uri", "FBURL": "uri", "CALADRURI": "uri",
    "CALURI": "uri", "LANG": "language-tag", "BDAY": "date-and-or-time", "ANNIVERSARY": "date-and-or-time",
    "REV": "timestamp",
}  # fmt: skip
_STRUCTURED = frozenset(("N", "ADR", "ORG", "GENDER", "CLIENTPIDMAP"))
_LISTS = frozenset(("CATEGORIES", "NICKNAME"))
_DAY = re.compile(r"(\d{4})(\d{2})(\d{2})(?:T(\d{2})(\d{2})(\d{2})(Z|[+-]\d{2}(?:\d{2})?)?)?")


def draft(value: Any, number: int) -> Draft:
    """The contact or list of a jCard. Raises TypeError, ValueError or IndexError for what is none."""
    name, properties = value[0], value[1]
    if name != "vcard" or not isinstance(properties, list):
        raise ValueError("not a jCard")
    found, odd = [], []
    for one in properties:
        try:
            found.append(_property(one))
        except (TypeError, ValueError, AttributeError):
            shown = visible(json.dumps(one, ensure_ascii=False), 80)
            odd.append(Defect(number, "", shown, "it is no property of a card and was left out"))
    draft = draft_of(found, number)
    draft.cleaned += odd
    return draft


def _property(value: Any) -> Property:
    name, params, kind, *values = value
    if not isinstance(name, str) or not isinstance(params, dict) or not isinstance(kind, str):
        raise ValueError("not a property")
    if not values or not is_name(name) or not all(isinstance(one, str | int | float | list) for one in values):
        raise ValueError("not a property")
    name = name.upper()
    kept = tuple(
        (str(key).upper(), tuple(str(v) for v in (some if isinstance(some, list) else [some])))
        for key, some in params.items()
        if str(key).lower() != "group"
    )
    if kind not in (_TYPES.get(name, "text"), "unknown"):
        kept = (*kept, ("VALUE", (kind,)))
    text = ",".join(_value(one, kind) for one in values)
    return Property(str(params.get("group", "")), name, kept, text)


def _value(value: Any, kind: str) -> str:
    if isinstance(value, list):  # of components, each possibly of several values
        return ";".join(
            ",".join(escape(str(v)) for v in part) if isinstance(part, list) else escape(str(part)) for part in value
        )
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    return escape(str(value)) if kind in ("text", "unknown") else str(value)


def card(contact: Contact) -> Any:
    """A contact as a jCard."""
    properties: list[Any] = [["version", {}, "text", "4.0"]]
    if contact.uid:
        properties.append(["uid", {}, "uri", uid_of(contact)])
    return [
        "vcard",
        properties + [_json(p) for p in properties_of(contact, kept_properties(contact)) + of_own_fields(contact)],
    ]


def _json(prop: Property) -> Any:
    params: dict[str, Any] = {"group": prop.group} if prop.group else {}
    kind = _TYPES.get(prop.name, "text" if not prop.name.startswith("X-") else "unknown")
    for key, values in prop.params:
        if key == "VALUE":
            kind = values[0]
        else:
            params[key.lower()] = values[0] if len(values) == 1 else list(values)
    if prop.name in _STRUCTURED and kind in ("text", "unknown"):
        parts = [[unescape(v) for v in pieces(part, ",")] for part in pieces(prop.value, ";")]
        flat = [part[0] if len(part) == 1 else part for part in parts]
        found: list[Any] = [flat if len(flat) > 1 else flat[0]]
    elif prop.name in _LISTS:
        found = [unescape(v) for v in pieces(prop.value, ",")]
    elif kind in ("text", "unknown"):
        found = [unescape(prop.value)]
    else:
        found = [_extended(prop.value) if "date" in kind or kind == "timestamp" else prop.value]
    return [prop.name.lower(), params, kind, *found]


def _extended(value: str) -> str:
    """A date in the extended format that JSON takes (RFC 7095 section 3.5.3)."""
    match = _DAY.fullmatch(value)
    if not match:
        return value
    day = "-".join(match.group(1, 2, 3))
    return f"{day}T{':'.join(match.group(4, 5, 6))}{match[7] or ''}" if match[4] else day
