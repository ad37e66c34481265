"""What somebody is likely to have meant by a word that is no command, verb, topic or option: commands are called by
ordinary words, and other programs have other ones. Loaded for a mistake, and where the word behind `compose` may be an
option without its dashes."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from functools import cache

from barnacle.core.patterns import pattern
from barnacle.core.text import nearest, visible

# Words that people try, and the ways that they may mean, the likeliest first; verbs are told apart by the command that
# stands in front.
_WAYS = """
add, insert, enter, put: contact add; list add; house add; share offer; hub person; import
new, create, make, start, open: list new; contact add; compose; text keep; share offer; house open; hub serve
edit, change, update, modify, alter, correct: contact edit; list pick; outbox edit; house rules
show, see, view, display, print, who: list show; contact show; outbox show; text show; share who; house members
remove, delete, del, rm, erase, destroy, forget: contact remove; list remove; list take; label remove; outbox remove
remove, delete, del, rm, erase, destroy, forget: text remove; house close; share end
take, kick, expel: list take; directory take; contact remove; house leave; share end
drop: list take; contact remove; list remove; label remove
rename, retitle: list rename; contact edit; label rename
copy, clone, duplicate: list copy; book copy; duplicates
compare, diff, difference: list compare; duplicates
join, combine, union: list new; contact merge; house join
merge: list add
merge, unite, dedupe, dedup, deduplicate, doubles: duplicates; contact merge; duplicates merge
members, member, people, persons, person, contacts, addresses, staff: list show; contact show; find; house members
fix, solve, clean, tidy, sort: duplicates review; check; book mend
is, does, has, am: contact show; list show; find
phone, telephone, mobile, number, address, card, details, about, info: contact show; list show
count, how, total, many: list show; report; find
group, groups, lists, team, teams, distribution, circle: list
rule, rules, filter: list rule; house rules
tag, tags, labels, category, categories: label; contact label
search, look, lookup, query, grep, where, which, whois: find; directory find; house find
mail, email, e-mail, write, message, msg, letter, bcc, cc, to, draft, mailing, newsletter, reply, forward: compose
resend, repeat, recall: send; outbox
load, read, csv, excel, sheet, spreadsheet, paste, bring: import
save, backup: book copy; export; hub backup; text keep
download, dump, csvout: export
restore, recover, repair: book restore; book mend; undo; hub restore
config, configure, configuration, option, options, preference, preferences, set, get: settings; setup; house rules
init, install, begin, account, login, log-in, signin, sign-in, password, server: setup; hub connect
log, changes, journal, audit, events: history; share history
revert, back, undelete, redo: undo
unshare: share stop; share end
transfer, handover, hand-over: share role
status, state, queue, sent, pending, waiting, messages, mails, drafts: outbox; share waiting; hub queue
cancel, abort, discard, unsend: outbox remove; undo; house refuse
bounce, bounces, bounced, undelivered, returned: returns
inbox, mailbox, scan, harvest, collect: gather; returns
stat, stats, statistics, chart, figures, numbers: report; house numbers
template, templates, snippet, snippets, boilerplate: text; compose
block, blacklist, unsubscribe, opt-out: contact optout; house leave
unblock, subscribe, opt-in: contact optin; house join
pull, push, refresh, fetch, exchange, synchronise, synchronize: sync; directory refresh
invite, colleague, colleagues: share offer; house invite
approve, allow, release: house let; share accept
reject, deny, turn-away: house refuse; share decline
ldap, phonebook: directory
demo, example, examples, try, tutorial: tour
usage, man, manual, commands: help
verify, validate, test, lint: check; book check; send
"""
# The same for options; which of them a command has is told by itself.
_OPTIONS = """
--to, --bcc, --cc, --recipient, --recipients, --list, --group: --for, --in, --into, --with
--in, --onto: --into
--but, --except, --exclude, --not, --skip, --omit, --minus, --no: --without
--and, --plus, --add, --include, --extra: --also, --add
--message, --content, --msg, --say: --text
--text-file, --content-file: --body
--title, --topic, --heading: --subject, --job
--template, --from-text: --use
--personal, --separately, --individually, --single, --merge, --mail-merge, --mailmerge: --each
--visible, --show-all, --show-addresses: --open
--hidden, --private: --blind
--html, --rich, --bold, --formatted: --markdown
--ical, --ics, --calendar, --event, --meeting: --invite
--reply, --answer-to, --replyto: --reply-to
--format, --type, --kind, --csv, --json, --xlsx, --vcard: --as, --csv
--output, --file, --save, -o, --png, --svg, --pdf: --out
--columns, --column, --cols, --fields, --show: --fields, --columns
--attachment, --attachments, --file, --enclose: --attach
--email, --mail, --e-mail: --address, --with
--remove-address, --remove-email, --delete-address: --drop-address
--remove-phone, --delete-phone: --drop-phone
--tel, --mobile, --telephone, --number: --phone
--company, --organisation, --organization, --firm: --org
--role, --position, --function: --job
--tag, --category, --label: --label, --add, --where
--remove, --delete, --untag: --drop
--add-to, --list, --group: --into
--rule, --filter, --query, --condition: --where
--description, --explain: --about
--comment, --comments, --remark: --note
--reason, --because: --why
--limit, --max, --top, --first, -n: --most
--min, --minimum, --times: --at-least
--after, --newer, --from-date: --since
--all, --since, --limit, -n: --everything, --all
--charset, --codepage, --code-page: --encoding
--replace, --sync, --prune: --take-missing-off
--colleague, --colleagues, --person: --with
--read-only, --readonly, --rights, --permission: --role
--country, --land, --locale: --region
--name, --my-name, --identity: --me, --name
--smtp, --server, --mail-server, --outgoing: --mail
--imap, --inbox, --incoming: --mailbox
--email, --mail, --e-mail: --address
--tel, --telephone, --mobile, --cell: --phone
--company, --firm, --organisation, --organization: --org
--notes, --comment, --remark: --note
--ldap, --phonebook: --directory
--certificate, --cert, --ca, --ca-cert: --ca-file
--password, --pass, --passwd: --password-from
--oauth, --token: --sign-in
--dry-run, --preview, --try, --dry, --simulate: --plan, --test
--force, --confirm, -y: --yes
--silent, -q: --quiet
-s: --subject
-m, -t: --text
-a: --attach, --address
-f: --for, --from
--later, --when, --time, --schedule, --date: --at
--retry, --again, --continue: --resume
--watch, --interval, --repeat: --every
--full, --source, --headers, --eml: --raw
"""
# Options that people try where none is needed, by commands, and what does it instead.
_INSTEAD = """
find: --name, --email, --mail, --phone, --text: It looks through all that is known of people: `barnacle find bo`.
find: --all: `barnacle find` alone shows everybody.
list: --all: `barnacle list` alone shows all lists.
list show: --csv, --sort, --order, --out, --as, --format: `barnacle export LIST --out crew.csv` writes it to a file.
list show: --count, --number, --total: How many there are stands in the first line.
list show: --addresses, --emails, --email, --mail: Addresses are shown without one.
list new: --members, --people, --with, --add: People stand behind the title: `barnacle list new Crew bo una`.
list new: --from, --file, --import, --csv: `barnacle import FILE --into LIST` makes a list of a file.
list add, list take: --members, --people, --to, --from: People stand behind the list: `barnacle list add Crew bo`.
list add: --label, --tag: `label:NAME` stands for all who have it: `barnacle list add Crew label:pilots`.
import: --delimiter, --separator, --header, --headers, --skip: That is found out by itself; --plan shows what was.
import: --update, --merge, --overwrite: Whoever is there already is updated; --prefer file lets the file's values win.
export: --list, --lists, --group: Lists stand behind it: `barnacle export Crew`.
contact add: --name, --given, --family, --firstname, --surname: The name stands first: `barnacle contact add "Bo Lund"`.
contact add, contact edit: --mobile, --cell: The kind stands in front: `--phone mobile:07700900010`.
contact edit: --clear, --delete, --remove, --unset: `--org ''` empties a field; --drop-phone NUMBER takes a number away.
compose: --bcc, --to, --recipients: --for says whom it is for, each in Bcc; --also adds somebody this time.
compose: --cc, --copy: There is no Cc: everybody would see who stands there. --also adds somebody whom nobody sees.
compose: --send, --now: `barnacle send` sends it, by its number.
compose: --signature, --sign: `barnacle setup --signature TEXT` keeps one for every message.
compose: --later, --when, --at, --time, --schedule, --date: `barnacle send m1 --at TIME` says when.
send: --now: It goes at once unless --at says when.
send: --dry-run, --dry, --simulate, --plan, --preview: `barnacle preview m1` shows it; --test sends it to you.
send: --cancel, --stop, --unschedule: `--at never` keeps it from going at its time.
send: --all: One message is sent at a time, by its number.
send: --subject, --text, --body, --attach, --message: That is said with compose; `barnacle outbox edit m1` changes it.
send: --to, --for: Whom it is for is said with compose; `barnacle outbox edit m1 --for WHAT` changes it.
preview: --who, --list, --recipients, --all, --to: `barnacle outbox show m1` shows who gets it.
preview: --for, --of: --as shows somebody's copy.
undo: --last: `barnacle undo` alone undoes the last change.
history: --most, --limit, -n, --last: `barnacle history today`, `history since Monday` or `history bo` shows less.
outbox: --list: `barnacle outbox` alone shows the last of them, --all all.
outbox: --sent, --waiting, --failed, --refused, --since: `barnacle outbox refused` or `outbox since Monday`.
settings: --list, --all, --show, --get: `barnacle settings` alone shows them all.
check: --list, --in, --all, --lists: Lists stand behind it: `barnacle check Crew`; it is all of them if you name none.
report reach, report overlap: --list, --lists, --in: Lists stand behind it: `barnacle report reach Crew`.
text keep: --body, --text, --from, --message: It keeps what a message says: `barnacle text keep Rota m1`.
book copy: --to, --out, --file, --into: The file stands behind it: `barnacle book copy FILE`.
share offer: --read-only, --readonly, --view-only: `--role reader` lets them look, and nothing more.
house rules: --who, --who-may-write, --who-writes, --post, --posting, --allow: `--writers` says who may write.
setup: --user, --username, --login, --account: The name to log in with stands in the address: `--mail smtps://USER@HOST`.
setup: --port, --host: That stands in the address: `--mail smtp://USER@HOST:587`.
"""
# What others call the values that some options and places take.
_VALUES = """
vcf, vcards, card, cards, contact, contacts: vcard
excel, xls, workbook, spreadsheet, sheet: xlsx
calc, opendocument: ods
json: jscontact
text, txt, addresses, mail: line
ldap, directory: ldif
mine, ours, old, keep, existing: book
theirs, new, replace, overwrite: file
write, writer, edit, member, change: editor
read, view, viewer, look, guest: reader
admin, administrator, keeper, moderator, full: owner
"""
# Words for which there is no command, with what does it.
_WORDS = """
version: `barnacle --version` says which one this is.
quit, exit, bye, close, stop: A command ends by itself; there is nothing to leave.
attach, attachment, attachments, enclose: `barnacle compose --attach FILE` encloses a file.
schedule, later, timer, at, when: `barnacle send m1 --at TIME` sends it later.
everyone, everybody, all: `barnacle find` alone shows everybody.
whoami, me, identity, profile: `barnacle settings` shows who you are; `barnacle setup --me "NAME <ADDRESS>"` changes it.
move, list move: `barnacle list add` puts somebody on the other list, and `barnacle list take` takes them off this one.
leave, omit, skip, hide, except, without: `barnacle compose Crew --without una` leaves somebody out of one message.
merge, combine, join, union: `barnacle list new "Both" Crew Pilots` makes one list of two, `contact merge` one contact.
opt: `barnacle contact optout WHO` says that somebody is never written to again, and `contact optin` that they are.
note, remark, comment: `contact edit WHO --note TEXT` keeps a note on somebody; `compose --for WHO` writes to them.
contact note, contact remark, contact comment: `barnacle contact edit WHO --note TEXT` keeps a note on somebody.
contact set, contact phone, contact address: `barnacle contact edit WHO --phone NUMBER` changes somebody, and so on.
birthday, birthdays: `barnacle find --where "Birthday is December"` shows whose are, where the book has that field.
duplicates show, duplicates list: `barnacle duplicates` alone shows them.
list clear, list empty, list wipe: `list pick` chooses anew who is on it; `list remove` removes the list itself.
list count, list size, list number, list total: `barnacle list` shows how many are on each.
list merge, list combine, list join: `barnacle list new "Both" Crew Pilots` makes one list of two.
list replace, list swap, list exchange: `barnacle list take` takes somebody off, and `list add` puts another on it.
list owner, list share, list keeper: `barnacle share who LIST` shows who shares it.
list set: `list about` describes a list, `list rule` fills it by itself, `list sender` says as whom you write to it.
list save: Every change is saved at once.
list download, list csv: `barnacle export LIST --out crew.csv` writes a list to a file.
list print, list pdf, list paper: `barnacle report list LIST --out crew.pdf` puts a list on paper.
list load, list from: `barnacle import FILE --into LIST` puts everybody in a file on a list.
list search, list of, list where: `barnacle contact show WHO` shows which lists somebody is on.
list mail, list email, list write, list message: `barnacle compose --for LIST` writes to a list.
label add, label new, label put, label give, label set: `barnacle contact label WHO --add LABEL` gives somebody a label.
label drop, label take: `barnacle contact label WHO --drop LABEL` takes a label off somebody.
text use, text send, text compose, text write: `barnacle compose --use NAME` begins a message with a text.
hub person list, hub person show, hub queue list, hub queue show: Without a word behind it, all are shown.
outbox all: `barnacle outbox --all` shows all of them.
text all, label all, house all, list all: Without a word behind it, all are shown.
text add, text edit, text change, text save: `barnacle text keep NAME m1` keeps what a message says.
report opens, report opened, report reads, report clicks: Who opened a message cannot be known: nothing in it tells.
report replies, report answers: Answers come to your own mailbox; `barnacle gather` takes in who wrote.
contact lists, contact groups, contact list: `barnacle contact show WHO` shows which lists somebody is on.
share list, share status, share state, share accepted: `barnacle share who LIST` shows with whom, and who has accepted.
share revoke, share cancel, share withdraw, share unshare: `share end` ends one person's role, `share stop` all of it.
share transfer, share owner, share give, share hand-over: `barnacle share role LIST ADDRESS owner` makes somebody one.
house remove, house take, house kick, house drop: `barnacle list take LIST WHO` takes people off it.
house keepers, house keeper, house owner, house owners: `barnacle share who LIST` shows who keeps it.
house pending, house moderate, house queue, house waiting: `barnacle house held` shows what waits for you.
house address, house email, house mail, house list: `barnacle house` shows each list with its address.
share with: `barnacle share offer LIST --with ADDRESS` offers a list to a colleague.
contact search, contact all: `barnacle find` alone shows everybody; with words, who has them.
contact mail, contact email, contact write, contact message: `barnacle compose --for WHO` writes to somebody.
upgrade, uninstall: How it was installed, it is renewed and taken off, too: by `pip` or `pipx`.
"""
# The same where a message is named by its number, {m}; {behind} is the word with all behind it.
_OF_MESSAGES = """
stop, pause, hold, unschedule, postpone, delay: `barnacle send {m} --at never` keeps it from going at its time.
cancel, abort, discard, delete, erase, rm: `barnacle outbox remove {m}` removes it, if it was not sent.
recall, unsend, retract: What was sent cannot be called back; `barnacle outbox show {m}` shows what was.
resend, again, repeat, retry, remind: `barnacle send {m} --resume` goes on with those who wait; `barnacle compose --like {m}` writes it again.
forward, fwd, copy, duplicate, clone, to: `barnacle compose --like {m} --for WHO` writes the same to others.
now, immediately: `barnacle send {m}` sends it at once.
today, tonight, tomorrow, on, in, monday, tuesday, wednesday, thursday, friday, saturday, sunday: `barnacle send {m} --at {behind}` does that.
reply, answer: `barnacle compose --like {m}` writes to the same people.
show, open, view, read, see, who, did, status: `barnacle outbox show {m}` shows who gets it, `barnacle preview {m}` what they see.
edit, change, update, modify, correct, attach: `barnacle outbox edit {m}` changes it, with the options of compose.
schedule, later, when, at: `barnacle send {m} --at TIME` sends it later.
test, try: `barnacle send {m} --test` sends it to you alone.
rename, subject, title: `barnacle outbox edit {m} --subject TEXT` changes it.
"""  # noqa: E501
# What a question begins with, and words in it that are no name.
QUESTIONS = frozenset(
    "who whose which what how is are did does do has have where when why show view print display".split()
)
SMALL = frozenset(
    "is are on in of the a an to at does do did has have was were been put added many lists list people it i she he"
    " they we and with from off out for but not me or".split()
)
_NUMBERED = pattern(r"m\d{1,11}", re.IGNORECASE)
# What a word too many is likely to be about.
_TOO_MANY = {
    "list remove": "It removes one list; `barnacle list take LIST WHO` takes people off one.",
    "list copy": "Only the two titles stand there. Words that belong together stand in quotation marks.",
    "list rename": "Only the two titles stand there. Words that belong together stand in quotation marks.",
    "contact edit": "What is to be changed is said with options, such as --phone 01632960099.",
    "compose": "Whom it is for stands behind --for; words that belong together stand in quotation marks.",
    "send": "It sends one message, by its number; `barnacle compose --for LIST` writes one. A time stands behind --at: "
    "`barnacle send m1 --at 'Friday 07:30'`.",
    "sync": "It exchanges the changes to all lists that are shared.",
    "preview": "--as WHO shows somebody's copy.",
    "share who": "`barnacle share offer LIST --with ADDRESS` offers a list to a colleague.",
}
ON_PAPER = "`barnacle report list LIST --out crew.pdf` puts a list on paper."
# Values that a command does not take, and what does it instead.
ELSEWHERE = dict.fromkeys((("export", "pdf"), ("export", "paper"), ("export", "print")), ON_PAPER)
TOGETHER = "Words that belong together stand in quotation marks."
# Commands for which an office must have something first.
_OF_FEW = ("directory", "house", "hub", "share")
_MOST = 3
# How similar a word must be to one of the table, which is of many short ones.
_SURELY = 0.8
# The same for options, which all begin alike.
_NEARLY = 0.7


@cache
def _table(text: str) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for line in text.strip().splitlines():
        words, _, ways = line.partition(":")
        for word in words.split(", "):
            found.setdefault(word, []).extend(ways.strip().replace("; ", ",").replace(", ", ",").split(","))
    return found


def commands_meant(word: str, known: Iterable[str], command: str = "") -> list[str]:
    """Commands, each with its verb if it has any, that a word may stand for which is none of the `known` ones: what
    others call it, or a slip of the pen. With `command`, verbs of that alone."""
    word, known = word.lower(), list(known)
    table = _table(_WAYS)
    ahead = f"{command} " if command else ""

    def called(what: str) -> list[str]:
        ways = dict.fromkeys(way for way in table.get(what, ()) if way.startswith(ahead))
        # Who says no more than `add` means the own book.
        own = [way for way in ways if ahead or way.partition(" ")[0] not in _OF_FEW]
        return (own or list(ways))[:_MOST]

    if ways := called(word):
        return ways
    if near := nearest(word, known):
        return [ahead + near]
    return called(nearest(word, (other for other in table if called(other)), _SURELY))


def ways_meant(word: str) -> list[str]:
    """All that a word may stand for which is no command: what others call it, or a slip of the pen in that."""
    table = _table(_WAYS)
    near = "" if for_word("", word) else nearest(word.lower(), table, _SURELY)
    return table.get(word.lower()) or table.get(near, [])


def slip_of(word: str, known: Iterable[str]) -> str:
    """The command that was mistyped; empty where it is a word of its own."""
    return "" if word.lower() in _table(_WAYS) or for_word("", word) else nearest(word.lower(), known)


def for_word(command: str, word: str) -> str:
    """What does it instead, of a word for which there is no command: a sentence with a space behind it, or nothing."""
    for line in _WORDS.strip().splitlines():
        words, _, instead = line.partition(": ")
        if f"{command} {word}".strip().lower() in words.split(", "):
            return f"{instead} "
    return ""


def for_message(word: str, words: Sequence[str]) -> str:
    """What does it with the message that `words` name by its number: a sentence with a space behind it, or nothing."""
    number = next((one.lower() for one in words if _NUMBERED.fullmatch(one)), "")
    if number and number == word.lower():
        return f"`barnacle outbox show {number}` shows what became of that message. "
    behind = words[words.index(word) :] if word in words else ()
    for line in _OF_MESSAGES.strip().splitlines() if number else ():
        called, _, instead = line.partition(": ")
        if word.lower() in called.split(", "):
            import shlex  # not needed to tell an option from a name

            said = instead.replace("{m}", number)
            return f"{said.replace('{behind}', shlex.quote(visible(' '.join(behind), 40)) if behind else 'TIME')} "
    return ""


def for_option(command: str, option: str, known: Collection[str]) -> str:
    """What does it instead, of a command's option that there is not: a sentence with a space behind it, or nothing."""
    option = option.lower()
    for line in _INSTEAD.strip().splitlines():
        commands, options, instead = line.split(": ", 2)
        if command in commands.split(", ") and option in options.split(", "):
            return f"{instead} "
    called = option_meant(option, known)
    if not called:
        # The two strokes in front are like those of any other.
        bare = {one.lstrip("-"): one for one in known}
        called = bare.get(nearest(option.lstrip("-"), bare, _NEARLY), "")
    return f"Did you mean `{called}`? " if called else ""


