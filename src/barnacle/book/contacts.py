"""Contacts in the book: kept, found by name or address, and made searchable."""

from __future__ import annotations

import json
import os
import re
import time
import zlib
from collections.abc import Iterable, Iterator, Sequence, Set
from itertools import islice

from barnacle.book import index
from barnacle.book.store import Book
from barnacle.book.stored_contact import (
    COLUMNS,
    StoredContact,
    address_at,
    each_stored,
    index_of,
    of_card,
    row_of,
    stored_from,
)
from barnacle.core.addresses import address_key
from barnacle.core.card_fields import OF_CARDS
from barnacle.core.contact import Contact, comparable_numbers
from barnacle.core.own_fields import own_fields, title_of
from barnacle.core.phones import LAST_DIGITS
from barnacle.core.text import fold, words

_COLUMNS = "c.id, c.uid, c.card, c.sum"
# So many are worked out anew at once; and the numbers of those.
_AT_ONCE = 1000
_ASKED = "(SELECT value FROM json_each(?))"
_NATIONAL_DIGITS = 9


def add(book: Book, contact: Contact) -> int:
    """Keep a new contact; gives it a uid where it has none. Returns its number."""
    contact.uid = contact.uid or new_uids(1)[0]
    row = book.db.execute(
        f"INSERT INTO contact({', '.join(COLUMNS)}) VALUES(?{', ?' * (len(COLUMNS) - 1)})", row_of(contact)
    ).lastrowid
    assert row is not None
    index.write(book.db, [(row, index_of(contact))])
    return row


def new_uids(number: int) -> list[str]:
    """Uids that begin with the time (RFC 9562 section 5.7), in rising order, so that those made together stand together
    in the book; without what the library's module costs to load."""
    stamp = f"{int(time.time() * 1000):012x}"
    start = f"{stamp[:8]}-{stamp[8:]}-7"
    noise = os.urandom(9 * number).hex()
    random = [noise[k : k + 18] for k in range(0, 18 * number, 18)]
    return sorted([f"{start}{one[:3]}-8{one[3:6]}-{one[6:]}" for one in random])


def save(book: Book, row: int, contact: Contact) -> None:
    """Write a changed contact back."""
    book.need_action()
    book.db.execute(f"UPDATE contact SET {' = ?, '.join(COLUMNS)} = ? WHERE id = ?", (*row_of(contact), row))
    reindex(book, [row])


def remove(book: Book, row: int) -> None:
    """Remove a contact that is on no list any more."""
    book.need_action()
    book.db.execute("DELETE FROM contact WHERE id = ?", (row,))
    index.erase(book.db, row)


def reindex(book: Book, rows: Sequence[int]) -> None:
    """Work out anew what is derived from contacts, or drop it where one is gone."""
    for start in range(0, len(rows), _AT_ONCE):
        some = (json.dumps(rows[start : start + _AT_ONCE]),)
        have = book.db.execute(f"SELECT contact FROM contact_facts WHERE contact IN {_ASKED}", some).fetchall()
        for (row,) in have:
            index.erase(book.db, row)
        kept = each_stored(book.db.execute(f"SELECT {_COLUMNS} FROM contact c WHERE c.id IN {_ASKED}", some))
        index.write(book.db, [(one.id, index_of(one.contact)) for one in kept])


def get(book: Book, row: int) -> StoredContact | None:
    """The contact with that number."""
    found = book.db.execute(f"SELECT {_COLUMNS} FROM contact c WHERE c.id = ?", (row,)).fetchone()
    return stored_from(found) if found else None


def need(book: Book, row: int) -> Contact:
    """The contact with a number that is known to be there."""
    kept = get(book, row)
    assert kept is not None
    return kept.contact


def by_uid(book: Book, uid: str) -> StoredContact | None:
    """The contact with that uid, now or before it was merged."""
    found = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact c WHERE c.uid = ?"
        f" UNION ALL SELECT {_COLUMNS} FROM contact_former f JOIN contact c ON c.id = f.contact WHERE f.uid = ?",
        (uid, uid),
    ).fetchone()
    return stored_from(found) if found else None


