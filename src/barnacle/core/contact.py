"""A contact: a person or an organisation (vCard, RFC 6350), and what joining two descriptions of one means."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator

from barnacle.core.addresses import address_key, check_address
from barnacle.core.card_fields import title_on_card, value_on_card
from barnacle.core.contact_fields import TEXTS
from barnacle.core.errors import UnclearError
from barnacle.core.names import display_name, split_name
from barnacle.core.phones import check_phone, digits, with_zero
from barnacle.core.text import LABEL_LIMIT, NAME_LIMIT, fold, plain_value
from barnacle.core.typed import Any, NamedTuple

KINDS = ("work", "home", "other")
PHONE_KINDS = ("work", "home", "mobile", "other")
_TEXT_FIELDS = tuple(field.name for field in TEXTS)
_unset = object.__new__


class Address(NamedTuple):
    """An e-mail address with its kind (`work`, `home`, `other` or empty)."""

    address: str
    kind: str = ""


class Phone(NamedTuple):
    """A phone number as it was written, with its kind (`work`, `home`, `mobile`, `other` or empty)."""

    number: str
    kind: str = ""


class OptOut(NamedTuple):
    """Since when (ISO 8601, UTC) and why a contact must not be written to."""

    since: str
    why: str = ""


class Former(NamedTuple):
    """A contact that was merged into this one: its uid, its number in the book, and its name."""

    uid: str
    number: int
    name: str = ""


class Failing(NamedTuple):
    """What delivery reports (RFC 3464) said of an address: whether it fails for good or only did for a time, how many
    times, when last (ISO 8601) and why."""

    address: str
    for_good: bool
    times: int
    last: str
    why: str


class Extra(NamedTuple):
    """Something a file said of a contact for which there is no field here: kept to come out again in that format.
    `key` begins with the format (`csv:Berth`, `vcard:X-BOAT`) and is unique in a contact."""

    key: str
    value: str


class Contact:
    """A contact. The first address is the preferred one; `added` is ISO 8601 in UTC; `former` are the contacts that
    were merged into it. One with `list_only` lives on a list alone and goes when it leaves that."""

    # Written out, not a dataclass: that module would double the start-up time of every command.
    __slots__ = (
        *_TEXT_FIELDS, "added", "addresses", "extra", "failing", "former", "labels", "list_only", "opt_out", "phones",
        "source", "uid",
    )  # fmt: skip

    def __init__(
        self,
        name: str = "",
        given: str = "",
        family: str = "",
        addresses: list[Address] | None = None,
        phones: list[Phone] | None = None,
        org: str = "",
        job: str = "",
        web: str = "",
        note: str = "",
        labels: list[str] | None = None,
        opt_out: OptOut | None = None,
        uid: str = "",
        source: str = "",
        added: str = "",
        former: list[Former] | None = None,
        list_only: bool = False,
        failing: list[Failing] | None = None,
        extra: list[Extra] | None = None,
    ) -> None:
        self.name = name
        self.given = given
        self.family = family
        self.addresses = addresses or []
        self.phones = phones or []
        self.org = org
        self.job = job
        self.web = web
        self.note = note
        self.labels = labels or []
        self.opt_out = opt_out
        self.uid = uid
        self.source = source
        self.added = added
        self.former = former or []
        self.list_only = list_only
        self.failing = failing or []
        self.extra = extra or []

    def __repr__(self) -> str:
        return f"Contact({self.uid}, {to_doc(self)})"

    @property
    def title(self) -> str:
        """What to call the contact: its name, else its organisation, else its address."""
        return self.called or self.preferred or "(no name)"

    @property
    def called(self) -> str:
        """The name of the person, else of the organisation; possibly empty."""
        return self.name or self.org

    @property
    def is_named(self) -> bool:
        """Whether there is a name, whole or in parts."""
        return bool(self.name or self.given or self.family)

    @property
    def preferred(self) -> str | None:
        """The preferred address; None where it has none."""
        return self.addresses[0].address if self.addresses else None

    def used_at(self, chosen: str | None = None) -> str | None:
        """The address that a message goes to: the one that a list has chosen, where the contact has that; else the
        preferred one, or where that fails for good the first that works."""
        own = self.find_address(chosen) if chosen else None
        return own or next((a.address for a in self.addresses if not self.fails(a.address)), self.preferred)

    def parts(self) -> tuple[str, str]:
        """Given and family name: as they were given, else worked out from the name."""
        if self.given or self.family:
            return self.given, self.family
        return split_name(self.name)

    def drop_implied_parts(self) -> None:
        """Forget given and family name where they are what the name says anyway."""
        if (self.given, self.family) == split_name(self.name):
            self.given = self.family = ""

    def drop_false_name(self) -> None:
        """Forget quotation marks around all of a name, and a name that is one of the contact's own addresses, as
        programs write where they know none."""
        from barnacle.core.quotation_marks import unquoted  # only where people come in

        self.name = unquoted(self.name)
        if "@" in self.name and self.find_address(self.name):
            self.given, self.family = ("" if "@" in part else part for part in (self.given, self.family))
            self.name = display_name(self.given, self.family)

    def address_keys(self) -> list[str]:
        """The comparable form of each address."""
        return [address_key(a.address) for a in self.addresses]

    def fails(self, address: str) -> Failing | None:
        """What was last said of an address that fails for good, or None."""
        key = address_key(address)
        return next((f for f in self.failing if f.for_good and address_key(f.address) == key), None)

    def find_address(self, text: str) -> str | None:
        """The contact's own spelling of an address, or None where it has no such one."""
        key = address_key(text)
        return next((a.address for a in self.addresses if address_key(a.address) == key), None)


