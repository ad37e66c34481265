"""The audience of a message: who gets it, at which address and why; who does not, and why not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from types import MappingProxyType

from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.text import listed
from barnacle.core.typed import NamedTuple

# What the reasons begin with for which somebody gets nothing at any address of the book.
NO_ADDRESS, FAILS, OPTED_OUT = "no address", "the address fails", "opted out"


class Candidate:
    """Somebody whom one part of the choice brought in.

    `person` is the contact's number in the book, None for an address that nobody in the book has.
    `explicit` is an address named on the command line, `chosen` the one that the list of this choice uses.
    """

    # These are written out, not dataclasses: that module would make `list show` start a quarter slower.
    __slots__ = ("also", "by_rule", "chosen", "contact", "explicit", "person", "reason")

    def __init__(
        self,
        contact: Contact,
        person: int | None,
        reason: str,
        explicit: str | None = None,
        chosen: str | None = None,
        also: bool = False,
        by_rule: bool = False,
    ) -> None:
        self.contact = contact
        self.person = person
        self.reason = reason
        self.explicit = explicit
        self.chosen = chosen
        self.also = also
        self.by_rule = by_rule

    @property
    def why(self) -> str:
        """The reason in full: what brought somebody in, and whose choice the address is."""
        rule = ", by its rule" if self.by_rule else ""
        return f"{self.reason}{rule}{'; address chosen for this list' if self.chosen else ''}"


# A contact, or its number in the book: an audience of ten thousand holds numbers, and looks at one when it is needed.
Who = int | Contact
LookUp = Callable[[int], Contact]


class Recipient:
    """One address of the envelope, with everybody who is reached at it."""

    __slots__ = ("address", "look_up", "reasons", "who")

    def __init__(
        self, address: str, who: tuple[Who, ...], reasons: tuple[str, ...] = (), look_up: LookUp | None = None
    ) -> None:
        self.address = address
        self.who = who
        self.reasons = reasons
        self.look_up = look_up

    @property
    def people(self) -> list[Contact]:
        """The contacts, looked up where only their numbers are kept."""
        return [_contact(one, self.look_up) for one in self.who]

    @property
    def names(self) -> list[str]:
        """The people's names; empty for an address without one."""
        return [p.called for p in self.people if p.called]

    def loaded(self) -> Recipient:
        """The recipient with its contacts in memory, for when the book is closed."""
        return Recipient(self.address, tuple(self.people), self.reasons)


def _contact(who: Who, look_up: LookUp | None) -> Contact:
    if isinstance(who, Contact):
        return who
    assert look_up is not None
    return look_up(who)


class LeftOut(NamedTuple):
    """Somebody who was in the choice and gets nothing."""

    name: str
    address: str | None
    reason: str
    who: int | None = None  # the number in the book


class Audience:
    """What a choice comes to. `guarded` maps the key of each address that the message must not mention to its
    owner's name: all addresses of everybody in the audience or left out of it. `excluded` are the numbers of those
    who were left out and would have been in it."""

    def __init__(self, recipients: list[Recipient] | None = None) -> None:
        self.recipients = recipients or []
        self.left_out: list[LeftOut] = []
        self.notes: list[str] = []
        self.guarded: dict[str, str] = {}
        self.excluded: set[int] = set()

    @property
    def people(self) -> int:
        """How many contacts are reached; an address may reach several."""
        return sum(len(r.who) for r in self.recipients)


class Exclusions(NamedTuple):
    """Who is left out of this message: contacts by number, addresses, and who is not on the `within` list."""

    people: Mapping[int, Contact] = MappingProxyType({})
    addresses: frozenset[str] = frozenset()
    within: tuple[str, frozenset[int]] | None = None


class _Person:
    """What is kept of somebody while the parts of the choice come in, one candidate after the other."""

    __slots__ = ("chosen", "chosen_by", "explicit", "failing", "number", "other", "reasons", "usual", "who", "why_not")

    def __init__(
        self,
        who: Who,
        number: int | None,
        why_not: str | None,
        usual: str | None,
        failing: tuple[tuple[str, str], ...],
    ) -> None:
        self.who = who
        self.number = number
        self.why_not = why_not  # why somebody gets nothing at any address
        self.usual = usual  # the address that holds where none was chosen
        self.failing = failing  # the keys of addresses that fail for good, and why
        self.explicit: str | None = None
        self.chosen: str | None = None
        self.chosen_by = ""
        self.other: str | None = None  # what to say where another list has chosen another address
        self.reasons: tuple[str, ...] = ()


