"""Rows of a table as contacts, with everything that could not be taken."""

from __future__ import annotations

import json
import re

from barnacle.core.addresses import (
    Mailbox,
    check_address,
    in_usual_brackets,
    named,
    parse_mailbox,
    plain_address,
    split_cell,
    split_pasted,
    suggest,
    with_remark,
    without_unseen,
)
from barnacle.core.asides import split_off
from barnacle.core.contact import Address, Contact, Extra, Failing, OptOut
from barnacle.core.errors import BadAddressError
from barnacle.core.names import display_name, family_last, may_be_several, turned, two_people, usual_case
from barnacle.core.phones import LEAST_DIGITS, cut_phones, digits
from barnacle.core.quotation_marks import unquoted
from barnacle.core.text import NAME_LIMIT, VALUE_LIMIT, has_unsafe, tidy, visible, words
from barnacle.core.typed import NamedTuple
from barnacle.files.drafts import Defect, Draft, Row, cleaned, was_cut
from barnacle.files.tables.blanks import POINTS, points_elsewhere, says_nothing
from barnacle.files.tables.columns import NAMES, Columns, Use
from barnacle.files.tables.content import looks_like_name
from barnacle.files.tables.csv_writer import unharmed
from barnacle.files.tables.lines import IS_HEADING, Lines, is_alone
from barnacle.files.tables.remarks import is_remark, kind_beside, kind_of
from barnacle.files.tables.status import came_back, is_out, says_out
from barnacle.files.tables.taking import ONE_LINE, shared_out, take_address, take_phone, take_phones, take_text
from barnacle.files.tables.text_line import people_of, without_phones
from barnacle.files.tables.titles import read_title

_PLAIN_TEXT = ONE_LINE | {"web"}
_SEVERAL = re.compile(r"[\s,;|<>/]|mailto:", re.IGNORECASE)
# How a row of a table that came from a book travels with its contact: the book's version then, and the cells.
OF_BOOK = "book:row"
_LOST = "\ufffd"
_BETWEEN_LISTS = re.compile(r"[,;|\n]")
_LINES = re.compile(r"[\r\n]+|\s/\s")
_CARE_OF = re.compile(r"\s(?=c/o\s)", re.IGNORECASE)
# A value as short as this is no title for a list by itself: the column's title stands before it.
_SHORT = 3
# Fields in which nothing may be said in words; whether fewer of them, since they may be what somebody is called.
_MAY_BE_BLANK = {
    "address": False,
    "phone": False,
    **dict.fromkeys((*NAMES, "infix"), True),
}
# Headings in a table name lists, not a column.
BY_HEADINGS, HEADINGS = -1, "headings"


class Reading(NamedTuple):
    """How the rows of tables are read: the country (ISO 3166) of phone numbers without one, whether a suggested
    spelling is taken for what was meant, whether a row is refused for a bad address, and what time it is (ISO 8601)."""

    region: str = ""
    accept: bool = False
    only_good: bool = False
    accepted: frozenset[str] = frozenset()
    now: str = ""


PLAINLY = Reading()