def option_meant(option: str, known: Collection[str]) -> str:
    """One of the `known` options that others call so, or nothing."""
    return next((one for one in _table(_OPTIONS).get(option, ()) if one in known), "")


def value_meant(value: str, known: Sequence[str]) -> str:
    """One of the `known` values that others call so, or that was mistyped, or nothing."""
    called = (one for one in _table(_VALUES).get(value.lower(), ()) if one in known)
    return next(called, "") or nearest(value, known)


def for_one_too_many(command: str, takes_words: bool) -> str:
    """A sentence for somebody who gave a command a word more than it takes, with a space behind it; or nothing."""
    found = _TOO_MANY.get(command, TOGETHER if takes_words else "")
    return f"{found} " if found else ""


def asked(ways: Sequence[tuple[str, str]]) -> str:
    """A question after what was meant, of several ways, each with what it does: a sentence, or for several, lines; or
    nothing. Whatever comes next may follow at once."""
    if len(ways) < 2:
        return "".join(f"Did you mean `{way}` ({what})? " for way, what in ways)
    return f"Did you mean one of these?\n{in_lines(ways)}\n"


def in_lines(ways: Sequence[tuple[str, str]]) -> str:
    """Commands below each other, each with what it does."""
    width = max(len(way) for way, _ in ways)
    return "\n".join(f"  {way:<{width}}  {what}" for way, what in ways)
