"""What is wrong with a list before one needs it, and the command that mends it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.text import fold, listed
from barnacle.core.typed import NamedTuple
from barnacle.core.usual_domains import UsualDomains


class CheckedMember(NamedTuple):
    """A member with what the book knows: the address that the list uses, why a message to the list would not reach it
    (empty if it would), when it was last written to and heard from (ISO 8601, empty if never), what was said when that
    address was refused at the last try, what of a shared card could not be read, and what the organisation's
    directory says against it."""

    contact: Contact
    address: str | None
    why_not: str
    written: str
    refused: str
    heard: str = ""
    unread: Sequence[str] = ()
    directory: Sequence[str] = ()


class Untold(NamedTuple):
    """Somebody of whom the list's rule cannot tell whether they fit, and why."""

    contact: Contact
    why: str


class Twins(NamedTuple):
    """Two members who are held to be one person, by the judgement of `duplicates`, with its reasons in words."""

    one: Contact
    other: Contact
    certain: bool
    reasons: str


class Finding(NamedTuple):
    """Something wrong: its kind, who it is about, what it is, and the command that mends it."""

    kind: str
    name: str
    what: str
    mend: str


def check(
    title: str,
    members: Iterable[CheckedMember],
    twins: Iterable[Twins],
    domains: UsualDomains,
    own_domain: str,
    idle_since: str = "",
    untold: Iterable[Untold] = (),
) -> list[Finding]:
    """All that is wrong with a list. `twins` are those of its members who are held to be one person, `domains` are
    those of the whole book; `idle_since` (ISO 8601) also finds who was neither written to nor heard from since then;
    `untold` are those of whom its rule cannot tell.
    """
    people = list(members)
    findings: list[Finding] = []
    for person in people:
        findings += _about(title, person, domains)
        findings += [
            Finding("directory", person.contact.title, what, f"barnacle directory refresh {_quoted(person.contact)}")
            for what in person.directory
        ]
        if idle_since and max(person.written, person.heard) < idle_since and person.address:
            last = f"last written to {person.written[:10]}" if person.written else "never written to"
            last += f", last heard from {person.heard[:10]}" if person.heard else ", never heard from"
            findings.append(Finding("idle", person.contact.title, last, _take(title, person)))
    findings += [_duplicate(pair) for pair in twins]
    findings += _outsiders(title, people, own_domain)
    findings += [
        Finding("untold", one.contact.title, one.why, f'barnacle list add "{title}" {_quoted(one.contact)}')
        for one in untold
    ]
    order = (
        "unreachable",
        "unreadable",
        "opted out",
        "failing",
        "mistyped",
        "refused",
        "directory",
        "untold",
        "duplicate",
        "outsider",
        "idle",
    )
    return sorted(findings, key=lambda f: (order.index(f.kind), fold(f.name)))


def _about(title: str, person: CheckedMember, domains: UsualDomains) -> list[Finding]:
    contact, name, who = person.contact, person.contact.title, _quoted(person.contact)
    if contact.opt_out is not None:
        why = f" ({contact.opt_out.why})" if contact.opt_out.why else ""
        return [Finding("opted out", name, f"must not be written to{why}", _take(title, person))]
    mend = f"barnacle contact edit {who} --address ADDRESS"
    if person.unread:
        return [
            Finding(
                "unreadable", name, f"could not be read from the shared card: {listed(list(person.unread), 3)}", mend
            )
        ]
    if person.address is None:
        return [Finding("unreachable", name, "has no address", mend)]
    other = f"barnacle contact edit {who} --drop-address {person.address} --address ADDRESS"
    if failing := contact.fails(person.address):
        return [Finding("failing", name, f"{person.address}: {failing.why}", other)]
    if person.why_not:
        return [Finding("unreachable", name, f"{person.address}: {person.why_not}", other)]
    found = []
    local, _, domain = address_key(person.address).rpartition("@")
    if meant := domains.meant_by(domain):
        mend = f"barnacle contact edit {who} --drop-address {person.address} --address {local}@{meant}"
        found.append(Finding("mistyped", name, f"{person.address}: did you mean {meant}?", mend))
    if person.refused:
        what = f"{person.address}: {person.refused}; the next message will try it again"
        found.append(Finding("refused", name, what, other))
    return found


def _duplicate(twins: Twins) -> Finding:
    what = f"{'is' if twins.certain else 'may be'} the same person as {twins.other.title}: {twins.reasons}"
    return Finding("duplicate", twins.one.title, what, f"barnacle contact merge {twins.other.uid} {twins.one.uid}")


def _outsiders(title: str, people: list[CheckedMember], own_domain: str) -> list[Finding]:
    """Who is not of one's own domain, on a list where most are: there it is worth a look."""
    outside = [
        p for p in people if p.address and own_domain not in {k.rpartition("@")[2] for k in p.contact.address_keys()}
    ]
    inside = sum(p.address is not None for p in people) - len(outside)
    if inside <= len(outside):
        return []
    return [Finding("outsider", p.contact.title, f"{p.address}: not {own_domain}", _take(title, p)) for p in outside]


def _take(title: str, person: CheckedMember) -> str:
    return f'barnacle list take "{title}" {_quoted(person.contact)}'


def _quoted(contact: Contact) -> str:
    return f'"{contact.title}"' if '"' not in contact.title else contact.uid