def work_out(
    candidates: Iterable[Candidate],
    opted_out_at: Callable[[list[str]], Mapping[str, Contact]],
    exclusions: Exclusions | None = None,
    look_up: LookUp | None = None,
) -> Audience:
    """The audience of a choice.

    `opted_out_at` says, for the keys of addresses, which of them a contact has who opted out: an address that
    such a person shares gets nothing, and neither does one shared with somebody who is excluded. With `look_up`, which
    gives a contact by its number, contacts are not held in memory.
    """
    audience = Audience()
    exclusions = exclusions or Exclusions()
    blocked: dict[str, str | None] = dict.fromkeys(exclusions.addresses, "left out this time")
    for contact in exclusions.people.values():
        _guard(audience, contact)
        for key in contact.address_keys():
            blocked.setdefault(key, f"left out this time, at an address of {contact.title}")
    by_key: dict[str, Recipient] = {}
    by_address: list[LeftOut] = []  # because of somebody else at the same address
    for person in _gathered(candidates, exclusions, audience, look_up):
        # Most explicit first: named on the command line, chosen for the list named first, preferred.
        address = person.explicit or person.chosen or person.usual
        key = address_key(address or "")
        if person.other and not person.explicit:
            audience.notes.append(person.other)
        reason = person.why_not
        if reason is None and address is None:
            reason = NO_ADDRESS
        elif reason is None and (failing := dict(person.failing).get(key)):
            reason = f"{FAILS}: {failing}"
        elif reason is None:
            if key not in blocked and key not in by_key and (other := opted_out_at([key]).get(key)):
                blocked[key] = f"shares this address with {other.title}, who opted out"
                _guard(audience, other)
            reason = blocked.get(key)
        if reason is not None or address is None:
            left_out = audience.left_out if person.why_not or key not in blocked else by_address
            left_out.append(LeftOut(_contact(person.who, look_up).title, address, reason or "", person.number))
        elif (there := by_key.get(key)) is not None:
            there.who += (person.who,)
            there.reasons += person.reasons
        else:
            by_key[key] = Recipient(address, (person.who,), person.reasons, look_up)
    audience.left_out += by_address
    audience.recipients = list(by_key.values())
    for recipient in audience.recipients:
        if len(recipient.who) > 1:
            all_of_them = "both" if len(recipient.who) == 2 else "all"
            names = listed([p.title for p in recipient.people])
            audience.notes.append(f"{names} share {recipient.address}, so they get one message for {all_of_them}")
    return audience


def _guard(audience: Audience, contact: Contact) -> None:
    for key in contact.address_keys():
        audience.guarded.setdefault(key, contact.title)


def _gathered(
    candidates: Iterable[Candidate], exclusions: Exclusions, audience: Audience, look_up: LookUp | None
) -> Iterator[_Person]:
    """Each person once, however many parts of the choice brought it in; `--also` comes after `--within`."""
    people: dict[int | str, _Person] = {}
    outside: dict[int | str, _Person] = {}
    # Most have one reason, the same for a whole list: kept once.
    alike: dict[tuple[str, ...], tuple[str, ...]] = {}
    for candidate in candidates:
        contact, number = candidate.contact, candidate.person
        if number is not None and number in exclusions.people:
            audience.excluded.add(number)
        _guard(audience, contact)
        identity = number if number is not None else contact.address_keys()[0]
        inside = exclusions.within is None or candidate.also or number in exclusions.within[1]
        group = people if inside else outside
        person = group.get(identity)
        if person is None:
            who = contact if look_up is None or number is None else number
            failing = tuple((address_key(one.address), one.why) for one in contact.failing if one.for_good)
            person = group[identity] = _Person(who, number, _why_not(candidate, exclusions), contact.used_at(), failing)
        _add(person, candidate)
        person.reasons = alike.setdefault(person.reasons, person.reasons)
    for identity, person in outside.items():
        if identity not in people and exclusions.within is not None:
            title = _contact(person.who, look_up).title
            audience.left_out.append(LeftOut(title, None, f"not on {exclusions.within[0]}", person.number))
    for identity in list(people):
        yield people.pop(identity)


def _add(person: _Person, candidate: Candidate) -> None:
    """What one more candidate says of somebody."""
    person.explicit = person.explicit or candidate.explicit
    person.reasons += (candidate.why,)
    chosen = candidate.chosen
    if chosen and not person.chosen:
        person.chosen, person.chosen_by = chosen, candidate.reason
    elif chosen and chosen != person.chosen and not person.other:
        here = f"{candidate.contact.title} gets it at {person.chosen} ({person.chosen_by})"
        person.other = f"{here}; {candidate.reason} uses {chosen}"


def _why_not(candidate: Candidate, exclusions: Exclusions) -> str | None:
    contact = candidate.contact
    if contact.opt_out is not None:
        return f"{OPTED_OUT} ({contact.opt_out.why})" if contact.opt_out.why else OPTED_OUT
    if candidate.person in exclusions.people:
        return "left out this time"
    return None
