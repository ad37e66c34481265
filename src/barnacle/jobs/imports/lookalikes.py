"""Who of those that an import brought is somebody already known, by the judgement of `duplicates`."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import islice

from barnacle.book import contacts, verdicts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.gc_paused import uncollected
from barnacle.core.matching.forms import form
from barnacle.core.matching.grouping import find_links
from barnacle.core.matching.judging import CERTAIN, Judge, Judgement
from barnacle.core.matching.weights import Frequencies
from barnacle.core.matching.wording import in_words
from barnacle.core.phones import LAST_DIGITS
from barnacle.core.typed import NamedTuple
from barnacle.files.worker import in_two
from barnacle.jobs.imports.report import MOST_KEPT
from barnacle.jobs.people.compared import compared

Tick = Callable[[int, int], None]

# In a larger book everybody is compared by `duplicates` alone; an import looks at namesakes.
MOST_COMPARED = 50_000
_NAMESAKES, _PAIRS = 20, 5 * MOST_KEPT


class Lookalike(NamedTuple):
    """A new contact and one that it is or may be, why, and whether that is certain."""

    new: StoredContact
    known: StoredContact
    reason: str
    certain: bool


def met(book: Book, first: int, region: str, tick: Tick = lambda done, total: None) -> Iterator[Lookalike]:
    """New contacts (numbered from `first` on) that may be others of the book, the surest first."""
    return _by_name(book, first, region) if too_large(book) else _by_comparing(book, first, region, tick)


def too_large(book: Book) -> bool:
    """Whether the book has so many contacts that an import looks at namesakes alone."""
    return contacts.count(book) > MOST_COMPARED


def _by_comparing(book: Book, first: int, region: str, tick: Tick) -> Iterator[Lookalike]:
    tick(0, 100)
    everybody = compared(book, region)
    with uncollected():
        fresh = {place for place, number in enumerate(everybody.numbers) if number >= first}
        judge = Judge(Frequencies(everybody.forms))
        links = find_links(everybody.forms, judge, verdicts.said(book, verdicts.APART), tick, fresh, in_two)
    # Each once, so that whoever is joined on the way is so everywhere.
    held = everybody.held(book, {place for link in links for place in link[:2]})
    for link in links:
        known, new = sorted((held[link.one], held[link.other]), key=lambda kept: kept.id)
        yield Lookalike(new, known, _words(link.judgement), link.judgement.verdict == CERTAIN)


def _by_name(book: Book, first: int, region: str) -> Iterator[Lookalike]:
    """New people with the name of somebody else who share a phone or the organisation with them."""
    rows = contacts.namesakes_with_more(book, first, _NAMESAKES, _PAIRS)
    pairs = ((new, old) for new, old, same_org, *phones in rows if same_org or _may_share(*phones))
    for new, old in islice(pairs, MOST_KEPT):
        one, other = contacts.get(book, new), contacts.get(book, old)
        if one is None or other is None:
            continue
        forms = form(one.contact, region), form(other.contact, region)
        same_org = forms[0].org and forms[0].org == forms[1].org
        if set(forms[0].phones) & set(forms[1].phones) or same_org:
            judgement = Judge(Frequencies(forms)).judge(*forms)
            if not judgement.contradict:
                yield Lookalike(one, other, _words(judgement), False)


def _may_share(one: str, other: str) -> bool:
    """Whether two texts of numbers, one a line, may have one in common, however it begins."""
    mine, theirs = ({number[-LAST_DIGITS:] for number in text.split()} for text in (one, other))
    return not mine.isdisjoint(theirs)


def _words(judgement: Judgement) -> str:
    return in_words(judgement.reasons, judgement.against)
