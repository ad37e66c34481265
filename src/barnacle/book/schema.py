"""The tables of a book and the triggers that keep its journal."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable

# "Bnc1", in the header of every book (SQLite file format, section 1.3.8 of its documentation).
APPLICATION_ID = 0x426E6331

# Tables whose every change is journalled and can be undone, with their columns besides `id`.
TRACKED: dict[str, tuple[str, ...]] = {
    "contact": ("uid", "name", "name_key", "opted_out", "card"),
    "list": ("title", "title_key", "about", "pinned", "created", "rule"),
    "member": ("list", "contact", "kind", "address", "since", "by"),
    "message": ("token", "subject", "mode", "doc", "created"),
    "judged": ("one", "other", "verdict", "since"),
}
_TRACKED_FIRST = ("contact", "list", "member", "message")

_TABLES = """
CREATE TABLE action(
  id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, command TEXT NOT NULL, title TEXT NOT NULL DEFAULT '',
  final INTEGER NOT NULL DEFAULT 0,                       -- 1: cannot be taken back (something was sent)
  undoes INTEGER REFERENCES action, undone_by INTEGER REFERENCES action);
CREATE TABLE journal(
  id INTEGER PRIMARY KEY, action INTEGER NOT NULL, tbl TEXT NOT NULL, row INTEGER NOT NULL,
  before TEXT, after TEXT);                               -- JSON; both empty: a row was added
CREATE INDEX journal_action ON journal(action);
CREATE INDEX journal_row ON journal(tbl, row, action);

CREATE TABLE contact(
  id INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL UNIQUE, name TEXT NOT NULL, name_key TEXT NOT NULL,
  opted_out INTEGER NOT NULL, card TEXT NOT NULL);
CREATE INDEX contact_name ON contact(name_key);
CREATE TABLE list(
  id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT NOT NULL, title_key TEXT NOT NULL UNIQUE, about TEXT NOT NULL,
  pinned INTEGER NOT NULL, created TEXT NOT NULL, rule TEXT);      -- JSON of core.rules
