"""From what the user names (lists, labels, people, addresses) to the audience of a message."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, looks_like_address, parse_mailbox
from barnacle.core.audience import Audience, Candidate, Exclusions, work_out
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import NotFound, Stopped
from barnacle.core.text import fold, visible
from barnacle.jobs.desk import Desk, describe

# What is stored of a choice: {"list": number, "title": …}, {"label": …}, {"contact": uid, "name": …, "address"?: …}
# or {"address": …, "name": …}, so that a renamed list or contact stays chosen.
Ref = dict[str, Any]


@dataclass(slots=True)
class Choice:
    """What the user chose for a message, as the words were understood."""

    wanted: list[Ref] = field(default_factory=list)
    without: list[Ref] = field(default_factory=list)
    within: Ref | None = None
    also: list[Ref] = field(default_factory=list)

    def as_doc(self) -> dict[str, Any]:
        """The choice as plain values for storing."""
        return {"for": self.wanted, "without": self.without, "within": self.within, "also": self.also}

    @classmethod
    def from_doc(cls, doc: dict[str, Any]) -> Choice:
        """The choice that `as_doc` gave."""
        return cls(doc["for"], doc["without"], doc["within"], doc["also"])


def understand(
    desk: Desk,
    book: Book,
    wanted: Sequence[str],
    without: Sequence[str],
    within: str | None,
    also: Sequence[str],
) -> Choice:
    """What the words stand for. Raises NotFound, Ambiguous, BadAddress."""
    inside = None
    if within is not None:
        found = desk.need_list(book, within)
        inside = {"list": found.id, "title": found.title}
    return Choice(
        [ref_of(desk, book, text) for text in wanted],
        [ref_of(desk, book, text) for text in without],
        inside,
        [ref_of(desk, book, text) for text in also],
    )


def ref_of(desk: Desk, book: Book, text: str) -> Ref:
    """What one word of the command line stands for. Raises NotFound, Ambiguous, BadAddress."""
    if text.lower().startswith("label:"):
        label = text[6:].strip()
        if not contacts.by_label(book, label):
            in_use = ", ".join(contacts.labels(book)) or "none yet"
            raise NotFound(f"Nobody has the label `{visible(label, 40)}`. Labels in use: {visible(in_use, 200)}.")
        return {"label": label}
    if looks_like_address(text):
        mailbox = parse_mailbox(text)
        return {"address": mailbox.address, "name": mailbox.name}
    titled = lists.by_title(book, text)
    named = contacts.by_name(book, text)
    key = fold(text)
    if len(titled) == 1 and (fold(titled[0].title) == key or not named):
        return {"list": titled[0].id, "title": titled[0].title}
    by_uid = contacts.by_uid(book, text.strip())
    if by_uid is not None:
        named, titled = [by_uid], []
    elif any(fold(k.contact.called) == key for k in named):
        titled = []
    refs: list[tuple[str, Ref]] = [
        (f"list {visible(one.title)}", {"list": one.id, "title": one.title}) for one in titled
    ]
    refs += [(describe(k.contact), {"contact": k.contact.uid, "name": k.contact.title}) for k in named]
    chosen = desk.pick("list or contact", text, refs, lambda pair: pair[0])
    if chosen is None:
        raise NotFound(
            f"`{visible(text, 60)}` is no list, no contact and no address. "
            "`barnacle list` shows the lists, `barnacle find` the people; a label is written label:NAME."
        )
    return chosen[1]


def audience(book: Book, choice: Choice, me: str | None) -> Audience:
    """Who gets the message as the book stands now; `me` is the sender's address where a copy is wished for.

    Raises Stopped when a list or contact of the choice has been removed.
    """
    excluded: dict[int, Contact] = {}
    addresses: set[str] = set()
    named: list[int] = []
    for ref in choice.without:
        found = list(candidates_of(book, ref, ""))
        people = {c.person: c.contact for c in found if c.person is not None}
        excluded.update(people)
        named += people if "contact" in ref else []
        if "address" in ref and "contact" not in ref:
            addresses.add(address_key(ref["address"]))
    within = None
    if choice.within is not None:
        within = (choice.within["title"], frozenset(m.id for m in _members(book, choice.within)))
    exclusions = Exclusions(excluded, frozenset(addresses), within)
    result = work_out(
        _all_candidates(book, choice, me),
        exclusions,
        lambda keys: contacts.opted_out_at(book, keys),
        lambda number: contacts.need(book, number),
    )
    # Whoever is left out by name and was not in it anyway may be a mistake for somebody else.
    result.notes += [f"{excluded[n].title} was not among them" for n in named if n not in result.excluded]
    return result


def _all_candidates(book: Book, choice: Choice, me: str | None) -> Iterator[Candidate]:
    for ref in choice.wanted:
        yield from candidates_of(book, ref, "named")
    for ref in choice.also:
        yield from _also(candidates_of(book, ref, "added this time"))
    if me is not None:
        yield from _also(candidates_of(book, {"address": me, "name": ""}, "a copy for yourself"))


def _also(candidates: Iterable[Candidate]) -> Iterator[Candidate]:
    for candidate in candidates:
        candidate.also = True
        yield candidate


def candidates_of(book: Book, ref: Ref, reason: str) -> Iterator[Candidate]:
    """Everybody whom a reference brings in, with the address that it brings along."""
    if "list" in ref:
        title = _title(book, ref)
        for member in _members(book, ref):
            by_rule = member.by == "rule"
            yield Candidate(member.contact, member.id, title, chosen=member.address, by_rule=by_rule)
    elif "label" in ref:
        for kept in contacts.by_label(book, ref["label"]):
            yield Candidate(kept.contact, kept.id, f"label {ref['label']}")
    elif "contact" in ref:
        found = contacts.by_uid(book, ref["contact"])
        if found is None:
            raise Stopped(
                f"{visible(ref['name'])}, whom the message names, is no longer in the book. "
                "`barnacle undo` may bring the contact back; or compose the message anew."
            )
        yield Candidate(found.contact, found.id, reason)
    else:
        holders = contacts.by_address(book, ref["address"])
        if ref["name"]:
            same = [k for k in holders if fold(k.contact.name) == fold(ref["name"])]
            holders = same or holders
        for kept in holders:
            yield Candidate(kept.contact, kept.id, reason, explicit=kept.contact.find_address(ref["address"]))
        if not holders:
            stranger = Contact(name=ref["name"], addresses=[Address(ref["address"])])
            yield Candidate(stranger, None, reason, explicit=ref["address"])


def _members(book: Book, ref: Ref) -> Iterator[lists.Member]:
    _title(book, ref)
    return lists.each_member(book, ref["list"])


def _title(book: Book, ref: Ref) -> str:
    found = lists.get(book, ref["list"])
    if found is None:
        raise Stopped(
            f"The list {visible(ref['title'])}, which the message is for, has been removed. "
            "`barnacle undo` may bring it back; or compose the message anew."
        )
    return found.title