def to_doc(contact: Contact) -> dict[str, Any]:
    """The contact as plain values for storing, empty ones left out."""
    doc: dict[str, Any] = {name: value for name in _TEXT_FIELDS if (value := getattr(contact, name))}
    if contact.addresses:
        doc["addresses"] = [[a.address, a.kind] for a in contact.addresses]
    if contact.phones:
        doc["phones"] = [[p.number, p.kind] for p in contact.phones]
    if contact.labels:
        doc["labels"] = list(contact.labels)
    if contact.opt_out:
        doc["opt_out"] = [contact.opt_out.since, contact.opt_out.why]
    for name in ("former", "failing", "extra"):
        if some := getattr(contact, name):
            doc[name] = [list(one) for one in some]
    for name in ("source", "added", "list_only"):
        if value := getattr(contact, name):
            doc[name] = value
    return doc


def from_doc(uid: str, doc: dict[str, Any]) -> Contact:
    """The contact that `to_doc` gave."""
    contact = _unset(Contact)  # a whole book is read so: no defaults are filled in twice, nothing is looked up by name
    get = doc.get
    contact.uid = uid
    contact.name, contact.given, contact.family = get("name", ""), get("given", ""), get("family", "")
    contact.org, contact.job = get("org", ""), get("job", "")
    contact.web, contact.note = get("web", ""), get("note", "")
    contact.source, contact.added, contact.list_only = get("source", ""), get("added", ""), get("list_only", False)
    contact.addresses = [*map(Address._make, get("addresses", ()))]
    contact.phones = [*map(Phone._make, get("phones", ()))]
    contact.labels = [*get("labels", ())]
    contact.opt_out = OptOut(*doc["opt_out"]) if "opt_out" in doc else None
    contact.former = [Former(*f) for f in doc["former"]] if "former" in doc else []
    contact.failing = [Failing(*f) for f in doc["failing"]] if "failing" in doc else []
    contact.extra = [Extra(*e) for e in doc["extra"]] if "extra" in doc else []
    return contact


def comparable_numbers(contact: Contact) -> list[str]:
    """The digits of each phone number; one in international form also as it is written at home: +44 1632 …, 01632 …"""
    bare = [digits(p.number) for p in contact.phones]
    return [*bare, *(with_zero(d) for d, p in zip(bare, contact.phones, strict=True) if p.number.startswith("+"))]


# As much of a value that has no field as a person looks at: a picture's is long.
_SHOWN = 80


class Difference(NamedTuple):
    """A field in which the book and a file disagree; the book's value stays."""

    field: str
    book: str
    file: str


def said_by(one: Contact) -> Iterator[tuple[str, str]]:
    """What a contact has in the fields in which two can differ, named and cut as those of a Difference are."""
    yield from ((name, value) for name in _TEXT_FIELDS if (value := getattr(one, name)))
    yield from map(_said_besides, one.extra)


