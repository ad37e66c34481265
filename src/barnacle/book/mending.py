"""Saving what can be read of a damaged book into a new one."""

from __future__ import annotations

import json
import shutil
import sqlite3
import tempfile
from collections.abc import Iterable
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.book import derived, schema, sums, wal
from barnacle.book.opening import make_book
from barnacle.book.pages import Pages, Record, Value
from barnacle.book.store import Book
from barnacle.book.stored_contact import of_card, row_of
from barnacle.core.mail.delivery import State
from barnacle.core.mail.message import Mode, from_doc
from barnacle.core.text import count, fold
from barnacle.core.typed import Any

_HELD = "It was damaged. Look at it, and change it (`barnacle outbox edit`), before it goes out."
_DOUBT = "its record was damaged: what became of it is not known"
# What a row of each table looks like, to know it by where nothing else tells whose it is: a letter for each column (n
# nothing, i a number, t a text, b octets; capitals: or nothing). In a row that has a number of its own, that is `n`.
_LOOKS = {
    "contact": "ntttitI", "list": "ntttitTTI", "member": "niiTttt", "message": "ntttttI", "action": "ntttiII",
    "delivery": "itttITTI", "journal": "nitiTT", "dispatch": "nt", "judged": "ntttt", "attachment": "tb",
    "past_mail": "ttt", "kept_text": "ntttt", "sent_copy": "ni",
    "directory_link": "tttttt",
}  # fmt: skip
_OLDER = {"contact": "ntttit", "delivery": "itttITT", "list": "ntttitT", "message": "nttttt"}
_LONG_AGO = "1970-01-01T00:00:00Z"
_SHARES = ("hub", "share", "share_member", "share_conflict", "share_trace", "share_offer")
_SAVED = frozenset((*_LOOKS, *_SHARES, "delivery_contact"))


@dataclass(slots=True)
class Mended:
    """What was saved: how many of each, and what could not be, in sentences."""

    saved: dict[str, int] = field(default_factory=dict)
    lost: list[str] = field(default_factory=list)


def mend(damaged: Path, target: Path) -> Mended:
    """Make a new book at `target` of all that can be read of a damaged one, which stays as it is.

    Nothing is taken for true that its checksum does not speak for: a delivery of which it does not is doubtful. Raises
    BookError where the new book cannot be made.
    """
    pages = Pages(_as_it_stands(damaged))
    found = _Found(pages)
    found.read()
    result = Mended()
    book = make_book(target)
    try:
        _Saving(book, found, result).run()
    finally:
        book.close()
    return result


def _as_it_stands(damaged: Path) -> bytes:
    """The file's octets, with what waits in the log beside it where that belongs to it."""
    with tempfile.TemporaryDirectory(prefix="barnacle-") as folder:
        copy = Path(folder, "book")
        shutil.copy(damaged, copy)
        log = damaged.with_name(f"{damaged.name}-wal")
        if log.exists() and not wal.is_stale(damaged):
            shutil.copy(log, f"{copy}-wal")
            with suppress(sqlite3.Error, UnicodeDecodeError), closing(sqlite3.connect(copy)) as db:
                db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return copy.read_bytes()


class _Found:
    """The rows of each table that can be read, by their number or their key; those that nothing points to last."""

    def __init__(self, pages: Pages) -> None:
        self.pages = pages
        self.trees: dict[str, set[int]] = {}  # the pages of each table and index
        self.rows: dict[str, list[Record]] = {}
        self.unread: dict[str, int] = {}
        self.unread_pages: set[str] = set()
        self.orphans = 0

    def read(self) -> None:
        pages = self.pages
        self.trees = {name: pages.tree(root) for name, root in self._roots().items()}
        owner = {page: name for name, tree in self.trees.items() for page in tree}
        free = pages.free()
        for number in range(1, pages.number + 1):
            name = owner.get(number)
            if name in _LOOKS and not pages.kind(number):
                self.unread_pages.add(str(name))
            for record in pages.records(number):
                fits = record is not None and name is not None and _looks_like(name, record.values)
                of = name if fits else None
                # Also what stands on a page of another tree: whole pages may have changed places.
                if record is not None and of is None and number not in free:
                    of = _known_by(record.values)
                if record is not None and of is not None:
                    self.rows.setdefault(of, []).append(record)
                    self.orphans += of != name
                if name in _LOOKS and of != name:
                    self.unread[str(name)] = self.unread.get(str(name), 0) + 1
        for some in self.rows.values():
            some.sort(key=lambda record: record.page not in owner)  # what nothing points to comes last

    def _roots(self) -> dict[str, int]:
        """Where the tree of each table begins, as the first page's own records tell."""
        found: dict[str, int] = {}
        for number in self.pages.tree(1):
            for record in self.pages.records(number):
                if record is None or len(record.values) != 5:
                    continue
                kind, name, _, root, _ = record.values
                if kind in ("table", "index") and isinstance(root, int) and root > 1:
                    found[str(name)] = root
        return found

    def of(self, table: str) -> list[tuple[int | None, list[Value]]]:
        """The rows of a table: number and values."""
        return [(record.rowid, record.values) for record in self.rows.get(table, [])]


