"""Giving out: a list or everybody in an open format, with the fields that were asked for and no others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from barnacle.book import contacts, lists, reach
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.core.addresses import address_key
from barnacle.core.contact import Address, Contact
from barnacle.core.contact_fields import PLAIN, TEXTS
from barnacle.core.errors import FileError, NotFoundError, UnclearError
from barnacle.core.mail.audience import Audience
from barnacle.core.own_fields import title_of
from barnacle.core.references import ListRef
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import NamedTuple
from barnacle.files import ldif, pasted
from barnacle.files.atomic import replacing, replacing_whole
from barnacle.files.cards import json_cards, vcard
from barnacle.files.tables.contact_columns import LISTS, VERSION, cells_of, columns_in_order
from barnacle.files.tables.csv_writer import write_csv
from barnacle.files.tables.spool import Spool
from barnacle.files.tables.workbook_writer import Page
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import brought_in, need_list, need_own_title, understand
from barnacle.jobs.desk.separate_names import one_by_one

TABLES = ("csv", "xlsx", "ods")
FORMATS = (*TABLES, "vcard", "vcard3", "jscontact", "jcard", "ldif", "line")
FIELDS = ("name", "address", "addresses", "phone", *(field.name for field in PLAIN), "labels", "lists", "uid", "other")
# What people give unless more is asked for: enough to write to them.
_OF_A_LIST = ("name", "address")
EVERYBODY = "all"
# What of a contact's kept properties people would miss, by how its key begins and its name for them.
_MISSED = {"vcard:PHOTO": "photo"}


@dataclass(slots=True)
class Exported:
    """What was written: how many people, and of `line` also who was left out, with the reason. `not_carried` says of
    what the format has no place for how many people have it."""

    people: int = 0
    left_out: list[tuple[str, str]] = field(default_factory=list)
    opted_out: int = 0
    fields: tuple[str, ...] = ()
    not_carried: dict[str, int] = field(default_factory=dict)


class Wish(NamedTuple):
    """What to write: whom (lists, people, `label:NAME`, `find:WORDS`, `where:RULE`, or `all`), in which format, which
    fields (see `export`), whether the list itself goes along, whether each list has a sheet of its own, and whether a
    file that is there is replaced."""

    what: Sequence[str]
    form: str
    out: Path | None
    fields: Sequence[str] = ()
    as_list: bool = False
    by_list: bool = False
    replace: bool = False


# Somebody with the number in the book, and the address that a list has chosen.
_Person = tuple[int, Contact, str | None]


def export(
    desk: Desk, wish: Wish, say: Callable[[str], None], tick: Callable[[int, int], None] = lambda done, total: None
) -> Exported:
    """Write people to a file, or piece by piece to `say`.

    Without fields `all` gives everything, and anything else names and the addresses that are used; `all` among the
    fields gives everything, and the title of a field of one's own that field. With `as_list` the list itself goes
    along (vCard 4.0). Raises NotFoundError, FileError, UnclearError.
    """
    form = wish.form
    if form in ("xlsx", "ods") and wish.out is None:
        raise UnclearError(f"A workbook needs a file: --out FILE.{form}.")
    if wish.by_list and form not in ("xlsx", "ods"):
        raise UnclearError("Only a workbook has a sheet for each list: --as xlsx or --as ods.")
    if wish.out is not None:
        _check_free(wish.out, wish.replace)
    with desk.open() as book:
        groups = _groups(desk, book, wish)
        one_list = len(groups) == 1 and groups[0].row is not None
        if wish.as_list and (form != "vcard" or not one_list):
            raise UnclearError("Only --as vcard can include a list itself, and only one.")
        wanted, own = _wanted(book, wish.fields, any(text.lower() == EVERYBODY for text in wish.what))
        if wish.as_list:
            wanted = (*wanted, "uid")  # its members are named by their uids
        result = Exported(fields=(*wanted, *own))
        giving = _Giving(book, groups, wanted, own, result, tick)
        if form == "line":
            _write([pasted.write(_mailboxes(reach.audience(book, giving.everybody()), result))], wish, say)
        elif form in ("xlsx", "ods"):
            assert wish.out is not None
            _write_workbook(giving.pages(wish.by_list), form, wish.out)
        elif form == "csv":
            [page] = giving.pages(False)
            _write(write_csv(page.columns, page.rows), wish, say)
        elif form in ("vcard", "vcard3"):
            title = groups[0].title if wish.as_list else None
            _write(vcard.write(giving.cards(form), "4.0" if form == "vcard" else "3.0", title), wish, say)
        elif form == "ldif":
            _write(ldif.write(giving.cards(form)), wish, say)
        else:
            write = json_cards.jcards if form == "jcard" else json_cards.jscontacts
            _write(json_cards.write(write(giving.cards(form))), wish, say)
    return result


# After how many people it is told how far one is.
_TOLD_EVERY = 500


class _Group(NamedTuple):
    """People who were named together: what they are called, the list that they are, how many, and they."""

    title: str
    row: int | None
    size: int
    people: Callable[[], Iterable[_Person]]


def _groups(desk: Desk, book: Book, wish: Wish) -> list[_Group]:
    found = []
    for text in one_by_one(book, wish.what):
        if text.lower() == EVERYBODY:
            if wish.by_list:
                found += [_of_list(book, one.list) for one in lists.overview(book)]
            else:
                found.append(_Group("Everybody", None, contacts.count(book), partial(_everybody, book)))
            continue
        ref = understand(desk, book, text)
        if isinstance(ref, ListRef):
            found.append(_of_list(book, need_list(desk, book, text)))
        else:
            some = list(brought_in(book, ref, ""))
            people: list[_Person] = [
                (o.person, o.contact, o.chosen or o.explicit) for o in some if o.person is not None
            ]
            if len(people) < len(some):
                raise NotFoundError(f"`{visible(text, 60)}` is not in the book.")
            found.append(_Group(text, None, len(people), partial(_again, people)))
    return found


def _of_list(book: Book, one: ContactList) -> _Group:
    return _Group(one.title, one.id, lists.count(book, one.id), lambda: reach.members(lists.each_member(book, one.id)))


def _everybody(book: Book) -> Iterator[_Person]:
    return ((kept.id, kept.contact, None) for kept in contacts.everybody(book))


def _again(some: list[_Person]) -> list[_Person]:
    return some


class _Giving:
    """People on their way out: each once, with the wanted fields alone."""

    def __init__(
        self,
        book: Book,
        groups: list[_Group],
        wanted: tuple[str, ...],
        own: tuple[str, ...],
        result: Exported,
        tick: Callable[[int, int], None],
    ) -> None:
        self.book = book
        self.groups = groups
        self.wanted = wanted
        self.whole = set(FIELDS) <= set(wanted)
        self.own = own
        self.result = result
        self.tick = tick
        self.total = sum(group.size for group in groups)

    def everybody(self, groups: Sequence[_Group] | None = None, count: bool = True) -> Iterator[_Person]:
        """Who is given, each once."""
        groups = self.groups if groups is None else groups
        seen: set[int] = set()
        for group in groups:
            for one in group.people():
                if len(groups) > 1:
                    if one[0] in seen:
                        continue
                    seen.add(one[0])
                if count:
                    self.result.people += 1
                    if self.result.people % _TOLD_EVERY == 0:
                        self.tick(self.result.people, max(self.total, self.result.people))
                    self.result.opted_out += one[1].opt_out is not None
                yield one

    def cards(self, form: str) -> Iterator[Contact]:
        """The contacts for a format of cards; what it does not carry is counted."""
        for _, contact, address in self.everybody():
            given = self._only(contact, address)
            if form in ("ldif", "jscontact"):
                if any(title_of(kept.key) and not kept.key.startswith(f"{form}:") for kept in given.extra):
                    self._missed("fields of your own")
                if form == "ldif" and given.labels:
                    self._missed("labels")
            yield given

    def pages(self, by_list: bool) -> list[Page]:
        """The tables for a workbook or a file: one, or one for each list."""
        some = [[group] for group in self.groups] if by_list else [self.groups]
        return [self._page(groups, number == 0 or by_list) for number, groups in enumerate(some)]

    def _page(self, groups: list[_Group], count: bool) -> Page:
        titles = lists.titles_of_members(self.book) if "lists" in self.wanted else {}
        version = {VERSION: contacts.version(self.book)} if "uid" in self.wanted else {}

        named = "name" in self.wanted

        def rows() -> Iterator[dict[str, str]]:
            for number, contact, address in self.everybody(groups, count):
                given = self._only(contact, address)
                if count and given.extra:
                    for key in {extra.key.split(":", 2)[1].split(";")[0].split(".")[-1] for extra in given.extra}:
                        if what := _MISSED.get(f"vcard:{key}"):
                            self._missed(what)
                cells = cells_of(given, named)
                if version:
                    cells |= version
                if on := titles.get(number):
                    cells[LISTS] = ", ".join(on)
                yield cells

        title = groups[0].title if len(groups) == 1 else "People"
        waiting = Spool(rows())
        return Page(title, columns_in_order(waiting.columns), waiting)

    def _missed(self, what: str) -> None:
        self.result.not_carried[what] = self.result.not_carried.get(what, 0) + 1

    def _only(self, contact: Contact, address: str | None) -> Contact:
        """A contact with the wanted fields alone, the address that a list has chosen in front."""
        wanted = self.wanted
        if address:
            key = address_key(address)
            contact.addresses.sort(key=lambda a: address_key(a.address) != key)
        if self.whole:
            return contact
        addresses: list[Address] = []
        if "addresses" in wanted:
            addresses = contact.addresses
        elif "address" in wanted:
            addresses = [Address(a.address) for a in contact.addresses[:1]]
        named = "name" in wanted
        chosen = set(map(fold, self.own))
        given = Contact(
            addresses=addresses,
            phones=contact.phones if "phone" in wanted else [],
            labels=contact.labels if "labels" in wanted else [],
            uid=contact.uid if "uid" in wanted else "",
            extra=[e for e in contact.extra if "other" in wanted or fold(title_of(e.key)) in chosen],
            opt_out=contact.opt_out,
            failing=contact.failing,
        )
        for text in TEXTS:
            if named if text.is_name else text.name in wanted:
                setattr(given, text.name, getattr(contact, text.name))
        if named and not contact.name:
            given.org = contact.org
        return given


def _wanted(book: Book, fields: Sequence[str], everybody: bool) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The fields to give, and the titles of one's own among them. Raises UnclearError."""
    if EVERYBODY in fields or (not fields and everybody):
        return FIELDS, ()
    own = []
    for name in fields:
        if name not in FIELDS:
            try:
                own.append(need_own_title(book, name))
            except NotFoundError as error:
                raise UnclearError(
                    f"There is no field `{visible(name, 30)}` to export. Fields are {', '.join(FIELDS)}, those of your "
                    f"own; or all. {error}"
                ) from None
    return tuple(name for name in fields if name in FIELDS) or (() if own else _OF_A_LIST), tuple(own)


def _mailboxes(audience: Audience, result: Exported) -> Iterator[tuple[str, str]]:
    """Whom one may paste into a message: whom a message to the list would reach, each address once."""
    result.people = audience.people
    result.left_out += [(one.name, one.reason) for one in audience.left_out]
    for recipient in audience.recipients:
        yield listed(recipient.names, len(recipient.names)), recipient.address


def _write(text: Iterable[str], wish: Wish, say: Callable[[str], None]) -> None:
    """Into a file that its owner alone may read, whole or not at all; or to the screen."""
    if wish.out is None:
        for piece in text:
            say(piece)
        return
    with replacing(wish.out) as file:
        if wish.form == "csv":
            file.write("\ufeff")  # by which spreadsheet programs know the encoding
        for piece in text:
            file.write(piece)


def _write_workbook(pages: Sequence[Page], form: str, out: Path) -> None:
    from barnacle.files.tables import workbook_writer

    with replacing_whole(out) as part:
        (workbook_writer.write_xlsx if form == "xlsx" else workbook_writer.write_ods)(part, pages)


def _check_free(out: Path, replace: bool) -> None:
    if out.is_file() and not replace:
        raise FileError(f"{visible(str(out))} exists already. --yes replaces it.")
