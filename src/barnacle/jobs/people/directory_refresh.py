"""The organisation's directory looked at again: what is different there, who has left, and whom its filters find."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from barnacle.book import contacts, directory_links, rule_members
from barnacle.book.directory_links import Link
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.own_fields import own_value, set_own
from barnacle.core.phones import phone_key
from barnacle.core.rules import directory_filters_in
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.directory import (
    DEPARTMENT,
    EVERYBODY,
    Hit,
    asked,
    attributes,
    hit_of,
    opened,
    person_of,
    said_of,
    take,
)

if TYPE_CHECKING:
    from barnacle.net.ldap import Directory, Entry

_AT_ONCE = 50
# From so many on, people are found among everybody, of whom there may be so many.
_MANY = 500


class Difference(NamedTuple):
    """What the directory says otherwise than before: of which contact and field, what stands in the book, what it said
    before and what now; `mine` says that the book was changed by hand since."""

    name: str
    field: str
    book: str
    before: str
    now: str
    mine: bool


class Refreshed(NamedTuple):
    """What a refresh came to: what is different, who has left, who came to the lists by filter, and how many contacts
    were looked at."""

    looked_at: int
    differences: list[Difference]
    gone: list[str]
    new: list[Hit]
    remarks: list[str]


class _Looked(NamedTuple):
    """A contact with what its entry says now, and what of that is different."""

    link: Link
    kept: StoredContact
    person: Contact
    differences: list[Difference]


class Refresh:
    """One refresh: what is different is worked out first, and taken over where that is wanted."""

    def __init__(self, desk: Desk, book: Book, who: Sequence[int] | None) -> None:
        """`who` are the numbers of the contacts to look at; None: all, and lists by filter. Raises DirectoryError,
        UnclearError."""
        self._desk, self._book = desk, book
        self._names = attributes(desk)
        self._found: list[_Looked] = []
        self._gone: list[tuple[Link, StoredContact]] = []
        self._matches: dict[str, list[str]] = {}
        self._new: dict[str, Hit] = {}
        self._remarks: list[str] = []
        links = [(link, kept) for link, kept in directory_links.every(book) if who is None or kept.id in who]
        with opened(desk) as line:
            self._look_at(line, links)
            if who is None:
                self._filter(line)
        self.result = Refreshed(
            len(links),
            [different for one in self._found for different in one.differences],
            [kept.contact.title for _, kept in self._gone],
            list(self._new.values()),
            self._remarks,
        )

    def _look_at(self, line: Directory, links: Sequence[tuple[Link, StoredContact]]) -> None:
        there, whole = self._there(line, [link.entry for link, _ in links])
        for link, kept in links:
            # A directory that was set up anew has other numbers for the same people.
            entry = there.get(link.entry) or (self._by_address(line, link) if whole else None)
            if entry is not None:
                person = person_of(entry, self._names)
                found = _differences(link, kept, person)
                self._found.append(_Looked(link._replace(entry=entry.number), kept, person, found))
            elif whole:
                self._gone.append((link, kept))
        if not whole:
            self._remarks.append("The directory did not give all that was asked for, so nobody was taken for gone.")

    def _filter(self, line: Directory) -> None:
        """Whom the filters of lists find."""
        in_use = {text for rule in rule_members.all_rules(self._book).values() for text in directory_filters_in(rule)}
        for text in sorted(in_use):
            found = asked(line, self._names, text, EVERYBODY)
            if found.more:
                self._remarks.append(f"{visible(text, 60)}: {found.more}; its list stays as it was.")
                continue
            self._matches[text] = [entry.number for entry in found.entries]
            for entry in found.entries:
                if directory_links.of_entry(self._book, entry.number) is None:
                    self._new[entry.number] = hit_of(self._book, entry, self._names)

    def _there(self, line: Directory, numbers: Sequence[str]) -> tuple[dict[str, Entry], bool]:
        """The entries with these numbers, and whether all that are there were given. Many are found among everybody:
        some servers go through all they have for each question."""
        from barnacle.net.ldap import either

        there: dict[str, Entry] = {}
        if len(numbers) > _MANY:
            found = asked(line, self._names, "(objectClass=*)", EVERYBODY)
            if not found.more:
                return {entry.number: entry for entry in found.entries}, True
        whole = True
        for start in range(0, len(numbers), _AT_ONCE):
            wish = either("entryUUID", numbers[start : start + _AT_ONCE])
            found = asked(line, self._names, wish, _AT_ONCE * 2)
            there |= {entry.number: entry for entry in found.entries}
            whole = whole and not found.more
        return there, whole

    def _by_address(self, line: Directory, link: Link) -> Entry | None:
        """The only entry with an address that a contact's entry had when it was looked at last."""
        from barnacle.net.ldap import either

        if not (addresses := link.said.get("addresses")):
            return None
        wish = "".join(either(name, addresses) for name in self._names["address"])
        found = asked(line, self._names, f"(|{wish})", 2)
        return found.entries[0] if len(found.entries) == 1 and not found.more else None

    def apply(self, over: bool, over_mine: bool, take_new: bool) -> tuple[int, int]:
        """Inside a running action: take over what the directory says (`over`; also over one's own edits, `over_mine`),
        take in whom its filters found, and keep the rest as seen. Returns how many contacts changed, and came in."""
        book = self._book
        at = book.running.at
        changed = came = 0
        for link, kept, person, differences in self._found:
            left = [one for one in differences if not over or (one.mine and not over_mine)]
            said = said_of(person)
            for one in differences:
                if one not in left:
                    _set(self._desk, kept.contact, one.field, link.said, said, person)
            if len(left) < len(differences):
                contacts.save(book, kept.id, kept.contact)
                changed += 1
            said |= {one.field: _before(link, one.field, said[one.field]) for one in left}
            sentences = [f"{one.field}: the directory has {one.now or 'nothing'}" for one in left]
            directory_links.put(book, Link(link.uid, link.entry, said, at, "", sentences))
        for link, _ in self._gone:
            directory_links.put(book, link._replace(gone=link.gone or at, at=at))
        for hit in self._new.values() if take_new else ():
            came += take(self._desk, book, hit)[1]
        for text, entries in self._matches.items():
            directory_links.found_by(book, text, entries)
        return changed, came


