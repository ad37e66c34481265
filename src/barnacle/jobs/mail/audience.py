"""Who gets a message: from what was chosen for it to its audience."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.mail.audience import Audience, Candidate, Exclusions, work_out
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import Ref, candidates_of, members_of, ref_of


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


def audience_for(book: Book, choice: Choice, me: str | None) -> Audience:
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
        within = (choice.within["title"], frozenset(m.id for m in members_of(book, choice.within)))
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
