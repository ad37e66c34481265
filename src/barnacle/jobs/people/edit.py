"""Changing what is known of somebody: fields, addresses, which of them to use, opt-outs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from copy import deepcopy
from pathlib import Path

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core import changes
from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact, OptOut, Phone
from barnacle.core.contact_fields import FIELDS
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.own_fields import own_fields, set_own
from barnacle.core.phones import phone_key
from barnacle.core.text import count, fold, listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk import address_slips
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact, need_list, people_meant
from barnacle.jobs.desk.separate_names import one_by_one
from barnacle.jobs.people.merge import make_one


class Edit(NamedTuple):
    """What to change of a contact: fields to replace, things to add, fields of one's own to set, things to drop."""

    fields: dict[str, str]
    addresses: Sequence[Address] = ()
    phones: Sequence[Phone] = ()
    labels: Sequence[str] = ()
    own: Sequence[tuple[str, str]] = ()
    drop_addresses: Sequence[str] = ()
    drop_phones: Sequence[str] = ()


class Edited(NamedTuple):
    """A contact as it is now, whether that is a change, and what followed from it for its lists."""

    contact: Contact
    changed: bool
    notes: list[str]


def edit(desk: Desk, who: str, wish: Edit) -> Edited:
    """Change a contact. Raises NotFoundError for something to drop that is not there."""

    def change(contact: Contact) -> None:
        for name, value in wish.fields.items():
            setattr(contact, name, value)
        if "name" in wish.fields and not {"given", "family"} & set(wish.fields):
            contact.given = contact.family = ""
        for text in wish.drop_addresses:
            found = contact.find_address(text)
            if found is None:
                raise NotFoundError(
                    f"{visible(contact.title)} has no address `{visible(text, 80)}`. Nothing was changed."
                )
            contact.addresses = [a for a in contact.addresses if a.address != found]
        for text in wish.drop_phones:
            key = phone_key(text, desk.region)
            left = [p for p in contact.phones if phone_key(p.number, desk.region) != key]
            if len(left) == len(contact.phones):
                raise NotFoundError(
                    f"{visible(contact.title)} has no phone `{visible(text, 60)}`. Nothing was changed."
                )
            contact.phones = left
        for address in wish.addresses:
            same = [
                n for n, a in enumerate(contact.addresses) if address_key(a.address) == address_key(address.address)
            ]
            if same:
                contact.addresses[same[0]] = address
            else:
                contact.addresses.append(address)
        numbers = {phone_key(p.number, desk.region) for p in contact.phones}
        for phone in wish.phones:
            if (key := phone_key(phone.number, desk.region)) not in numbers:
                contact.phones.append(phone)
            elif phone.kind:  # the same number with its kind
                contact.phones = [phone if phone_key(p.number, desk.region) == key else p for p in contact.phones]
        for title, value in wish.own:
            set_own(contact, title, value)
        contact.labels += [label for label in wish.labels if fold(label) not in map(fold, contact.labels)]

    return _edited(desk, who, change)


def replace(desk: Desk, uid: str, card: Contact) -> Edited:
    """Make a contact what its card says. What the card has no line for stays."""

    def change(contact: Contact) -> None:
        for field in FIELDS:
            setattr(contact, field.name, getattr(card, field.name))
        titles = {fold(title): title for title in own_fields(contact)}
        for title, value in own_fields(card).items():
            set_own(contact, titles.pop(fold(title), title), value)
        for gone in titles.values():
            set_own(contact, gone, "")

    return _edited(desk, uid, change)


def _edited(desk: Desk, who: str, change: Callable[[Contact], None]) -> Edited:
    with desk.open() as book, book.action("contact edit") as action:
        kept = need_contact(desk, book, who)
        contact = kept.contact
        before = deepcopy(contact)
        had = [a.address for a in contact.addresses]
        change(contact)
        if contact.title == "(no name)":
            raise UnclearError("A contact needs a name, an organisation or an address. Nothing was changed.")
        if str(contact) == str(before):
            return Edited(contact, False, [])
        contacts.save(book, kept.id, contact)
        action.title = f"{before.title}: {changes.in_words(before, contact)}"
        come = [a.address for a in contact.addresses if a.address not in had]
        return Edited(contact, True, [*_follow_addresses(book, kept.id, contact, had), *address_slips.told(book, come)])


def _follow_addresses(book: Book, row: int, contact: Contact, had: list[str]) -> list[str]:
    """Lists that had chosen an address which is gone: they use its successor, or fall back to the preferred one.

    One address gone and one come in the same change is the same address renamed.
    """
    have = {address_key(a.address) for a in contact.addresses}
    gone = [a for a in had if address_key(a) not in have]
    come = [a.address for a in contact.addresses if address_key(a.address) not in {address_key(h) for h in had}]
    successor = come[0] if len(gone) == len(come) == 1 else None
    fallback = contact.preferred or "no address"
    notes = []
    for on, chosen, _, _ in lists.memberships(book, row):
        if chosen and address_key(chosen) in {address_key(g) for g in gone}:
            with book.taking_over():  # also where one may only read: it follows from the contact, which is one's own
                lists.choose_address(book, on.id, row, successor)
            notes.append(f"{on.title} used {chosen}; now it uses {successor or fallback}.")
    return notes


