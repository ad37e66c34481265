"""The stored form of a contact: its row, its card as JSON, and what is kept beside it so that it is found. Nothing else
knows how these are written."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache

from barnacle.book.sums import DamagedError, contact_sum
from barnacle.core.contact import Contact, comparable_numbers, from_doc, to_doc
from barnacle.core.contact_fields import PLAIN, TEXTS
from barnacle.core.own_fields import own_fields
from barnacle.core.patterns import pattern
from barnacle.core.text import fold
from barnacle.core.typed import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from array import array
    from hashlib import blake2b

# The columns of a contact's row, but for its number.
COLUMNS = ("uid", "name", "name_key", "opted_out", "card", "sum")
# What is kept folded beside the card, as rules compare it.
FACTS = (
    *(field.name for field in TEXTS),
    "source",
    "added",
    "reachable",
    "addresses",
    "phones",
    "labels",
    "own",
    "keys",
)
# Of the facts: how many come from a field each, and where addresses, phones and the addresses' keys stand.
_OWN, _ADDRESSES, _PHONES, _KEYS = (FACTS.index(name) for name in ("added", "addresses", "phones", "keys"))
_DOMAINS = pattern("@[^\n]*")
# White space that folding would change.
_UNEVEN = ("  ", " \n", "\n ", "\t")
# How the fields of a card begin that say how it came, which are its last; no value has an unescaped quote in it.
_ITS_END, _ON_ONE_LIST = ',"source":"', '"list_only":true'


class StoredContact(NamedTuple):
    """A contact with its number in the book."""

    id: int
    contact: Contact


def stored_from(row: tuple[Any, ...]) -> StoredContact:
    """The contact of a row of number, uid, card and checksum. Raises DamagedError where it is not as it was written."""
    if row[3] != contact_sum(row[1], row[2]):
        raise DamagedError(f"contact {row[0]} is not as it was written")
    return of_card(*row[:3])


# From so many cards on, the quicker library is worth loading.
_MANY = 500


def each_stored(rows: Iterable[Sequence[Any]]) -> Iterator[StoredContact]:
    """The contacts of many rows that begin with number, uid, card and checksum. Raises DamagedError."""
    read: Callable[[str], Any] = json.loads
    for n, (number, uid, card, checksum, *_) in enumerate(rows):
        if n == _MANY:
            read = _quickly_read()
        if checksum != contact_sum(uid, card):
            raise DamagedError(f"contact {number} is not as it was written")
        yield StoredContact(number, from_doc(uid, read(card)))


def _quickly_read() -> Callable[[str], Any]:
    import orjson

    def read(card: str) -> Any:
        try:
            return orjson.loads(card)
        except ValueError:  # half a surrogate pair, which this library refuses
            return json.loads(card)

    return read


def of_card(number: int, uid: str, card: str) -> StoredContact:
    """The contact of a card that comes from elsewhere than its row."""
    return StoredContact(number, from_doc(uid, json.loads(card)))


def as_json(doc: dict[str, Any]) -> str:
    """A record as text."""
    import orjson  # a third of an import's time would go into the standard library's; not needed to look at lists

    try:
        return orjson.dumps(doc).decode()
    except TypeError:  # half a surrogate pair, which this library refuses
        return json.dumps(doc, ensure_ascii=False, separators=(",", ":"))


def row_of(contact: Contact) -> tuple[str, str, str, int, str, int]:
    """The values of a contact's row: uid, name, comparable name, whether it opted out, card, checksum."""
    card = as_json(to_doc(contact))
    opted_out = contact.opt_out is not None
    return contact.uid, contact.name, fold(contact.title), opted_out, card, contact_sum(contact.uid, card)


def columns_of(uid: str, card: str) -> dict[str, Any]:
    """The columns of a contact's row that follow from its card."""
    row = dict(zip(COLUMNS, row_of(of_card(0, uid, card).contact), strict=True))
    return {name: row[name] for name in ("name", "name_key", "opted_out")}


class Indexed(NamedTuple):
    """What the book keeps beside a contact's card. `facts` are those of FACTS; fields of several values are one text in
    which each stands on a line of its own. `reachable` says that nothing on the card itself stands against writing to
    it. `addresses` are pairs of domain and hash, `own` titles and values of one's own fields."""

    facts: tuple[Any, ...]
    addresses: list[tuple[str, int]]
    labels: list[str]
    own: list[tuple[str, str]]
    former: list[str]


def address_hash(key: str) -> int:
    """A comparable address as 64 bits. In place of the text they keep a million addresses' index in memory; whoever
    looks up by them must compare the address itself."""
    return int.from_bytes(_blake2b()(key.encode("utf-8", "replace"), digest_size=8).digest(), "big", signed=True)


