"""What stands in a book beside its primary tables (`migrations`): the triggers that keep its journal, and tables that
are worked out from the rest."""

from __future__ import annotations

import sqlite3

# "Bnc1", in the header of every book (SQLite file format, section 1.3.8 of its documentation).
APPLICATION_ID = 0x426E6331

# Tables whose every change is journalled and can be undone, with their columns besides `id`.
TRACKED: dict[str, tuple[str, ...]] = {
    "contact": ("uid", "name", "name_key", "opted_out", "card"),
    "list": ("title", "title_key", "about", "pinned", "created", "rule", "sender"),
    "member": ("list", "contact", "kind", "address", "since", "by"),
    "message": ("token", "subject", "mode", "doc", "created"),
    "judged": ("one", "other", "verdict", "since"),
    "kept_text": ("name", "name_key", "doc", "created"),
}

# What `book.bulk` makes anew after many contacts were added.
NAME_INDEX = "CREATE INDEX IF NOT EXISTS contact_name ON contact(name_key)"

# Worked out from the contacts and lists, and made anew with each of their changes.
DERIVED = """
CREATE TABLE contact_former(uid TEXT PRIMARY KEY, contact INTEGER NOT NULL) WITHOUT ROWID;
CREATE INDEX contact_former_contact ON contact_former(contact);
-- Found by a hash of 64 bits; whoever looks up by it compares the address itself.
CREATE TABLE contact_address(
  domain TEXT NOT NULL, hash INTEGER NOT NULL, contact INTEGER NOT NULL,
  PRIMARY KEY(domain, hash, contact)) WITHOUT ROWID;
CREATE TABLE contact_label(
  key TEXT NOT NULL, contact INTEGER NOT NULL, PRIMARY KEY(key, contact)) WITHOUT ROWID;
CREATE INDEX contact_label_contact ON contact_label(contact);
CREATE TABLE contact_facts(                               -- folded, as rules compare them
  contact INTEGER PRIMARY KEY, name TEXT NOT NULL, given TEXT NOT NULL, family TEXT NOT NULL, org TEXT NOT NULL,
  job TEXT NOT NULL, web TEXT NOT NULL, note TEXT NOT NULL, source TEXT NOT NULL, added TEXT NOT NULL,
  reachable INTEGER NOT NULL, addresses TEXT NOT NULL, phones TEXT NOT NULL, labels TEXT NOT NULL,
  own TEXT NOT NULL,   -- the values of one's own fields
  keys TEXT NOT NULL);  -- of the addresses, where these are not
CREATE TABLE contact_own(
  title TEXT NOT NULL, value TEXT NOT NULL, contact INTEGER NOT NULL,
  PRIMARY KEY(title, value, contact)) WITHOUT ROWID;
CREATE INDEX contact_own_contact ON contact_own(contact);
CREATE VIRTUAL TABLE contact_text USING fts5(
  words, content='', tokenize='trigram', detail=none, columnsize=0);
-- Contacts numbered so, which the text index does not have yet.
CREATE TABLE contact_text_due(first INTEGER PRIMARY KEY, last INTEGER NOT NULL);
CREATE TABLE list_count(list INTEGER PRIMARY KEY, members INTEGER NOT NULL, reachable INTEGER NOT NULL);
CREATE VIEW on_list AS
  SELECT list, contact, address, since, by FROM member WHERE kind = 'on'
  UNION ALL
  SELECT r.list, r.contact, m.address, r.since, 'rule' FROM rule_member r
    LEFT JOIN member m ON m.list = r.list AND m.contact = r.contact
    WHERE m.kind IS NULL OR m.kind = 'address';
"""
# Also such as only earlier versions had.
_DERIVED_NAMES = (
    "contact_former", "contact_address", "contact_phone", "contact_label", "contact_facts", "contact_own",
    "contact_text", "contact_text_due", "list_count",
)  # fmt: skip

_ACTION = "(SELECT max(id) FROM action)"


def added_trigger(table: str) -> str:
    """What journals each new row of a table."""
    return (
        f"CREATE TRIGGER {table}_added AFTER INSERT ON {table} BEGIN"
        f" INSERT INTO journal(action, tbl, row) VALUES({_ACTION}, '{table}', NEW.id); END;"
    )


def removed_trigger(table: str) -> str:
    """What journals each row that leaves a table."""
    return (
        f"CREATE TRIGGER {table}_removed AFTER DELETE ON {table} BEGIN"
        " INSERT INTO journal(action, tbl, row, before)"
        f" VALUES({_ACTION}, '{table}', OLD.id, {_image(table, 'OLD.')}); END;"
    )


def journal_removed(table: str, rows: str) -> str:
    """What journals at once that some rows leave a table, before they do; `rows` asks for their numbers."""
    return (
        "INSERT INTO journal(action, tbl, row, before)"
        f" SELECT {_ACTION}, '{table}', id, {_image(table)} FROM {table} WHERE id IN {rows} ORDER BY id"
    )


def _image(table: str, prefix: str = "") -> str:
    """A row as the journal keeps it."""
    pairs = ", ".join(f"'{column}', {prefix}{column}" for column in ("id", *TRACKED[table]))
    return f"json_object({pairs})"


def _triggers(table: str) -> str:
    changed = " OR ".join(f"OLD.{c} IS NOT NEW.{c}" for c in TRACKED[table])
    return f"""
{added_trigger(table)}
CREATE TRIGGER {table}_changed AFTER UPDATE ON {table} WHEN {changed} BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    {_ACTION}, '{table}', NEW.id, {_image(table, "OLD.")}, {_image(table, "NEW.")}); END;
{removed_trigger(table)}
"""


def run(db: sqlite3.Connection, script: str) -> None:
    """Run a script's statements inside the caller's transaction (executescript would end it)."""
    pending = ""
    for line in script.splitlines():
        pending += line + "\n"
        if sqlite3.complete_statement(pending):
            db.execute(pending)
            pending = ""


def take_derived_away(db: sqlite3.Connection) -> None:
    """Drop every trigger, and all that is derived."""
    for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        db.execute(f"DROP TRIGGER {name}")
    db.execute("DROP VIEW IF EXISTS on_list")
    for name in _DERIVED_NAMES:
        db.execute(f"DROP TABLE IF EXISTS {name}")


def make_derived(db: sqlite3.Connection) -> None:
    """Make the triggers, and the tables for what is derived, with nothing in them yet."""
    run(db, DERIVED + "".join(map(_triggers, TRACKED)))
