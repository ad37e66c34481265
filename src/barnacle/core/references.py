"""What somebody names on the command line, once it is understood: kept with a message, so that a list or a contact that
is renamed stays chosen."""

from __future__ import annotations

from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from barnacle.core.rules import Rule


class ListRef(NamedTuple):
    """A list, by its number in the book; its title as it was when it was named."""

    number: int
    title: str


class LabelRef(NamedTuple):
    """Everybody with a label."""

    label: str


class ContactRef(NamedTuple):
    """A contact, by its uid; its name as it was when it was named."""

    uid: str
    name: str


class AddressRef(NamedTuple):
    """An address, of somebody in the book or of nobody there, with the name it was written with."""

    address: str
    name: str = ""


class SearchRef(NamedTuple):
    """Everybody who has all of some words in any field."""

    words: str


class RuleRef(NamedTuple):
    """Everybody who fits a rule: as it was typed, and as a tree in which lists stand by their numbers."""

    text: str
    rule: Rule


class SentRef(NamedTuple):
    """The recipients of a message that was sent, by its number; only those in a state, where one is named."""

    message: int
    state: str = ""


Ref = ListRef | LabelRef | ContactRef | AddressRef | SearchRef | RuleRef | SentRef


def to_doc(ref: Ref) -> dict[str, Any]:
    """A reference as plain values for storing."""
    match ref:
        case ListRef():
            return {"list": ref.number, "title": ref.title}
        case LabelRef():
            return {"label": ref.label}
        case ContactRef():
            return {"contact": ref.uid, "name": ref.name}
        case AddressRef():
            return {"address": ref.address, "name": ref.name}
        case SearchRef():
            return {"find": ref.words}
        case RuleRef():
            return {"where": ref.text, "rule": ref.rule}
        case SentRef():
            return {"sent": ref.message, "state": ref.state}


def from_doc(doc: dict[str, Any]) -> Ref:
    """The reference that `to_doc` gave."""
    if "list" in doc:
        return ListRef(doc["list"], doc["title"])
    if "label" in doc:
        return LabelRef(doc["label"])
    if "contact" in doc:
        return ContactRef(doc["contact"], doc["name"])
    if "find" in doc:
        return SearchRef(doc["find"])
    if "where" in doc:
        return RuleRef(doc["where"], doc["rule"])
    if "sent" in doc:
        return SentRef(doc["sent"], doc["state"])
    return AddressRef(doc["address"], doc["name"])
