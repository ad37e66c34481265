"""Who gets a message: from what was chosen for it to its audience."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Sequence

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.mail.audience import Audience, Candidate, Exclusions, work_out
from barnacle.core.mail.message import Choice
from barnacle.core.references import AddressRef, ContactRef, ListRef, Ref
from barnacle.jobs.desk import address_slips
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import brought_in, meant_by, need_list, need_title, understand
from barnacle.jobs.desk.separate_names import one_by_one, parted, put_together


def choose(
    desk: Desk,
    book: Book,
    wanted: Sequence[str],
    without: Sequence[str],
    within: str | None,
    also: Sequence[str],
) -> tuple[Choice, list[str]]:
    """What the words stand for, with a sentence for each that is not the whole name of it. Raises NotFoundError,
    AmbiguousError, BadAddressError."""
    inside = None
    if within is not None:
        found = need_list(desk, book, within)
        inside = ListRef(found.id, found.title)
    named, left_out = parted(book, put_together(book, wanted))
    meant: list[str] = []

    def understood(texts: Sequence[str], among: Container[int] = ()) -> list[Ref]:
        refs = [understand(desk, book, text, among) for text in texts]
        meant.extend(filter(None, map(meant_by, texts, refs)))
        return refs

    for_it, added = (understood(one_by_one(book, some)) for some in (named, put_together(book, also)))
    # Whoever is to be left out is one of those who would get it.
    left_out = one_by_one(book, [*put_together(book, without), *left_out])
    brought = (one.person for ref in (*for_it, *added) for one in brought_in(book, ref, "")) if left_out else ()
    among = {number for number in brought if number is not None}
    left = understood(left_out, among)
    typed = (ref.address for ref in (*for_it, *added) if isinstance(ref, AddressRef))
    new = [address for address in typed if not contacts.by_address(book, address)]
    meant += [said.removesuffix(".") for said in address_slips.told(book, new)]
    return Choice(for_it, left, inside, added), meant


def audience_for(book: Book, choice: Choice, me: str | None) -> Audience:
    """Who gets the message as the book stands now; `me` is the sender's address where a copy is wished for.

    Raises StoppedError when a list or contact of the choice has been removed.
    """
    excluded: dict[int, Contact] = {}
    addresses: set[str] = set()
    named: list[int] = []
    for ref in choice.without:
        found = list(brought_in(book, ref, ""))
        people = {c.person: c.contact for c in found if c.person is not None}
        excluded.update(people)
        named += people if isinstance(ref, ContactRef) else []
        if isinstance(ref, AddressRef):
            addresses.add(address_key(ref.address))
    within = None
    if choice.within is not None:
        title = need_title(book, choice.within)
        within = (title, frozenset(member.id for member in lists.each_member(book, choice.within.number)))
    exclusions = Exclusions(excluded, frozenset(addresses), within)
    result = work_out(
        _all_candidates(book, choice, me),
        lambda keys: contacts.opted_out_at(book, keys),
        exclusions,
        lambda number: contacts.need(book, number),
    )
    # Whoever is left out by name and was not in it anyway may be a mistake for somebody else.
    result.notes += [
        f"{excluded[n].title} was not among the recipients anyway" for n in named if n not in result.excluded
    ]
    return result


def _all_candidates(book: Book, choice: Choice, me: str | None) -> Iterator[Candidate]:
    for ref in choice.wanted:
        yield from brought_in(book, ref, "named")
    for ref in choice.also:
        yield from _also(brought_in(book, ref, "added this time"))
    if me is not None:
        yield from _also(brought_in(book, AddressRef(me), "your own copy"))


def _also(candidates: Iterable[Candidate]) -> Iterator[Candidate]:
    for candidate in candidates:
        candidate.also = True
        yield candidate