def familiar(book: Book, keys: Sequence[str]) -> set[str]:
    """Those of some uids and comparable addresses that somebody in the book has or had; an address perhaps by chance of
    its hash."""
    held = book.db.execute(
        "SELECT value FROM json_each(?) WHERE value IN (SELECT uid FROM contact)"
        " OR value IN (SELECT uid FROM contact_former)",
        (json.dumps(keys),),
    )
    found = {value for (value,) in held}
    places = [(*address_at(key), key) for key in keys if "@" in key]
    held = book.db.execute(
        "SELECT json_extract(p.value, '$[2]') FROM json_each(?) p CROSS JOIN contact_address a"
        " WHERE a.domain = json_extract(p.value, '$[0]') AND a.hash = json_extract(p.value, '$[1]')",
        (json.dumps(places),),
    )
    return found | {value for (value,) in held}


def by_uid_end(book: Book, end: str) -> list[StoredContact]:
    """Contacts whose uid, now or before it was merged, ends so: the part that is shown to tell namesakes apart."""
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact c WHERE substr(c.uid, ?1) = ?2"
        f" UNION SELECT {_COLUMNS} FROM contact_former f JOIN contact c ON c.id = f.contact"
        " WHERE substr(f.uid, ?1) = ?2",
        (-len(end), end),
    )
    return [stored_from(row) for row in rows]


def everybody(book: Book) -> Iterator[StoredContact]:
    """All contacts by name, one at a time."""
    yield from each_stored(book.db.execute(f"SELECT {_COLUMNS} FROM contact c ORDER BY c.name_key, c.id"))


def by_address(book: Book, address: str) -> list[StoredContact]:
    """Everybody who has that address, longest known first."""
    key = address_key(address)
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact_address a JOIN contact c ON c.id = a.contact WHERE a.domain = ? AND a.hash = ?"
        " ORDER BY c.id",
        address_at(key),
    )
    return [kept for kept in map(stored_from, rows) if key in kept.contact.address_keys()]


def by_label(book: Book, label: str) -> list[StoredContact]:
    """Everybody with that label, capitals and accents aside, by name."""
    return search(book, "", labelled(book, label))


def labelled(book: Book, label: str) -> set[int]:
    """The numbers of those with that label, capitals and accents aside."""
    return {row for (row,) in book.db.execute("SELECT contact FROM contact_label WHERE key = ?", (fold(label),))}


def labels(book: Book) -> dict[str, int]:
    """The labels in use, as most contacts spell them, and how many contacts have each."""
    spelt: dict[str, dict[str, int]] = {}
    rows = book.db.execute(
        "SELECT value, count(*) FROM contact, json_each(card, '$.labels') GROUP BY value ORDER BY count(*) DESC"
    )
    for label, number in rows:
        spelt.setdefault(fold(label), {})[label] = number
    return {next(iter(one)): sum(one.values()) for _, one in sorted(spelt.items())}


def as_of(book: Book, number: int, action: int) -> Contact | None:
    """A contact as it was when that action was the book's last one, or None where it was not there."""
    row = book.db.execute(
        "SELECT before FROM journal WHERE tbl = 'contact' AND row = ? AND action > ? ORDER BY id LIMIT 1",
        (number, action),
    ).fetchone()
    if row is None:
        kept = get(book, number)
        return kept.contact if kept is not None else None
    if row[0] is None:
        return None
    before = json.loads(row[0])
    return of_card(number, before["uid"], before["card"]).contact


def changes(book: Book, number: int) -> Iterator[tuple[Contact, Contact]]:
    """A contact before and after each change of it that stands and takes none back."""
    rows = book.db.execute(
        "SELECT j.before, j.after FROM journal j JOIN action a ON a.id = j.action WHERE j.tbl = 'contact' AND j.row = ?"
        " AND j.before IS NOT NULL AND j.after IS NOT NULL AND a.undoes IS NULL AND a.undone_by IS NULL",
        (number,),
    )
    for pair in rows:
        was, became = (of_card(number, image["uid"], image["card"]).contact for image in map(json.loads, pair))
        yield was, became


