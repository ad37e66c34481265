"""What a name means: a list, a contact, `label:NAME`, `find:WORDS`, `directory:WORDS`, `mN`, an address; and whom that
brings in."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Container, Iterator, Sequence
from datetime import date

from barnacle.book import contacts, lists
from barnacle.book.lists import ContactList
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.addresses import looks_like_address, typed_mailbox
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import NotFoundError, StoppedError, UnclearError
from barnacle.core.patterns import pattern
from barnacle.core.references import AddressRef, ContactRef, LabelRef, ListRef, Ref, RuleRef, SearchRef, SentRef
from barnacle.core.text import fold, listed, nearest, visible, words
from barnacle.core.typed import TYPE_CHECKING, NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.separate_names import DIRECTORY, JOINT, UID_SHOWN, called, kind_of, one_by_one, put_together

if TYPE_CHECKING:
    from barnacle.core.mail.audience import Candidate
    from barnacle.core.rules import Rule

# Words for everybody, or for all there is.
ALL = frozenset(("all", "everything", "everyone", "everybody"))
_SENT = pattern(r"(m\d+)(?::([a-z ]+))?", re.IGNORECASE)
# How similar a name must be to what was typed to be suggested (of 100), and among how many contacts one is looked for.
_SIMILAR, _MOST_COMPARED = 82, 200_000
# A word of so many letters tells something, though it is only a part of a name.
_TELLING = 4


class Named(NamedTuple):
    """What some words name: a `list`, a `contact` or a `message` of the book, an `address` that it does not know, or a
    `file`; its name, empty where several are called so; and the words."""

    kind: str
    name: str
    text: str


def describe(contact: Contact) -> str:
    """A line that says who a contact is."""
    parts = [contact.title, contact.preferred or "no address", contact.org]
    return visible(" · ".join(dict.fromkeys(p for p in parts if p)))


def told_apart(some: Sequence[Contact]) -> list[str]:
    """A line for each contact that tells it from the others: with the end of its uid only where neither its name nor
    its address is its own."""
    names, addresses = Counter(fold(one.title) for one in some), Counter(one.preferred for one in some)
    return [
        describe(one)
        if names[fold(one.title)] == 1 or (one.preferred and addresses[one.preferred] == 1)
        else f"{describe(one)} · {one.uid[-UID_SHOWN:]}"
        for one in some
    ]


def find_list(desk: Desk, book: Book, text: str) -> ContactList | None:
    """The list meant by `text`, or None. Raises AmbiguousError."""
    return desk.pick("list", text, lists.by_title(book, text), lambda one: visible(one.title))


def need_list(desk: Desk, book: Book, text: str) -> ContactList:
    """The list meant by `text`. Raises NotFoundError with the way on, or AmbiguousError."""
    found = find_list(desk, book, text)
    if found is None:
        raise NotFoundError(
            f"There is no list `{visible(text, 60)}`. {_somebody(book, text) or similar(text, lists.titles(book))}"
            "`barnacle list` shows your lists; `barnacle list new` makes one."
        )
    return found


def _somebody(book: Book, text: str) -> str:
    """What to say of a person who is named where a list should be."""
    if len(found := called(book, text)) != 1:
        return ""
    name, typed = read_and_typed(found[0].contact.title)
    return f"`{name}` is in the book: `barnacle contact show {typed}` shows all of them. "


def _a_list(book: Book, text: str) -> str:
    """What to say of a list that is named where a person should be."""
    if len(found := lists.by_title(book, text)) != 1:
        return ""
    title, typed = read_and_typed(found[0].title)
    return f"`{title}` is a list: `barnacle list show {typed}` shows it. "


def read_and_typed(name: str) -> tuple[str, str]:
    """A name as it stands in a sentence, and as it is typed in a command."""
    import shlex  # only for a mistake: it costs start-up time

    return visible(name, 60), shlex.quote(visible(name, 60))


def lists_meant(desk: Desk, book: Book, titles: Sequence[str]) -> list[ContactList]:
    """The lists that are named, of a command that looks at all where none are, or where somebody says `all`. Raises
    NotFoundError, AmbiguousError."""
    if len(titles) == 1 and fold(titles[0]) in ALL and not lists.by_title(book, titles[0]):
        return []
    return [need_list(desk, book, title) for title in titles]


def find_contact(desk: Desk, book: Book, text: str, among: Container[int] | None = None) -> StoredContact | None:
    """The contact meant by a uid or the end of one that is shown, an address or words of a name; None when nobody is.
    Namesakes who are not `among` those, by number, are not in question where somebody of them is. Raises
    AmbiguousError."""
    if kind_of(text) == DIRECTORY:
        return _taken(desk, book, text)
    found = called(book, text)
    if among is not None:
        found = [kept for kept in found if kept.id in among] or found
    lines = dict(zip([kept.id for kept in found], told_apart([kept.contact for kept in found]), strict=True))
    return desk.pick("contact", text, found, lambda kept: lines[kept.id])


def list_or_person(desk: Desk, text: str) -> tuple[str, str]:
    """What in the book is called so: `list` or `contact`, with its title, or `several`; empty where nothing is."""
    with desk.open() as book:
        if len(some := lists.by_title(book, text)) == 1:
            return "list", some[0].title
        if len(people := called(book, text)) == 1 and not some:
            return "contact", people[0].contact.title
    return "several" if some or people else "", text


def named_among(desk: Desk, texts: Sequence[str], small: Container[str]) -> list[Named]:
    """What is named among words that nobody has put in order; those that are `small` name nothing by themselves."""
    found = []
    with desk.open() as book:
        for text in put_together(book, texts):
            if text.lower() in small:
                continue
            some, people = lists.by_title(book, text), called(book, text)
            if len(text) < _TELLING:  # `no` is in many a name
                some = [one for one in some if fold(text) in words(fold(one.title))]
                people = [one for one in people if fold(text) in words(fold(one.contact.title))]
            if _SENT.fullmatch(text):
                found.append(Named("message", text.lower(), text))
            elif some:
                found.append(Named("list", some[0].title if len(some) == 1 else "", text))
            elif people:
                found.append(Named("contact", people[0].contact.title if len(people) == 1 else "", text))
            elif looks_like_address(text):
                found.append(Named("address", text, text))
            elif is_file(text):
                found.append(Named("file", text, text))
    return found


def need_contact(desk: Desk, book: Book, text: str, among: Container[int] | None = None) -> StoredContact:
    """The contact meant by `text`. Raises NotFoundError with the way on, or AmbiguousError."""
    found = find_contact(desk, book, text, among)
    if found is None:
        there, found = _in_directory(desk, book, text)
        if found is not None:
            return found
        raise _is_joint(text) or NotFoundError(
            f"Nobody in the book is called `{visible(text, 60)}`. "
            f"{there or _everybody(text) or _a_list(book, text) or similar(text, names(book))}"
            "`barnacle find` searches every field; `barnacle contact add` adds somebody."
        )
    return found


def is_file(text: str) -> UnclearError | None:
    """What to say of a file that is named where people are."""
    from barnacle.files import missing  # only for a mistake: it costs start-up time

    if "." not in text or not missing.is_file(text):
        return None
    file, typed = read_and_typed(text)
    way = f"`barnacle import {typed} --into LIST`"
    return UnclearError(f"`{file}` is a file. {way} puts the people in it on a list, old or new.")


def _is_joint(text: str) -> UnclearError | None:
    """What to say of a word that stands between two names."""
    if not JOINT.fullmatch(text):
        return None
    return UnclearError(
        f"Leave out `{visible(text, 10)}`: names stand one behind the other, and a name of several words in quotation "
        'marks, such as "Deck and engine".'
    )


def _in_directory(desk: Desk, book: Book, text: str) -> tuple[str, StoredContact | None]:
    """What the organisation's directory has of somebody who is not in the book, and the contact where it was taken."""
    from barnacle.jobs.desk import directory  # of few offices, and slow to load

    return directory.has_instead(desk, book, text) if directory.is_known(desk) else ("", None)


