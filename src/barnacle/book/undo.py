"""Taking an action back, whatever command it was, from the images in the journal."""

from __future__ import annotations

import json
import sqlite3

from barnacle.book import contacts, index, settings, shares, sums
from barnacle.book.schema import NAME_INDEX, TRACKED, journal_removed, removed_trigger
from barnacle.book.store import Book
from barnacle.book.stored_contact import columns_of
from barnacle.core.errors import NotFoundError, UndoRefusedError
from barnacle.core.text import fold, visible
from barnacle.core.threeway import Record, merge
from barnacle.core.typed import NamedTuple, NoReturn

# Columns whose text is JSON: compared and merged field by field.
_DOCS = {"contact": "card", "message": "doc"}
# From so many rows on that an action added they are taken away at once.
_MANY = 500


class HistoryEntry(NamedTuple):
    """An action as the history shows it. `state` is empty, `undone` or `cannot be undone`."""

    number: int
    at: str
    command: str
    title: str
    state: str


class Touched(NamedTuple):
    """Whose changes are asked for: a list, a contact or a message (`kind` is its table), or a change itself, by its
    number."""

    kind: str
    number: int


# The actions that changed a row; and that put it on a list or took it off: what was on it before tells the journal.
_CHANGED = " AND id IN (SELECT action FROM journal WHERE tbl = :kind AND row = :number{})"
_ON_A_LIST = """
  UNION SELECT action FROM journal WHERE tbl = 'member' AND row IN (
    SELECT id FROM member WHERE {kind} = :number
    UNION SELECT row FROM journal WHERE tbl = 'member' AND before ->> '{kind}' = :number)"""
_TOUCHED = {
    "list": _CHANGED.format(_ON_A_LIST.format(kind="list")),
    "contact": _CHANGED.format(_ON_A_LIST.format(kind="contact")),
    "message": _CHANGED.format(""),
    "action": " AND id = :number",
}


def history(
    book: Book, most: int | None = None, touched: Touched | None = None, words: str = "", since: str = ""
) -> tuple[list[HistoryEntry], int]:
    """The actions, latest first, and how many there are; `most` bounds how many are given. Only those that `touched`
    something, have all of some `words` in their titles, or were done `since` a moment (as it is kept)."""
    asked = "FROM action WHERE at >= :since"
    values = {"since": since, "most": most if most is not None and not words else -1}
    if touched is not None:
        asked += _TOUCHED[touched.kind]
        values |= touched._asdict()
    wanted = fold(words).split()
    rows = book.db.execute(
        f"SELECT id, at, command, title, final, undone_by {asked} ORDER BY id DESC LIMIT :most", values
    )
    found = [
        HistoryEntry(number, at, command, title, "undone" if undone else "cannot be undone" if final else "")
        for number, at, command, title, final, undone in rows
        if not wanted or all(word in fold(title) for word in wanted)
    ]
    total = len(found) if wanted else book.db.execute(f"SELECT count(*) {asked}", values).fetchone()[0]
    return found[:most], total


# What ends that which no undo takes back.
_OTHERWISE = {
    "share offer": "`barnacle share end` withdraws an offer, `barnacle share stop` ends the sharing. ",
    "house open": "`barnacle house close` takes the address away. ",
}
# The command of actions by which others' changes to a shared list came.
RECEIVED = "sync"


class Undone(NamedTuple):
    """What was taken back: the number of the action and its sentence."""

    number: int
    title: str


def undo(book: Book, number: int | None = None) -> Undone:
    """Take back action `number`, else the last one of one's own that is neither undone nor itself an undo: what others
    changed in a shared list is not taken back unless it is named.

    Raises NotFoundError, or UndoRefusedError with the later change that was
    built on it.
    """
    action, title = _target(book, number)
    chain = _chain(book, action)
    root = chain[-1][1]
    with book.action("undo", f"{'Undid' if len(chain) % 2 else 'Redid'}: {root}", undoes=action):
        _Undoing(book, action, title).run()
        # Down the chain of undoes, every other one stands again.
        by: int | None = book.running.id
        for number, (row, _) in enumerate(chain):
            standing = by if number % 2 == 0 else None
            book.db.execute("UPDATE action SET undone_by = ? WHERE id = ?", (standing, row))
            by = row
    return Undone(action, title)