def _before(link: Link, field: str, now: Any) -> Any:
    """What the directory said of a field before, of the same kind as what it says now."""
    return link.said.get(field, type(now)())


def _differences(link: Link, kept: StoredContact, person: Contact) -> list[Difference]:
    found = []
    for field, now in said_of(person).items():
        before = _before(link, field, now)
        mine = _mine(kept.contact, field, before, now)
        if now not in (before, mine):
            shown = _shown(mine), _shown(before), _shown(now)
            found.append(Difference(kept.contact.title, field, *shown, mine != before))
    return found


def _mine(contact: Contact, field: str, base: Any, theirs: Any) -> Any:
    """What the book has for a field; of addresses and phones those of which the directory speaks or spoke."""
    if field == "name":
        return contact.called
    if field == "addresses":
        spoken = {address_key(one) for one in (*base, *theirs)}
        return [one.address for one in contact.addresses if address_key(one.address) in spoken]
    if field == "phones":
        return [one.number for one in contact.phones if one.number in {*base, *theirs}]
    return own_value(contact, DEPARTMENT) if field == DEPARTMENT else getattr(contact, field)


def _set(
    desk: Desk, contact: Contact, field: str, base: Mapping[str, Any], theirs: Mapping[str, Any], person: Contact
) -> None:
    """Take over what the directory says of a field."""
    if field == "name":
        contact.name, contact.given, contact.family = person.name, person.given, person.family
    elif field == "addresses":
        gone = {address_key(one) for one in base.get(field, ())} - {address_key(one) for one in theirs[field]}
        contact.addresses = [one for one in contact.addresses if address_key(one.address) not in gone]
        new = [one for one in person.addresses if not contact.find_address(one.address)]
        contact.addresses = [*new, *contact.addresses]
    elif field == "phones":
        gone_numbers = set(base.get(field, ())) - set(theirs[field])
        contact.phones = [one for one in contact.phones if one.number not in gone_numbers]
        have = {phone_key(one.number, desk.region) for one in contact.phones}
        contact.phones += [one for one in person.phones if phone_key(one.number, desk.region) not in have]
    elif field == DEPARTMENT:
        set_own(contact, DEPARTMENT, theirs[field])
    else:
        setattr(contact, field, theirs[field])


def _shown(value: Any) -> str:
    return tidy(listed(value, 4) if isinstance(value, list) else str(value), 120)
