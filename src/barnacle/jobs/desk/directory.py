"""The organisation's directory: who is in it, taken into the book, and kept right."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, NamedTuple

from barnacle.book import contacts, directory_links, rule_members
from barnacle.book.directory_links import Link
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact, Phone, join
from barnacle.core.errors import BadAddressError, DirectoryError, NotFoundError, UnclearError
from barnacle.core.own_fields import own_value, set_own
from barnacle.core.phones import phone_key
from barnacle.core.rules import directory_filters_in
from barnacle.core.text import fold, listed, tidy, visible
from barnacle.jobs.desk import passwords
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.net.ldap import Directory, Entry, Found, Place

DEPARTMENT = "Department"
# The attributes of a person (RFC 4519, RFC 2798), by what they become here; settings may name others.
_ATTRIBUTES: dict[str, tuple[str, ...]] = {
    "name": ("cn", "displayName"), "given": ("givenName",), "family": ("sn",), "address": ("mail",),
    "phone": ("telephoneNumber",), "mobile": ("mobile",), "org": ("o",), "department": ("ou", "departmentNumber"),
    "job": ("title",), "web": ("labeledURI",),
}  # fmt: skip
# Those in which words are looked for.
_SEARCHED = ("name", "given", "family", "address", "department", "job")
_MOST = 200
_AT_ONCE = 50
_HIT_SHOWN = 5
# From so many on, people are found among everybody, of whom there may be so many.
_MANY, _EVERYBODY = 500, 100_000


class Hit(NamedTuple):
    """Somebody in the directory, as a contact would be, and who in the book that is, if anybody."""

    entry: Entry
    person: Contact
    known: StoredContact | None

    @property
    def line(self) -> str:
        """Who it is, in one line."""
        parts = (
            self.person.title,
            own_value(self.person, DEPARTMENT),
            self.person.job,
            self.person.preferred or "no address",
        )
        return visible(" · ".join(dict.fromkeys(part for part in parts if part)))


class Hits(NamedTuple):
    """Whom a search found; why there are more, if there are; and whether other servers were named, which were not
    asked."""

    some: list[Hit]
    more: str
    elsewhere: int


def people_at(desk: Desk, url: str) -> tuple[list[tuple[str, str]], str]:
    """Address and name of everybody whom a directory has, and why these are not all, if they are not. Raises
    DirectoryError, UnclearError."""
    names = attributes(desk)
    with opened(desk, url) as line:
        found = _asked(desk, line, "(mail=*)", _EVERYBODY)
    people = [_person(entry, names) for entry in found.entries]
    return [(one.preferred, one.called) for one in people if one.preferred], found.more


def is_known(desk: Desk) -> bool:
    """Whether the settings name a directory."""
    return bool(desk.setting("directory.server"))


def place_of(desk: Desk) -> Place:
    """The directory of the settings. Raises DirectoryError."""
    from barnacle.net.ldap import read_place

    url = desk.setting("directory.server")
    if not url:
        raise DirectoryError(
            "Barnacle doesn't know your organisation's directory yet. Name it with "
            "`barnacle setup --directory ldaps://HOST/BASE`; whoever runs the mail knows it."
        )
    return read_place(url)


@contextmanager
def opened(desk: Desk, url: str | None = None, hurried: bool = False) -> Iterator[Directory]:
    """A connection to the directory of the settings, or of a URL; `hurried`, and without asking for a password, where
    something else was asked for. Raises DirectoryError."""
    from barnacle.net.ldap import Directory, read_place

    place = read_place(url) if url else place_of(desk)
    user = desk.setting("directory.user")

    def password() -> str | None:
        if (given := os.environ.get("BARNACLE_DIRECTORY_PASSWORD")) is not None:
            return given
        if command := desk.setting("directory.password_command"):
            return passwords.from_command(command, "the command in directory.password_command")
        kept = passwords.kept_under(desk, account(place.host, user))
        if kept is None and not hurried:
            kept = desk.secret(f"Password of {visible(user, 80)} at {place.host}: ") or None
        return kept

    with Directory(place, user, password, desk.setting("directory.ca_file"), hurried) as line:
        yield line


def account(host: str, user: str) -> str:
    """What the password is kept under."""
    return f"directory {user} at {host}"


def attributes(desk: Desk) -> dict[str, tuple[str, ...]]:
    """Which attributes become what: the usual ones, or those of the settings. Raises UnclearError."""
    found = dict(_ATTRIBUTES)
    for one in desk.setting("directory.attributes"):
        field, equals, name = one.partition("=")
        if not equals or field.strip() not in found or not name.strip().replace("-", "").isalnum():
            raise UnclearError(
                f"The setting directory.attributes has `{visible(one, 60)}`; write FIELD=ATTRIBUTE, with a field of "
                f"{listed(list(found), len(found))}."
            )
        found[field.strip()] = (name.strip(),)
    return found


def _person(entry: Entry, names: Mapping[str, Sequence[str]]) -> Contact:
    """An entry as a contact would be. Addresses that are none are left out."""

    def values(field: str) -> list[str]:
        return [value for name in names[field] for value in entry.values.get(name.lower(), ())]

    def first(field: str) -> str:
        return next(iter(values(field)), "")

    person = Contact(
        name=first("name"), given=first("given"), family=first("family"), org=first("org"), job=first("job")
    )
    person.web = first("web").partition(" ")[0]  # RFC 2079: the rest is a label
    for text in values("address"):
        try:
            address = check_address(text)
        except BadAddressError:
            continue
        if not person.find_address(address):
            person.addresses.append(Address(address, "work"))
    person.phones = [Phone(number, "work") for number in values("phone")]
    person.phones += [Phone(number, "mobile") for number in values("mobile")]
    if department := listed(list(dict.fromkeys(values("department"))), 3):
        set_own(person, DEPARTMENT, department)
    return person


def _asked(desk: Desk, line: Directory, text: str, most: int) -> Found:
    names = attributes(desk)
    return line.search(text, sorted({name for some in names.values() for name in some}), most)


def _hit(desk: Desk, book: Book, entry: Entry) -> Hit:
    person = _person(entry, attributes(desk))
    known = directory_links.of_entry(book, entry.number)
    if known is None:
        holders = {kept.id: kept for one in person.addresses for kept in contacts.by_address(book, one.address)}
        known = next(iter(holders.values())) if len(holders) == 1 else None
    return Hit(entry, person, known)


def search(desk: Desk, book: Book, words: str, most: int = _MOST, hurried: bool = False) -> Hits:
    """Who has all of some words in name, address, department or title. Raises DirectoryError, UnclearError."""
    from barnacle.net.ldap import words_filter

    if not words.strip():
        raise UnclearError("Who? Give some of the name, the address or the department.")
    names = attributes(desk)
    text = words_filter(words, [name for field in _SEARCHED for name in names[field]])
    with opened(desk, hurried=hurried) as line:
        found = _asked(desk, line, text, most)
    hits = [_hit(desk, book, entry) for entry in found.entries]
    hits.sort(key=lambda hit: fold(hit.person.title))
    return Hits(hits, found.more, found.elsewhere)


def find(desk: Desk, words: str) -> Hits:
    """The same, and remembers the names for completion."""
    with desk.open() as book:
        hits = search(desk, book, words)
        with book.transaction():
            directory_links.saw(book, ((h.person.title, h.person.preferred or "") for h in hits.some), now())
        return hits


def need(desk: Desk, book: Book, words: str) -> Hit:
    """The one whom words mean. Raises NotFoundError, AmbiguousError, DirectoryError."""
    hits = search(desk, book, words, _AT_ONCE).some
    exact = [hit for hit in hits if fold(hit.person.title) == fold(words) or _has(hit.person, words)]
    found = desk.pick("person in the directory", words, exact or hits, lambda hit: hit.line)
    if found is None:
        raise NotFoundError(
            f"Nobody in the directory matches `{visible(words, 60)}`. `barnacle directory find` searches it."
        )
    return found


def _has(person: Contact, words: str) -> bool:
    return "@" in words and any(address_key(one.address) == address_key(words) for one in person.addresses)


def take(desk: Desk, book: Book, hit: Hit) -> tuple[StoredContact, bool]:
    """Take somebody into the book, inside a running action, or join what the directory says to the contact it is.
    Returns the contact, and whether it is new."""
    person = hit.person
    if hit.known is not None:
        kept, added = hit.known, False
        changed, _ = join(kept.contact, person, lambda number: phone_key(number, desk.region))
        if changed:
            contacts.save(book, kept.id, kept.contact)
    else:
        person.source, person.added = "directory", book.running.at
        number, added = contacts.add(book, person), True
        kept = StoredContact(number, contacts.need(book, number))
    directory_links.put(book, Link(kept.contact.uid, hit.entry.number, _said(hit.person), book.running.at))
    return kept, added


def take_by_words(desk: Desk, book: Book, words: str) -> StoredContact:
    """Take the one whom words mean. Raises NotFoundError, AmbiguousError, DirectoryError."""
    hit = need(desk, book, words)
    if book.is_acting:
        return take(desk, book, hit)[0]
    if hit.known is None:
        raise NotFoundError(f"{hit.line} is not in your book yet. `barnacle directory take` takes her or him.")
    return hit.known


def has_instead(desk: Desk, book: Book, text: str) -> tuple[str, StoredContact | None]:
    """Of somebody who is not in the book: what to say of the directory, and the contact that was taken with a yes."""
    if not is_known(desk) or not text.strip() or len(text) > 100:
        return "", None
    try:
        hits = search(desk, book, text, _AT_ONCE, hurried=True).some
    except (DirectoryError, UnclearError):
        return "", None  # what was asked for is the book; the directory is only a help
    if not hits:
        return "", None
    if book.is_acting and len(hits) <= _HIT_SHOWN:
        question = f"`{visible(text, 60)}` is not in the book, but the directory has:"
        chosen = desk.choose(question, [hit.line for hit in hits])
        if chosen is not None:
            return "", take(desk, book, hits[chosen])[0]
    lines = listed([hit.line for hit in hits[:3]], 3)
    more = f" and {len(hits) - 3} more" if len(hits) > 3 else ""
    return f"The directory has {lines}{more}: write directory:{visible(text, 60)} to take her or him. ", None


def _said(person: Contact) -> dict[str, Any]:
    """What an entry says, to be held against what it says later."""
    return {
        "name": person.called,
        "addresses": [one.address for one in person.addresses],
        "phones": [one.number for one in person.phones],
        **{field: getattr(person, field) for field in ("org", "job", "web")},
        DEPARTMENT: own_value(person, DEPARTMENT),
    }


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


class Refresh:
    """One refresh: what is different is worked out first, and taken over where that is wanted."""

    def __init__(self, desk: Desk, book: Book, who: Sequence[int] | None) -> None:
        """`who` are the numbers of the contacts to look at; None: all, and lists by filter. Raises DirectoryError."""
        self._desk, self._book = desk, book
        self._found: list[tuple[Link, StoredContact, Contact]] = []
        self._gone: list[tuple[Link, StoredContact]] = []
        self._matches: dict[str, list[str]] = {}
        new: dict[str, Hit] = {}
        remarks: list[str] = []
        links = [(link, kept) for link, kept in directory_links.every(book) if who is None or kept.id in who]
        names = attributes(desk)
        with opened(desk) as line:
            there, whole = self._there(line, [link.entry for link, _ in links])
            for link, kept in links:
                # A directory that was set up anew has other numbers for the same people.
                entry = there.get(link.entry) or (self._by_address(line, link) if whole else None)
                if entry is not None:
                    self._found.append((link._replace(entry=entry.number), kept, _person(entry, names)))
                elif whole:
                    self._gone.append((link, kept))
            if not whole:
                remarks.append("The directory did not give all that was asked for, so nobody was taken for gone.")
            for text in sorted(filters_in_use(book)) if who is None else ():
                found = _asked(desk, line, text, _EVERYBODY)
                if found.more:
                    remarks.append(f"{visible(text, 60)}: {found.more}; its list stays as it was.")
                    continue
                self._matches[text] = [entry.number for entry in found.entries]
                for entry in found.entries:
                    hit = _hit(desk, book, entry)
                    if hit.known is None or directory_links.of_entry(book, entry.number) is None:
                        new[entry.number] = hit
        self.result = Refreshed(
            len(links),
            [one for link, kept, person in self._found for one in _differences(link, kept, person)],
            [kept.contact.title for link, kept in self._gone],
            list(new.values()),
            remarks,
        )

    def _there(self, line: Directory, numbers: Sequence[str]) -> tuple[dict[str, Entry], bool]:
        """The entries with these numbers, and whether all that are there were given. Many are found among everybody:
        some servers go through all they have for each question."""
        from barnacle.net.ldap import either

        there: dict[str, Entry] = {}
        if len(numbers) > _MANY:
            found = _asked(self._desk, line, "(objectClass=*)", _EVERYBODY)
            if not found.more:
                return {entry.number: entry for entry in found.entries}, True
        whole = True
        for start in range(0, len(numbers), _AT_ONCE):
            found = _asked(self._desk, line, either("entryUUID", numbers[start : start + _AT_ONCE]), _AT_ONCE * 2)
            there |= {entry.number: entry for entry in found.entries}
            whole = whole and not found.more
        return there, whole

    def _by_address(self, line: Directory, link: Link) -> Entry | None:
        """The only entry with an address that a contact's entry had when it was looked at last."""
        from barnacle.net.ldap import either

        if not (addresses := link.said.get("addresses")):
            return None
        asked = "".join(either(name, addresses) for name in attributes(self._desk)["address"])
        found = _asked(self._desk, line, f"(|{asked})", 2)
        return found.entries[0] if len(found.entries) == 1 and not found.more else None

    def apply(self, over: bool, over_mine: bool, take_new: bool) -> tuple[int, int]:
        """Inside a running action: take over what the directory says (`over`; also over one's own edits, `over_mine`),
        take in whom its filters found, and keep the rest as seen. Returns how many contacts changed, and came in."""
        book = self._book
        at = book.running.at
        changed = came = 0
        for link, kept, person in self._found:
            differences = _differences(link, kept, person)
            wanted = [one for one in differences if over and (over_mine or not one.mine)]
            base, theirs = link.said, _said(person)
            for one in wanted:
                _set(self._desk, kept.contact, one.field, base, theirs, person)
            if wanted:
                contacts.save(book, kept.id, kept.contact)
                changed += 1
            left = [one for one in differences if one not in wanted]
            said = {
                field: base.get(field) if field in {one.field for one in left} else value
                for field, value in theirs.items()
            }
            sentences = [f"{one.field}: the directory has {one.now or 'nothing'}" for one in left]
            directory_links.put(book, Link(link.uid, link.entry, said, at, "", sentences))
        for link, _ in self._gone:
            directory_links.put(book, link._replace(gone=link.gone or at, at=at))
        for hit in self.result.new if take_new else ():
            came += take(self._desk, book, hit)[1]
        for text, entries in self._matches.items():
            directory_links.found_by(book, text, entries)
        return changed, came


