"""Finding people and lists by words, labels, lists and rules."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, lists, reach
from barnacle.book.store import Book
from barnacle.core.contact import Contact
from barnacle.core.own_fields import is_birth
from barnacle.core.patterns import pattern
from barnacle.core.text import fold, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import ALL, is_file, names, need_list, similar, unknown_label


class Found(NamedTuple):
    """What a search found: contacts with the titles of their lists, best first, and lists. `more` says that there are
    more contacts than were asked for; `notes` what a rule cannot tell; `nothing` says why nothing was found, and
    asks after what may have been meant; `why_not` says of each contact why no message reaches it, where only such were
    asked for."""

    contacts: list[tuple[Contact, list[str]]]
    lists: list[lists.Overview]
    more: bool
    notes: Sequence[str] = ()
    nothing: str = ""
    why_not: Sequence[str] = ()


class Search(NamedTuple):
    """What to find: words, and a label, a list or a rule that contacts have to fit, or that they are on no list, or
    that no message reaches them; at most so many."""

    text: str
    label: str | None = None
    in_list: str | None = None
    where: str | None = None
    most: int | None = None
    on_no_list: bool = False
    unreachable: bool = False


# What people say of those whom no message reaches, and of those who are on no list.
_UNREACHABLE = frozenset(
    "opted out, opt out, optout, opt outs, opted-out, unsubscribed, bounced, bouncing, bounces, failing, fails, failed,"
    " unreachable, not reachable, cannot be reached, dead addresses, invalid addresses, do not contact".split(", ")
)
_TWICE = frozenset("duplicates, duplicate, doubles, double, twice, in twice, doubled, dupes, twins".split(", "))
_SEVERAL = pattern(r",|;|(?i:\bor\b)")
_WITH_CODE = pattern(r"\s*(?:\+|00)[\d\s()/.-]{4,30}")
_ASKING = pattern(
    r"(?i:(?:(?:who|people|everybody|everyone|those|anybody|anyone|all) )+(?:who |that )?(?:(?:is|are|has|have) )?)"
)


def find(desk: Desk, wish: Search) -> Found:
    """Contacts and lists that have all the words; no words: everybody.

    Raises NotFoundError for an unknown list, UnclearError for a mistake in the rule.
    """
    with desk.open() as book:
        wish = wish._replace(text=_at_home(desk, wish.text))
        among, notes = _among(desk, book, wish)
        if wish.most is None or among is not None or wish.unreachable:
            found = contacts.search(book, wish.text, among)
        else:
            found = contacts.search_some(book, wish.text, wish.most + 1)
        wanted = fold(wish.text).split()
        why_not: dict[int, str] = {}
        if wish.unreachable:
            left_out = reach.audience(book, [(kept.id, kept.contact, None) for kept in found]).left_out
            why_not = {one.who: one.reason for one in left_out if one.who is not None}
            found = [kept for kept in found if kept.id in why_not]
        found.sort(key=lambda k: _rank(k.contact, wanted))
        more = wish.most is not None and len(found) > wish.most
        titled = [one for one in lists.overview(book) if wanted and all(w in fold(one.list.title) for w in wanted)]
        shown = found[: wish.most]
        on = lists.titles_of_members(book, [k.id for k in shown])
        nothing = "" if found or titled else _nothing(desk, book, wish)
        reasons = [why_not[kept.id] for kept in shown] if wish.unreachable else ()
        return Found([(k.contact, on.get(k.id, [])) for k in shown], titled, more, notes, nothing, reasons)


def _nothing(desk: Desk, book: Book, wish: Search) -> str:
    """Why a search found nothing, and what may have been meant."""
    if not contacts.count(book) and not is_file(wish.text):
        return "Your book has nobody in it yet. `barnacle import` or `barnacle contact add` fills it."
    if wish.label is not None and not contacts.labelled(book, wish.label):
        return unknown_label(book, wish.label)
    if not wish.text:
        if wish == Search("", most=wish.most, on_no_list=True):
            return "Everybody in your book is on a list."
        if wish.in_list is not None and not lists.count(book, (found := need_list(desk, book, wish.in_list)).id):
            return f"Nobody is on {visible(found.title)} yet. `barnacle list add` puts somebody there."
        return "Nobody fits that."
    meant = similar(wish.text, [*names(book), *lists.titles(book)])
    if fold(wish.text) in ALL:
        meant = "`barnacle find` alone shows everybody. "
    if _SEVERAL.search(wish.text):
        meant = "It finds who has all of the words; look for one at a time. "
    meant = _asked_otherwise(book, wish.text) or _on_a_list(book, wish.text) or meant
    return f"Nothing matches all of that. {meant}Try fewer words, or part of one."


def _at_home(desk: Desk, text: str) -> str:
    """A phone number that has one's own country's code in front without it, as both kinds are found by that; any other
    text as it is."""
    if not _WITH_CODE.fullmatch(text):
        return text
    from barnacle.core.phones import national_form  # not needed for words

    return national_form(text, desk.region) or text


def asked_otherwise(desk: Desk, text: str) -> str:
    """Which command answers a question in words: a sentence with a space behind it, or nothing."""
    with desk.open() as book:
        return _asked_otherwise(book, text)


def _asked_otherwise(book: Book, text: str) -> str:
    """What was meant by words that no contact has, but an option or a rule asks after: `opted out`, `no phone`."""
    if file := is_file(text):
        return f"{file} "
    bare = _ASKING.sub("", " ".join(text.split()), count=1)
    if fold(bare) in _UNREACHABLE:
        return "`barnacle find --unreachable` shows whom no message reaches, and why. "
    if fold(bare) in _TWICE:
        return "`barnacle duplicates` shows who may be in the book twice. "
    import shlex  # only for a mistake: it costs start-up time
    from datetime import date

    from barnacle.core import rules_meant

    if fold(bare) in rules_meant.ON_NO_LIST:
        return "`barnacle find --on-no-list` shows who is on no list. "

    own, titles = contacts.own_titles(book), lists.titles(book)
    key = fold(bare)
    if title := next((one for one in own if fold(one) == key or (is_birth(key) and is_birth(fold(one)))), ""):
        rule = shlex.quote(f'field "{title}" is not missing')
        return f"`{visible(title, 60)}` is a field: `barnacle find --where {rule}` shows who has it. "
    for asked in dict.fromkeys((bare, bare.removeprefix("with "))):
        if rule := rules_meant.meant(asked, own, titles, date.today()):
            return f"`barnacle find --where {shlex.quote(rule)}` asks that. "
    return ""


def _on_a_list(book: Book, text: str) -> str:
    """What was meant by `bo in crew`."""
    for joint in (" in ", " on "):
        who, _, title = text.rpartition(joint)
        if who and (some := lists.by_title(book, title)):
            import shlex  # only for a mistake: it costs start-up time

            return f"`barnacle find {shlex.quote(who)} --in {shlex.quote(some[0].title)}` looks on that list alone. "
    return ""


def _among(desk: Desk, book: Book, wish: Search) -> tuple[set[int] | None, list[str]]:
    """The numbers of those who have the label, are on the list and so on, None for all; and what the rule cannot
    tell."""
    some: list[set[int]] = []
    notes: list[str] = []
    if wish.label is not None:
        some.append(contacts.labelled(book, wish.label))
    if wish.in_list is not None:
        some.append(lists.numbers_on(book, need_list(desk, book, wish.in_list).id))
    if wish.on_no_list:
        some.append(lists.numbers_on_none(book))
    if wish.where is not None:
        from barnacle.book import rule_members
        from barnacle.jobs.lists import rules

        rule = rules.understand(desk, book, wish.where)
        notes = rules.unclear(book, rule)
        some.append(rule_members.fitting(book, rule))
    return set.intersection(*some) if some else None, notes


def _rank(contact: Contact, wanted: list[str]) -> int:
    """Matches in the name first, then in an address, then elsewhere."""
    if all(w in fold(contact.called) for w in wanted):
        return 0
    return 1 if all(any(w in a.address.casefold() for a in contact.addresses) for w in wanted) else 2
