"""A contact as the properties of a vCard, and back; what the book has no field for is kept as it came.

The mapping is in docs/formats.md. Properties are those of RFC 6350 (4.0), to which older ones are brought first.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from functools import lru_cache

from barnacle.core.addresses import check_address, plain_address, suggest
from barnacle.core.contact import Address, Contact, Extra, Phone
from barnacle.core.contact_fields import FIELDS, PLAIN, TEXTS
from barnacle.core.contentline import Params, Property, escape, pieces, unescape
from barnacle.core.errors import BadAddressError, UnclearError
from barnacle.core.names import display_name
from barnacle.core.own_fields import PREFIX, birthday, drop_copied_birthday, stored_fields
from barnacle.core.phones import check_phone
from barnacle.core.text import LABEL_LIMIT, NAME_LIMIT, fold, has_unsafe, tidy, visible
from barnacle.files.drafts import Defect, Draft, ListDraft, Values, cleaned, was_cut

_PHONE_KINDS = {"cell": "mobile", "mobile": "mobile", "work": "work", "home": "home", "other": "other"}
TEXT_FIELDS = {field.vcard: field for field in TEXTS if field.vcard}
_ONE_VALUE = {field.vcard: field.name for field in PLAIN if field.vcard and field.vcard != "ORG"}
# Properties that say how a card was written, not who it is about.
ABOUT_THE_CARD = frozenset(("BEGIN", "END", "VERSION", "PRODID", "REV"))
# Types that mean nothing any more (RFC 6350 section 5.6 has none of them).
_LEGACY_TYPES = frozenset(("internet", "pref", "voice"))
OWN_FIELD, OWN_TITLE = "X-FIELD", "X-TITLE"
KEY = "vcard:"


def draft_of(properties: Iterable[Property], number: int, whole: bool = True) -> Draft:
    """The contact, or the list, of one card. `number` is its place in the file. Somebody whose only address is none is
    refused, unless the card need not be `whole`."""
    return _Reading(list(properties), number, whole).run()


class _Reading:
    def __init__(self, properties: list[Property], number: int, whole: bool) -> None:
        self.whole = whole
        self.properties = [p for p in properties if p.name not in ABOUT_THE_CARD]
        self.draft = Draft(number)
        self.contact = Contact()
        self.values = Values(self.contact)

    def run(self) -> Draft:
        kind = next((unescape(p.value).lower() for p in self.properties if p.name == "KIND"), "")
        if kind == "group":
            return self._group()
        broken = False
        if any(prop.params for prop in self.properties):
            self.properties.sort(key=preference)
        for prop in self.properties:
            if prop.name in TEXT_FIELDS or prop.name == "N":
                self._text(prop)
            elif prop.name == "EMAIL":
                broken |= not self._email(prop)
            elif prop.name == "TEL":
                self._phone(prop)
            elif prop.name == "CATEGORIES":
                for part in pieces(prop.value, ","):
                    if label := clean_label(unescape(part)):
                        self.values.add_label(label)
            elif prop.name == "UID":
                self.contact.uid = uid_in(prop.value)
        contact = self.contact
        contact.name = contact.name or display_name(contact.given, contact.family)
        if contact.name == contact.org and not (contact.given or contact.family):
            contact.name = ""
        contact.drop_implied_parts()
        keep_unsaid(contact, self.properties)
        if contact.addresses or (contact.called and not (broken and self.whole)):
            self.draft.people.append(contact)
        elif not broken:
            self.draft.refused.append(Defect(self.draft.row, "", "", "the card has neither a name nor an address"))
        return self.draft

    def _group(self) -> Draft:
        title = next((unescape(p.value) for p in self.properties if p.name == "FN"), "")
        members = [_member(p.value) for p in self.properties if p.name == "MEMBER"]
        title = tidy(title, 120)
        if not any(c.isalnum() for c in title):
            self.draft.refused.append(Defect(self.draft.row, "FN", visible(title, 80), "the group has no name"))
        else:
            self.draft.group = ListDraft(title, [m for m in members if m])
        return self.draft

    def _text(self, prop: Property) -> None:
        contact = self.contact
        if prop.name == "N":
            if not contact.given and not contact.family:
                some = pieces(prop.value, ";")[:2]
                parts = [tidy(" ".join(map(unescape, pieces(p, ","))), NAME_LIMIT) for p in some]
                contact.family, contact.given = [*parts, ""][:2]
            return
        value = unescape(pieces(prop.value, ";")[0] if prop.name == "ORG" else prop.value)
        if not value.isprintable() and (has_unsafe(" ".join(value.split())) or ("\n" in value and prop.name != "NOTE")):
            self.draft.cleaned.append(cleaned(self.draft.row, prop.name, value))
        field = TEXT_FIELDS[prop.name]
        if not getattr(contact, field.name):
            if len(value) > field.limit:
                self.draft.cleaned.append(was_cut(self.draft.row, prop.name, value, field.limit))
            setattr(contact, field.name, tidy(value, field.limit))
        elif field.name == "note":
            contact.note += f"; {tidy(value)}"

    def _email(self, prop: Property) -> bool:
        text = _bare_address(prop.value)
        if not text:
            return True
        try:
            address = check_address(text)
        except BadAddressError as error:
            self.draft.refused.append(Defect(self.draft.row, "EMAIL", tidy(text, 80), error.reason, suggest(text)))
            return False
        self.values.add_address(Address(address, address_kind(prop)))
        return True

    def _phone(self, prop: Property) -> None:
        try:
            number = check_phone(_number(prop))
        except UnclearError:
            return  # kept as it came
        self.values.add_phone(Phone(number, phone_kind(prop)))


def address_kind(prop: Property) -> str:
    """The kind of an address, by its types."""
    types = prop.param("TYPE")
    return next((kind for kind in ("work", "home", "other") if kind in types), "")


def phone_kind(prop: Property) -> str:
    """The kind of a phone, by its types."""
    types = prop.param("TYPE")
    return next((kind for name, kind in _PHONE_KINDS.items() if name in types), "")


def _is_address(text: str) -> bool:
    try:
        return bool(text and check_address(text))
    except BadAddressError:
        return False


def _bare_address(value: str) -> str:
    text = unescape(value).strip()
    return text[7:] if text[:7].lower() == "mailto:" else text


_PREFERRED = frozenset(("EMAIL", "TEL", "ORG", "TITLE", "URL", "NOTE", "N", "FN", "ADR"))


def preference(prop: Property) -> int:
    """Lower comes first: PREF of 4.0 (section 5.3), or the type `pref` of before."""
    return _rank(prop.params) if prop.params and prop.name in _PREFERRED else 101


@lru_cache(maxsize=1024)
def _rank(params: Params) -> int:
    prop = Property("", "", params, "")
    pref = next(iter(prop.param("PREF")), "")
    if pref.isascii() and pref.isdecimal() and len(pref) < 4:
        return int(pref)
    return 1 if "pref" in prop.param("TYPE") else 101


def _number(prop: Property) -> str:
    text = unescape(prop.value).strip()
    if text.lower().startswith("tel:"):
        return text[4:].partition(";")[0]
    return text


def uid_in(value: str) -> str:
    """The uid that a value is, or a URI of (RFC 9562)."""
    text = unescape(value).strip()
    return tidy(text[9:] if text[:9].lower() == "urn:uuid:" else text, 200)


def _member(value: str) -> str:
    text = unescape(value).strip()
    return re.sub(r"^(?:urn:uuid:|mailto:)", "", text, flags=re.IGNORECASE)[:300]


def clean_label(text: str) -> str:
    """A label of a file: without what separates labels there; possibly empty."""
    return tidy(re.sub("[,;]", " ", text), LABEL_LIMIT)


def of_own_fields(contact: Contact) -> list[Property]:
    """The fields of one's own, for which the standard has no place: the title as a parameter. A birthday stands in its
    own place besides, where phones look for it, unless the card has one there."""
    given = [
        Property("", OWN_FIELD, ((OWN_TITLE, (title,)),), escape(value))
        for title, value in stored_fields(contact).items()
    ]
    day = birthday(contact) if given else ""
    if day and not any(extra.key.lower().startswith("vcard:bday") for extra in contact.extra):
        given.append(Property("", "BDAY", (), day.replace("-", "")))
    return given


def keep_unsaid(contact: Contact, properties: Iterable[Property]) -> None:
    """Keep with a contact those properties that would not come out again from its fields as they are."""
    said: set[str] | None = None
    plain = {
        "EMAIL": {a.address for a in contact.addresses},
        "TEL": {p.number for p in contact.phones},
        "CATEGORIES": {",".join(contact.labels)},
    }
    counts: dict[str, int] = {}
    for prop in properties:
        if prop.name == "UID" or _plainly_said(prop, contact, plain):
            continue
        if prop.name == "ADR" and not prop.value.strip(" ;") and not prop.param("LABEL"):
            continue  # an empty one, which phones write, would stand in the way of one that says something
        if said is None:
            said = {_comparable(p) for p in from_fields(contact)}
        if _comparable(prop) in said:
            continue
        if prop.name == OWN_FIELD and (title := tidy(next(iter(dict(prop.params).get(OWN_TITLE, ())), ""), 80)):
            contact.extra.append(Extra(f"{PREFIX}{title}", tidy(unescape(prop.value))))
            continue
        counts[prop.name] = number = counts.get(prop.name, 0) + 1
        key = f"{KEY}{prop.name}" + (f"#{number}" if number > 1 else "")
        contact.extra.append(Extra(key, str(prop)))
    if counts.get("BDAY"):
        drop_copied_birthday(contact)


def _plainly_said(prop: Property, contact: Contact, plain: Mapping[str, set[str]]) -> bool:
    """Whether a property, of the plainest kind, surely comes out of the contact's fields again."""
    name, value = prop.name, prop.value
    if prop.group or "\\" in value:
        return False
    if prop.params and not plain_params(name, prop.params):
        return False
    if name in plain:
        return value in plain[name]
    if name == "FN":
        return value == contact.name
    if name == "N":
        given, family = contact.parts()
        return value.rstrip(";") == f"{family};{given}" and bool(given)
    if name == "ORG":
        return value == contact.org and value != contact.title
    return name in _ONE_VALUE and value == getattr(contact, _ONE_VALUE[name])