def received_since(book: Book, number: int) -> int | None:
    """The last action behind this one by which others' changes came, if there is one that stands."""
    row = book.db.execute(
        "SELECT max(id) FROM action WHERE id > ? AND command = ? AND undone_by IS NULL", (number, RECEIVED)
    ).fetchone()
    return row[0] if row else None


def _chain(book: Book, action: int) -> list[tuple[int, str]]:
    """The action, what it undid, what that undid, and so on: numbers and titles."""
    return book.db.execute(
        "WITH RECURSIVE chain(id, title, undoes, depth) AS ("
        " SELECT id, title, undoes, 0 FROM action WHERE id = ?"
        " UNION ALL SELECT a.id, a.title, a.undoes, depth + 1 FROM action a JOIN chain c ON a.id = c.undoes)"
        " SELECT id, title FROM chain ORDER BY depth",
        (action,),
    ).fetchall()


def _target(book: Book, number: int | None) -> tuple[int, str]:
    actions = "SELECT id, command, title, final, undone_by FROM action"
    if number is None:
        row = book.db.execute(
            f"{actions} WHERE undone_by IS NULL AND undoes IS NULL AND command != ? ORDER BY id DESC LIMIT 1",
            (RECEIVED,),
        ).fetchone()
        if row is None:
            raise NotFoundError("There is nothing to undo. `barnacle history` shows what was changed.")
    else:
        row = book.db.execute(f"{actions} WHERE id = ?", (number,)).fetchone()
        if row is None:
            raise NotFoundError(f"The history has no number {number}. `barnacle history` shows the numbers.")
    action, command, title, final, undone_by = row
    if undone_by is not None:
        raise UndoRefusedError(
            f"Number {action} ({visible(title)}) has already been undone, by number {undone_by}. "
            f"`barnacle undo {undone_by}` brings it back."
        )
    if final:
        raise UndoRefusedError(
            f"Number {action} ({visible(title)}) cannot be undone: {_why_final(command)}. {_OTHERWISE.get(command, '')}"
            "Earlier changes can be undone by their number; `barnacle history` shows them."
        )
    return action, title


def _why_final(command: str) -> str:
    if command.startswith(("share ", "house ")):
        return "it was done at the hub, where others know of it"
    if command in ("send", "compose", "outbox edit"):
        return "the message has gone out"
    return "the book was mended since, and what was before is lost"


def _image(table: str, text: str) -> Record:
    # What the table had not yet at that time was nothing.
    return _opened(table, dict.fromkeys(TRACKED.get(table, ())) | json.loads(text))


def _opened(table: str, row: Record) -> Record:
    """A row with its document as values, so that spelling and order of its JSON do not count."""
    doc = _DOCS.get(table)
    return {**row, doc: json.loads(row[doc])} if doc else row


