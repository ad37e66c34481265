"""Giving out: a list or everybody in an open format, with the fields that were asked for and no others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.book import contacts, lists
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import FileError, UnclearError
from barnacle.core.text import visible
from barnacle.files import ldif, pasted
from barnacle.files.atomic import replacing
from barnacle.files.cards import json_cards, vcard
from barnacle.files.tables.csv_writer import write_csv
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_list

FORMATS = ("csv", "vcard", "vcard3", "jscontact", "jcard", "ldif", "line")
FIELDS = ("name", "address", "addresses", "phone", "org", "job", "web", "note", "labels", "uid", "other")
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
    A file that is there already is replaced only with `replace`. Raises NotFound, FileError, UnclearError.
    """
    if as_list and (form != "vcard" or what.lower() == EVERYBODY):
        raise UnclearError("A list and its title go along with --as vcard alone, for one list.")
    # Its members are named by their uids.
    wanted = (*_wanted(what, fields), *(["uid"] if as_list else []))
    result = Exported(fields=wanted)
    with desk.open() as book:
        everybody = what.lower() == EVERYBODY
        title = "" if everybody else need_list(desk, book, what).title

        def chosen() -> Iterator[Contact]:
            for contact in _people(desk, book, None if everybody else what):
                yield _only(contact, wanted)

        def counted() -> Iterator[Contact]:
            for contact in chosen():
                result.people += 1
                result.opted_out += contact.opt_out is not None
                yield contact

        if form == "line":
            text: Iterable[str] = [pasted.write(_mailboxes(counted(), result))]
        elif form == "csv":
            text = write_csv(chosen(), counted())
        elif form in ("vcard", "vcard3"):
            text = vcard.write(counted(), "4.0" if form == "vcard" else "3.0", title if as_list else None)
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


def _people(desk: Desk, book: Book, title: str | None) -> Iterator[Contact]:
    """Everybody, or a list's members, each with the address that the list uses in front."""
    if title is None:
        for kept in contacts.everybody(book):
            yield kept.contact
        return
    target = need_list(desk, book, title)
    for member in lists.members(book, target.id):
        contact = member.contact
        if member.address:
            key = address_key(member.address)
            contact.addresses.sort(key=lambda a: address_key(a.address) != key)
        yield contact


def _only(contact: Contact, wanted: tuple[str, ...]) -> Contact:
    """A contact with the wanted fields alone."""
    if set(wanted) == set(FIELDS):
        return contact
    addresses: list[Address] = []
    if "addresses" in wanted:
        addresses = contact.addresses
    elif "address" in wanted:
        addresses = [Address(a.address) for a in contact.addresses[:1]]
    named = "name" in wanted
    return Contact(
        name=contact.name if named else "",
        given=contact.given if named else "",
        family=contact.family if named else "",
        addresses=addresses,
        phones=contact.phones if "phone" in wanted else [],
        org=contact.org if "org" in wanted or (named and not contact.name) else "",
        job=contact.job if "job" in wanted else "",
        web=contact.web if "web" in wanted else "",
        note=contact.note if "note" in wanted else "",
        labels=contact.labels if "labels" in wanted else [],
        uid=contact.uid if "uid" in wanted else "",
        extra=contact.extra if "other" in wanted else [],
        opt_out=contact.opt_out,
        failing=contact.failing,
    )


def _mailboxes(people: Iterable[Contact], result: Exported) -> Iterator[tuple[str, str]]:
    """Whom one may paste into a message: not those who opted out, nor addresses that fail; each address once."""
    seen: set[str] = set()
    for contact in people:
        address = contact.addresses[0].address if contact.addresses else ""
        if contact.opt_out is not None:
            result.left_out.append((contact.title, "opted out"))
        elif not address:
            result.left_out.append((contact.title, "no address"))
        elif failing := contact.fails(address):
            result.left_out.append((contact.title, f"{address} fails: {failing.why}"))
        elif address_key(address) not in seen:
            seen.add(address_key(address))
            yield contact.called, address
    result.people -= len(result.left_out)


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