def address_hashes(keys: Iterable[str]) -> array[int]:
    """Many comparable addresses as 64 bits each."""
    from array import array  # of long work alone

    make = _blake2b()
    values = array("q", b"".join([make(key.encode(), digest_size=8).digest() for key in keys]))
    if sys.byteorder == "little":
        values.byteswap()
    return values


@cache
def _blake2b() -> type[blake2b]:
    # What hashlib gives as well, which loads another library's first.
    try:
        from _blake2 import blake2b
    except ImportError:
        from hashlib import blake2b
    return blake2b


def address_at(key: str) -> tuple[str, int]:
    """Where a comparable address stands in the index: its domain and its hash."""
    return key.rpartition("@")[2], address_hash(key)


def index_of(contact: Contact) -> Indexed:
    """What to keep beside a contact's card."""
    given, family = contact.parts()
    plain = [contact.called, given, family, *(getattr(contact, field.name) for field in PLAIN), contact.source]
    plain += [a.address for a in contact.addresses]
    joined = "\n".join(plain)  # names begin and addresses end it: neither with a space
    folded = joined.lower().split("\n")
    if joined.isascii() and len(folded) == len(plain) and not any(sign in joined for sign in _UNEVEN):
        addresses = keys = folded[_OWN:]
    else:
        folded = [fold(value) for value in plain]
        addresses, keys = folded[_OWN:], contact.address_keys()
    labels = [fold(label) for label in contact.labels]
    own = [(fold(title), fold(value)) for title, value in own_fields(contact).items()] if contact.extra else []
    facts = (
        *folded[:_OWN],
        contact.added,
        bool(keys) and contact.opt_out is None and not contact.failing,
        _lines(addresses),
        _lines(comparable_numbers(contact)) if contact.phones else "",
        _lines(labels),
        _lines([value for _, value in own]),
        "" if keys == addresses else _lines(keys),
    )
    return Indexed(facts, [address_at(key) for key in keys], labels, own, [f.uid for f in contact.former])


def words_of(facts: Sequence[Any]) -> str:
    """What the text index holds of a contact, from its facts alone: to forget it there takes the very same text.

    Of an address in ASCII it is the part up to the @; its domain is found by the index of addresses.
    """
    name, given, family, *rest = facts[: _OWN - 1]
    addresses = facts[_ADDRESSES]
    if not facts[_KEYS]:
        addresses = _DOMAINS.sub("@", addresses)
    parts = [name, *rest, addresses, *facts[_PHONES:_KEYS]]
    if not (name.startswith(given) and name.endswith(family)):
        parts += [given, family]
    return "\n".join(filter(None, parts))


def keys_of(facts: Sequence[Any]) -> list[str]:
    """The comparable addresses of a contact, from its facts."""
    return str(facts[_KEYS] or facts[_ADDRESSES]).split()


def _lines(values: list[str]) -> str:
    return "\n" + "\n".join(values) + "\n" if values else ""


# The plain form: a name in two words, at most one organisation, addresses and phones, and nothing else; what is written
# of such people is a template, filled in for many at once.


def plain_card(orgs: int, addresses: Sequence[str], phones: Sequence[str]) -> str:
    """The template of a card but for how it came, given the kinds of its addresses and phones. It takes the two words
    of the name, the organisation, both parts of each address, the phones."""
    pairs = ",".join(f'["%s@%s","{kind}"]' for kind in addresses)
    card = '{"name":"%s %s",' + '"org":"%s",' * orgs + f'"addresses":[{pairs}]'
    if phones:
        card += ',"phones":[' + ",".join(f'["%s","{kind}"]' for kind in phones) + "]"
    return card


def plain_end(source: str, added: str) -> str:
    """The rest of a card: how it came."""
    return f'{_ITS_END}{source}","added":"{added}"}}'


def plain_facts(stamp: str) -> str:
    """The values of a plain contact's facts: marks for its number, name, given and family name, organisation, addresses
    and phones; `stamp` is SQL for how it came and when."""
    rest = ", ".join(["''"] * (_OWN - 5))  # of the fields that are texts all but the first four, and how it came
    return f"?, ?, ?, ?, ?, {rest}, {stamp}, 1, ?, ?, '', '', ''"


def what_it_says(card: str) -> str:
    """A card but for how it came."""
    return card[: card.rfind(_ITS_END)]


def says_the_same(says: str, card: str) -> bool:
    """Whether a card says just that, but for how it came. One that is on one list alone is like no other."""
    end = len(says)
    return card.startswith(says) and card.startswith(_ITS_END, end) and _ON_ONE_LIST not in card[end:]
