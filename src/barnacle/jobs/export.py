"""Giving out: a list or everybody in an open format, with the fields that were asked for and no others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.book import contacts, lists, reach
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact
from barnacle.core.contact_fields import PLAIN, TEXTS
from barnacle.core.errors import FileError, UnclearError
from barnacle.core.mail.audience import Audience
from barnacle.core.text import listed, visible
from barnacle.files import ldif, pasted
from barnacle.files.atomic import replacing
from barnacle.files.cards import json_cards, vcard
from barnacle.files.tables.csv_writer import write_csv
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list

FORMATS = ("csv", "vcard", "vcard3", "jscontact", "jcard", "ldif", "line")
FIELDS = ("name", "address", "addresses", "phone", *(field.name for field in PLAIN), "labels", "uid", "other")
# What a list gives unless more is asked for: enough to write to it.
_OF_A_LIST = ("name", "address")
EVERYBODY = "all"


@dataclass(slots=True)
class Exported:
    """What was written: how many people, and of `line` also who was left out, with the reason."""

    people: int = 0
    left_out: list[tuple[str, str]] = field(default_factory=list)
    opted_out: int = 0
    fields: tuple[str, ...] = ()


def export(
    desk: Desk,
    what: str,
    form: str,
    out: Path | None,
    fields: Sequence[str],
    as_list: bool,
    replace: bool,
    say: Callable[[str], None],
) -> Exported:
    """Write a list, or everybody for `all`, to a file, or piece by piece to `say`.

    `fields` are those to give: without any a list gives names and the addresses that it uses, and `all` everything;
    `all` among them gives everything. With `as_list` the list itself goes along (vCard 4.0).
    A file that is there already is replaced only with `replace`. Raises NotFoundError, FileError, UnclearError.
    """
    if as_list and (form != "vcard" or what.lower() == EVERYBODY):
        raise UnclearError("A list and its title go along with --as vcard alone, for one list.")
    # Its members are named by their uids.
    wanted = (*_wanted(what, fields), *(["uid"] if as_list else []))
    result = Exported(fields=wanted)
    with desk.open() as book:
        target = None if what.lower() == EVERYBODY else need_list(desk, book, what)

        def everybody() -> Iterator[tuple[int, Contact, str | None]]:
            for one in _people(book, target):
                result.people += 1
                result.opted_out += one[1].opt_out is not None
                yield one

        def counted() -> Iterator[Contact]:
            return (_only(contact, address, wanted) for _, contact, address in everybody())

        if form == "line":
            text: Iterable[str] = [pasted.write(_mailboxes(reach.audience(book, everybody()), result))]
        elif form == "csv":
            twice = (_only(contact, address, wanted) for _, contact, address in _people(book, target))
            text = write_csv(twice, counted())
        elif form in ("vcard", "vcard3"):
            text = vcard.write(
                counted(), "4.0" if form == "vcard" else "3.0", target.title if as_list and target else None
            )
        elif form == "ldif":
            text = ldif.write(counted())
        else:
            text = json_cards.write((json_cards.jcards if form == "jcard" else json_cards.jscontacts)(counted()))
        _write(text, out, replace, say)
    return result


def _wanted(what: str, fields: Sequence[str]) -> tuple[str, ...]:
    if EVERYBODY in fields or (not fields and what.lower() == EVERYBODY):
        return FIELDS
    for name in fields:
        if name not in FIELDS:
            raise UnclearError(
                f"There is no field `{visible(name, 30)}` to give. Fields are {', '.join(FIELDS)}; or all."
            )
    return tuple(fields) or _OF_A_LIST


def _people(book: Book, target: ContactList | None) -> Iterator[tuple[int, Contact, str | None]]:
    """Everybody, or a list's members: number, contact, and the address that the list has chosen."""
    if target is None:
        return ((kept.id, kept.contact, None) for kept in contacts.everybody(book))
    return iter(reach.members(lists.each_member(book, target.id)))


def _only(contact: Contact, address: str | None, wanted: tuple[str, ...]) -> Contact:
    """A contact with the wanted fields alone, the address that a list has chosen in front."""
    if address:
        key = address_key(address)
        contact.addresses.sort(key=lambda a: address_key(a.address) != key)
    if set(wanted) == set(FIELDS):
        return contact
    addresses: list[Address] = []
    if "addresses" in wanted:
        addresses = contact.addresses
    elif "address" in wanted:
        addresses = [Address(a.address) for a in contact.addresses[:1]]
    named = "name" in wanted
    given = Contact(
        addresses=addresses,
        phones=contact.phones if "phone" in wanted else [],
        labels=contact.labels if "labels" in wanted else [],
        uid=contact.uid if "uid" in wanted else "",
        extra=contact.extra if "other" in wanted else [],
        opt_out=contact.opt_out,
        failing=contact.failing,
    )
    for text in TEXTS:
        if named if text.is_name else text.name in wanted:
            setattr(given, text.name, getattr(contact, text.name))
    if named and not contact.name:
        given.org = contact.org
    return given


def _mailboxes(audience: Audience, result: Exported) -> Iterator[tuple[str, str]]:
    """Whom one may paste into a message: whom a message to the list would reach, each address once."""
    result.people = audience.people
    result.left_out += [(one.name, one.reason) for one in audience.left_out]
    for recipient in audience.recipients:
        yield listed(recipient.names, len(recipient.names)), recipient.address


def _write(text: Iterable[str], out: Path | None, replace: bool, say: Callable[[str], None]) -> None:
    """Into a file that its owner alone may read, whole or not at all; or to the screen."""
    if out is None:
        for piece in text:
            say(piece)
        return
    if out.exists() and not replace:
        raise FileError(f"{visible(str(out))} is there already. --yes replaces it.")
    with replacing(out) as file:
        for piece in text:
            file.write(piece)