def names(book: Book) -> list[str]:
    return contacts.names(book) if contacts.count(book) <= _MOST_COMPARED else []


def similar(text: str, known: list[str]) -> str:
    """A question for the most similar of what is known, as a whole or by a word of it, where one is similar enough."""
    from rapidfuzz import fuzz, process  # only for a mistake: it costs start-up time

    whole = process.extractOne(text, known, scorer=fuzz.WRatio, processor=fold, score_cutoff=_SIMILAR)
    found = whole and whole[0]
    if not found and len(text.split()) == 1 < len(text):
        by_word = {word: one for one in reversed(known) for word in words(one)}
        part = process.extractOne(fold(text), list(by_word), scorer=fuzz.ratio, score_cutoff=_SIMILAR)
        found = part and by_word[part[0]]
    return f"Did you mean `{visible(found, 60)}`? " if found else ""


def unknown_label(book: Book, label: str) -> str:
    """That nobody has a label, and which there are."""
    in_use = ", ".join(contacts.labels(book)) or "none yet"
    return f"Nobody has the label `{visible(label, 40)}`. Labels in use: {visible(in_use, 200)}."


def _taken(desk: Desk, book: Book, text: str) -> StoredContact:
    from barnacle.jobs.desk import directory

    return directory.take_by_words(desk, book, text.partition(":")[2])


