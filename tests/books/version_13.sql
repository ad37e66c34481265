-- A book of schema version 13, as that version of the program wrote it: demo people, a rule, a merge, an opt-out,
-- a message that waits, an undo, a shared list. The text index is derived and left empty.
PRAGMA application_id = 1114530609;
PRAGMA user_version = 13;
CREATE TABLE action(
  id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, command TEXT NOT NULL, title TEXT NOT NULL DEFAULT '',
  final INTEGER NOT NULL DEFAULT 0,                       -- 1: cannot be taken back (something was sent)
  undoes INTEGER REFERENCES action, undone_by INTEGER REFERENCES action);
INSERT INTO "action" VALUES(1,'2026-11-28T23:09:23Z','setup','Set who you are',0,NULL,NULL);
INSERT INTO "action" VALUES(2,'2026-11-28T23:09:24Z','import','Took in a.csv: 3 people added to Crew',0,NULL,NULL);
INSERT INTO "action" VALUES(3,'2026-11-28T23:09:25Z','contact add','Added Ida Rask to Crew',0,NULL,NULL);
INSERT INTO "action" VALUES(4,'2026-11-28T23:09:26Z','contact add','Added Eva Gross to Crew',0,NULL,NULL);
INSERT INTO "action" VALUES(5,'2026-11-28T23:09:27Z','contact optout','Per Groß must not be written to',0,NULL,NULL);
INSERT INTO "action" VALUES(6,'2026-11-28T23:09:27Z','contact prefer','Crew uses ida@kelp.example for Ida Rask',0,NULL,NULL);
INSERT INTO "action" VALUES(7,'2026-11-28T23:09:28Z','list new','Made the list Pilots',0,NULL,NULL);
INSERT INTO "action" VALUES(8,'2026-11-28T23:09:29Z','contact add','Added Ida Rask jun.',0,NULL,NULL);
INSERT INTO "action" VALUES(9,'2026-11-28T23:09:30Z','contact merge','Made one contact of 2 contacts: Ida Rask jun.',0,NULL,NULL);
INSERT INTO "action" VALUES(10,'2026-11-28T23:09:31Z','compose','Composed m1, Slipway closed, for 3 people',0,NULL,NULL);
INSERT INTO "action" VALUES(11,'2026-11-28T23:09:32Z','contact edit','Changed Bo Lund',0,NULL,12);
INSERT INTO "action" VALUES(12,'2026-11-28T23:09:32Z','undo','Took back: Changed Bo Lund',0,11,NULL);
CREATE TABLE journal(
  id INTEGER PRIMARY KEY, action INTEGER NOT NULL, tbl TEXT NOT NULL, row INTEGER NOT NULL,
  before TEXT, after TEXT);