def version(book: Book) -> str:
    """How the book stands now, as a word that a table takes along: the number of its last action, and a mark that tells
    it from other books."""
    row = book.db.execute("SELECT max(id) FROM action").fetchone()
    return f"{row[0] or 0}-{_mark(book)}"


def action_of(book: Book, text: str) -> int | None:
    """The action of a version; None where it is another book's, or none."""
    number, _, mark = text.partition("-")
    return int(number) if number.isdecimal() and len(number) < 18 and mark == _mark(book) else None


def _mark(book: Book) -> str:
    begun = book.db.execute("SELECT at, title FROM action ORDER BY id LIMIT 1").fetchone()  # it stays the same
    return f"{zlib.crc32(repr(begun).encode()):08x}"


def own_titles(book: Book) -> dict[str, int]:
    """The titles of one's own fields, as they were first written and in that order, and how many contacts have
    each."""
    have = dict(book.db.execute("SELECT title, count(DISTINCT contact) FROM contact_own GROUP BY title"))
    keys = book.db.execute(
        "SELECT e.value ->> 0 AS kept FROM contact, json_each(card, '$.extra') e"
        f" WHERE kept LIKE 'csv:%' OR lower(substr(kept, 1, instr(kept || '#', '#') - 1)) IN {_ASKED}"
        " GROUP BY 1 ORDER BY min(contact.id * 1000 + e.key)",
        (json.dumps([*OF_CARDS]),),
    )
    spelt: dict[str, str] = {}
    for (key,) in keys:
        spelt.setdefault(fold(title := title_of(key)), title)
    return {title: have[folded] for folded, title in spelt.items() if folded in have}


def called(book: Book, name: str) -> list[StoredContact]:
    """Who is called just that, capitals and accents aside, longest known first."""
    rows = book.db.execute(f"SELECT {_COLUMNS} FROM contact c WHERE c.name_key = ? ORDER BY c.id", (fold(name),))
    return [stored_from(row) for row in rows]


def namesakes(book: Book, person: Contact, most: int) -> list[StoredContact]:
    """Who is called just as somebody is: the `most` longest known, and of a crowd (`Guest`) those besides who may have
    a phone, or a value in a field of their own, in common with that person."""
    key = fold(person.called)
    asked = f"SELECT {_COLUMNS} FROM contact c WHERE c.name_key = ?"
    rows = book.db.execute(f"{asked} ORDER BY c.id LIMIT ?", (key, most)).fetchall()
    if len(rows) == most:
        have = "SELECT contact FROM contact_own WHERE title = ? AND value = ? LIMIT ?"
        own = [(fold(title), fold(value), 2 * most) for title, value in own_fields(person).items()]
        like = [row for one in own for (row,) in book.db.execute(have, one)]
        if ends := [number[-LAST_DIGITS:] for number in comparable_numbers(person)]:
            phones = (
                "SELECT c.id FROM contact c JOIN contact_facts f ON f.contact = c.id WHERE c.name_key = ?"
                " AND EXISTS(SELECT 1 FROM json_each(?) WHERE instr(f.phones, value || char(10)))"
            )
            like += [row for (row,) in book.db.execute(phones, (key, json.dumps(ends)))]
        rows += book.db.execute(
            f"{asked} AND c.id > ? AND c.id IN (SELECT value FROM json_each(?)) ORDER BY c.id",
            (key, rows[-1][0], json.dumps(like)),
        )
    return [stored_from(row) for row in rows]


def by_name(book: Book, text: str) -> list[StoredContact]:
    """Who may be meant by `text`: the name to the letter, else whole words of it, else beginnings of words.

    Capitals and accents aside. The closest kind of match that there is, is given.
    """
    exact, wanted = called(book, text), words(text)
    if exact or not wanted:
        return exact
    whole, begun = [], []
    for row, key in _with_in_name(book, wanted):
        have = words(key)
        if all(w in have for w in wanted):
            whole.append(row)
        elif all(any(h.startswith(w) for h in have) for w in wanted):
            begun.append(row)
    return _called_something(book, whole) or _called_something(book, begun)