def says_address(text: str) -> bool:
    """Whether a word of the command line stands for an address."""
    return not kind_of(text) and looks_like_address(text)


def understand(desk: Desk, book: Book, text: str, among: Container[int] = ()) -> Ref:
    """What one word of the command line stands for; of several people, one `among` these if there is. Raises
    NotFoundError, AmbiguousError, BadAddressError, UnclearError for a state of recipients that there is not."""
    kind, rest = kind_of(text), text.partition(":")[2]
    if kind == "label":
        label = rest.strip()
        if not contacts.labelled(book, label):
            raise NotFoundError(unknown_label(book, label))
        return LabelRef(label)
    if kind == "find":
        if not contacts.search_some(book, rest, 1):
            raise NotFoundError(f"Nobody matches all of `{visible(rest, 60)}`. `barnacle find` shows what it finds.")
        return SearchRef(rest.strip())
    if kind == "where":
        ref = RuleRef(rest.strip(), read_rule(desk, book, rest))
        if not _fitting(book, ref):
            raise NotFoundError(f"Nobody matches `{visible(rest.strip(), 120)}`.")
        return ref
    if kind == DIRECTORY:
        taken = _taken(desk, book, text)
        return ContactRef(taken.contact.uid, taken.contact.title)
    if match := _SENT.fullmatch(text):
        from barnacle.jobs.desk import past_recipients  # the outbox is not needed to find a list or a contact

        return past_recipients.understand(book, match[1], (match[2] or "").lower())
    if looks_like_address(text):
        mailbox = typed_mailbox(text)
        return AddressRef(mailbox.address, mailbox.name)
    return _titled_or_called(desk, book, text, among)


