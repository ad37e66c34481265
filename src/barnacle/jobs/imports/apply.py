"""An import's second half: prepared rows meet the book. Who is known is joined, everybody else is added."""

from __future__ import annotations

import json
from array import array
from collections import defaultdict
from collections.abc import Callable, Iterator

from barnacle.book import bulk, contacts, lists, shares
from barnacle.book.bulk import Holder, Rows
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact, as_json, of_card, says_the_same, what_it_says
from barnacle.core.contact import Contact, Difference, Extra, join, overwrite, to_doc
from barnacle.core.errors import UnclearError
from barnacle.core.phones import phone_key
from barnacle.core.text import TITLE_LIMIT, plain_title, tidy, visible
from barnacle.core.usual_domains import UsualDomains
from barnacle.files.drafts import Defect, ListDraft
from barnacle.files.tables.edited_rows import edited
from barnacle.files.tables.rows import OF_BOOK
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import find_list, need_list
from barnacle.jobs.imports.answers import Answer, Answers
from barnacle.jobs.imports.batches import SLOTS, Batch, Entry
from barnacle.jobs.imports.lookalikes import met, too_large
from barnacle.jobs.imports.report import Differing, Example, Likely, Report, Sharing
from barnacle.jobs.people import identify
from barnacle.jobs.people.merge import make_one

_DOMAINS_LOOKED_AT = 20_000
_MOST_MISTYPED = 20  # of one domain