@lru_cache(maxsize=1024)
def plain_params(name: str, params: Params) -> bool:
    """Whether the parameters of an address or a phone say nothing but which comes first and its kind, in words that
    come out again."""
    types = [t.lower() for key, values in params for t in values if key == "TYPE"]
    telling = [t for t in types if t not in _LEGACY_TYPES]
    if len(telling) > 1 or name not in ("EMAIL", "TEL") or any(key not in ("TYPE", "PREF") for key, _ in params):
        return False
    kinds = ("work", "home", "other") if name == "EMAIL" else ("cell", "work", "home", "other")
    return not telling or telling[0] in kinds


def _comparable(prop: Property) -> str:
    params = []
    for key, values in prop.params:
        kept = [v.lower() for v in values if key != "TYPE" or v.lower() not in _LEGACY_TYPES]
        if kept and key != "PREF":
            params.append((key, tuple(sorted(kept))))
    value = prop.value
    if prop.name == "N":
        value = value.rstrip(";")
    if prop.name == "CATEGORIES":
        value = ",".join(sorted(pieces(value, ",")))
    return str(Property("" if not prop.group else prop.group, prop.name, tuple(sorted(params)), value))


def from_fields(contact: Contact) -> list[Property]:
    """The properties that a contact's fields come to."""
    given, family = contact.parts()
    found = [
        Property("", "FN", (), escape(contact.title)),
        Property("", "N", (), f"{escape(family)};{escape(given)};;;"),
    ]
    several = len(contact.addresses) > 1
    for number, address in enumerate(contact.addresses):
        params = _types(address.kind)
        if several and number == 0:
            params += (("PREF", ("1",)),)
        found.append(Property("", "EMAIL", params, escape(address.address)))
    for phone in contact.phones:
        found.append(
            Property("", "TEL", _types("cell" if phone.kind == "mobile" else phone.kind), escape(phone.number))
        )
    if contact.org:
        found.append(Property("", "ORG", (), escape(contact.org)))
    for name, field in _ONE_VALUE.items():
        if value := getattr(contact, field):
            found.append(Property("", name, (), value if name == "URL" else escape(value)))
    if contact.labels:
        found.append(Property("", "CATEGORIES", (), ",".join(map(escape, contact.labels))))
    return found