def filters_in_use(book: Book) -> set[str]:
    """The filters that rules of lists ask for."""
    return {text for rule in rule_members.all_rules(book).values() for text in directory_filters_in(rule)}


_TITLES = {"name": "Name", "addresses": "Address", "phones": "Phone", "org": "Organisation", "job": "Job", "web": "Web"}


def _differences(link: Link, kept: StoredContact, person: Contact) -> list[Difference]:
    theirs = _said(person)
    found = []
    for field, value in theirs.items():
        base = link.said.get(field, [] if isinstance(value, list) else "")
        mine = _mine(kept.contact, field, base, value)
        if value == base or mine == value:
            continue
        found.append(
            Difference(
                kept.contact.title, field, _shown(mine), _shown(base), _shown(value), mine != base
            )
        )  # fmt: skip
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


def refresh(
    desk: Desk, who: Sequence[int] | None, agree: Callable[[Refreshed], tuple[bool, bool, bool]]
) -> tuple[Refreshed, int, int]:
    """Look at the directory again. `agree` is asked with what is different: whether to take it over, also over one's
    own edits, and whether to take in whom the filters found. Returns what was found, and how many contacts changed and
    came in. Raises DirectoryError."""
    with desk.open() as book, book.action("directory refresh") as action:
        action.facts = True
        one = Refresh(desk, book, who)
        changed, came = one.apply(*agree(one.result))
        action.title = f"Looked at the directory again: {changed} changed, {came} came in"
        return one.result, changed, came
