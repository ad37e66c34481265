"""The organisation's directory: who is in it, taken into the book, and kept right."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from barnacle.book import contacts, directory_links
from barnacle.book.directory_links import Link
from barnacle.book.store import Book, now
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import address_key, check_address
from barnacle.core.contact import Address, Contact, Phone, join
from barnacle.core.errors import BadAddressError, DirectoryError, NotFoundError, UnclearError
from barnacle.core.own_fields import own_value, set_own
from barnacle.core.phones import phone_key
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple
from barnacle.jobs.desk import passwords
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.net.ldap import Directory, Entry, Found, Place

DEPARTMENT = "Department"
# Attributes, by what they become here.
Names = dict[str, tuple[str, ...]]
# The attributes of a person (RFC 4519, RFC 2798), by what they become here; settings may name others.
_ATTRIBUTES: Names = {
    "name": ("cn", "displayName"), "given": ("givenName",), "family": ("sn",), "address": ("mail",),
    "phone": ("telephoneNumber",), "mobile": ("mobile",), "org": ("o",), "department": ("ou", "departmentNumber"),
    "job": ("title",), "web": ("labeledURI",),
}  # fmt: skip
# Those in which words are looked for.
_SEARCHED = ("name", "given", "family", "address", "department", "job")
_MOST = 200
_AT_ONCE = 50
_HIT_SHOWN = 5
# The most that a directory is asked for at once.
EVERYBODY = 100_000


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
        found = asked(line, names, "(mail=*)", EVERYBODY)
    people = [person_of(entry, names) for entry in found.entries]
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
def opened(
    desk: Desk, url: str | None = None, hurried: bool = False, ask: Callable[[str], str] | None = None
) -> Iterator[Directory]:
    """A connection to the directory of the settings, or of a URL; `hurried`, and without asking for a password, where
    something else was asked for. `ask` asks for one in place of the desk. Raises DirectoryError."""
    from barnacle.net.ldap import Directory, read_place

    place = read_place(url) if url else place_of(desk)
    user = desk.setting("directory.user")
    is_own = is_known(desk) and place_of(desk).host == place.host  # what is meant for it is shown to no other

    def password() -> str | None:
        if is_own and (given := os.environ.get("BARNACLE_DIRECTORY_PASSWORD")) is not None:
            return given
        if is_own and (command := desk.setting("directory.password_command")):
            return passwords.from_command(command, "the command in directory.password_command")
        kept = passwords.kept_under(desk, account(place.host, user))
        if kept is None and not hurried:
            kept = (ask or desk.secret)(f"Password of {visible(user, 80)} at {place.host}: ") or None
        return kept

    with Directory(place, user, password, desk.setting("directory.ca_file"), hurried) as line:
        yield line


def account(host: str, user: str) -> str:
    """What the password is kept under."""
    return f"directory {user} at {host}"


def attributes(desk: Desk) -> Names:
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


def person_of(entry: Entry, names: Names) -> Contact:
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


def asked(line: Directory, names: Names, text: str, most: int) -> Found:
    """Whom a filter (RFC 4515) finds, with the attributes that are read here. Raises DirectoryError."""
    return line.search(text, sorted({name for some in names.values() for name in some}), most)


def hit_of(book: Book, entry: Entry, names: Names) -> Hit:
    """An entry with the contact that it is: the one that was taken from it, else the only one with an address of
    it."""
    person = person_of(entry, names)
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
        found = asked(line, names, text, most)
    hits = [hit_of(book, entry, names) for entry in found.entries]
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
    found = desk.pick("person in the directory", words, exact or hits, lambda hit: hit.line, "people in the directory")
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
    directory_links.put(book, Link(kept.contact.uid, hit.entry.number, said_of(hit.person), book.running.at))
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


def said_of(person: Contact) -> dict[str, Any]:
    """What an entry says, to be held against what it says later."""
    return {
        "name": person.called,
        "addresses": [one.address for one in person.addresses],
        "phones": [one.number for one in person.phones],
        **{field: getattr(person, field) for field in ("org", "job", "web")},
        DEPARTMENT: own_value(person, DEPARTMENT),
    }
