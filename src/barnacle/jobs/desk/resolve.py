"""What a name means: a list, a contact, `label:`, an address; and whom that brings in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.addresses import looks_like_address, parse_mailbox
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import NotFoundError, StoppedError
from barnacle.core.mail.audience import Candidate
from barnacle.core.text import fold, visible
from barnacle.jobs.desk.desk import Desk, describe

# What is stored of a choice: {"list": number, "title": …}, {"label": …}, {"contact": uid, "name": …, "address"?: …}
# or {"address": …, "name": …}, so that a renamed list or contact stays chosen.
Ref = dict[str, Any]


def ref_of(desk: Desk, book: Book, text: str) -> Ref:
    """What one word of the command line stands for. Raises NotFoundError, Ambiguous, BadAddress."""
    if text.lower().startswith("label:"):
        label = text[6:].strip()
        if not contacts.by_label(book, label):
            in_use = ", ".join(contacts.labels(book)) or "none yet"
            raise NotFoundError(f"Nobody has the label `{visible(label, 40)}`. Labels in use: {visible(in_use, 200)}.")
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
        raise NotFoundError(
            f"`{visible(text, 60)}` is no list, no contact and no address. "
            "`barnacle list` shows the lists, `barnacle find` the people; a label is written label:NAME."
        )
    return chosen[1]


def candidates_of(book: Book, ref: Ref, reason: str) -> Iterator[Candidate]:
    """Everybody whom a reference brings in, with the address that it brings along."""
    if "list" in ref:
        title = title_of(book, ref)
        for member in members_of(book, ref):
            by_rule = member.by == "rule"
            yield Candidate(member.contact, member.id, title, chosen=member.address, by_rule=by_rule)
    elif "label" in ref:
        for kept in contacts.by_label(book, ref["label"]):
            yield Candidate(kept.contact, kept.id, f"label {ref['label']}")
    elif "contact" in ref:
        found = contacts.by_uid(book, ref["contact"])
        if found is None:
            raise StoppedError(
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


def members_of(book: Book, ref: Ref) -> Iterator[lists.Member]:
    title_of(book, ref)
    return lists.each_member(book, ref["list"])


def title_of(book: Book, ref: Ref) -> str:
    found = lists.get(book, ref["list"])
    if found is None:
        raise StoppedError(
            f"The list {visible(ref['title'])}, which the message is for, has been removed. "
            "`barnacle undo` may bring it back; or compose the message anew."
        )
    return found.title