def _titled_or_called(desk: Desk, book: Book, text: str, among: Container[int]) -> Ref:
    titled, named, key = lists.by_title(book, text), called(book, text), fold(text)
    named = [kept for kept in named if kept.id in among] or named
    if any(kept.contact.uid == text.strip() for kept in named):
        titled = []
    elif any(fold(one.title) == key for one in titled):
        named = [] if len(titled) == 1 else named
    elif any(fold(kept.contact.called) == key for kept in named):
        titled = []
    refs: list[tuple[str, Ref]] = [(f"list {visible(one.title)}", ListRef(one.id, one.title)) for one in titled]
    lines = told_apart([kept.contact for kept in named])
    refs += [(line, ContactRef(k.contact.uid, k.contact.title)) for line, k in zip(lines, named, strict=True)]
    chosen = desk.pick("list or contact", text, refs, lambda pair: pair[0], "lists or contacts")
    if chosen is None:
        there, taken = _in_directory(desk, book, text)
        if taken is not None:
            return ContactRef(taken.contact.uid, taken.contact.title)
        raise (
            _is_joint(text)
            or is_file(text)
            or NotFoundError(
                f"`{visible(text, 60)}` is not a list, a contact or an address. "
                f"{there or _everybody(text) or similar(text, [*lists.titles(book), *names(book)])}"
                "`barnacle list` shows your lists, `barnacle find` your people; write a label as label:NAME."
            )
        )
    return chosen[1]


def _everybody(text: str) -> str:
    everyone = '`"where:not address missing"` stands for everybody in the book who has an address. '
    return everyone if fold(text) in ALL else ""


def meant_by(text: str, ref: Ref) -> str:
    """A sentence, without its full stop, for a word that is only a part of the title or the name that it stands for;
    or nothing."""
    if isinstance(ref, ListRef) and fold(ref.title) != fold(text):
        return f"`{visible(text, 40)}` is the list {visible(ref.title)}"
    if isinstance(ref, ContactRef) and fold(ref.name) != fold(text):
        return f"`{visible(text, 40)}` is {visible(ref.name)}"
    return ""


def read_rule(desk: Desk, book: Book, text: str) -> Rule:
    """A rule from its text, with the lists and the fields of one's own in it found. Raises UnclearError for a mistake,
    NotFoundError for what is not there."""
    from barnacle.core import rules  # of few commands
    from barnacle.core.phones import national_form

    try:
        parsed = rules.parse(text)
    except UnclearError as error:
        from barnacle.core import rules_meant

        if fold(text) in rules_meant.ON_NO_LIST:
            raise UnclearError("No rule asks that; `barnacle find --on-no-list` shows who is on no list.") from None
        meant = rules_meant.meant(text, contacts.own_titles(book), lists.titles(book), date.today())
        if not meant:
            if not (own := contacts.own_titles(book)) or "There is no field" not in str(error):
                raise
            told = listed([f"`{visible(title, 40)}`" for title in own], 8)
            raise UnclearError(f"{error}\nFields of your own are {told}.") from None
        if not rules_meant.is_same(text, meant):
            raise UnclearError(f"{error}\nDid you mean `{visible(meant, 200)}`?") from None
        parsed = rules.parse(meant)
    rule = rules.resolved(parsed, lambda title: need_list(desk, book, title).id)
    for title, _ in rules.own_tests_in(rule):
        need_own_title(book, title)
    for filter_text in rules.directory_filters_in(rule):
        from barnacle.jobs.desk import directory
        from barnacle.net.ldap import check_filter

        directory.place_of(desk)
        check_filter(filter_text)
    return rules.with_numbers_at_home(rule, lambda number: national_form(number, desk.region))


def need_own_title(book: Book, title: str) -> str:
    """A field's title as it is written. Raises NotFoundError where nobody has such a field."""
    known = {fold(one): one for one in contacts.own_titles(book)}
    if fold(title) not in known:
        wanted = set(words(title))
        near = nearest(fold(title), known) or next((key for key in known if wanted and wanted <= set(words(key))), "")
        there = f"There are {listed(list(known.values()), 12)}." if known else "There are none yet."
        hint = f"Did you mean `{known[near]}`?" if near else there
        raise NotFoundError(f"Nobody has a field `{visible(title, 60)}`. {hint}")
    return known[fold(title)]


def _fitting(book: Book, ref: RuleRef) -> list[StoredContact]:
    """Everybody who fits a rule, in the order of their numbers."""
    from barnacle.book import rule_members  # of few commands

    numbers = sorted(rule_members.fitting(book, ref.rule))
    return [StoredContact(number, contacts.need(book, number)) for number in numbers]


