"""Looking lists over before they are needed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from barnacle.book import contacts, lists, outbox, past_mail
from barnacle.core.checks import CheckedMember, Finding, check
from barnacle.core.contact import Contact
from barnacle.core.text import plain_day
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list


def check_lists(desk: Desk, titles: Sequence[str], idle_since: str = "") -> dict[str, list[Finding]]:
    """What is wrong with the lists named, or with all; by title, also where nothing is.

    `idle_since` (YYYY-MM-DD) also finds who was neither written to nor heard from since.
    Raises NotFound, Ambiguous, Unclear.
    """
    idle_since = plain_day(idle_since) if idle_since else ""
    own_domain = desk.setting("me.address").rpartition("@")[2].lower()
    with desk.open() as book:
        chosen = [need_list(desk, book, t) for t in titles] or [one.list for one in lists.overview(book)]
        domains = contacts.domains(book)
        written, refused = outbox.last_to_each(book), outbox.refused_now(book)
        mail = past_mail.last_seen(book)
        result = {}
        for one in chosen:
            people = []
            for member in lists.members(book, one.id):
                own = member.contact.addresses
                address = member.address or (own[0].address if own else None)
                people.append(_person(member.id, member.contact, address, written, refused, mail))
            result[one.title] = check(one.title, people, domains, own_domain, idle_since)
        return result


def _person(
    row: int,
    contact: Contact,
    address: str | None,
    written: Mapping[int, str],
    refused: Mapping[str, str],
    mail: Mapping[str, tuple[str, str]],
) -> CheckedMember:
    """A member with all that is known of it; mail counts whichever of its addresses it went to or came from."""
    seen = [mail.get(key, ("", "")) for key in contact.address_keys()]
    sent = max([written.get(row, ""), *(one[1] for one in seen)])
    heard = max((one[0] for one in seen), default="")
    failing = contact.fails(address) if address else None
    return CheckedMember(contact, address, sent, failing.why if failing else refused.get(address or "", ""), heard)
