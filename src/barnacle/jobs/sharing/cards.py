"""Cards of shared lists as contacts, and the other way round."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.sharing import Fields
from barnacle.files.cards.vcard import read_card, write


def fresh(card: Contact, fields: Fields, source: str, at: str) -> Contact:
    """A contact of one's own from a shared card: what is shared, and nothing else that stands on the card."""
    made = Contact(uid=card.uid, source=source, added=at)
    sharing.put_on_contact(made, {}, fields)
    return made


def without(text: str, names: Sequence[str]) -> str | None:
    """A card without these fields; None where it has none of them, or is no card."""
    card = read_card(text)
    if card is None:
        return None
    fields = sharing.fields_of_card(card, names)
    if fields.keys() <= sharing.ALWAYS:
        return None
    return text_of(card, sharing.narrowed(fields, ()), names, version_of(text))


def version_of(text: str) -> str:
    """The version of a card, to write it back in."""
    return "3.0" if "VERSION:3.0" in text.upper() else "4.0"


def is_plain(uid: str) -> bool:
    return 0 < len(uid) <= 100 and all(c.isalnum() or c in "-_." for c in uid) and uid.isascii()


def text_of(card: Contact, fields: Fields, names: Sequence[str], version: str = "4.0") -> str:
    """A card with these fields; whatever else stands on it stays."""
    sharing.put_on_card(card, fields, names)
    return "".join(write([card], version))
