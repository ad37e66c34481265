"""The value of any field of a contact as text, by what the field is called: one that all have, or one of one's own."""

from __future__ import annotations

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import FIELDS, ContactField
from barnacle.core.own_fields import own_value
from barnacle.core.text import fold

_BY_WORD: dict[str, ContactField] = {
    fold(word): field for field in FIELDS for word in (field.name, field.title, field.one, field.shared_as) if word
}


def is_common(name: str) -> bool:
    """Whether every contact has a field of that name."""
    return fold(name) in _BY_WORD


def text_of(contact: Contact, name: str) -> str:
    """A field's value; several separated by commas."""
    field = _BY_WORD.get(fold(name))
    if field is None:
        return own_value(contact, name)
    given, family = contact.parts()
    match field.name:
        case "addresses":
            return ", ".join(a.address for a in contact.addresses)
        case "phones":
            return ", ".join(p.number for p in contact.phones)
        case "labels":
            return ", ".join(contact.labels)
        case "given" | "family":
            return given if field.name == "given" else family
        case _:
            return str(getattr(contact, field.name))