def people_meant(
    desk: Desk, book: Book, texts: Sequence[str], among: Container[int] | None = None
) -> list[StoredContact]:
    """The contacts whom words of the command line name, each once: people, lists, `label:NAME`, `find:WORDS`,
    `where:RULE`, `m1`. Raises NotFoundError, AmbiguousError, UnclearError."""
    found: dict[int, StoredContact] = {}
    for text in one_by_one(book, texts):
        some = several_meant(desk, book, text)
        found |= {kept.id: kept for kept in (some if some is not None else [need_contact(desk, book, text, among)])}
    return list(found.values())


def several_meant(desk: Desk, book: Book, text: str) -> list[StoredContact] | None:
    """Everybody whom a word names together; None where it is one person's."""
    if kind_of(text) or _SENT.fullmatch(text):
        some = brought_in(book, understand(desk, book, text), "")
        return [StoredContact(one.person, one.contact) for one in some if one.person is not None]
    titled = _exact_list(book, text)
    if titled is None:
        return None
    return [StoredContact(member.id, member.contact) for member in lists.each_member(book, titled.id)]


def _exact_list(book: Book, text: str) -> ContactList | None:
    """The list of just that title, where nobody is called so."""
    found = lists.by_exact_title(book, text)
    return None if found is None or any(fold(k.contact.called) == fold(text) for k in called(book, text)) else found


def brought_in(book: Book, ref: Ref, reason: str) -> Iterator[Candidate]:
    """Everybody whom a reference brings in as the book stands now, with the address that it brings along. Raises
    StoppedError where what it names has been removed."""
    from barnacle.core.mail.audience import Candidate  # not needed to find a list or a contact, and slow to load

    match ref:
        case ListRef():
            title = need_title(book, ref)
            for member in lists.each_member(book, ref.number):
                by_rule = member.by == "rule"
                yield Candidate(member.contact, member.id, title, chosen=member.address, by_rule=by_rule)
        case LabelRef():
            for kept in contacts.by_label(book, ref.label):
                yield Candidate(kept.contact, kept.id, f"label {ref.label}")
        case SearchRef():
            for kept in contacts.search(book, ref.words):
                yield Candidate(kept.contact, kept.id, f"found by {ref.words}")
        case RuleRef():
            for kept in _fitting(book, ref):
                yield Candidate(kept.contact, kept.id, f"matches {ref.text}")
        case SentRef():
            from barnacle.jobs.desk import past_recipients

            for known, address, reason in past_recipients.of(book, ref):
                if known is None:
                    yield from brought_in(book, AddressRef(address), reason)
                else:
                    yield Candidate(known.contact, known.id, reason, explicit=known.contact.find_address(address))
        case ContactRef():
            found = contacts.by_uid(book, ref.uid)
            if found is None:
                raise StoppedError(
                    f"{visible(ref.name)}, whom the message is for, is no longer in the book. "
                    "Bring them back with `barnacle undo`, or compose the message again."
                )
            yield Candidate(found.contact, found.id, reason)
        case AddressRef():
            holders = contacts.by_address(book, ref.address)
            if ref.name:
                holders = [k for k in holders if fold(k.contact.name) == fold(ref.name)] or holders
            for kept in holders:
                yield Candidate(kept.contact, kept.id, reason, explicit=kept.contact.find_address(ref.address))
            if not holders:
                stranger = Contact(name=ref.name, addresses=[Address(ref.address)])
                yield Candidate(stranger, None, reason, explicit=ref.address)


def need_title(book: Book, ref: ListRef) -> str:
    """The title of a list as it is now. Raises StoppedError where the list has been removed."""
    found = lists.get(book, ref.number)
    if found is None:
        raise StoppedError(
            f"The list {visible(ref.title)}, which the message is for, has been removed. "
            "Bring it back with `barnacle undo`, or compose the message again."
        )
    return found.title
