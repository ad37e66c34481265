"""A contact in its comparable form: what matching looks at, beside what was written."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from itertools import islice

from barnacle.core.addresses import address_key
from barnacle.core.contact import Contact
from barnacle.core.matching.name_forms import NO_NAME, NameForm, name_form, name_words, org_words
from barnacle.core.matching.spelling import latin, plain_spelling
from barnacle.core.matching.task_words import is_task
from barnacle.core.own_fields import in_order, is_birth, own_fields
from barnacle.core.phones import phone_key
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple, TypeVar

# Numbers for which the library is not needed: in the international form; and as written at home in some regions (ISO
# 3166) with the trunk prefix 0, which have that many digits behind it and this calling code (ITU-T E.164).
_ABROAD = re.compile(r"(\+|00)([1-9][0-9]{8,14})")
_HOME = {"GB": ("44", 10), "DE": ("49", 10), "FR": ("33", 9), "NL": ("31", 9), "CH": ("41", 9), "IE": ("353", 9)}
# How many digits stand behind each such calling code.
_BEHIND = dict(_HOME.values())
# +44 0 …: the trunk prefix was left in.
_BEFORE_A_ZERO = tuple(code + "0" for code, _ in _HOME.values())
# Of how many fields of its own, and how long a value, a contact is compared by.
_MOST_FIELDS, _LONGEST_FIELD = 20, 80
# A day in figures, the year first; and the year up to which it may be a birthday, not business.
_DAY = re.compile(r"([0-9]{4})[0-9]{4}")
_BORN_BY = 2015
_CLOCK = re.compile(r"[0-9]:[0-5][0-9]")
# Letters of a local part from which on it may be made of a name and not by chance.
_SHORTEST_TELLING = 5
_NOT_PHONE = re.compile(r"[^0-9+]")
_T = TypeVar("_T")


class AddressForm(NamedTuple):
    """An address: what makes it the same, without a sub-address (`+tag`); its parts; whether it is a task's rather than
    a person's."""

    base: str
    local: str
    domain: str
    role: bool

    @property
    def letters(self) -> str:
        """The letters of the local part, figures and signs left off: `bo.lund77` is bolund."""
        return self.local if self.local.isalpha() else "".join(filter(str.isalpha, self.local))


class Form(NamedTuple):
    """What of a contact is compared. `called_after` where the name was taken from the address, for want of one; `own`
    are fields of its own (birthday, member number, street), titles and values folded; `mobiles` those of the phones
    that the contact says are mobile."""

    uid: str
    name: NameForm
    addresses: tuple[AddressForm, ...]
    phones: tuple[str, ...]
    org: str
    called_after: bool
    own: tuple[tuple[str, str], ...] = ()
    mobiles: tuple[str, ...] = ()


def form(contact: Contact, region: str) -> Form:
    """The comparable form of a contact; phone numbers are read as from `region` (ISO 3166)."""
    addresses = _each_once([_address(a.address) for a in contact.addresses])
    name = _name(contact.name, contact.given, contact.family, contact.org)
    called_after = False
    if not contact.name and not (contact.given or contact.family) and addresses and not addresses[0].role:
        # Somebody at the organisation rather than the organisation itself.
        guessed = guessed_name(addresses[0].local)
        name, called_after = guessed or NO_NAME, guessed is not None
    phones = _each_once([comparable_phone(p.number, region) for p in contact.phones])
    own = tuple(own_of(contact)) if contact.extra else ()
    mobiles = tuple([comparable_phone(p.number, region) for p in contact.phones if p.kind == "mobile"])
    org = comparable_org(contact.org) if contact.org else ""
    return Form(contact.uid, name, addresses, phones, org, called_after, own, mobiles)


def _each_once(values: list[_T]) -> tuple[_T, ...]:
    return tuple(values if len(values) < 2 else dict.fromkeys(values))