def _with_in_name(book: Book, wanted: Sequence[str]) -> list[tuple[int, str]]:
    """The numbers and comparable names of contacts, by name, which may have these words in it; whoever has no name
    stands there with an address."""
    if max(map(len, wanted)) > 2:
        index.catch_up(book.db)
        condition, _, values = index.with_words(book.db, wanted)
        source = f"contact_facts f JOIN contact c ON c.id = f.contact WHERE {condition}"
    else:  # the text index has no words as short, and most texts have one of them somewhere
        source, values = "contact c WHERE instr(c.name_key, ?)", [max(wanted, key=len)]
    return book.db.execute(f"SELECT c.id, c.name_key FROM {source} ORDER BY c.name_key, c.id", values).fetchall()


def _called_something(book: Book, rows: Sequence[int]) -> list[StoredContact]:
    found = (kept for row in rows if (kept := get(book, row)) is not None)
    return [kept for kept in found if kept.contact.called]


def search(book: Book, text: str, among: Set[int] | None = None) -> list[StoredContact]:
    """Contacts that have every word of `text` in any part of any field, by name; no words: all. `among` are the numbers
    of those in question."""
    if wanted := fragments(text):
        return list(_containing(book, wanted, among))
    condition = "" if among is None else f" WHERE c.id IN {_ASKED}"
    values = () if among is None else (json.dumps(list(among)),)
    rows = book.db.execute(f"SELECT {_COLUMNS} FROM contact c{condition} ORDER BY c.name_key, c.id", values)
    return list(each_stored(rows))


def search_some(book: Book, text: str, most: int) -> list[StoredContact]:
    """Up to `most` of what `search` finds, without going through all of it: first those who have the words in their
    name, in the order of the names, then, if there is room, others."""
    wanted = fragments(text)
    conditions = " AND ".join(["instr(c.name_key, ?) > 0"] * len(wanted)) or "1"
    rows = book.db.execute(
        f"SELECT {_COLUMNS} FROM contact c WHERE {conditions} ORDER BY c.name_key, c.id LIMIT ?", (*wanted, most)
    )
    found = {kept.id: kept for kept in map(stored_from, rows)}
    if wanted and len(found) < most:
        for kept in islice(_containing(book, wanted, in_order=False), most):
            found.setdefault(kept.id, kept)
    return list(found.values())[:most]


def fragments(text: str) -> list[str]:
    """The words of a search, folded; numbers without their punctuation."""
    return [_bare_number(word) for word in fold(text).split()]


def _bare_number(word: str) -> str:
    """A word of a phone number without its punctuation, so that `(01632)` is found; other words as they are."""
    bare = re.sub(r"[()+./-]", "", word)
    # +44 1632 960123 is written 01632 960123 at home: what follows the code is the same in both.
    return bare[-_NATIONAL_DIGITS:] if bare.isdigit() else word


def _containing(
    book: Book, fragments: list[str], among: Set[int] | None = None, in_order: bool = True
) -> Iterator[StoredContact]:
    """Contacts, of all or `among` some, whose search text has each fragment. Three letters and more go through the
    trigram index."""
    order = " ORDER BY c.name_key, c.id" if in_order else ""
    index.catch_up(book.db)
    condition, text, values = index.with_words(book.db, fragments)
    rows = book.db.execute(
        f"SELECT {_COLUMNS}, {text} FROM contact_facts f JOIN contact c ON c.id = f.contact WHERE {condition}{order}",
        values,
    )
    yield from each_stored(
        row for row in rows if (among is None or row[0] in among) and all(f in row[-1] for f in fragments)
    )


def opted_out_at(book: Book, keys: Iterable[str]) -> dict[str, Contact]:
    """Which of these address keys somebody has who opted out, and who that is."""
    result: dict[str, Contact] = {}
    for key in keys:
        rows = book.db.execute(
            f"SELECT {_COLUMNS} FROM contact_address a JOIN contact c ON c.id = a.contact"
            " WHERE a.domain = ? AND a.hash = ? AND c.opted_out",
            address_at(key),
        )
        for kept in map(stored_from, rows):
            if key in kept.contact.address_keys():
                result[key] = kept.contact
                break
    return result