class Taking:
    """The work of one import inside its action. `targets` are the lists that everybody is put on."""

    def __init__(self, desk: Desk, book: Book, report: Report, command: str, prefer_file: bool) -> None:
        self.desk = desk
        self.book = book
        self.report = report
        self.command = command
        self.prefer_file = prefer_file
        self.targets: list[int] = []
        self.file = ""
        self.first = bulk.first_number(book)
        self._rows = array("I")  # the row of each new number
        self._starts: list[tuple[int, str]] = []  # from which number on they are of which file
        self._lists: dict[str, int] = {}
        self._titles: dict[int, str] = {}
        self._members: defaultdict[int, list[int]] = defaultdict(list)  # new ones, by list
        self._region = desk.region
        self._keys: dict[str, str] = {}
        self._lists_by_value = False
        self._known: dict[int, int] = {}  # whom those of the files are who were in the book
        self._uids: dict[str, int] = {}  # the same, by the uid that the file has for them
        self._glanced_at: set[int] = set()  # who is in the book just so, and was counted at once
        self._perhaps: set[frozenset[str]] = set()  # the uids of two who may be one person
        self._oddest = 0, 0
        self._slots: bytearray | None = None
        self._answers = Answers()

    def begin(self, file: str, anew: bool) -> None:
        """The next batches are of this file; `anew` says that the book holds no addresses yet but those of it."""
        self._slots = bytearray(SLOTS) if anew else None
        self._end_of_answers()
        self.file = file
        self._starts.append((self.first + len(self._rows), file))

    def next_number(self) -> int:
        """The number of the next new contact."""
        return self.first + len(self._rows)

    def target(self, title: str) -> int:
        """The list of that title, made where it is not there. Raises AmbiguousError, UnclearError."""
        if title not in self._lists:
            usable = self._usable(title) if self._lists_by_value else title
            exact = lists.by_exact_title(self.book, usable)
            found = exact or (None if self._lists_by_value else find_list(self.desk, self.book, title))
            made = found or lists.new(self.book, usable)
            self._lists[title] = made.id
            self._titles[made.id] = made.title
            self.report.lists.setdefault(made.title, (found is None, 0))
        return self._lists[title]

    def _usable(self, title: str) -> str:
        """A title from a file: as it is, or so that it can be one."""
        try:
            return plain_title(title)
        except UnclearError:
            usable = f"{tidy(title, TITLE_LIMIT - 10)} (list)"
            reason = f"it cannot be a title as it is; the list is called `{usable}`"
            self.report.note("doubtful", Defect(0, "list", visible(title, 80), reason, "", "", self.file))
            return usable

    def into(self, title: str | None) -> None:
        """Everybody goes on this list."""
        if title is not None:
            self.targets.append(self.target(title))
        self._lists_by_value = True  # from here on titles come from the file: no guessing what is meant

    def take(self, batch: Batch) -> None:
        """The entries of a batch, one by one where they meet somebody."""
        report, rows = self.report, batch.rows
        for what, defects in batch.told.items():
            for defect in defects:
                report.note(what, defect._replace(file=self.file))
        self._oddest = max(self._oddest, batch.oddest, key=lambda one: one[0])
        same = self._same(batch)
        found = bulk.holders(self.book, batch.question)
        special = set(batch.alone)
        if found:
            special |= {number for _, value, number in rows.places if value in found}
        if not special:
            bulk.write(self.book, rows)
        elif len(special) < len(rows):
            bulk.write(self.book, rows.without(special))
        self._answers.stamp = batch.answered
        one_by_one = _OneByOne(rows, found, special, same)
        for entry in self._every(batch) if batch.odd else self._ordinary(batch, special, same):
            self._entry(entry, one_by_one)
        self._put_on_lists()
        for group in batch.groups:
            self._group(group)

    def _same(self, batch: Batch) -> dict[int, int]:
        """Who is in the book just so, of those who were only glanced at: the contact by the number. Of the others the
        batch is given rows."""
        same: dict[int, int] = {}
        if batch.glances:
            glances = batch.glances
            found = bulk.holders(self.book, glances.question)
            for number, value, says in zip(glances.numbers, glances.hashes, glances.says, strict=True):
                if value in found and (other := _twin(says, found[value])) is not None:
                    same[number] = other
        batch.complete(same, self._slots)
        return same

    def _ordinary(self, batch: Batch, special: set[int], same: dict[int, int]) -> Iterator[Entry]:
        """Where each entry is one person and no list: those that must be looked at. The others are counted at once."""
        first, places = batch.first, batch.places
        new = [n for n in range(first, first + len(places)) if n not in special and n not in same]
        self.report.rows += len(new)
        self.report.added += len(new)
        self.report.new_contacts += len(new)
        for target in self.targets:
            self._members[target] += new
        self._rows.extend(places)
        if self.targets:
            left = special | same.keys()
        else:
            left = special - same.keys()
            self._glanced_at.update(same.values())
            self.report.rows += len(same)
            self.report.unchanged += len(same)
            self.report.joined += len(same)
        for number in sorted(left):
            yield Entry(places[number - first], range(number, number + 1), ())

    def _every(self, batch: Batch) -> Iterator[Entry]:
        """All entries, where some are several people or name a list."""
        for entry in batch.entries():
            self._rows.extend([entry.row] * len(entry.numbers))
            yield entry

    def _entry(self, entry: Entry, one_by_one: _OneByOne) -> None:
        report = self.report
        row, numbers, titles = entry
        report.rows += 1
        if not numbers:
            report.refused_rows += 1
            return
        on = [*self.targets, *(self.target(title) for title in titles)] if titles else self.targets
        new, changed, met = 0, False, False
        for number in numbers:
            if number not in one_by_one:
                new += 1
                for target in on:
                    self._members[target].append(number)
                continue
            who, outcome = self._person(row, number, one_by_one)
            new += outcome == "added"
            changed |= outcome == "updated"
            met |= outcome != "added"
            if outcome != "added":
                self._put_on_lists()  # it may be somebody of this very batch
            for target in on:
                if outcome == "added":
                    self._members[target].append(who)
                elif lists.add_member(self.book, target, who, self.command):
                    self._count(target, 1)
        report.new_contacts += new
        if new:
            report.added += 1
        elif changed:
            report.updated += 1
        else:
            report.unchanged += 1
        report.joined += met

    def _put_on_lists(self) -> None:
        for target, new in self._members.items():
            shares.need_right(self.book, target)
            lists.add_members(self.book, target, new, self.book.running.at, self.command)
            self._count(target, len(new))
        self._members.clear()

    def _count(self, target: int, number: int) -> None:
        title = self._titles[target]
        new, before = self.report.lists[title]
        self.report.lists[title] = (new, before + number)

    def _person(self, row: int, number: int, one_by_one: _OneByOne) -> tuple[int, str]:
        """Who a person of the file is: the contact's number, and whether it was added, updated or is unchanged."""
        twin = one_by_one.same.get(number)
        if twin is not None:
            self._known[number] = twin
            self._answers.agreed(twin, number)
            return twin, "unchanged"
        report, person = self.report, one_by_one.contact(number)
        of_book = next((extra for extra in person.extra if extra.key == OF_BOOK), None)
        if of_book is not None:
            person.extra.remove(of_book)
            one_by_one.replace(number, person)
        if not person.addresses:
            bulk.need_names(self.book)
        found, others = identify.find(self.book, person, self._region, self.first)
        if found is not None:
            contact = found.contact
            if found.id >= self._starts[-1][0]:
                self._answers.agreed(found.id, found.id)
            changed, differences = self._joined(found, person, of_book)
            if changed:
                contacts.save(self.book, found.id, contact)
            self._known[number] = found.id
            if person.uid:
                self._uids[person.uid] = found.id
            kept = "file" if self.prefer_file else "book"
            told = [Differing(self.file, row, contact.title, difference, kept) for difference in differences]
            if self._answers.stamp:
                self._answers.hear(found.id, person, [Answer(number, changed, one, person) for one in told])
            else:
                for one in told:
                    report.note("differences", one)
            return found.id, "updated" if changed else "unchanged"
        bulk.write(self.book, one_by_one.rows(number))
        report.without_address += not person.addresses
        if others and person.addresses:
            titles = [k.contact.title for k in others[:5]]
            report.note("sharing", Sharing(self.file, row, person.title, person.addresses[0].address, titles))
        for like in [k.contact for k in others[:5] if not person.addresses]:
            other = identify.told_apart(like, person)
            why = f"but another {visible(other, 40)}" if other else "and the row has no address to tell them apart"
            reason = f"the same name, {why}"
            self._review(Likely(self.file, row, person.title, person.uid, like.uid, like.title, reason))
        return number, "added"

    def _joined(self, known: StoredContact, person: Contact, of_book: Extra | None) -> tuple[bool, list[Difference]]:
        """What a file says of somebody who is known: joined, or, of a row that came from this book, what was changed
        in it since."""
        if of_book is not None and known.contact.uid == person.uid:
            version, row = json.loads(of_book.value)
            action = contacts.action_of(self.book, version)
            base = None if action is None else contacts.as_of(self.book, known.id, action)
            if base is not None:
                before = to_doc(known.contact)
                clashes = edited(known.contact, base, row, self._region, self.prefer_file)
                return to_doc(known.contact) != before, clashes
        return join(known.contact, person, self._phone_key, self.prefer_file and not self._answers.stamp)

    def _end_of_answers(self) -> None:
        """The end of a form's answers, where there are any: what each said last."""
        report, changed = self.report, set()
        for contact, (number, counted, differing, person) in self._answers.end():
            if differing.what.field != self._answers.stamp:
                report.note("differences", differing)
            if differing.kept != "book":
                known = contacts.need(self.book, contact)
                overwrite(known, person, {differing.what.field})
                contacts.save(self.book, contact, known)
                if not counted and number not in changed:
                    changed.add(number)
                    report.updated += 1
                    report.unchanged -= 1

    def _phone_key(self, number: str) -> str:
        if number not in self._keys:
            if len(self._keys) > 50_000:
                self._keys.clear()
            self._keys[number] = phone_key(number, self._region)
        return self._keys[number]

    def _group(self, group: ListDraft) -> None:
        """A list that a file brings, with the people of the file or the book whom it names."""
        self.report.groups += 1
        target = self.target(group.title)
        for name in group.members:
            if "@" in name:
                held = contacts.by_address(self.book, name)
                kept = held[0] if held else None
            else:
                kept = contacts.by_uid(self.book, name)
                if kept is None and name in self._uids:
                    kept = StoredContact(self._uids[name], contacts.need(self.book, self._uids[name]))
            if kept is None:
                what = visible(name, 80)
                reason = f"is on the list {visible(group.title, 60)}, but neither in the file nor in the book"
                self.report.note("doubtful", Defect(0, "member", what, reason, "", "", self.file))
            elif lists.add_member(self.book, target, kept.id, self.command):
                self._count(target, 1)

    def finish(self, tick: Callable[[int, int], None]) -> None:
        """What can only be told at the end: who may be known by name, and domains that look mistyped."""
        self._end_of_answers()
        self._find_likely(tick)
        self._find_mistyped()
        self._take_examples()

    def take_missing_off(self, title: str) -> None:
        """Take everybody off a list who is not in the files; who may be stays. Raises NotFoundError, AmbiguousError."""
        target = need_list(self.desk, self.book, title)
        met = {self._known.get(number, number) for number in range(self.first, self.next_number())} | self._glanced_at
        perhaps: frozenset[str] = frozenset().union(*self._perhaps)
        for member in [one for one in lists.members(self.book, target.id) if one.id not in met]:
            if member.contact.uid in perhaps:
                self.report.left_on.append(member.contact.title)
            else:
                lists.take_member(self.book, target.id, member.id)
                self.report.taken_off.append((target.title, member.contact.title))

    def _take_examples(self) -> None:
        """The first of the people, one from the middle and the oddest, as they stand in the book now."""
        last = len(self._rows) - 1
        if last < 0:
            return
        # Who was only glanced at and is in the book just so has no number of its own that is kept.
        numbers = [self.first, self.first + last // 2, self._oddest[1] or self.first + last]
        for what, number in zip(("first", "middle", "oddest"), numbers, strict=True):
            kept = contacts.get(self.book, self._known.get(number, number))
            if kept is not None and all(kept.contact.uid != one.contact.uid for one in self.report.examples):
                self.report.examples.append(Example(what, *self._place(number), kept.contact))

    def _place(self, number: int) -> tuple[str, int]:
        file = next((file for start, file in reversed(self._starts) if start <= number), "")
        return file, self._rows[number - self.first]

    def _find_likely(self, tick: Callable[[int, int], None]) -> None:
        """Join the new people who are certain to be known, and name those who may be."""
        if not self.report.new_contacts:
            return
        bulk.need_names(self.book)
        self.report.namesakes_only = too_large(self.book)
        gone: dict[int, StoredContact] = {}
        for new, old, reason, certain in met(self.book, self.first, self._region, tick):
            old, new = sorted((gone.get(new.id, new), gone.get(old.id, old)), key=lambda kept: kept.id)
            if new.id == old.id:
                continue
            file, row = self._place(max(new.id, old.id))
            one, other = new.contact, old.contact
            if certain and new.id >= self.first:
                self._joined_after_all(new, old)
                merged = make_one(self.desk, self.book, [old, new])
                gone[new.id] = StoredContact(old.id, old.contact)
                self.report.note("joins", Likely(file, row, one.title, merged.uid, merged.uid, merged.name, reason))
            else:
                self._review(Likely(file, row, one.title, one.uid, other.uid, other.title, reason))

    def _review(self, one: Likely) -> None:
        """Somebody whom a person has to look at, once."""
        if (pair := frozenset((one.uid, one.like))) not in self._perhaps:
            self._perhaps.add(pair)
            self.report.note("review", one)

    def _joined_after_all(self, new: StoredContact, old: StoredContact) -> None:
        """Count somebody who was added as joined, and his row, where nobody else came with it."""
        self._known[new.id] = old.id
        report, place = self.report, new.id - self.first
        report.new_contacts -= 1
        report.without_address -= not new.contact.addresses
        neighbours = (*self._rows[max(place - 1, 0) : place], *self._rows[place + 1 : place + 2])
        if self._rows[place] not in neighbours:
            report.added -= 1
            report.updated += 1
        report.joined += 1
        on = [{one.id for one, *_ in lists.memberships(self.book, kept.id)} for kept in (new, old)]
        for target in on[0] & on[1] & set(self._titles):
            self._count(target, -1)

    def _find_mistyped(self) -> None:
        if not self._rows:
            return
        # The rare ones are what may be wrong.
        domains = UsualDomains(contacts.domains(self.book))
        new = contacts.domains(self.book, self.first)
        rare = sorted(new, key=lambda domain: (domains.counts[domain], domain))[:_DOMAINS_LOOKED_AT]
        for domain, meant in [(one, meant) for one in rare if (meant := domains.meant_by(one))]:
            for kept in contacts.at_domain(self.book, domain, self.first, _MOST_MISTYPED):
                for address in kept.contact.addresses:
                    local, _, its = address.address.rpartition("@")
                    if its.lower() == domain:
                        file, row = self._place(kept.id)
                        reason = f"{domains.counts[meant]:,} others have {meant}"
                        meant_so = f"{local}@{meant}"
                        self.report.note(
                            "doubtful", Defect(row, "address", address.address, reason, meant_so, "", file)
                        )


def _twin(says: str, found: list[Holder]) -> int | None:
    """A contact whose card says the very same, but for when and how it came."""
    for number, card in found:
        if says_the_same(says, card):
            return number
    return None


class _OneByOne:
    """The people of a batch who must be looked at one by one. `same` has, by number, those who are in the book just
    so."""

    def __init__(self, rows: Rows, found: dict[int, list[Holder]], special: set[int], same: dict[int, int]) -> None:
        cards = rows.cards() if special else ()
        self._cards = {number: (uid, card) for number, uid, card in cards if number in special}
        self.same = same
        for _, value, number in rows.places if found else ():
            if value in found and number not in same:
                _, card = self._cards[number]
                other = _twin(what_it_says(card), found[value])
                if other is not None:
                    same[number] = other

    def __contains__(self, number: int) -> bool:
        return number in self.same or number in self._cards

    def contact(self, number: int) -> Contact:
        """The person as a contact."""
        uid, card = self._cards[number]
        return of_card(number, uid, card).contact

    def replace(self, number: int, contact: Contact) -> None:
        """The person is this from now on."""
        uid, _ = self._cards[number]
        self._cards[number] = uid, as_json(to_doc(contact))

    def rows(self, number: int) -> Rows:
        """The person's rows alone."""
        rows = Rows()
        rows.add(number, self.contact(number))
        return rows