def prefer(desk: Desk, who: str, address: str, in_list: str | None) -> tuple[Contact, str, str | None]:
    """Which address a contact prefers, or which one a list uses. Returns the contact, the address and the list."""
    with desk.open() as book, book.action("contact prefer") as action:
        kept = need_contact(desk, book, who)
        own = kept.contact.find_address(address)
        if own is None:
            has = listed([a.address for a in kept.contact.addresses]) or "none"
            raise NotFoundError(
                f"{visible(kept.contact.title)} has no address `{visible(address, 80)}` (but {visible(has)}). "
                "`barnacle contact edit … --address` adds one."
            )
        if in_list is None:
            chosen = [a for a in kept.contact.addresses if a.address == own]
            kept.contact.addresses = chosen + [a for a in kept.contact.addresses if a.address != own]
            contacts.save(book, kept.id, kept.contact)
            action.title = f"{kept.contact.title} prefers {own}"
            return kept.contact, own, None
        target = need_list(desk, book, in_list)
        if all(on.id != target.id for on, *_ in lists.memberships(book, kept.id)):
            raise NotFoundError(
                f"{visible(kept.contact.title)} is not on {visible(target.title)}. Nothing was changed."
            )
        lists.choose_address(book, target.id, kept.id, own)
        action.title = f"{target.title} uses {own} for {kept.contact.title}"
        return kept.contact, own, target.title


def opt(desk: Desk, who: Sequence[str], out: bool, why: str = "") -> list[Contact]:
    """Mark that people must not be written to, or may be again. Returns those for whom that is new: an opt-out that is
    there keeps its day and its reason unless a reason is given."""
    with desk.open() as book, book.action("contact optout" if out else "contact optin") as action:
        changed = []
        for kept in people_meant(desk, book, who):
            if (kept.contact.opt_out is not None) == out and not why:
                continue
            kept.contact.opt_out = OptOut(book.running.at, why) if out else None
            contacts.save(book, kept.id, kept.contact)
            changed.append(kept.contact)
        names = listed([one.title for one in changed])
        action.title = f"{names or 'Nobody'} {'must not be written to' if out else 'may be written to again'}"
        return changed


def opt_out_of_file(desk: Desk, path: Path, why: str) -> tuple[list[Contact], list[str]]:
    """Mark that the people of a file must not be written to. Returns those of the book, and the addresses that nobody
    there has (`import --optout` takes those in). Raises FileError."""
    from barnacle.files.people import read_people  # of few commands

    people, _ = read_people(path)
    with desk.open() as book, book.action("contact optout") as action:
        changed: dict[int, Contact] = {}
        unknown = []
        for address, _name in people:
            holders = contacts.by_address(book, address)
            if not holders:
                unknown.append(address)
            for kept in holders:
                if kept.contact.opt_out is None:
                    kept.contact.opt_out = OptOut(book.running.at, why or f"from {path.name}")
                    contacts.save(book, kept.id, kept.contact)
                    changed[kept.id] = kept.contact
        names = listed([one.title for one in changed.values()])
        action.title = f"{names or 'Nobody'} must not be written to, from {visible(path.name, 60)}"
        return list(changed.values()), unknown


def set_own_of(desk: Desk, who: Sequence[str], own: Sequence[tuple[str, str]]) -> list[Contact]:
    """Set fields of one's own of everybody who is meant. Returns those who have changed."""
    with desk.open() as book, book.action("contact edit") as action:
        changed = []
        for kept in people_meant(desk, book, who):
            before = own_fields(kept.contact)
            for title, value in own:
                set_own(kept.contact, title, value)
            if own_fields(kept.contact) != before:
                contacts.save(book, kept.id, kept.contact)
                changed.append(kept.contact)
        titles = listed([title for title, _ in own])
        action.title = f"Set {titles} of {listed([one.title for one in changed]) or 'nobody'}"
        return changed


def merge_contacts(desk: Desk, who: Sequence[str]) -> Edited:
    """Make one contact of several; the first named stays. Each list keeps the address that it used."""
    with desk.open() as book, book.action("contact merge") as action:
        kept, *others = [need_contact(desk, book, text) for text in one_by_one(book, who)]
        others = [one for n, one in enumerate(others) if one.id not in {kept.id, *(o.id for o in others[:n])}]
        if not others and len(who) == 1:
            raise UnclearError(f"Name another whom {visible(kept.contact.title)} is to be one contact with.")
        if not others:
            raise UnclearError("They are one contact already, so there is nothing to merge.")
        doubts = list(_doubts(desk, book, kept.contact, [one.contact for one in others]))
        merged = make_one(desk, book, [kept, *others])
        action.title = f"Merged {count(len(others) + 1, 'contact')}: {kept.contact.title}"
        return Edited(kept.contact, True, [*doubts, *merged.notes])


def _doubts(desk: Desk, book: Book, kept: Contact, others: Sequence[Contact]) -> Iterator[str]:
    """What speaks against their being one person, in sentences: what was said before, or what excludes it."""
    from barnacle.book import verdicts
    from barnacle.core.matching.forms import form  # which takes time, and is of no use to those who only look
    from barnacle.core.matching.judging import Judge
    from barnacle.core.matching.weights import Frequencies

    apart = verdicts.said(book, verdicts.APART)
    for other in others:
        both = f"{visible(kept.title, 60)} and {visible(other.title, 60)}"
        forms = form(kept, desk.region), form(other, desk.region)
        judgement = Judge(Frequencies(forms)).judge(*forms)
        if frozenset((kept.uid, other.uid)) in apart:
            yield f"{both} had been kept apart, as two people."
        elif judgement.contradict:
            yield f"{both} look like two people: {listed(judgement.against)}."
