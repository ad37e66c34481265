"""Looking lists over before they are needed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

from barnacle.book import contacts, directory_links, lists, outbox, past_mail, reach, rule_members, shares
from barnacle.book.directory_links import Link
from barnacle.book.lists import Member
from barnacle.book.store import Book
from barnacle.core.checks import CheckedMember, Finding, Twins, Untold, check
from barnacle.core.matching.judging import CERTAIN
from barnacle.core.matching.wording import in_words
from barnacle.core.moments import plain_day
from barnacle.core.rules import Rule
from barnacle.core.usual_domains import UsualDomains
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import lists_meant
from barnacle.jobs.lists import rules
from barnacle.jobs.people.duplicates import pairs_among

_MOST_UNTOLD = 100


def check_lists(
    desk: Desk,
    titles: Sequence[str],
    idle_since: str = "",
    tick: Callable[[int, int], None] = lambda done, total: None,
) -> dict[str, list[Finding]]:
    """What is wrong with the lists named, or with all; by title, also where nothing is.

    `idle_since` (YYYY-MM-DD) also finds who was neither written to nor heard from since.
    Raises NotFoundError, AmbiguousError, UnclearError.
    """
    idle_since = plain_day(idle_since) if idle_since else ""
    own_domain = desk.setting("me.address").rpartition("@")[2].lower()
    with desk.open() as book:
        chosen = lists_meant(desk, book, titles) or [one.list for one in lists.overview(book)]
        domains = UsualDomains(contacts.domains(book))
        written, refused = outbox.last_to_each(book), outbox.refused_now(book)
        mail = past_mail.last_seen(book)
        on = {one.id: lists.members(book, one.id) for one in chosen}
        twins = _twins(desk, book, {member.contact.uid for some in on.values() for member in some}, tick)
        sharing = reach.sharers(book)
        linked = {kept.contact.uid: _directory(link) for link, kept in directory_links.every(book)}
        result = {}
        for number, title, rule in ((one.id, one.title, one.rule) for one in chosen):
            some, why_not = on[number], reach.why_not(book, number, sharing)
            unread = dict(shares.unreadable(book, number))
            people = [
                _checked(member, why_not.get(member.id, ""), written, refused, mail)._replace(
                    unread=unread.get(member.id, ()), directory=linked.get(member.contact.uid, ())
                )
                for member in some
            ]
            here = {member.contact.uid for member in some}
            both = [pair for pair in twins if {pair.one.uid, pair.other.uid} <= here]
            result[title] = check(title, people, both, domains, own_domain, idle_since, _untold(book, rule, number))
        return result


def _untold(book: Book, rule: Rule | None, number: int) -> list[Untold]:
    """The first of those of whom a list's rule cannot tell."""
    some, more = rule_members.unclear(book, rule, _MOST_UNTOLD, number) if rule else ([], False)
    told = [Untold(one.who, f"{rules.not_read(one)}, so the rule cannot tell") for one in some]
    if told and more:
        told[-1] = told[-1]._replace(why=f"{told[-1].why}; there may be more")
    return told


def _directory(link: Link) -> list[str]:
    """What the directory says against somebody, as of the last refresh."""
    return [f"left the directory (seen {link.gone[:10]})"] if link.gone else list(link.differs)


def _checked(
    member: Member,
    why_not: str,
    written: Mapping[int, str],
    refused: Mapping[str, str],
    mail: Mapping[str, tuple[str, str]],
) -> CheckedMember:
    """A member with all that is known of it; mail counts whichever of its addresses it went to or came from."""
    contact = member.contact
    address = contact.used_at(member.address)
    seen = [mail.get(key, ("", "")) for key in contact.address_keys()]
    sent = max([written.get(member.id, ""), *(one[1] for one in seen)])
    heard = max((one[0] for one in seen), default="")
    return CheckedMember(contact, address, why_not, sent, refused.get(address or "", ""), heard)


def _twins(desk: Desk, book: Book, members: Collection[str], tick: Callable[[int, int], None]) -> list[Twins]:
    """The members, named by their uids, who are held to be one person, by the judgement of `duplicates`."""
    return [
        Twins(other, one, judgement.verdict == CERTAIN, in_words(judgement.reasons, judgement.against))
        for one, other, judgement in pairs_among(book, members, desk.region, tick)
    ]