def beginning(book: Book, prefix: str, most: int) -> list[str]:
    """Names that begin so, then names with a word that does, capitals and accents aside; with an @ in it, addresses."""
    key = fold(prefix)
    if "@" in key:
        held = (a.address for kept in _containing(book, [key], in_order=False) for a in kept.contact.addresses)
        return list(islice((a for a in held if fold(a).startswith(key)), most))
    rows = book.db.execute(
        "SELECT name FROM contact WHERE name_key >= ? AND name_key < ? AND name != '' ORDER BY name_key LIMIT ?",
        (key, key + chr(0x10FFFF), most),
    )
    begun = [name for (name,) in rows]
    if key and len(begun) < most:
        within = book.db.execute(
            "SELECT name FROM contact WHERE instr(name_key, ?) ORDER BY name_key LIMIT ?",
            (f" {key}", most - len(begun)),
        )
        begun += [name for (name,) in within if name not in begun]
    return begun


def any_address(book: Book) -> bool:
    """Whether anybody has an address."""
    return book.db.execute("SELECT 1 FROM contact_address LIMIT 1").fetchone() is not None


def names(book: Book) -> list[str]:
    """Every name that contacts have, each once."""
    return [name for (name,) in book.db.execute("SELECT DISTINCT name FROM contact WHERE name <> ''")]


def domains(book: Book, first: int = 0) -> dict[str, int]:
    """How many addresses are at each domain, of contacts numbered from `first` on."""
    rows = book.db.execute("SELECT domain, count(*) FROM contact_address WHERE contact >= ? GROUP BY domain", (first,))
    return dict(rows)


def at_domain(book: Book, domain: str, first: int, most: int) -> list[StoredContact]:
    """The contacts numbered from `first` on with an address at a domain, `most` at the most."""
    rows = book.db.execute(
        "SELECT contact FROM contact_address WHERE domain = ? AND contact >= ? ORDER BY contact LIMIT ?",
        (domain, first, most),
    ).fetchall()
    return [kept for (row,) in rows if (kept := get(book, row)) is not None]


def namesakes_with_more(
    book: Book, first: int, most_alike: int, most: int
) -> Iterator[tuple[int, int, bool, str, str]]:
    """Pairs of a contact numbered from `first` on and an earlier one of the very same name, both with an address, where
    both have an organisation in common or a phone each: their numbers, whether the organisation is the same, and the
    phones of each, one a line. Names that more than `most_alike` have are passed over; `most` pairs at the most."""
    rows = book.db.execute(
        "WITH twice AS (SELECT name_key FROM contact GROUP BY name_key HAVING count(*) BETWEEN 2 AND ?)"
        " SELECT n.id, o.id, fn.org != '' AND fn.org = fo.org, fn.phones, fo.phones"
        " FROM twice JOIN contact n ON n.name_key = twice.name_key"
        " JOIN contact o ON o.name_key = n.name_key AND o.id < n.id"
        " JOIN contact_facts fn ON fn.contact = n.id JOIN contact_facts fo ON fo.contact = o.id"
        " WHERE n.id >= ? AND fn.addresses != '' AND fo.addresses != '' AND fn.name != fn.org"
        " AND ((fn.org != '' AND fn.org = fo.org) OR (fn.phones != '' AND fo.phones != '')) LIMIT ?",
        (most_alike, first, most),
    )
    yield from ((new, old, bool(same), mine, theirs) for new, old, same, mine, theirs in rows)


def added_now(book: Book) -> set[int]:
    """The numbers of the contacts that the running action added."""
    rows = book.db.execute(
        "SELECT row FROM journal WHERE action = ? AND tbl = 'contact' AND before IS NULL", (book.running.id,)
    )
    return {row for (row,) in rows}


def count(book: Book) -> int:
    """How many contacts there are."""
    return int(book.db.execute("SELECT count(*) FROM contact").fetchone()[0])