def _said_besides(extra: Extra) -> tuple[str, str]:
    """What was kept of a file, named and cut for people."""
    title = title_on_card(extra.key)
    value = value_on_card(*extra) if title else extra.value
    return title or extra.key.partition(":")[2], value[:_SHOWN]


def overwrite(known: Contact, new: Contact, fields: Container[str]) -> None:
    """Let `known` have what `new` has in some fields, named as those of a Difference are."""
    for name in _TEXT_FIELDS:
        if name in fields:
            setattr(known, name, getattr(new, name))
    if "name" in fields:
        known.given, known.family = new.given, new.family
    fresh = {extra.key: extra.value for extra in new.extra if _said_besides(extra)[0] in fields}
    known.extra = [Extra(e.key, fresh.get(e.key, e.value)) for e in known.extra]


def join(
    known: Contact, new: Contact, phone_key: Callable[[str], str], prefer_new: bool = False
) -> tuple[bool, list[Difference]]:
    """Add to `known` what `new` has and it has not. Where both have something else `known` stays as it is, or with
    `prefer_new` takes the new value.

    Returns whether `known` changed, and the fields in which both had something else.
    """
    before = to_doc(known)
    known.list_only = known.list_only and new.list_only
    differences: list[Difference] = []
    for name in _TEXT_FIELDS:
        mine, theirs = getattr(known, name), getattr(new, name)
        if not theirs or fold(mine) == fold(theirs):
            continue
        if not mine:
            setattr(known, name, theirs)
        elif name == "note":
            if fold(theirs) not in fold(mine):
                known.note = f"{mine}; {theirs}"
        elif name not in ("given", "family"):
            differences.append(Difference(name, mine, theirs))
    have = set(known.address_keys())
    known.addresses += [a for a in new.addresses if address_key(a.address) not in have]
    numbers = {phone_key(p.number) for p in known.phones}
    known.phones += [p for p in new.phones if phone_key(p.number) not in numbers]
    labels = {fold(label) for label in known.labels}
    known.labels += [label for label in new.labels if fold(label) not in labels]
    extras = {extra.key: extra.value for extra in known.extra}
    known.extra += [extra for extra in new.extra if extra.key not in extras]
    differences += [
        Difference(*_said_besides(e._replace(value=extras[e.key])), _said_besides(e)[1])
        for e in new.extra
        if e.value not in (extras.get(e.key, e.value), *extras.get(e.key, "").split("; "))
    ]
    if prefer_new:
        overwrite(known, new, {d.field for d in differences})
    known.opt_out = known.opt_out or new.opt_out
    known.failing += [f for f in new.failing if all(f.address != g.address for g in known.failing)]
    return to_doc(known) != before, differences


def kinded(text: str, kinds: tuple[str, ...], what: str) -> tuple[str, str]:
    """`work:VALUE` as (`work`, `VALUE`); a value without a kind has an empty one."""
    kind, colon, value = text.partition(":")
    if colon and kind.strip().lower() in kinds:
        return kind.strip().lower(), value.strip()
    if colon and kind.strip().isalpha() and what == "address":
        raise UnclearError(
            f"`{plain_value(kind, 'The kind', 80)}` is not a kind of {what}. Kinds are {', '.join(kinds)}."
        )
    return "", text.strip()


def read_address(text: str) -> Address:
    """`KIND:ADDRESS` or `ADDRESS` from the command line, checked."""
    kind, value = kinded(text, KINDS, "address")
    return Address(check_address(value), kind)


def read_phone(text: str) -> Phone:
    """`KIND:NUMBER` or `NUMBER` from the command line, checked."""
    kind, value = kinded(plain_value(text, "The phone number"), PHONE_KINDS, "phone")
    return Phone(check_phone(value), kind)


def check_label(text: str) -> str:
    """A label: a short text without a comma or semicolon, which separate labels in files. Raises UnclearError."""
    label = plain_value(text, "The label", LABEL_LIMIT)
    if not label or "," in label or ";" in label:
        raise UnclearError("A label is a short word or two, without a comma.")
    return label


def check_name(text: str) -> str:
    """A name from the command line. Raises UnclearError where it holds control characters or is too long."""
    return plain_value(text, "The name", NAME_LIMIT)