class _Undoing:
    def __init__(self, book: Book, action: int, title: str) -> None:
        self.book = book
        self.db = book.db
        self.action = action
        self.title = title

    def run(self) -> None:
        self.db.execute("PRAGMA defer_foreign_keys = ON")
        touched: list[tuple[str, int]] = []  # whose checksum is written anew
        wholly = self._remove_many()
        rows = self.db.execute(
            "SELECT id, tbl, row, before, after FROM journal j WHERE action = ? AND NOT (before IS NULL"
            " AND (tbl IN (SELECT value FROM json_each(?))"
            " OR EXISTS (SELECT 1 FROM temp.gone g WHERE g.tbl = j.tbl AND g.row = j.row))) ORDER BY id DESC",
            (self.action, json.dumps(wholly)),
        )
        for entry, table, row, before, after in rows:
            if table == settings.JOURNAL_NAME:
                if settings.revert(self.book, json.loads(before), json.loads(after)):
                    self._refuse(table, row)
                continue
            if table in sums.OF:
                touched.append((table, row))
            if before is None:
                self._remove(entry, table, row)
            elif after is None:
                self._bring_back(table, row, json.loads(before))
            else:
                self._turn_back(table, row, _image(table, before), _image(table, after))
        self.db.execute("DROP TABLE temp.gone")  # where it is refused, that goes with all else
        for table, row in touched:
            sums.renew(self.db, table, row)
        contacts.reindex(self.book, [row for table, row in touched if table == "contact"])
        self._check_references()

    def _remove_many(self) -> list[str]:
        """Take away at once what the action added and nothing has changed since, as after an import; `temp.gone` then
        says what. What few were added is left to `_remove`. Returns the tables of which all went that was added."""
        wholly = []
        self.db.execute(
            "CREATE TEMP TABLE gone(tbl TEXT NOT NULL, row INTEGER NOT NULL, PRIMARY KEY(tbl, row)) WITHOUT ROWID"
        )
        for table in ("member", "contact"):
            number = self.db.execute(
                "SELECT count(*) FROM journal WHERE action = ? AND tbl = ? AND before IS NULL", (self.action, table)
            ).fetchone()[0]
            if number < _MANY:
                continue
            added = "SELECT tbl, row FROM journal j WHERE action = ? AND tbl = ? AND before IS NULL"
            since = self.db.execute(
                "SELECT count(*) FROM journal WHERE tbl = ?1 AND id >="
                " (SELECT min(id) FROM journal WHERE action = ?2 AND tbl = ?1)",
                (table, self.action),
            ).fetchone()[0]
            if since == number:  # nothing came after, also within the action
                wholly.append(table)
            else:
                added += (
                    " AND NOT EXISTS (SELECT 1 FROM journal k WHERE k.tbl = j.tbl AND k.row = j.row AND k.id > j.id)"
                )
            self.db.execute(f"INSERT INTO temp.gone {added}", (self.action, table))
            gone = f"(SELECT row FROM temp.gone WHERE tbl = '{table}')"
            # A trigger for each row would take as long as all the rest; and so would the index of names, if most go.
            self.db.execute(journal_removed(table, gone))
            self.db.execute(f"DROP TRIGGER {table}_removed")
            if table == "contact" and 2 * number > contacts.count(self.book):
                self.db.execute("DROP INDEX contact_name")
            self.db.execute(f"DELETE FROM {table} WHERE id IN {gone}")
            self.db.execute(removed_trigger(table))
            if table == "contact":
                self.db.execute(NAME_INDEX)
                index.erase_many(self.db, gone)
        return wholly

    def _remove(self, entry: int, table: str, row: int) -> None:
        """Take away a row that the action added, if it is still as it was then.

        How it was is what the next change of it found; without one it has not changed.
        """
        later = self.db.execute(
            "SELECT before FROM journal WHERE tbl = ? AND row = ? AND id > ? AND before IS NOT NULL"
            " ORDER BY id LIMIT 1",
            (table, row, entry),
        ).fetchone()
        if later is not None and self._row(table, row) != _image(table, later[0]):
            self._refuse(table, row)
        if table == "list":
            shares.need_no_owner(self.book, row)
        if table == "message" and self.db.execute("SELECT 1 FROM dispatch WHERE message = ?", (row,)).fetchone():
            raise UndoRefusedError(f"m{row} has been sent, and that cannot be undone.")
        self.db.execute(f"DELETE FROM {table} WHERE id = ?", (row,))

    def _bring_back(self, table: str, row: int, before: Record) -> None:
        columns = ("id", *TRACKED[table])
        marks = ", ".join("?" * len(columns))
        try:
            self.db.execute(f"INSERT INTO {table}({', '.join(columns)}) VALUES({marks})", [before[c] for c in columns])
        except sqlite3.IntegrityError:
            self._refuse_for_twin(table, before)

    def _turn_back(self, table: str, row: int, before: Record, after: Record) -> None:
        current = self._row(table, row)
        if current is None:
            self._refuse(table, row)
        doc = _DOCS.get(table)
        inner: Record = {}
        if doc:
            inner, clashes = merge(after.pop(doc), current.pop(doc), before.pop(doc))
            if clashes:
                self._refuse(table, row)
        text = json.dumps(inner, ensure_ascii=False, separators=(",", ":"))
        if table == "contact":
            follows = columns_of(current["uid"], text)
            for side in (after, current, before):
                side.update(follows)
        merged, clashes = merge(after, current, before)
        if clashes:
            self._refuse(table, row)
        if doc:
            merged[doc] = text
        names = TRACKED[table]
        try:
            self.db.execute(
                f"UPDATE {table} SET {', '.join(f'{n} = ?' for n in names)} WHERE id = ?",
                [*(merged.get(n) for n in names), row],
            )
        except sqlite3.IntegrityError:
            self._refuse_for_twin(table, before)

    def _row(self, table: str, row: int) -> Record | None:
        columns = ("id", *TRACKED[table])
        values = self.db.execute(f"SELECT {', '.join(columns)} FROM {table} WHERE id = ?", (row,)).fetchone()
        return _opened(table, dict(zip(columns, values, strict=True))) if values else None

    def _check_references(self) -> None:
        """What was added later may hold on to what goes now, or what comes back may need what has gone."""
        for gone, column in (("contact", "contact"), ("list", "list")):
            held = self.db.execute(
                f"SELECT m.id FROM journal j JOIN member m ON m.{column} = j.row"
                " WHERE j.action = ? AND j.tbl = ? AND j.after IS NULL AND j.before IS NOT NULL LIMIT 1",
                (self.book.running.id, gone),
            ).fetchone()
            if held:
                self._refuse("member", held[0])
        orphan = self.db.execute(
            "SELECT 1 FROM journal j JOIN member m ON m.id = j.row"
            " LEFT JOIN contact c ON c.id = m.contact LEFT JOIN list l ON l.id = m.list"
            " WHERE j.action = ? AND j.tbl = 'member' AND (c.id IS NULL OR l.id IS NULL) LIMIT 1",
            (self.book.running.id,),
        ).fetchone()
        if orphan:
            raise UndoRefusedError(
                f"`{visible(self.title)}` cannot be undone: the contact or the list that it is about is gone. "
                "Bring that back first; `barnacle history` shows what removed it."
            )

    def _refuse_for_twin(self, table: str, before: Record) -> NoReturn:
        """What the row would collide with came later: the same title, or the same person on the same list."""
        for unique in self.db.execute(f"SELECT name FROM pragma_index_list('{table}') WHERE \"unique\"").fetchall():
            columns = [name for (name,) in self.db.execute("SELECT name FROM pragma_index_info(?)", unique)]
            twin = self.db.execute(
                f"SELECT id FROM {table} WHERE {' AND '.join(f'{c} = ?' for c in columns)}",
                [before[c] for c in columns],
            ).fetchone()
            if twin:
                self._refuse(table, twin[0])
        self._refuse(table, before["id"])

    def _refuse(self, table: str, row: int) -> NoReturn:
        """Name the latest change of that row that still stands."""
        later = self.db.execute(
            "SELECT a.id, a.title, a.command, a.final FROM journal j JOIN action a ON a.id = j.action"
            " WHERE j.tbl = ? AND j.row = ? AND a.id > ? AND a.id != ? AND a.undone_by IS NULL"
            " ORDER BY a.undoes IS NOT NULL, a.id DESC LIMIT 1",
            (table, row, self.action, self.book.running.id),
        ).fetchone()
        if later is None:
            raise UndoRefusedError(
                f"`{visible(self.title)}` cannot be undone: what it changed has changed again since."
            )
        number, title, command, final = later
        if final:
            way = ", and cannot be undone."
        elif command == RECEIVED:
            way = f". That came from others: change by hand what is wrong; `barnacle undo {number}` is for them too."
        else:
            way = f". `barnacle undo {number}` first."
        raise UndoRefusedError(
            f"`{visible(self.title)}` cannot be undone on its own: number {number} (`{visible(title)}`) builds on "
            f"it{way}"
        )