INSERT INTO "journal" VALUES(1,1,'settings',0,'{"path": "/home/maren/barnacle/barnacle.toml"}','{"path": "/home/maren/barnacle/barnacle.toml", "me.name": "Maren Holt", "me.address": "maren@tidewick.example"}');
INSERT INTO "journal" VALUES(2,2,'list',1,NULL,NULL);
INSERT INTO "journal" VALUES(3,2,'contact',1,NULL,NULL);
INSERT INTO "journal" VALUES(4,2,'contact',2,NULL,NULL);
INSERT INTO "journal" VALUES(5,2,'contact',3,NULL,NULL);
INSERT INTO "journal" VALUES(6,2,'member',1,NULL,NULL);
INSERT INTO "journal" VALUES(7,2,'member',2,NULL,NULL);
INSERT INTO "journal" VALUES(8,2,'member',3,NULL,NULL);
INSERT INTO "journal" VALUES(9,3,'contact',4,NULL,NULL);
INSERT INTO "journal" VALUES(10,3,'member',4,NULL,NULL);
INSERT INTO "journal" VALUES(11,4,'contact',5,NULL,NULL);
INSERT INTO "journal" VALUES(12,4,'member',5,NULL,NULL);
INSERT INTO "journal" VALUES(13,5,'contact',2,'{"id":2,"uid":"01a2246b-a6ec-7002-8f8e-83219516a81d","name":"Per Groß","name_key":"per gross","opted_out":0,"card":"{\"name\":\"Per Groß\",\"org\":\"Kelp Yard\",\"addresses\":[[\"groß@kelp.example\",\"\"]],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}','{"id":2,"uid":"01a2246b-a6ec-7002-8f8e-83219516a81d","name":"Per Groß","name_key":"per gross","opted_out":1,"card":"{\"name\":\"Per Groß\",\"org\":\"Kelp Yard\",\"addresses\":[[\"groß@kelp.example\",\"\"]],\"opt_out\":[\"2026-11-28T23:09:27Z\",\"\"],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}');
INSERT INTO "journal" VALUES(14,6,'member',4,'{"id":4,"list":1,"contact":4,"kind":"on","address":null,"since":"2026-11-28T23:09:25Z","by":"contact add"}','{"id":4,"list":1,"contact":4,"kind":"on","address":"ida@kelp.example","since":"2026-11-28T23:09:25Z","by":"contact add"}');
INSERT INTO "journal" VALUES(15,7,'list',2,NULL,NULL);
INSERT INTO "journal" VALUES(16,7,'list',2,'{"id":2,"title":"Pilots","title_key":"pilots","about":"","pinned":0,"created":"2026-11-28T23:09:28Z","rule":null}','{"id":2,"title":"Pilots","title_key":"pilots","about":"","pinned":0,"created":"2026-11-28T23:09:28Z","rule":"[\"is\", \"label\", \"pilot\"]"}');
INSERT INTO "journal" VALUES(17,8,'contact',6,NULL,NULL);
INSERT INTO "journal" VALUES(18,9,'contact',6,'{"id":6,"uid":"01a2246b-baf4-7013-802d-cd3399869569","name":"Ida Rask jun.","name_key":"ida rask jun.","opted_out":0,"card":"{\"name\":\"Ida Rask jun.\",\"addresses\":[[\"ida2@gull.example\",\"\"]],\"source\":\"contact add\",\"added\":\"2026-11-28T23:09:29Z\"}"}',NULL);
INSERT INTO "journal" VALUES(19,9,'contact',4,'{"id":4,"uid":"01a2246b-ab81-7440-8758-27923b7d1780","name":"Ida Rask","name_key":"ida rask","opted_out":0,"card":"{\"name\":\"Ida Rask\",\"addresses\":[[\"ida@gull.example\",\"\"],[\"ida@kelp.example\",\"home\"]],\"labels\":[\"pilot\"],\"source\":\"contact add\",\"added\":\"2026-11-28T23:09:25Z\"}"}','{"id":4,"uid":"01a2246b-ab81-7440-8758-27923b7d1780","name":"Ida Rask jun.","name_key":"ida rask jun.","opted_out":0,"card":"{\"name\":\"Ida Rask jun.\",\"addresses\":[[\"ida@gull.example\",\"\"],[\"ida@kelp.example\",\"home\"],[\"ida2@gull.example\",\"\"]],\"labels\":[\"pilot\"],\"former\":[[\"01a2246b-baf4-7013-802d-cd3399869569\",6,\"Ida Rask\"]],\"source\":\"contact add\",\"added\":\"2026-11-28T23:09:25Z\"}"}');
INSERT INTO "journal" VALUES(20,10,'message',1,NULL,NULL);
INSERT INTO "journal" VALUES(21,10,'message',1,'{"id":1,"token":"fd9965a04ee4ce6aa4002c293e55265a","subject":"Slipway closed","mode":"blind","doc":"{\"for\": [{\"list\": 1, \"title\": \"Crew\"}], \"without\": [{\"contact\": \"01a2246b-a6ec-7000-89b0-eaafb5e62f8c\", \"name\": \"Una Berg\"}], \"within\": null, \"also\": [], \"text\": \"No slipway on Friday.\", \"to\": \"me\", \"copy_me\": false, \"allowed\": [], \"markdown\": false, \"open_to\": null, \"attachments\": [], \"sender\": [\"Maren Holt\", \"maren@tidewick.example\"]}","created":"2026-11-28T23:09:31Z"}','{"id":1,"token":"fd9965a04ee4ce6aa4002c293e55265a","subject":"Slipway closed","mode":"blind","doc":"{\"for\": [{\"list\": 1, \"title\": \"Crew\"}], \"without\": [{\"contact\": \"01a2246b-a6ec-7000-89b0-eaafb5e62f8c\", \"name\": \"Una Berg\"}], \"within\": null, \"also\": [], \"text\": \"No slipway on Friday.\", \"to\": \"me\", \"copy_me\": false, \"allowed\": [], \"markdown\": false, \"open_to\": null, \"attachments\": [], \"sender\": [\"Maren Holt\", \"maren@tidewick.example\"], \"composed_for\": [\"bo@tidewick.example\", \"gross@kelp.example\", \"ida@kelp.example\"]}","created":"2026-11-28T23:09:31Z"}');
INSERT INTO "journal" VALUES(22,11,'contact',3,'{"id":3,"uid":"01a2246b-a6ec-7003-8b5e-de3ff8fec255","name":"Bo Lund","name_key":"bo lund","opted_out":0,"card":"{\"name\":\"Bo Lund\",\"addresses\":[[\"bo@tidewick.example\",\"\"]],\"phones\":[[\"+44 1632 960003\",\"\"]],\"extra\":[[\"csv:Boat\",\"Tern\"]],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}','{"id":3,"uid":"01a2246b-a6ec-7003-8b5e-de3ff8fec255","name":"Bo Lund","name_key":"bo lund","opted_out":0,"card":"{\"name\":\"Bo Lund\",\"org\":\"Ebb Chandlery\",\"addresses\":[[\"bo@tidewick.example\",\"\"]],\"phones\":[[\"+44 1632 960003\",\"\"]],\"extra\":[[\"csv:Boat\",\"Tern\"]],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}');
INSERT INTO "journal" VALUES(23,12,'contact',3,'{"id":3,"uid":"01a2246b-a6ec-7003-8b5e-de3ff8fec255","name":"Bo Lund","name_key":"bo lund","opted_out":0,"card":"{\"name\":\"Bo Lund\",\"org\":\"Ebb Chandlery\",\"addresses\":[[\"bo@tidewick.example\",\"\"]],\"phones\":[[\"+44 1632 960003\",\"\"]],\"extra\":[[\"csv:Boat\",\"Tern\"]],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}','{"id":3,"uid":"01a2246b-a6ec-7003-8b5e-de3ff8fec255","name":"Bo Lund","name_key":"bo lund","opted_out":0,"card":"{\"name\":\"Bo Lund\",\"addresses\":[[\"bo@tidewick.example\",\"\"]],\"phones\":[[\"+44 1632 960003\",\"\"]],\"extra\":[[\"csv:Boat\",\"Tern\"]],\"source\":\"import a.csv\",\"added\":\"2026-11-28T23:09:24Z\"}"}');
CREATE TABLE contact(
  id INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL UNIQUE, name TEXT NOT NULL, name_key TEXT NOT NULL,
  opted_out INTEGER NOT NULL, card TEXT NOT NULL, sum INTEGER);
