"""Looking lists over before they are needed."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.book import contacts, lists, outbox
from barnacle.core.checks import Finding, Person, check, domain_counts
from barnacle.core.errors import Unclear
from barnacle.core.text import visible
from barnacle.jobs.desk import Desk


def check_lists(desk: Desk, titles: Sequence[str], idle_since: str = "") -> dict[str, list[Finding]]:
    """What is wrong with the lists named, or with all; by title, also where nothing is.

    `idle_since` (YYYY-MM-DD) also finds who was not written to since. Raises NotFound, Ambiguous, Unclear.
    """
    if idle_since and not (len(idle_since) == 10 and idle_since[4] == idle_since[7] == "-"):
        raise Unclear(f"`{visible(idle_since, 30)}` is no date; write it like 2026-11-23.")
    own_domain = desk.setting("me.address").rpartition("@")[2].lower()
    with desk.open() as book:
        chosen = [desk.need_list(book, t) for t in titles] or [one.list for one in lists.overview(book)]
        domains = domain_counts(contacts.address_keys(book))
        written, refused = outbox.last_to_each(book), outbox.refused_now(book)
        result = {}
        for one in chosen:
            people = []
            for member in lists.members(book, one.id):
                own = member.contact.addresses
                address = member.address or (own[0].address if own else None)
                people.append(
                    Person(member.contact, address, written.get(member.id, ""), refused.get(address or "", ""))
                )
            result[one.title] = check(one.title, people, domains, own_domain, idle_since)
        return result
