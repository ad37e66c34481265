"""Cards of shared lists as contacts, and the other way round."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence

from barnacle.book.store import now
from barnacle.core import sharing
from barnacle.core.contact import Contact
from barnacle.core.contentline import unescape
from barnacle.core.sharing import Fields
from barnacle.core.text import NAME_LIMIT, tidy
from barnacle.core.typed import NamedTuple
from barnacle.files.cards.plain_cards import plain_card
from barnacle.files.cards.vcard import read_cards, write


class ReadCard(NamedTuple):
    """A card as it was read: as a contact, what of it could not be read, and whether it says which of its addresses is
    preferred."""

    contact: Contact
    problems: list[str]
    prefers: bool

    @property
    def withdraws(self) -> bool:
        """Whether it says that somebody may be written to again; a card that says nothing does not."""
        return sharing.opt_out_on(self.contact) == ""

    def fields(self, names: Sequence[str], known: Fields | None = None) -> Fields:
        """What is shared of the member; `known` is what its card said before."""
        return sharing.fields_of_card(self.contact, names, known, self.prefers)


_PREFERS = re.compile(r"(?mi)^(?:[\w-]+\.)?EMAIL;[^:\r\n]*\bPREF\b")


def read(text: str, name: str) -> ReadCard | None:
    """A card, with what is good of it; `name` is what it is called at the hub. None for one that is of nobody, but of a
    group."""
    plain = plain_card(text)
    if plain is not None:
        return ReadCard(plain[0], [], _tells_preferred(plain[0], text))
    draft = next(read_cards(io.StringIO(text, newline="\n"), whole=False), None)
    if draft is not None and draft.group is not None:
        return None
    if draft is None or not draft.people:
        found = re.search(r"(?mi)^FN[^:\r\n]*:([^\r\n]*)", text)
        called = tidy(unescape(found[1]), NAME_LIMIT) if found else ""
        return ReadCard(Contact(called or name), ["the card cannot be read"], True)
    problems = [f"{defect.value or defect.column}: {defect.reason}" for defect in draft.refused]
    contact = draft.people[0]
    return ReadCard(contact, problems, _tells_preferred(contact, text))


def _tells_preferred(contact: Contact, text: str) -> bool:
    return len(contact.addresses) < 2 or _PREFERS.search(text) is not None


def fresh(card: Contact, fields: Fields, source: str, at: str) -> Contact:
    """A contact of one's own from a shared card: what is shared, and nothing else that stands on the card."""
    made = Contact(uid=card.uid, source=source, added=at)
    sharing.put_on_contact(made, {}, fields)
    return made


def without(text: str, names: Sequence[str]) -> str | None:
    """A card without these fields; None where it has none of them, or is no card."""
    card = read(text, "")
    if card is None:
        return None
    fields = card.fields(names)
    if fields.keys() <= sharing.ALWAYS:
        return None
    return text_of(card.contact, sharing.narrowed(fields, ()), names, version_of(text))


def version_of(text: str) -> str:
    """The version of a card, to write it back in."""
    return "3.0" if "VERSION:3.0" in text.upper() else "4.0"


def is_plain(uid: str) -> bool:
    return 0 < len(uid) <= 100 and all(c.isalnum() or c in "-_." for c in uid) and uid.isascii()


def text_of(
    card: Contact, fields: Fields, names: Sequence[str], version: str = "4.0", known: Fields | None = None
) -> str:
    """A card with these fields; whatever else stands on it stays. `known` is what it is held to say."""
    sharing.put_on_card(card, fields, names, now(), known)
    return "".join(write([card], version))