CREATE TABLE member(
  id INTEGER PRIMARY KEY AUTOINCREMENT, list INTEGER NOT NULL REFERENCES list,
  contact INTEGER NOT NULL REFERENCES contact, address TEXT, since TEXT NOT NULL, by TEXT NOT NULL,
  kind TEXT NOT NULL DEFAULT 'on',     -- on, off (kept off a rule's list), address (for somebody a rule brings in)
  UNIQUE(list, contact));
CREATE INDEX member_contact ON member(contact);
CREATE TABLE message(
  id INTEGER PRIMARY KEY AUTOINCREMENT, token TEXT NOT NULL UNIQUE, subject TEXT NOT NULL, mode TEXT NOT NULL,
  doc TEXT NOT NULL, created TEXT NOT NULL);

-- What was handed to a mail server is a fact, not a change: outside the journal, never undone.
CREATE TABLE dispatch(message INTEGER PRIMARY KEY REFERENCES message, begun TEXT NOT NULL);
CREATE TABLE delivery(
  message INTEGER NOT NULL REFERENCES dispatch, address TEXT NOT NULL, people TEXT NOT NULL, state TEXT NOT NULL,
  code INTEGER, reply TEXT NOT NULL DEFAULT '', tried TEXT, PRIMARY KEY(message, address)) WITHOUT ROWID;
CREATE TABLE delivery_contact(
  contact INTEGER NOT NULL, message INTEGER NOT NULL, address TEXT NOT NULL,
  PRIMARY KEY(contact, message)) WITHOUT ROWID;

-- Worked out from the contacts, and made anew with each of their changes.
CREATE TABLE contact_former(uid TEXT PRIMARY KEY, contact INTEGER NOT NULL) WITHOUT ROWID;
CREATE INDEX contact_former_contact ON contact_former(contact);
CREATE TABLE contact_address(
  key TEXT NOT NULL, contact INTEGER NOT NULL, domain TEXT NOT NULL, folded TEXT NOT NULL,
  PRIMARY KEY(key, contact)) WITHOUT ROWID;
CREATE INDEX contact_address_domain ON contact_address(domain, contact);
CREATE TABLE contact_phone(
  number TEXT NOT NULL, contact INTEGER NOT NULL, PRIMARY KEY(number, contact)) WITHOUT ROWID;
CREATE INDEX contact_phone_contact ON contact_phone(contact);
CREATE TABLE contact_facts(                               -- folded, as rules compare them
  contact INTEGER PRIMARY KEY, name TEXT NOT NULL, given TEXT NOT NULL, family TEXT NOT NULL, org TEXT NOT NULL,
  job TEXT NOT NULL, web TEXT NOT NULL, note TEXT NOT NULL, source TEXT NOT NULL, added TEXT NOT NULL,
  reachable INTEGER NOT NULL);
CREATE INDEX contact_facts_org ON contact_facts(org);
CREATE INDEX contact_facts_family ON contact_facts(family);
CREATE TABLE list_count(list INTEGER PRIMARY KEY, members INTEGER NOT NULL, reachable INTEGER NOT NULL);
CREATE INDEX contact_address_contact ON contact_address(contact);
CREATE TABLE contact_label(
  key TEXT NOT NULL, contact INTEGER NOT NULL, PRIMARY KEY(key, contact)) WITHOUT ROWID;
CREATE INDEX contact_label_contact ON contact_label(contact);
CREATE TABLE rule_member(
  list INTEGER NOT NULL, contact INTEGER NOT NULL, since TEXT NOT NULL, PRIMARY KEY(list, contact)) WITHOUT ROWID;
CREATE INDEX rule_member_contact ON rule_member(contact);
CREATE VIEW on_list AS
  SELECT list, contact, address, since, by FROM member WHERE kind = 'on'
  UNION ALL
  SELECT r.list, r.contact, m.address, r.since, 'rule' FROM rule_member r
    LEFT JOIN member m ON m.list = r.list AND m.contact = r.contact
    WHERE m.kind IS NULL OR m.kind = 'address';
CREATE VIRTUAL TABLE contact_text USING fts5(text, tokenize='trigram', detail=none);
"""

# What `book.bulk` makes anew after many contacts were added.
NAME_INDEX = "CREATE INDEX IF NOT EXISTS contact_name ON contact(name_key)"

_ACTION = "(SELECT max(id) FROM action)"


def added_trigger(table: str) -> str:
    """What journals each new row of a table."""
    return (
        f"CREATE TRIGGER {table}_added AFTER INSERT ON {table} BEGIN"
        f" INSERT INTO journal(action, tbl, row) VALUES({_ACTION}, '{table}', NEW.id); END;"
    )


def _triggers(table: str, columns: tuple[str, ...]) -> str:
    def image(which: str) -> str:
        pairs = ", ".join(f"'{c}', {which}.{c}" for c in ("id", *columns))
        return f"json_object({pairs})"

    changed = " OR ".join(f"OLD.{c} IS NOT NEW.{c}" for c in columns)
    return f"""
{added_trigger(table)}
CREATE TRIGGER {table}_changed AFTER UPDATE ON {table} WHEN {changed} BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    {_ACTION}, '{table}', NEW.id, {image("OLD")}, {image("NEW")}); END;
CREATE TRIGGER {table}_removed AFTER DELETE ON {table} BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES({_ACTION}, '{table}', OLD.id, {image("OLD")}); END;
"""


def _first(db: sqlite3.Connection) -> None:
    script = _TABLES + "".join(_triggers(table, TRACKED[table]) for table in _TRACKED_FIRST)
    for statement in _statements(script):
        db.execute(statement)


def _statements(script: str) -> list[str]:
    """The script's statements, so that they run inside the caller's transaction (executescript would end it)."""
    result, pending = [], ""
    for line in script.splitlines():
        pending += line + "\n"
        if sqlite3.complete_statement(pending):
            result.append(pending)
            pending = ""
    return result


# Version 2: what is worked out from the contacts is smaller and quicker to write. Addresses are found by a hash of 64
# bits; the words of a contact stand once, in contact_facts.
_SECOND = """
DROP TABLE contact_address;
DROP TABLE contact_phone;
DROP TABLE contact_facts;
DROP TABLE contact_text;
DELETE FROM contact_label;
DELETE FROM contact_former;
CREATE TABLE contact_facts(                               -- folded, as rules compare them
  contact INTEGER PRIMARY KEY, name TEXT NOT NULL, given TEXT NOT NULL, family TEXT NOT NULL, org TEXT NOT NULL,
  job TEXT NOT NULL, web TEXT NOT NULL, note TEXT NOT NULL, source TEXT NOT NULL, added TEXT NOT NULL,
  reachable INTEGER NOT NULL, addresses TEXT NOT NULL, phones TEXT NOT NULL, labels TEXT NOT NULL,
  keys TEXT NOT NULL);                                    -- of the addresses, where they are not the folded addresses