INSERT INTO "contact" VALUES(1,'01a2246b-a6ec-7000-89b0-eaafb5e62f8c','Una Berg','una berg',0,'{"name":"Una Berg","org":"Kelp Yard","addresses":[["una@kelp.example",""]],"phones":[["01632 960001",""]],"extra":[["csv:Boat","Gannet"]],"source":"import a.csv","added":"2026-11-28T23:09:24Z"}',3898511930);
INSERT INTO "contact" VALUES(2,'01a2246b-a6ec-7002-8f8e-83219516a81d','Per Groß','per gross',1,'{"name":"Per Groß","org":"Kelp Yard","addresses":[["groß@kelp.example",""]],"opt_out":["2026-11-28T23:09:27Z",""],"source":"import a.csv","added":"2026-11-28T23:09:24Z"}',818540249);
INSERT INTO "contact" VALUES(3,'01a2246b-a6ec-7003-8b5e-de3ff8fec255','Bo Lund','bo lund',0,'{"name":"Bo Lund","addresses":[["bo@tidewick.example",""]],"phones":[["+44 1632 960003",""]],"extra":[["csv:Boat","Tern"]],"source":"import a.csv","added":"2026-11-28T23:09:24Z"}',2759023303);
INSERT INTO "contact" VALUES(4,'01a2246b-ab81-7440-8758-27923b7d1780','Ida Rask jun.','ida rask jun.',0,'{"name":"Ida Rask jun.","addresses":[["ida@gull.example",""],["ida@kelp.example","home"],["ida2@gull.example",""]],"labels":["pilot"],"former":[["01a2246b-baf4-7013-802d-cd3399869569",6,"Ida Rask"]],"source":"contact add","added":"2026-11-28T23:09:25Z"}',719868500);
INSERT INTO "contact" VALUES(5,'01a2246b-ae63-7923-86d1-119ac84cf11d','Eva Gross','eva gross',0,'{"name":"Eva Gross","addresses":[["gross@kelp.example",""]],"source":"contact add","added":"2026-11-28T23:09:26Z"}',3143395784);
CREATE TABLE list(
  id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT NOT NULL, title_key TEXT NOT NULL UNIQUE, about TEXT NOT NULL,
  pinned INTEGER NOT NULL, created TEXT NOT NULL, rule TEXT, sender TEXT, sum INTEGER);