class RowReader:
    """Reads the rows of one table in their order. `list_by` is the column whose value names a list, if any; BY_HEADINGS
    where a heading above some rows does."""

    def __init__(self, columns: Columns, sheet: str = "", list_by: int | None = None, how: Reading = PLAINLY) -> None:
        self.columns = columns
        self.sheet = sheet
        self.list_by = list_by
        self.how = how
        self.width = len(columns.titles) if columns.header == 0 else columns.filled_width
        self.lines = Lines(columns, headed=list_by == BY_HEADINGS)
        self.heading = ""  # the last one
        self._plan = [
            (None if title in columns.dropped else number, use, title, use is not None and use.field in ONE_LINE)
            for number, (use, title) in enumerate(zip(columns.uses, columns.titles, strict=True))
        ]
        self._named = {use.person for use in columns.uses if use and use.field in (*NAMES, "org")}

    def read(self, row: Row) -> Draft:
        """The people of a row. Somebody with a broken address comes in without it, where he has a name; a row that does
        not fit the columns is refused, and one that is no person's is left out."""
        draft = Draft(row.number)
        if row.defect:
            draft.refused.append(row.defect._replace(sheet=self.sheet))
            return draft
        draft.cleaned += [one._replace(sheet=self.sheet) for one in row.odd]
        cells = row.cells
        if self.columns.left or not self.columns.is_whole:
            cells = cells[self.columns.left : self.columns.left + len(self.columns.titles)]
        joined = "".join(cells)
        if not joined.strip():
            return draft
        if ("@" not in joined or is_alone(cells)) and (why := self.lines.why_none(row, cells)):
            if why.startswith(IS_HEADING) and self.list_by == BY_HEADINGS:
                self.heading = tidy(joined, 80).rstrip(" :")
                why = f"{IS_HEADING}: those below it are on its list"
            draft.left_out.append(Defect(row.number, "", tidy(" ".join(cells), 80), why, "", self.sheet))
            return draft
        if len(cells) > self.width and (extra := [c for c in cells[self.width :] if c.strip()]):
            reason = f"the row has {len(cells)} cells where the header has {self.width}"
            if not self.sheet:
                draft.refused.append(Defect(row.number, "", tidy(extra[0], 80), reason))
                return draft
            # Of a sheet each cell stands in its place; in a text one too many may be half of another.
            if unread := [c for c in cells[len(self.columns.titles) :] if c.strip()]:
                reason = "it stands beside the table and was left out"
                draft.cleaned.append(Defect(row.number, "", tidy(unread[0], 80), reason, "", self.sheet))
        return self.take(draft, cells)

    def take(self, draft: Draft, cells: list[str]) -> Draft:
        """The people of a row that is surely one."""
        joined = "".join(cells)
        return self._people(draft, cells, joined.isascii() and joined.isprintable() and "  " not in joined)

    def _people(self, draft: Draft, cells: list[str], plain: bool) -> Draft:
        people: dict[int, Contact] = {}
        kept: list[Extra] = []
        broken: dict[int, list[Defect]] = {}
        marks: list[tuple[int, str, str]] = []
        version = ""
        infixes: dict[int, str] = {}
        asides: dict[int, str] = {}
        for (number, use, title, one_line), cell in zip(self._plan, cells, strict=False):
            if not cell or not (cell := unharmed(cell.strip())) or number is None:
                continue
            if not plain and (not cell.isprintable() or _LOST in cell):
                self._clean(draft, cell, title, one_line)
            if len(cell) > NAME_LIMIT and (one_line or len(cell) > VALUE_LIMIT):
                limit = NAME_LIMIT if one_line else VALUE_LIMIT
                draft.cleaned.append(was_cut(draft.row, title, cell, limit, self.sheet))
            if use is None:
                kept.append(Extra(f"csv:{title}", tidy(cell)))
                continue
            field, who, kind = use.field, use.person, use.kind
            if field.startswith("kind of"):
                if not kind_beside(cell, field.removeprefix("kind of ")):
                    kept.append(Extra(f"csv:{title}", tidy(cell)))
                continue
            if (place := self.columns.kind_from.get(number)) is not None and place < len(cells):
                kind = kind_beside(cells[place], field) or kind
            if field in _MAY_BE_BLANK and says_nothing(cell, _MAY_BE_BLANK[field]):
                continue
            if field == "version":
                version = cell
                continue
            if field == "optout":
                kept.append(Extra(f"csv:{title}", tidy(cell)))
                marks.append((who, title, cell))
                continue
            if field == "people":
                self._everybody(draft, cell, kind, title)
                continue
            person = people.get(who)
            if person is None:
                person = people[who] = Contact()
            if field == "address":
                if address := plain_address(cell):
                    take_address(person, Address(address, kind))
                elif defects := self._addresses(draft, person, cell, use, kind, title):
                    broken.setdefault(who, []).extend(defects)
            elif field == "phone":
                take_phones(person, cell, kind, self.how.region)
            elif field == "infix":
                infixes[who] = tidy(cell, NAME_LIMIT)
            elif field in NAMES:
                if points_elsewhere(cell):
                    draft.doubtful.append(Defect(draft.row, title, visible(cell, 80), POINTS, "", self.sheet))
                elif aside := self._name(draft, person, use, title, cell):
                    asides[who] = aside
            elif plain and len(cell) <= NAME_LIMIT and field in _PLAIN_TEXT:
                setattr(person, field, cell)
            else:
                take_text(person, field, cell)
        if self.columns.spare_names and not (1 in people and people[1].is_named):
            self._name_again(draft, people, cells)
        if self.columns.family_of_all and 1 in people:
            for person in people.values():
                person.family = person.family or (people[1].family if person.given else "")
        for who, infix in infixes.items():  # a particle in a column of its own
            people[who].family = display_name(infix, people[who].family)
        for who, aside in asides.items():
            people[who].name = people[who].name or display_name(people[who].given, people[who].family) + aside
        for who, title, cell in marks:
            if who in people:
                self._mark(people[who], title, tidy(cell, 200))
        self._finish(draft, cells, people, broken, kept)
        if version and len(draft.people) == 1 and draft.people[0].uid:
            draft.people[0].extra.append(Extra(OF_BOOK, json.dumps([version[:40], self._as_they_stand(cells)])))
        return draft

    def _name_again(self, draft: Draft, people: dict[int, Contact], cells: list[str]) -> None:
        """Name the first person by another column of names, since the one that is read has none."""
        for place in self.columns.spare_names:
            cell = unharmed(cells[place].strip()) if place < len(cells) else ""
            if cell and not says_nothing(cell, as_name=True) and not points_elsewhere(cell):
                self._name(draft, people.setdefault(1, Contact()), Use("name"), self.columns.titles[place], cell)
                return

    def _as_they_stand(self, cells: list[str]) -> dict[str, str]:
        """A row of a table that came from a book, by titles."""
        padded = [*cells, *[""] * (len(self.columns.titles) - len(cells))]
        pairs = zip(self.columns.titles, padded, strict=False)
        return {title: tidy(unharmed(cell.strip())) for title, cell in pairs if title not in self.columns.dropped}

    def _mark(self, person: Contact, title: str, value: str) -> None:
        """An opt-out, or mail that came back, as a column says it."""
        why = f"{title}: {value}"
        if came_back(value):
            person.failing = [Failing(a.address, True, 1, self.how.now, why) for a in person.addresses]
        elif says_out(value, titled_so=read_title(title).concept == "optout"):
            person.opt_out = OptOut(self.how.now, why)

    def _finish(
        self,
        draft: Draft,
        cells: list[str],
        people: dict[int, Contact],
        broken: dict[int, list[Defect]],
        kept: list[Extra],
    ) -> None:
        """Take the people of a row who can be known by something, with what has no field and the list it names."""
        lead: Contact | None = None
        for number, person in people.items():
            bad = broken.get(number, [])
            draft.refused += bad
            if not person.name:
                person.name = display_name(person.given, person.family)
            if person.given or person.family:
                person.drop_implied_parts()
            if person.addresses or (person.called and not (bad and self.how.only_good)):
                for defect in bad if not person.addresses else ():
                    take_text(person, "note", f"{defect.column}: {defect.value}")
                taken = self._one_or_two(draft, person)
                lead = lead or taken[0]
                draft.people += taken
            elif not bad and (person.phones or not draft.people):
                draft.refused.append(self._nobody(draft.row, cells))
        if not people and not draft.people:
            draft.refused.append(self._nobody(draft.row, cells))
        if lead is not None:
            lead.extra += kept
        if draft.people:
            place = self.list_by
            if place == BY_HEADINGS:
                draft.lists += [self.heading] if self.heading else []
                if not self.heading:
                    self._doubt(draft, draft.people[0].title, "no heading stands above it, so it is on no list")
            elif place is not None and place < len(cells):
                for part in _BETWEEN_LISTS.split(unharmed(cells[place])):
                    if value := tidy(part, 80):
                        draft.lists.append(value if len(value) > _SHORT else f"{self.columns.titles[place]} {value}")

    def _one_or_two(self, draft: Draft, person: Contact) -> list[Contact]:
        """The person, or the two whom his name names together; what is doubtful about a name is said."""
        if not person.name:
            if self._named and not person.org:
                self._doubt(draft, person.preferred or "", "there is no name beside it")
            return [person]
        names = two_people(person.name)
        if len(names) == 2:
            other = Contact(name=names[1])
            self._doubt(draft, person.name, f"read as two people: {names[0]} and {names[1]}")
            person.name, person.given, person.family = names[0], "", ""
            mine, theirs = shared_out(names, person.addresses)
            person.addresses, other.addresses = mine, theirs
            other.phones, other.org = ([], person.org) if len(person.phones) > 1 else (list(person.phones), person.org)
            return [person, other]
        if may_be_several(person.name):
            self._doubt(draft, person.name, "it may be more than one person; it was added as one contact")
        return [person]

    def _doubt(self, draft: Draft, value: str, reason: str) -> None:
        draft.doubtful.append(Defect(draft.row, "name", visible(value, 80), reason, "", self.sheet))

    def _nobody(self, row: int, cells: list[str]) -> Defect:
        return Defect(row, "", tidy(" ".join(cells), 80), "it has neither a name nor an address", "", self.sheet)

    def _clean(self, draft: Draft, cell: str, title: str, one_line: bool) -> None:
        if has_unsafe(cell if one_line else " ".join(cell.split())):
            draft.cleaned.append(cleaned(draft.row, title, cell, self.sheet))
        if _LOST in cell:
            reason = "a character could not be read; is the encoding right?"
            draft.cleaned.append(Defect(draft.row, title, visible(cell, 80), reason, "", self.sheet))

    def _name(self, draft: Draft, person: Contact, use: Use, title: str, cell: str) -> str:
        """Take a name or a part of one. Returns what stands behind a family name and is none (`geb. Meyer`)."""
        lines = [line.strip() for line in _LINES.split(cell)] if use.field == "name" else []
        if len(lines) == 2 and all(map(looks_like_name, lines)):
            cell = " & ".join(lines)  # two people below each other
        value = unquoted(tidy(cell, NAME_LIMIT))
        if sum(map(str.isdigit, value)) >= LEAST_DIGITS:
            bare, phones = without_phones(value)
            if phones and any(map(str.isalpha, bare)):
                for phone in phones:
                    take_phone(person, phone)
                whole, value = value, tidy(bare).strip(" ()-–,;:/")
                told = f"read as `{value}`; a number stands beside it"
                draft.cleaned.append(Defect(draft.row, title, visible(whole, 80), told, "", self.sheet))
        value, *care_of = _CARE_OF.split(value, maxsplit=1)
        if care_of:
            take_text(person, "note", care_of[0])
        aside = ""
        if use.field != "name":
            if use.field == "family":
                value, aside = split_off(value)
            written = usual_case(value, first=use.field == "given")
            setattr(person, use.field, written)
        else:
            name = turned(value)
            name = family_last(name, sure=name == value and use.person in self.columns.family_first)
            written = usual_case(name)
            person.name = written
        if written != value and (value.isupper() or "," not in value):  # a comma says itself that it is turned round
            defect = Defect(draft.row, title, visible(value, 80), f"read as `{written}`", "", self.sheet)
            draft.cleaned.append(defect)
        return aside.removeprefix(",")

    def _addresses(self, draft: Draft, person: Contact, cell: str, use: Use, kind: str, title: str) -> list[Defect]:
        defects: list[Defect] = []
        if (seen := without_unseen(cell)) != cell:
            reason = "signs that are not seen were left off"
            draft.cleaned.append(Defect(draft.row, title, visible(seen, 80), reason, "", self.sheet))
            cell = seen
        if points_elsewhere(cell):
            return [Defect(draft.row, title, visible(cell, 80), POINTS, "", self.sheet)]
        cell = in_usual_brackets(cell)
        if use.person not in self._named and " " in cell and self._all_in_one(draft, person, cell, kind, title):
            return defects
        if remarked := with_remark(cell, is_remark) if " " in cell or "(" in cell else None:
            self._remarked(draft, person, cell, Address(remarked[0], kind), remarked[1], title)
            return defects
        if not _SEVERAL.search(cell):
            pieces = [cell]
        else:
            pieces = split_cell(cell)
            if len(pieces) > 1 and cell.count("@") == 1 and suggest(cell) and not plain_address(pieces[0]):
                pieces = [cell]  # one with a comma in it where a dot was meant
        for piece in pieces:
            try:
                mailbox = self._mailbox(piece)
            except BadAddressError as error:
                if "@" not in piece and len(digits(piece)) >= LEAST_DIGITS and cut_phones(piece)[0][0]:
                    take_phones(person, piece, kind, self.how.region)
                elif not says_nothing(piece):
                    defects.append(Defect(draft.row, title, tidy(piece, 80), error.reason, suggest(piece), self.sheet))
                continue
            name = turned(mailbox.name)
            if name and person.name and person.addresses and set(words(name)).isdisjoint(words(person.name)):
                draft.people.append(Contact(name=name, addresses=[Address(mailbox.address, kind)]))
                self._doubt(draft, name, f"named beside {person.name} in one cell, and added as a separate person")
                continue
            person.name = person.name or name
            take_address(person, Address(mailbox.address, kind))
        return defects

    def _all_in_one(self, draft: Draft, person: Contact, cell: str, kind: str, title: str) -> bool:
        """Take a cell in which all stands that is known of somebody; says whether it is one."""
        told = people_of(cell)
        one, address = told[0], plain_address(told[0].address)
        if len(told) > 1 or not address or not one.name or not any(one[2:]) or one.is_prose:
            return False
        person.name = turned(tidy(one.name, NAME_LIMIT))
        for each in (address, *one.more):
            take_address(person, Address(each, one.kind or kind))
        for phone in one.phones:
            take_phone(person, phone)
        person.org = person.org or one.org
        for text in one.rest:
            take_text(person, "note", text)
        beside = " and a number" if one.phones else ""
        rest = "; the rest is in the note" if one.rest else ""
        read = f"read as {', '.join(filter(None, (person.name, one.org)))}, `{address}`{beside}{rest}"
        draft.cleaned.append(Defect(draft.row, title, visible(cell, 80), read, "", self.sheet))
        return True

    def _everybody(self, draft: Draft, cell: str, kind: str, title: str) -> None:
        """Everybody whose address stands in a cell, each a person."""
        for piece in split_pasted(cell):
            try:
                mailbox = self._mailbox(piece)
            except BadAddressError as error:
                draft.refused.append(
                    Defect(draft.row, title, tidy(piece, 80), error.reason, suggest(piece), self.sheet)
                )
                continue
            draft.people.append(Contact(name=turned(mailbox.name), addresses=[Address(mailbox.address, kind)]))

    def _remarked(self, draft: Draft, person: Contact, cell: str, address: Address, beside: str, title: str) -> None:
        """An address with a remark: its kind, that mail to it came back, an opt-out; any other goes into the note."""
        said, is_all = kind_of(beside)
        read = f"read as `{address.address}`" + (f" ({said})" if said else "")
        if beside and came_back(beside):
            person.failing.append(Failing(address.address, True, 1, self.how.now, f"{title}: {cell}"))
            read += ", to which mail came back"
        elif beside and is_out(beside):
            person.opt_out = OptOut(self.how.now, f"{title}: {tidy(cell, 200)}")
            read += "; must not be written to"
        elif len(digits(beside)) >= LEAST_DIGITS and cut_phones(beside)[0][0]:
            take_phones(person, beside, address.kind, self.how.region)
            read += "; a number stands behind it"
        elif beside and not is_all and not says_nothing(beside):
            take_text(person, "note", f"{address.address}: {beside}")
            read += "; the rest is in the note"
        take_address(person, Address(address.address, said or address.kind))
        draft.cleaned.append(Defect(draft.row, title, visible(cell, 80), read, "", self.sheet))

    def _mailbox(self, piece: str) -> Mailbox:
        """A piece as an address, a suggested spelling too where those are taken. Raises BadAddressError."""
        if " " in piece and "<" not in piece:
            piece = named(piece) or piece
        try:
            return parse_mailbox(piece) if "<" in piece else Mailbox("", check_address(piece))
        except BadAddressError:
            if (self.how.accept or piece in self.how.accepted) and (meant := suggest(piece)):
                return parse_mailbox(meant)
            raise