CREATE TABLE contact_address(
  domain TEXT NOT NULL, hash INTEGER NOT NULL, contact INTEGER NOT NULL,
  PRIMARY KEY(domain, hash, contact)) WITHOUT ROWID;
-- What past mail tells of comparable addresses (ISO 8601, or empty): facts, never undone.
CREATE TABLE past_mail(key TEXT PRIMARY KEY, heard TEXT NOT NULL, sent TEXT NOT NULL) WITHOUT ROWID;
CREATE VIRTUAL TABLE contact_text USING fts5(
  words, content='', tokenize='trigram', detail=none, columnsize=0);
"""


def _second(db: sqlite3.Connection) -> None:
    from barnacle.book import index

    for statement in _statements(_SECOND):
        db.execute(statement)
    index.rebuild(db)


# Version 3: what a person said of two contacts that look alike, by uid: `apart` for good, or `later`; and files that
# go along with messages.
_THIRD = """
CREATE TABLE judged(
  id INTEGER PRIMARY KEY AUTOINCREMENT, one TEXT NOT NULL, other TEXT NOT NULL, verdict TEXT NOT NULL,
  since TEXT NOT NULL, UNIQUE(one, other));
-- Contents of files that go along with messages, by SHA-256: never changed, so not tracked.
CREATE INDEX delivery_contact_message ON delivery_contact(message, address);
CREATE TABLE attachment(digest TEXT PRIMARY KEY, data BLOB NOT NULL);
"""


def _third(db: sqlite3.Connection) -> None:
    for statement in _statements(_THIRD + _triggers("judged", TRACKED["judged"])):
        db.execute(statement)


# Version 4: lists shared with colleagues through a hub. What was agreed with the hub is a fact, so not tracked: undoing
# an action changes the list, and that difference travels at the next exchange.
_FOURTH = """
CREATE TABLE hub(url TEXT NOT NULL, address TEXT NOT NULL);             -- one row at most
CREATE TABLE share(
  list INTEGER PRIMARY KEY, remote TEXT NOT NULL UNIQUE, title TEXT NOT NULL, owner TEXT NOT NULL, role TEXT NOT NULL,
  fields TEXT NOT NULL, token TEXT NOT NULL DEFAULT '', at TEXT NOT NULL DEFAULT '',
  action INTEGER NOT NULL DEFAULT 0,                                    -- the last whose changes have travelled
  people TEXT NOT NULL DEFAULT '[]');
-- A card and the contact it is of: what both sides had when they last agreed (`here` and `there`), and the card as it
-- was then.
CREATE TABLE share_member(
  list INTEGER NOT NULL, name TEXT NOT NULL, contact INTEGER NOT NULL, uid TEXT NOT NULL, etag TEXT NOT NULL,
  card TEXT NOT NULL, here TEXT NOT NULL, there TEXT NOT NULL, PRIMARY KEY(list, name)) WITHOUT ROWID;
CREATE INDEX share_member_contact ON share_member(contact, list);
CREATE TABLE share_conflict(
  number INTEGER PRIMARY KEY AUTOINCREMENT, list INTEGER NOT NULL, contact INTEGER NOT NULL, name TEXT NOT NULL,
  field TEXT NOT NULL, mine TEXT NOT NULL, theirs TEXT NOT NULL, holds TEXT NOT NULL, since TEXT NOT NULL);
"""


def _fourth(db: sqlite3.Connection) -> None:
    for statement in _statements(_FOURTH):
        db.execute(statement)


def _fifth(db: sqlite3.Connection) -> None:
    """Version 5: only capitals are set aside where addresses are compared; before, ß was taken for ss."""
    from barnacle.book import index
    from barnacle.core.contact import from_doc

    odd = []
    for row, uid, card in db.execute("SELECT id, uid, card FROM contact WHERE card GLOB '*[^ -~]*'"):
        contact = from_doc(uid, json.loads(card))
        if any(a.address.lower() != a.address.casefold() for a in contact.addresses):
            odd.append((row, contact))
    for row, contact in odd:
        index.erase(db, row)
        index.write(db, [(row, index.index_of(contact))])


# One step for each version of the schema; a book of version n needs MIGRATIONS[n:].
MIGRATIONS: list[Callable[[sqlite3.Connection], None]] = [_first, _second, _third, _fourth, _fifth]