INSERT INTO "list" VALUES(1,'Crew','crew','',0,'2026-11-28T23:09:24Z',NULL,NULL,2434536206);
INSERT INTO "list" VALUES(2,'Pilots','pilots','',0,'2026-11-28T23:09:28Z','["is", "label", "pilot"]',NULL,3765897078);
CREATE TABLE member(
  id INTEGER PRIMARY KEY AUTOINCREMENT, list INTEGER NOT NULL REFERENCES list,
  contact INTEGER NOT NULL REFERENCES contact, address TEXT, since TEXT NOT NULL, by TEXT NOT NULL,
  kind TEXT NOT NULL DEFAULT 'on',     -- on, off (kept off a rule's list), address (for somebody a rule brings in)
  UNIQUE(list, contact));
INSERT INTO "member" VALUES(1,1,1,NULL,'2026-11-28T23:09:24Z','import a.csv','on');
INSERT INTO "member" VALUES(2,1,2,NULL,'2026-11-28T23:09:24Z','import a.csv','on');
INSERT INTO "member" VALUES(3,1,3,NULL,'2026-11-28T23:09:24Z','import a.csv','on');
INSERT INTO "member" VALUES(4,1,4,'ida@kelp.example','2026-11-28T23:09:25Z','contact add','on');
INSERT INTO "member" VALUES(5,1,5,NULL,'2026-11-28T23:09:26Z','contact add','on');
CREATE TABLE message(
  id INTEGER PRIMARY KEY AUTOINCREMENT, token TEXT NOT NULL UNIQUE, subject TEXT NOT NULL, mode TEXT NOT NULL,
  doc TEXT NOT NULL, created TEXT NOT NULL, sum INTEGER);
INSERT INTO "message" VALUES(1,'fd9965a04ee4ce6aa4002c293e55265a','Slipway closed','blind','{"for": [{"list": 1, "title": "Crew"}], "without": [{"contact": "01a2246b-a6ec-7000-89b0-eaafb5e62f8c", "name": "Una Berg"}], "within": null, "also": [], "text": "No slipway on Friday.", "to": "me", "copy_me": false, "allowed": [], "markdown": false, "open_to": null, "attachments": [], "sender": ["Maren Holt", "maren@tidewick.example"], "composed_for": ["bo@tidewick.example", "gross@kelp.example", "ida@kelp.example"]}','2026-11-28T23:09:31Z',1135129182);
CREATE TABLE dispatch(message INTEGER PRIMARY KEY REFERENCES message, begun TEXT NOT NULL);
CREATE TABLE delivery(
  message INTEGER NOT NULL REFERENCES dispatch, address TEXT NOT NULL, people TEXT NOT NULL, state TEXT NOT NULL,
  code INTEGER, reply TEXT NOT NULL DEFAULT '', tried TEXT, sum INTEGER, PRIMARY KEY(message, address)) WITHOUT ROWID;
CREATE TABLE delivery_contact(
  contact INTEGER NOT NULL, message INTEGER NOT NULL, address TEXT NOT NULL,
  PRIMARY KEY(contact, message)) WITHOUT ROWID;
CREATE TABLE rule_member(
  list INTEGER NOT NULL, contact INTEGER NOT NULL, since TEXT NOT NULL, PRIMARY KEY(list, contact)) WITHOUT ROWID;
INSERT INTO "rule_member" VALUES(2,4,'2026-11-28T23:09:28Z');
CREATE TABLE past_mail(key TEXT PRIMARY KEY, heard TEXT NOT NULL, sent TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE judged(
  id INTEGER PRIMARY KEY AUTOINCREMENT, one TEXT NOT NULL, other TEXT NOT NULL, verdict TEXT NOT NULL,
  since TEXT NOT NULL, UNIQUE(one, other));
CREATE TABLE attachment(digest TEXT PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE hub(url TEXT NOT NULL, address TEXT NOT NULL);
INSERT INTO "hub" VALUES('http://127.0.0.1:8877/','maren@tidewick.example');
CREATE TABLE share(
  list INTEGER PRIMARY KEY, remote TEXT NOT NULL UNIQUE, title TEXT NOT NULL, owner TEXT NOT NULL, role TEXT NOT NULL,
  fields TEXT NOT NULL, token TEXT NOT NULL DEFAULT '', at TEXT NOT NULL DEFAULT '',
  action INTEGER NOT NULL DEFAULT 0,                                    -- the last whose changes have travelled
  people TEXT NOT NULL DEFAULT '[]', people_mark TEXT NOT NULL DEFAULT '', giver TEXT NOT NULL DEFAULT '', house TEXT NOT NULL DEFAULT '[]');
INSERT INTO "share" VALUES(1,'bc44bc2e5f8c8120c9ec43b5','Crew','maren@tidewick.example','owner','["name", "address", "phones", "org", "job", "web"]','urn:barnacle:sync:/bc44bc2e5f8c8120c9ec43b5/5-dad452ab2b','2026-11-29T05:55:07Z',12,'[{"address": "maren@tidewick.example", "name": "", "role": "owner", "state": "joined", "since": "2026-11-29T05:55:07Z"}, {"address": "tor@tidewick.example", "name": "", "role": "reader", "state": "offered", "since": "2026-11-29T05:55:07Z"}]','','','[]');
CREATE TABLE share_member(
  list INTEGER NOT NULL, name TEXT NOT NULL, contact INTEGER NOT NULL, uid TEXT NOT NULL, etag TEXT NOT NULL,
  card TEXT NOT NULL, here TEXT NOT NULL, there TEXT NOT NULL, own INTEGER NOT NULL DEFAULT 1, since INTEGER NOT NULL DEFAULT 0, held TEXT NOT NULL DEFAULT '', problems TEXT NOT NULL DEFAULT '[]', last_by TEXT NOT NULL DEFAULT '', last_at TEXT NOT NULL DEFAULT '', PRIMARY KEY(list, name)) WITHOUT ROWID;
INSERT INTO "share_member" VALUES(1,'01a2246b-a6ec-7000-89b0-eaafb5e62f8c.vcf',1,'01a2246b-a6ec-7000-89b0-eaafb5e62f8c','9aff4c0d5ab60e675638','BEGIN:VCARD
VERSION:4.0
UID:urn:uuid:01a2246b-a6ec-7000-89b0-eaafb5e62f8c
FN:Una Berg
N:Berg;Una;;;
EMAIL:una@kelp.example
TEL:01632 960001
ORG:Kelp Yard
END:VCARD
','{"name":"Una Berg","org":"Kelp Yard","address":"una@kelp.example","phones":[["01632 960001",""]]}','{"name":"Una Berg","org":"Kelp Yard","address":"una@kelp.example","phones":[["01632 960001",""]]}',1,0,'','[]','','');
INSERT INTO "share_member" VALUES(1,'01a2246b-a6ec-7002-8f8e-83219516a81d.vcf',2,'01a2246b-a6ec-7002-8f8e-83219516a81d','2d5f45b12f0de2729121','BEGIN:VCARD
VERSION:4.0
UID:urn:uuid:01a2246b-a6ec-7002-8f8e-83219516a81d
FN:Per Groß
N:Groß;Per;;;
EMAIL:groß@kelp.example
ORG:Kelp Yard
X-OPT-OUT:2026-11-28T23:09:27Z 
END:VCARD
','{"name":"Per Groß","org":"Kelp Yard","address":"groß@kelp.example","opt_out":"2026-11-28T23:09:27Z "}','{"name":"Per Groß","org":"Kelp Yard","address":"groß@kelp.example","opt_out":"2026-11-28T23:09:27Z "}',1,0,'','[]','','');
INSERT INTO "share_member" VALUES(1,'01a2246b-a6ec-7003-8b5e-de3ff8fec255.vcf',3,'01a2246b-a6ec-7003-8b5e-de3ff8fec255','6e16da898e27959eb3b9','BEGIN:VCARD
VERSION:4.0
UID:urn:uuid:01a2246b-a6ec-7003-8b5e-de3ff8fec255
FN:Bo Lund
N:Lund;Bo;;;
EMAIL:bo@tidewick.example
TEL:+44 1632 960003
END:VCARD
','{"name":"Bo Lund","address":"bo@tidewick.example","phones":[["+44 1632 960003",""]]}','{"name":"Bo Lund","address":"bo@tidewick.example","phones":[["+44 1632 960003",""]]}',1,0,'','[]','','');
INSERT INTO "share_member" VALUES(1,'01a2246b-ab81-7440-8758-27923b7d1780.vcf',4,'01a2246b-ab81-7440-8758-27923b7d1780','4b25aae8b604602a993d','BEGIN:VCARD
VERSION:4.0
UID:urn:uuid:01a2246b-ab81-7440-8758-27923b7d1780
FN:Ida Rask jun.
N:Rask;Ida;;;
EMAIL:ida@kelp.example
END:VCARD
','{"name":"Ida Rask jun.","address":"ida@kelp.example"}','{"name":"Ida Rask jun.","address":"ida@kelp.example"}',1,0,'','[]','','');
INSERT INTO "share_member" VALUES(1,'01a2246b-ae63-7923-86d1-119ac84cf11d.vcf',5,'01a2246b-ae63-7923-86d1-119ac84cf11d','5bd94b84af1fea6af0cb','BEGIN:VCARD
VERSION:4.0
UID:urn:uuid:01a2246b-ae63-7923-86d1-119ac84cf11d
FN:Eva Gross
N:Gross;Eva;;;
EMAIL:gross@kelp.example
END:VCARD
','{"name":"Eva Gross","address":"gross@kelp.example"}','{"name":"Eva Gross","address":"gross@kelp.example"}',1,0,'','[]','','');
CREATE TABLE share_conflict(
  number INTEGER PRIMARY KEY AUTOINCREMENT, list INTEGER NOT NULL, contact INTEGER NOT NULL, name TEXT NOT NULL,
  field TEXT NOT NULL, mine TEXT NOT NULL, theirs TEXT NOT NULL, holds TEXT NOT NULL, since TEXT NOT NULL);
CREATE TABLE share_trace(
  list INTEGER NOT NULL, name TEXT NOT NULL, contact INTEGER NOT NULL, kind TEXT NOT NULL, own INTEGER NOT NULL,
  since INTEGER NOT NULL, here TEXT NOT NULL, there TEXT NOT NULL, mine TEXT NOT NULL,
  PRIMARY KEY(list, name, kind)) WITHOUT ROWID;
CREATE TABLE share_offer(title TEXT NOT NULL, giver TEXT NOT NULL, role TEXT NOT NULL, since TEXT NOT NULL);
CREATE TABLE mailbox_read(
  place TEXT NOT NULL, folder TEXT NOT NULL, purpose TEXT NOT NULL, validity INTEGER NOT NULL, last INTEGER NOT NULL, modseq INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY(place, folder, purpose)) WITHOUT ROWID;
CREATE TABLE mailbox_person(
  place TEXT NOT NULL, folder TEXT NOT NULL, key TEXT NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY(place, folder, key)) WITHOUT ROWID;
CREATE TABLE sent_copy(message INTEGER PRIMARY KEY, done INTEGER NOT NULL);
CREATE TABLE kept_text(
  id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, name_key TEXT NOT NULL UNIQUE, doc TEXT NOT NULL,
  created TEXT NOT NULL);
CREATE TABLE directory_link(
  uid TEXT PRIMARY KEY, entry TEXT NOT NULL, said TEXT NOT NULL, at TEXT NOT NULL, gone TEXT NOT NULL,
  differs TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE directory_match(filter TEXT NOT NULL, entry TEXT NOT NULL, PRIMARY KEY(filter, entry)) WITHOUT ROWID;
CREATE TABLE directory_seen(name TEXT NOT NULL, address TEXT NOT NULL, at TEXT NOT NULL,
  PRIMARY KEY(name, address)) WITHOUT ROWID;
CREATE TABLE contact_former(uid TEXT PRIMARY KEY, contact INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO "contact_former" VALUES('01a2246b-baf4-7013-802d-cd3399869569',4);
CREATE TABLE contact_address(
  domain TEXT NOT NULL, hash INTEGER NOT NULL, contact INTEGER NOT NULL,
  PRIMARY KEY(domain, hash, contact)) WITHOUT ROWID;
INSERT INTO "contact_address" VALUES('gull.example',6460895368668822590,4);
INSERT INTO "contact_address" VALUES('gull.example',7728295559692246819,4);
INSERT INTO "contact_address" VALUES('kelp.example',-9079609723412723217,5);
INSERT INTO "contact_address" VALUES('kelp.example',-8899969637036695194,1);
INSERT INTO "contact_address" VALUES('kelp.example',8091943825281277429,4);
INSERT INTO "contact_address" VALUES('kelp.example',8999086389389832061,2);
INSERT INTO "contact_address" VALUES('tidewick.example',-1350180528961641977,3);
CREATE TABLE contact_label(
  key TEXT NOT NULL, contact INTEGER NOT NULL, PRIMARY KEY(key, contact)) WITHOUT ROWID;
INSERT INTO "contact_label" VALUES('pilot',4);
CREATE TABLE contact_facts(                               -- folded, as rules compare them
  contact INTEGER PRIMARY KEY, name TEXT NOT NULL, given TEXT NOT NULL, family TEXT NOT NULL, org TEXT NOT NULL,
  job TEXT NOT NULL, web TEXT NOT NULL, note TEXT NOT NULL, source TEXT NOT NULL, added TEXT NOT NULL,
  reachable INTEGER NOT NULL, addresses TEXT NOT NULL, phones TEXT NOT NULL, labels TEXT NOT NULL,
  own TEXT NOT NULL,   -- the values of one's own fields
  keys TEXT NOT NULL);
INSERT INTO "contact_facts" VALUES(1,'una berg','una','berg','kelp yard','','','','import a.csv','2026-11-28T23:09:24Z',1,'
una@kelp.example
','
01632960001
','','
gannet
','');
INSERT INTO "contact_facts" VALUES(2,'per gross','per','gross','kelp yard','','','','import a.csv','2026-11-28T23:09:24Z',0,'
gross@kelp.example
','','','','
groß@kelp.example
');
INSERT INTO "contact_facts" VALUES(3,'bo lund','bo','lund','','','','','import a.csv','2026-11-28T23:09:24Z',1,'
bo@tidewick.example
','
441632960003
01632960003
','','
tern
','');
INSERT INTO "contact_facts" VALUES(4,'ida rask jun.','ida','rask','','','','','contact add','2026-11-28T23:09:25Z',1,'
ida@gull.example
ida@kelp.example
ida2@gull.example
','','
pilot
','','');
INSERT INTO "contact_facts" VALUES(5,'eva gross','eva','gross','','','','','contact add','2026-11-28T23:09:26Z',1,'
gross@kelp.example
','','','','');
CREATE TABLE contact_own(
  title TEXT NOT NULL, value TEXT NOT NULL, contact INTEGER NOT NULL,
  PRIMARY KEY(title, value, contact)) WITHOUT ROWID;
INSERT INTO "contact_own" VALUES('boat','gannet',1);
INSERT INTO "contact_own" VALUES('boat','tern',3);
CREATE VIRTUAL TABLE contact_text USING fts5(
  words, content='', tokenize='trigram', detail=none, columnsize=0);
CREATE TABLE contact_text_due(first INTEGER PRIMARY KEY, last INTEGER NOT NULL);
CREATE TABLE list_count(list INTEGER PRIMARY KEY, members INTEGER NOT NULL, reachable INTEGER NOT NULL);
INSERT INTO "list_count" VALUES(1,5,4);
INSERT INTO "list_count" VALUES(2,1,1);
DELETE FROM sqlite_sequence;
INSERT INTO sqlite_sequence VALUES('action',12);
INSERT INTO sqlite_sequence VALUES('contact',6);
INSERT INTO sqlite_sequence VALUES('list',2);
INSERT INTO sqlite_sequence VALUES('member',6);
INSERT INTO sqlite_sequence VALUES('message',1);
CREATE INDEX journal_action ON journal(action);
CREATE INDEX journal_row ON journal(tbl, row, action);
CREATE INDEX contact_name ON contact(name_key);
CREATE INDEX member_contact ON member(contact);
CREATE INDEX rule_member_contact ON rule_member(contact);
CREATE INDEX delivery_contact_message ON delivery_contact(message, address);
CREATE INDEX share_member_contact ON share_member(contact, list);
CREATE INDEX contact_opted_out ON contact(id) WHERE opted_out;
CREATE INDEX share_member_held ON share_member(list, contact) WHERE held != '';
CREATE INDEX share_member_problems ON share_member(list, contact) WHERE problems != '[]';
CREATE INDEX share_trace_contact ON share_trace(contact, list);
CREATE INDEX directory_link_entry ON directory_link(entry);
CREATE INDEX contact_former_contact ON contact_former(contact);
CREATE INDEX contact_label_contact ON contact_label(contact);
CREATE INDEX contact_own_contact ON contact_own(contact);
CREATE VIEW on_list AS
  SELECT list, contact, address, since, by FROM member WHERE kind = 'on'
  UNION ALL
  SELECT r.list, r.contact, m.address, r.since, 'rule' FROM rule_member r
    LEFT JOIN member m ON m.list = r.list AND m.contact = r.contact
    WHERE m.kind IS NULL OR m.kind = 'address';
CREATE TRIGGER contact_added AFTER INSERT ON contact BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'contact', NEW.id); END;
CREATE TRIGGER contact_changed AFTER UPDATE ON contact WHEN OLD.uid IS NOT NEW.uid OR OLD.name IS NOT NEW.name OR OLD.name_key IS NOT NEW.name_key OR OLD.opted_out IS NOT NEW.opted_out OR OLD.card IS NOT NEW.card BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'contact', NEW.id, json_object('id', OLD.id, 'uid', OLD.uid, 'name', OLD.name, 'name_key', OLD.name_key, 'opted_out', OLD.opted_out, 'card', OLD.card), json_object('id', NEW.id, 'uid', NEW.uid, 'name', NEW.name, 'name_key', NEW.name_key, 'opted_out', NEW.opted_out, 'card', NEW.card)); END;
CREATE TRIGGER contact_removed AFTER DELETE ON contact BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'contact', OLD.id, json_object('id', OLD.id, 'uid', OLD.uid, 'name', OLD.name, 'name_key', OLD.name_key, 'opted_out', OLD.opted_out, 'card', OLD.card)); END;
CREATE TRIGGER list_added AFTER INSERT ON list BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'list', NEW.id); END;
CREATE TRIGGER list_changed AFTER UPDATE ON list WHEN OLD.title IS NOT NEW.title OR OLD.title_key IS NOT NEW.title_key OR OLD.about IS NOT NEW.about OR OLD.pinned IS NOT NEW.pinned OR OLD.created IS NOT NEW.created OR OLD.rule IS NOT NEW.rule OR OLD.sender IS NOT NEW.sender BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'list', NEW.id, json_object('id', OLD.id, 'title', OLD.title, 'title_key', OLD.title_key, 'about', OLD.about, 'pinned', OLD.pinned, 'created', OLD.created, 'rule', OLD.rule, 'sender', OLD.sender), json_object('id', NEW.id, 'title', NEW.title, 'title_key', NEW.title_key, 'about', NEW.about, 'pinned', NEW.pinned, 'created', NEW.created, 'rule', NEW.rule, 'sender', NEW.sender)); END;
CREATE TRIGGER list_removed AFTER DELETE ON list BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'list', OLD.id, json_object('id', OLD.id, 'title', OLD.title, 'title_key', OLD.title_key, 'about', OLD.about, 'pinned', OLD.pinned, 'created', OLD.created, 'rule', OLD.rule, 'sender', OLD.sender)); END;
CREATE TRIGGER member_added AFTER INSERT ON member BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'member', NEW.id); END;
CREATE TRIGGER member_changed AFTER UPDATE ON member WHEN OLD.list IS NOT NEW.list OR OLD.contact IS NOT NEW.contact OR OLD.kind IS NOT NEW.kind OR OLD.address IS NOT NEW.address OR OLD.since IS NOT NEW.since OR OLD.by IS NOT NEW.by BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'member', NEW.id, json_object('id', OLD.id, 'list', OLD.list, 'contact', OLD.contact, 'kind', OLD.kind, 'address', OLD.address, 'since', OLD.since, 'by', OLD.by), json_object('id', NEW.id, 'list', NEW.list, 'contact', NEW.contact, 'kind', NEW.kind, 'address', NEW.address, 'since', NEW.since, 'by', NEW.by)); END;
CREATE TRIGGER member_removed AFTER DELETE ON member BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'member', OLD.id, json_object('id', OLD.id, 'list', OLD.list, 'contact', OLD.contact, 'kind', OLD.kind, 'address', OLD.address, 'since', OLD.since, 'by', OLD.by)); END;
CREATE TRIGGER message_added AFTER INSERT ON message BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'message', NEW.id); END;
CREATE TRIGGER message_changed AFTER UPDATE ON message WHEN OLD.token IS NOT NEW.token OR OLD.subject IS NOT NEW.subject OR OLD.mode IS NOT NEW.mode OR OLD.doc IS NOT NEW.doc OR OLD.created IS NOT NEW.created BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'message', NEW.id, json_object('id', OLD.id, 'token', OLD.token, 'subject', OLD.subject, 'mode', OLD.mode, 'doc', OLD.doc, 'created', OLD.created), json_object('id', NEW.id, 'token', NEW.token, 'subject', NEW.subject, 'mode', NEW.mode, 'doc', NEW.doc, 'created', NEW.created)); END;
CREATE TRIGGER message_removed AFTER DELETE ON message BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'message', OLD.id, json_object('id', OLD.id, 'token', OLD.token, 'subject', OLD.subject, 'mode', OLD.mode, 'doc', OLD.doc, 'created', OLD.created)); END;
CREATE TRIGGER judged_added AFTER INSERT ON judged BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'judged', NEW.id); END;
CREATE TRIGGER judged_changed AFTER UPDATE ON judged WHEN OLD.one IS NOT NEW.one OR OLD.other IS NOT NEW.other OR OLD.verdict IS NOT NEW.verdict OR OLD.since IS NOT NEW.since BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'judged', NEW.id, json_object('id', OLD.id, 'one', OLD.one, 'other', OLD.other, 'verdict', OLD.verdict, 'since', OLD.since), json_object('id', NEW.id, 'one', NEW.one, 'other', NEW.other, 'verdict', NEW.verdict, 'since', NEW.since)); END;
CREATE TRIGGER judged_removed AFTER DELETE ON judged BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'judged', OLD.id, json_object('id', OLD.id, 'one', OLD.one, 'other', OLD.other, 'verdict', OLD.verdict, 'since', OLD.since)); END;
CREATE TRIGGER kept_text_added AFTER INSERT ON kept_text BEGIN INSERT INTO journal(action, tbl, row) VALUES((SELECT max(id) FROM action), 'kept_text', NEW.id); END;
CREATE TRIGGER kept_text_changed AFTER UPDATE ON kept_text WHEN OLD.name IS NOT NEW.name OR OLD.name_key IS NOT NEW.name_key OR OLD.doc IS NOT NEW.doc OR OLD.created IS NOT NEW.created BEGIN
  INSERT INTO journal(action, tbl, row, before, after) VALUES(
    (SELECT max(id) FROM action), 'kept_text', NEW.id, json_object('id', OLD.id, 'name', OLD.name, 'name_key', OLD.name_key, 'doc', OLD.doc, 'created', OLD.created), json_object('id', NEW.id, 'name', NEW.name, 'name_key', NEW.name_key, 'doc', NEW.doc, 'created', NEW.created)); END;
CREATE TRIGGER kept_text_removed AFTER DELETE ON kept_text BEGIN
  INSERT INTO journal(action, tbl, row, before) VALUES((SELECT max(id) FROM action), 'kept_text', OLD.id, json_object('id', OLD.id, 'name', OLD.name, 'name_key', OLD.name_key, 'doc', OLD.doc, 'created', OLD.created)); END;