def _looks_like(table: str, values: list[Value]) -> bool:
    """Whether values can be a row of a table that is saved; of one that is not known to look like anything, any can."""
    if table not in _SAVED:
        return False
    looks = [look for look in (_LOOKS.get(table), _OLDER.get(table)) if look]
    return not looks or any(_fits(values, look) for look in looks)


def _fits(values: list[Value], look: str) -> bool:
    kinds = {int: "i", str: "t", bytes: "b", float: "f", type(None): "n"}
    return len(values) == len(look) and all(
        kinds[type(value)] == letter.lower() or (letter.isupper() and value is None)
        for value, letter in zip(values, look, strict=True)
    )


def _known_by(values: list[Value]) -> str | None:
    """The table of a row that no tree has, where only one it can be; of what looks alike the text tells."""
    fit = [name for name, look in _LOOKS.items() if len(look) > 5 and _fits(values, look)]
    fit = [name for name in fit if (name == "contact") == (str(values[5]).startswith("{"))] if len(fit) > 1 else fit
    return fit[0] if len(fit) == 1 else None


class _Saving:
    """Writes what was found into the new book, table by table, each row that can be one of it."""

    def __init__(self, book: Book, found: _Found, result: Mended) -> None:
        self.book = book
        self.db = book.db
        self.found = found
        self.result = result
        self.ids: dict[str, set[int]] = {}

    def run(self) -> None:
        self._unread()
        with self.book.transaction():
            self.db.execute("PRAGMA defer_foreign_keys = ON")
            schema.take_derived_away(self.db)
            self._contacts()
            self._lists()
            self._members()
            self._messages()
            self._deliveries()
            self._others()
            self._history()
            schema.make_derived(self.db)
            derived.make_anew(self.book)

    def _unread(self) -> None:
        for table, number in self.found.unread.items():
            self._lost(f"{count(number, 'record')} of the table of {_plural(table)} cannot be read at all")
        for table in sorted(self.found.unread_pages):
            self._lost(
                f"a whole page of the table of {_plural(table)} cannot be read, or more: whoever was on it is lost"
            )

    def _lost(self, sentence: str) -> None:
        self.result.lost.append(sentence)

    def _put(self, table: str, columns: str, row: Iterable[Any]) -> bool:
        values = list(row)
        try:
            self.db.execute(f"INSERT INTO {table}({columns}) VALUES({', '.join('?' * len(values))})", values)
        except (sqlite3.IntegrityError, OverflowError):
            return False
        self.result.saved[table] = self.result.saved.get(table, 0) + 1
        return True

    def _contacts(self) -> None:
        taken: set[int] = set()
        for number, values in self.found.of("contact"):
            uid, card = str(values[1]), str(values[5])
            if number is None or number in taken:
                continue
            has_sum = len(values) > 6 and values[6] is not None
            if has_sum and values[6] != sums.row_sum(uid, card):
                self._lost(f"contact {number} ({values[2]!s}) is not as it was written and was left out")
                continue
            try:
                kept = of_card(number, uid, card).contact
            except (ValueError, TypeError, LookupError, AttributeError):
                self._lost(f"contact {number} ({values[2]!s}) has a card that cannot be read")
                continue
            if self._put("contact", "id, uid, name, name_key, opted_out, card, sum", (number, *row_of(kept))):
                taken.add(number)
        self.ids["contact"] = taken

    def _lists(self) -> None:
        taken: set[int] = set()
        for number, values in self.found.of("list"):
            _, title, _, about, pinned, created, rule, *more = values
            sender, kept_sum = [*more, None, None][:2]
            if number is None or number in taken:
                continue
            if rule is not None:
                try:
                    json.loads(str(rule))
                except ValueError:
                    self._lost(f"the rule of the list {title!s} cannot be read; the list is there without it")
                    rule = None
            said = (title, about, pinned, created, rule, sender)
            if kept_sum is not None and kept_sum != sums.row_sum(title, about, pinned, created, values[6], sender):
                self._lost(f"the list {title!s} is not as it was written: look at its title and rule")
            columns = f"id, title_key, {sums.OF_LIST}, sum"
            row = (number, fold(str(title)), *said, sums.row_sum(*said))
            if self._put("list", columns, row):
                taken.add(number)
        self.ids["list"] = taken

    def _members(self) -> None:
        lost = 0
        for number, values in self.found.of("member"):
            _, on, who, *_, kind = values
            if on not in self.ids["list"] or who not in self.ids["contact"] or kind not in ("on", "off", "address"):
                lost += 1
                continue
            self._put("member", "id, list, contact, address, since, by, kind", (number, *values[1:]))
        if lost:
            self._lost(f"{count(lost, 'membership')} of people or lists that were lost")

    def _messages(self) -> None:
        taken: set[int] = set()
        for number, (_, token, subject, mode, doc, created, *kept_sum) in self.found.of("message"):
            try:
                Mode(str(mode))
                from_doc(json.loads(str(doc)))
            except (ValueError, TypeError, LookupError, AttributeError):
                self._lost(f"message m{number} ({subject!s}) cannot be read")
                continue
            if kept_sum and kept_sum[0] not in (None, sums.row_sum(token, subject, mode, doc, created)):
                self._lost(f"message m{number} ({subject!s}) is not as it was written: it is held, to be looked at")
                doc = json.dumps({**json.loads(str(doc)), "held": _HELD}, ensure_ascii=False)
            row = (token, subject, mode, doc, created)
            columns = f"id, {sums.OF_MESSAGE}, sum"
            if number is not None and self._put("message", columns, (number, *row, sums.row_sum(*row))):
                taken.add(number)
        self.ids["message"] = taken

    def _deliveries(self) -> None:
        begun = {number: values[1] for number, values in self.found.of("dispatch") if number is not None}
        doubtful, rows = 0, list[tuple[Any, ...]]()
        for _, values in self.found.of("delivery"):
            message, address, people, state, code, reply, tried, *rest = values
            reads = state in [one.value for one in State] and _is_names(people)
            if not reads or (rest and rest[0] is not None and rest[0] != sums.row_sum(*values[:7])):
                doubtful += 1
                people = people if _is_names(people) else "[]"
                state, code, reply = State.DOUBTFUL.value, None, _DOUBT
            if message in self.ids["message"]:
                rows.append((message, address, people, state, code, reply, tried))
        # A message of which anything was handed over was begun, also where that record is lost.
        for message in sorted({row[0] for row in rows} | (set(begun) & self.ids["message"])):
            moment = begun.get(message) or min((str(r[6]) for r in rows if r[0] == message and r[6]), default=_LONG_AGO)
            self._put("dispatch", "message, begun", (message, moment))
        for row in rows:
            self._put("delivery", f"{sums.OF_DELIVERY}, sum", (*row, sums.row_sum(*row)))
        if doubtful:
            self._lost(f"what became of {count(doubtful, 'recipient')} cannot be trusted: now doubtful")
        for _, values in self.found.of("delivery_contact"):
            if len(values) == 3 and values[1] in self.ids["message"]:
                self._put("delivery_contact", "contact, message, address", values)
        found = self.found
        sure = "delivery" in found.trees and "delivery" not in found.unread and "delivery" not in found.unread_pages
        if not sure:
            for message in sorted(self.ids["message"] - {row[0] for row in rows}):
                self._lost(f"whether m{message} went to anybody is not known: look before you send it again")

    def _others(self) -> None:
        for table in (
            "judged",
            "attachment",
            "past_mail",
            "kept_text",
            "sent_copy",
            "directory_link",
            *_SHARES,
        ):
            about = self.db.execute(f"PRAGMA table_info({table})").fetchall()
            (sql,) = self.db.execute("SELECT sql FROM sqlite_master WHERE name = ?", (table,)).fetchone()
            if "WITHOUT ROWID" in sql:
                about.sort(key=lambda one: one[5] or len(about))  # the key's columns come first on a page
            columns = [one[1] for one in about]
            for number, values in self.found.of(table):
                row = [number, *values[1:]] if number is not None and values[:1] == [None] else values
                if len(row) <= len(columns):
                    self._put(table, ", ".join(columns[: len(row)]), row)

    def _history(self) -> None:
        """What was done, to be read; what can be undone only where none of it is lost."""
        actions = {number: values for number, values in self.found.of("action") if number is not None}
        for number, (_, *said, undoes, undone_by) in sorted(actions.items()):
            others = [other if other in actions else None for other in (undoes, undone_by)]
            self._put("action", "id, at, command, title, final, undoes, undone_by", (number, *said, *others))
        if self.result.lost or self.found.orphans:
            self.db.execute("UPDATE action SET final = 1")
            self._lost("what was done before can be read in the history, and not be undone")
            return
        for row, values in self.found.of("journal"):
            self._put("journal", "id, action, tbl, row, before, after", (row, *values[1:]))


def _is_names(text: Value) -> bool:
    try:
        return isinstance(text, str) and isinstance(json.loads(text), list)
    except ValueError:
        return False


def _plural(table: str) -> str:
    names = {
        "delivery": "deliveries",
        "dispatch": "messages that were begun",
        "past_mail": "past mail",
        "kept_text": "texts",
        "sent_copy": "copies of sent mail",
        "directory_link": "links to the directory",
    }
    return names.get(table, f"{table}s")