def own_of(contact: Contact) -> Iterator[tuple[str, str]]:
    """The fields of a contact's own, and the birthday of its card, bare of signs, days with the year first; a time of
    the day is when a form was sent."""
    for title, value in islice(own_fields(contact).items(), _MOST_FIELDS):
        day = in_order(value[:_LONGEST_FIELD])
        bare = "".join(filter(str.isalnum, day if day[:1].isdigit() else fold(value[:_LONGEST_FIELD])))
        if bare and not _CLOCK.search(value[:_LONGEST_FIELD]):
            yield fold(title), bare


def is_birthday(value: str) -> bool:
    """Whether a value of an own field may be when somebody was born: a day of a year, in figures, not lately."""
    found = _DAY.fullmatch(value)
    return found is not None and 1900 <= int(found[1]) <= _BORN_BY


def birthdays(own: Iterable[tuple[str, str]]) -> dict[str, str]:
    """Those of the fields of one's own that are birthdays, by their titles."""
    return {title: value for title, value in own if is_birthday(value) and is_birth(title)}


@lru_cache(maxsize=20_000)
def _name(name: str, given: str, family: str, org: str) -> NameForm:
    return name_form(name, given, family, org)


@lru_cache(maxsize=20_000)
def comparable_org(org: str) -> str:
    """An organisation's name with its legal form and small words off: `Kelp & Sons Ltd` and `KELP AND SONS`."""
    return " ".join(plain_spelling(word) for word in org_words(org))


def _address(text: str) -> AddressForm:
    local, _, domain = address_key(text).rpartition("@")
    bare = local.partition("+")[0] or local
    return AddressForm(f"{bare}@{domain}", bare, domain, is_task(bare))


def whole_names(name: NameForm) -> frozenset[str]:
    """Given and family name run together, either first: bolund, lundbo."""
    return _run_together(name, initials=False)


def joined_names(name: NameForm) -> frozenset[str]:
    """What local parts are made of a name: the whole name, or an initial and the family name (blund, lundb)."""
    return _run_together(name, initials=True)


def _run_together(name: NameForm, initials: bool) -> frozenset[str]:
    if len(name.words) < 2 or name.org or name.several or not name.given:
        return frozenset()
    words = [w for w in map(latin, name.words) if w.isascii()]
    if len(words) < 2:
        return frozenset()
    given, family = words[0], words[-1]
    some = [given + family, family + given]
    if initials:
        some += [given[0] + family, family + given[0]]
    return frozenset([word for word in some if len(word) > _SHORTEST_TELLING])


@lru_cache(maxsize=20_000)
def guessed_name(local: str) -> NameForm | None:
    """`bo.lund` and `bo.lund77` as a name; None where it does not look like one."""
    pieces = re.split(r"[._-]", local.rstrip("0123456789"))
    if len(pieces) != 2 or not all(len(p) > 1 and p.isalpha() for p in pieces):
        return None
    return NameForm(tuple(name_words(" ".join(pieces))), 1, "", False, False, False)


@lru_cache(maxsize=20_000)
def comparable_phone(number: str, region: str) -> str:
    """The number in E.164. The plain case is told without the library, which takes 100 µs."""
    if "(0)" in number:  # +44 (0)1632 …
        before, _, after = number.partition("(0)")
        code, rest = _NOT_PHONE.sub("", before), _NOT_PHONE.sub("", after)
        if code[:1] == "+" and _BEHIND.get(code[1:]) == len(rest) and rest[0] not in "0+":
            return code + rest
        return phone_key(number, region)
    bare = _NOT_PHONE.sub("", number)
    code, length = _HOME.get(region, ("", 0))
    if code and len(bare) == length + 1 and bare[0] == "0" and bare[1] != "0":
        return f"+{code}{bare[1:]}"
    abroad = _ABROAD.fullmatch(bare)
    if abroad and (abroad[1] == "+" or code) and not abroad[2].startswith(_BEFORE_A_ZERO):
        return f"+{abroad[2]}"
    return phone_key(number, region)


def words_of_local(local: str) -> frozenset[str]:
    """The words of the part before the @: `bo.lund77` has bo and lund."""
    return frozenset(name_words(re.sub(r"[0-9]+", " ", local)))
