"""The audience of a message: who gets it, at which address and why; who does not, and why not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.text import listed


@dataclass(slots=True)
class Candidate:
    """Somebody whom one part of the choice brought in.

    `person` is the contact's number in the book, None for an address that nobody in the book has.
    `explicit` is an address named on the command line, `chosen` the one that the list of this choice uses.
    """

    contact: Contact
    person: int | None
    reason: str
    explicit: str | None = None
    chosen: str | None = None
    also: bool = False
    by_rule: bool = False

    @property
    def why(self) -> str:
        """The reason in full: what brought somebody in, and whose choice the address is."""
        rule = ", by its rule" if self.by_rule else ""
        return f"{self.reason}{rule}{'; address chosen for this list' if self.chosen else ''}"


@dataclass(slots=True)
class Recipient:
    """One address of the envelope, with everybody who is reached at it."""

    address: str
    people: list[Contact]
    reasons: list[str]

    @property
    def names(self) -> list[str]:
        """The people's names; empty for an address without one."""
        return [p.called for p in self.people if p.called]


@dataclass(slots=True)
class LeftOut:
    """Somebody who was in the choice and gets nothing."""

    name: str
    address: str | None
    reason: str


@dataclass(slots=True)
class Audience:
    """What a choice comes to. `guarded` maps the key of each address that the message must not mention to its
    owner's name: all addresses of everybody in the audience or left out of it. `considered` are the numbers of all whom
    the choice named, in or out."""

    recipients: list[Recipient] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    guarded: dict[str, str] = field(default_factory=dict)
    considered: set[int] = field(default_factory=set)

    @property
    def people(self) -> int:
        """How many contacts are reached; an address may reach several."""
        return sum(len(r.people) for r in self.recipients)


@dataclass(slots=True)
class Exclusions:
    """Who is left out of this message: contacts by number, addresses, and who is not on the `within` list."""

    people: Mapping[int, Contact] = field(default_factory=dict)
    addresses: frozenset[str] = frozenset()
    within: tuple[str, frozenset[int]] | None = None


@dataclass(slots=True)
class _Person:
    contact: Contact
    candidates: list[Candidate]


def work_out(
    candidates: Iterable[Candidate],
    exclusions: Exclusions,
    opted_out_at: Callable[[list[str]], Mapping[str, Contact]],
) -> Audience:
    """The audience of a choice.

    `opted_out_at` says, for the keys of addresses, which of them a contact has who opted out: an address that
    such a person shares gets nothing, and neither does one shared with somebody who is excluded.
    """
    audience = Audience()
    kept: list[tuple[_Person, str]] = []
    blocked: dict[str, str] = dict.fromkeys(exclusions.addresses, "left out this time")
    for contact in exclusions.people.values():
        _guard(audience, contact)
        for key in contact.address_keys():
            blocked.setdefault(key, f"left out this time, at an address of {contact.title}")
    for person in _grouped(candidates, exclusions, audience):
        contact = person.contact
        _guard(audience, contact)
        reason = _why_not(person, exclusions)
        address = _address_for(person, audience.notes)
        if reason is None and address is None:
            reason = "no address"
        elif reason is None and address is not None and (failing := contact.fails(address)):
            reason = f"the address fails: {failing.why}"
        if reason is not None or address is None:
            audience.left_out.append(LeftOut(contact.title, address, reason or ""))
        else:
            kept.append((person, address))
    keys = list(dict.fromkeys(address_key(address) for _, address in kept))
    for key, other in opted_out_at(keys).items():
        blocked[key] = f"shares this address with {other.title}, who opted out"
        _guard(audience, other)
    by_key: dict[str, Recipient] = {}
    for person, address in kept:
        key = address_key(address)
        contact = person.contact
        reasons = [c.why for c in person.candidates]
        if key in blocked:
            audience.left_out.append(LeftOut(contact.title, address, blocked[key]))
        elif key in by_key:
            by_key[key].people.append(contact)
            by_key[key].reasons += reasons
        else:
            by_key[key] = Recipient(address, [contact], reasons)
    audience.recipients = list(by_key.values())
    for recipient in audience.recipients:
        if len(recipient.people) > 1:
            audience.notes.append(
                f"{listed([p.title for p in recipient.people])} share {recipient.address}: one message for both"
                if len(recipient.people) == 2
                else f"{listed([p.title for p in recipient.people])} share {recipient.address}: one message for all"
            )
    return audience


def _guard(audience: Audience, contact: Contact) -> None:
    for key in contact.address_keys():
        audience.guarded.setdefault(key, contact.title)


def _grouped(candidates: Iterable[Candidate], exclusions: Exclusions, audience: Audience) -> Iterable[_Person]:
    """Each person once, however many parts of the choice brought it in; `--also` comes after `--within`."""
    people: dict[int | str, _Person] = {}
    outside: dict[int | str, _Person] = {}
    for candidate in candidates:
        if candidate.person is not None:
            audience.considered.add(candidate.person)
        identity = candidate.person if candidate.person is not None else candidate.contact.address_keys()[0]
        inside = exclusions.within is None or candidate.also or candidate.person in exclusions.within[1]
        group = people if inside else outside
        group.setdefault(identity, _Person(candidate.contact, [])).candidates.append(candidate)
    for identity, person in outside.items():
        if identity not in people and exclusions.within is not None:
            _guard(audience, person.contact)
            audience.left_out.append(LeftOut(person.contact.title, None, f"not on {exclusions.within[0]}"))
    return people.values()


def _why_not(person: _Person, exclusions: Exclusions) -> str | None:
    contact = person.contact
    if contact.opt_out is not None:
        return f"opted out ({contact.opt_out.why})" if contact.opt_out.why else "opted out"
    if person.candidates[0].person in exclusions.people:
        return "left out this time"
    return None


def _address_for(person: _Person, notes: list[str]) -> str | None:
    """Most explicit first: named on the command line, chosen for the list named first, preferred."""
    for candidate in person.candidates:
        if candidate.explicit:
            return candidate.explicit
    choices = [c for c in person.candidates if c.chosen]
    if choices:
        first = choices[0].chosen
        other = next((c for c in choices if c.chosen != first), None)
        if other is not None:
            notes.append(
                f"{person.contact.title} gets it at {first} ({choices[0].reason}); {other.reason} uses {other.chosen}"
            )
        return first
    own = [a.address for a in person.contact.addresses]
    # The preferred one, or where that fails the first that works.
    return next((a for a in own if not person.contact.fails(a)), own[0] if own else None)