def _types(kind: str) -> tuple[tuple[str, tuple[str, ...]], ...]:
    return (("TYPE", (kind,)),) if kind else ()


def properties_of(contact: Contact, kept: Iterable[Property]) -> list[Property]:
    """All properties of a contact for writing: what its fields say, in the words in which it came where those still
    say the same, and what was kept beside them."""
    kept = list(kept)
    if not kept:
        return from_fields(contact)
    result: list[Property] = []
    twins: dict[tuple[str, str], list[int]] = {}
    for number, one in enumerate(kept):
        twins.setdefault(_says(one), []).append(number)
    used: set[int] = set()
    for prop in from_fields(contact):
        alike = twins.get(_says(prop), [])
        twin = kept[alike[0]] if alike else None
        if twin is not None:
            used.add(alike.pop(0))
            if "PREF" in dict(prop.params) and "PREF" not in dict(twin.params) and "pref" not in twin.param("TYPE"):
                twin = twin._replace(params=(*twin.params, ("PREF", ("1",))))
        result.append(twin or prop)
    # What is left of the properties that fields speak for is out of date.
    said = {_says(p) for p in from_fields(contact)}
    left = (one for number, one in enumerate(kept) if number not in used and one.name not in ("N", "FN"))
    return result + [k for k in left if k.name not in _SPOKEN_FOR or not _still(k, said)]


