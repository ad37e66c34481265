"""How a book of an earlier version becomes one of this: one step a version, frozen.

A step is SQL and nothing else, and what it says is never changed again: code of today, which knows columns that a step
has not made yet, is not called. Triggers and what is derived (`schema.DERIVED`) are taken away before the first step
and made anew after the last.
"""

from __future__ import annotations

_FIRST = """
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
CREATE TABLE rule_member(
  list INTEGER NOT NULL, contact INTEGER NOT NULL, since TEXT NOT NULL, PRIMARY KEY(list, contact)) WITHOUT ROWID;
CREATE INDEX rule_member_contact ON rule_member(contact);
"""

_SECOND = """
-- What past mail tells of comparable addresses (ISO 8601, or empty): facts, never undone.
CREATE TABLE past_mail(key TEXT PRIMARY KEY, heard TEXT NOT NULL, sent TEXT NOT NULL) WITHOUT ROWID;
"""

# What a person said of two contacts that look alike, by uid: `apart` for good, or `later`; and files that go along with
# messages.
_THIRD = """
CREATE TABLE judged(
  id INTEGER PRIMARY KEY AUTOINCREMENT, one TEXT NOT NULL, other TEXT NOT NULL, verdict TEXT NOT NULL,
  since TEXT NOT NULL, UNIQUE(one, other));
-- Contents of files that go along with messages, by SHA-256: never changed, so not tracked.
CREATE INDEX delivery_contact_message ON delivery_contact(message, address);
CREATE TABLE attachment(digest TEXT PRIMARY KEY, data BLOB NOT NULL);
"""

# Lists shared with colleagues through a hub. What was agreed with the hub is a fact, so not tracked: undoing an action
# changes the list, and that difference travels at the next exchange.
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

# Only what is derived has changed: ß is not taken for ss any more where addresses are compared.
_FIFTH = ""

# Who opted out is found without going through all contacts; what is derived says of each contact whether anything on
# its card stands against writing to it.
_SIXTH = """
CREATE INDEX contact_opted_out ON contact(id) WHERE opted_out;
"""

# Whom a shared list may change, and who only met one of its cards (`own`); since which action (the first list that
# somebody follows counts); the opt-out that a card says of somebody whom it may not change, which counts for that list;
# and what of a card could not be read. A trace is what was agreed of somebody who was taken off (`off`, with what one
# had then), or of a card on its way out (`sent`), should nobody live to hear the answer. Offers are as the last
# exchange found them.
_SEVENTH = """
ALTER TABLE share_member ADD COLUMN own INTEGER NOT NULL DEFAULT 1;
ALTER TABLE share_member ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
ALTER TABLE share_member ADD COLUMN held TEXT NOT NULL DEFAULT '';
ALTER TABLE share_member ADD COLUMN problems TEXT NOT NULL DEFAULT '[]';
ALTER TABLE share_member ADD COLUMN last_by TEXT NOT NULL DEFAULT '';
ALTER TABLE share_member ADD COLUMN last_at TEXT NOT NULL DEFAULT '';
ALTER TABLE share ADD COLUMN people_mark TEXT NOT NULL DEFAULT '';
ALTER TABLE share ADD COLUMN giver TEXT NOT NULL DEFAULT '';
CREATE INDEX share_member_held ON share_member(list, contact) WHERE held != '';
CREATE INDEX share_member_problems ON share_member(list, contact) WHERE problems != '[]';
CREATE TABLE share_trace(
  list INTEGER NOT NULL, name TEXT NOT NULL, contact INTEGER NOT NULL, kind TEXT NOT NULL, own INTEGER NOT NULL,
  since INTEGER NOT NULL, here TEXT NOT NULL, there TEXT NOT NULL, mine TEXT NOT NULL,
  PRIMARY KEY(list, name, kind)) WITHOUT ROWID;
CREATE INDEX share_trace_contact ON share_trace(contact, list);
CREATE TABLE share_offer(title TEXT NOT NULL, giver TEXT NOT NULL, role TEXT NOT NULL, since TEXT NOT NULL);
"""

# Fields of one's own have a table of what is derived.
_EIGHTH = """
SELECT 1;
"""