_SPOKEN_FOR = frozenset(("N", *(field.vcard for field in FIELDS if field.vcard)))


def _says(prop: Property) -> tuple[str, str]:
    """What a property says to the book: its name and the value of the field that it fills."""
    if prop.name == "EMAIL":
        return prop.name, _bare_address(prop.value).lower()
    if prop.name == "TEL":
        return prop.name, tidy(_number(prop), 60)
    if prop.name == "N":
        return prop.name, fold(" ".join(" ".join(pieces(p, ",")) for p in pieces(prop.value, ";")[:2]))
    if prop.name == "ORG":
        return prop.name, fold(tidy(unescape(pieces(prop.value, ";")[0]), NAME_LIMIT))
    if prop.name == "CATEGORIES":
        return prop.name, ",".join(sorted(fold(clean_label(unescape(p))) for p in pieces(prop.value, ",")))
    return prop.name, fold(tidy(unescape(prop.value)))


def _still(prop: Property, said: Collection[tuple[str, str]]) -> bool:
    """Whether a kept property speaks of a field that the contact has (`said`), and so was overtaken; a second URL or
    title, a number or an address that is none was never in a field."""
    if prop.name == "TEL":
        return sum(c.isdigit() for c in _number(prop)) in range(3, 21)
    if prop.name == "EMAIL":
        return plain_address(address := _bare_address(prop.value)) is not None or _is_address(address)
    if prop.name in ("URL", "TITLE", "ORG", "FN", "N"):
        return _says(prop) in said
    return True