# Checksums: of what a contact's card says, and of what became of each recipient of a message.
_NINTH = """
ALTER TABLE contact ADD COLUMN sum INTEGER;
ALTER TABLE delivery ADD COLUMN sum INTEGER;
UPDATE contact SET sum = row_sum(uid, card);
UPDATE delivery SET sum = row_sum(message, address, people, state, code, reply, tried);
"""

# How far the folders of one's mailbox were read, who was in them, and which copies of sent mail are still to go there:
# facts, never undone. Texts to be used again. The usual sender of a list. Who is whom in the organisation's directory,
# whom its filters found, and which names were seen there of late. Checksums of lists and messages, too.
_TENTH = """
CREATE TABLE mailbox_read(
  place TEXT NOT NULL, folder TEXT NOT NULL, purpose TEXT NOT NULL, validity INTEGER NOT NULL, last INTEGER NOT NULL,
  PRIMARY KEY(place, folder, purpose)) WITHOUT ROWID;
CREATE TABLE mailbox_person(
  place TEXT NOT NULL, folder TEXT NOT NULL, key TEXT NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY(place, folder, key)) WITHOUT ROWID;
CREATE TABLE sent_copy(message INTEGER PRIMARY KEY, done INTEGER NOT NULL);
CREATE TABLE kept_text(
  id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, name_key TEXT NOT NULL UNIQUE, doc TEXT NOT NULL,
  created TEXT NOT NULL);
ALTER TABLE list ADD COLUMN sender TEXT;
ALTER TABLE list ADD COLUMN sum INTEGER;
ALTER TABLE message ADD COLUMN sum INTEGER;
UPDATE list SET sum = row_sum(title, about, pinned, created, rule, sender);
UPDATE message SET sum = row_sum(token, subject, mode, doc, created);
CREATE TABLE directory_link(
  uid TEXT PRIMARY KEY, entry TEXT NOT NULL, said TEXT NOT NULL, at TEXT NOT NULL, gone TEXT NOT NULL,
  differs TEXT NOT NULL) WITHOUT ROWID;
CREATE INDEX directory_link_entry ON directory_link(entry);
CREATE TABLE directory_match(filter TEXT NOT NULL, entry TEXT NOT NULL, PRIMARY KEY(filter, entry)) WITHOUT ROWID;
CREATE TABLE directory_seen(name TEXT NOT NULL, address TEXT NOT NULL, at TEXT NOT NULL,
  PRIMARY KEY(name, address)) WITHOUT ROWID;
"""

# Where a mailbox's folder stood when it was read (RFC 7162). New contacts that the text index does not have yet. The
# address that a shared list has of its own, and its rules.
_ELEVENTH = """
ALTER TABLE mailbox_read ADD COLUMN modseq INTEGER NOT NULL DEFAULT 0;
ALTER TABLE share ADD COLUMN house TEXT NOT NULL DEFAULT '[]';
"""

# What stands in brackets in a name is no part of the family name: the derived tables are made anew.
_TWELFTH = ""

# An organisation has neither a given nor a family name: so are they again.
_THIRTEENTH = ""

# Of a field of one's own, `is yes` understands more languages, and `is x` no longer means yes.
_FOURTEENTH = ""

# `is yes` also understands an answer that goes on (`Yes I would`), and `is 2026-11-21` a day however it is written.
_FIFTEENTH = ""

# Rules read days with a month's name, `is 2026` and `is December`; a card's own birthday is a field like any other.
_SIXTEENTH = ""

# What else a card says (postal addresses, nicknames, roles, anniversaries) reads as a field, too.
_SEVENTEENTH = ""

# A number's calling code may have one digit or three.
_EIGHTEENTH = ""

# A book of version n needs MIGRATIONS[n:].
MIGRATIONS = [
    _FIRST, _SECOND, _THIRD, _FOURTH, _FIFTH, _SIXTH, _SEVENTH, _EIGHTH, _NINTH, _TENTH, _ELEVENTH, _TWELFTH,
    _THIRTEENTH, _FOURTEENTH, _FIFTEENTH, _SIXTEENTH, _SEVENTEENTH, _EIGHTEENTH,
]  # fmt: skip
