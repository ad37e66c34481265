"""What each column of a table is used for, by its title and its content together, and whom each row brings."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from barnacle.core.own_fields import A_DAY, YES_OR_NO, is_understood
from barnacle.core.text import fold, listed, visible
from barnacle.files.tables.columns import MOST_PEOPLE, NAMES, Use
from barnacle.files.tables.contact_columns import VERSION
from barnacle.files.tables.content import Content, looks_like_name
from barnacle.files.tables.name_columns import MOSTLY, NEARLY_ALL, NameColumns
from barnacle.files.tables.status import is_out
from barnacle.files.tables.titles import SECONDS, Title, qualifier

_VERSION = fold(VERSION)
_SEVERAL = ("address", "phone", "note", "label", "people", "kind of address", "kind of phone")
_FIELDS = {"email": "address", "addr": "address", "both": "name"}
_FAX = re.compile(r"fa(?:x|ks)|telecopie|facsimile")
# What a column can be taken for whose title says so, without a look at what else there is.
_PLAIN = ("org", "job", "web", "note", "label", "uid")


# Of so many characters at most are the cells of a column that holds addresses and a little more.
_SHORT = 80
# How the titles end of what has a column for its kind, and of that.
_VALUE = re.compile(r"\b(?:value|address|number|wert|adresse|nummer|valeur|valor|valore|waarde|varde|wartosc|arvo)$")
_KIND = re.compile(
    r"\b(?:label|type|kind|art|typ|bezeichnung|libelle|etiquette|tipo|etiqueta|etichetta|soort|etikett?|rodzaj|tyyppi)$"
)


# More addresses than that, on average, nobody has of his own; and what titles say of those who belong to a group.
_ONE_S_OWN = 2.5
_PEOPLE = re.compile(
    r"\b(?:members|people|persons|participants?|recipients|attendees|contacts|addresses|emails|e mails|mitglieder"
    r"|teilnehmer|empfanger|personen|adressen|membres|personnes|destinataires|adresses|miembros|personas|destinatarios"
    r"|membri|persone|destinatari|membros|pessoas|leden|deelnemers|ontvangers|medlemmer|medlemmar|deltagere|deltagare"
    r"|modtagere|mottagare|mottakere|czlonkowie|odbiorcy|uczestnicy|jasenet|osallistujat|vastaanottajat)\b"
).search
# How columns of messages begin: writers, and those who are written to.
_WRITERS = frozenset(
    """
from sender von absender de expediteur remitente da mittente van afzender fra afsender avsender fran avsandare
od nadawca lahettaja remetente
""".split()
)
_READERS = frozenset(
    """
to cc bcc recipient recipients an empfanger kopie a destinataire destinataires copie para destinatario
destinatari destinatarios copia aan ontvanger ontvangers til modtager mottaker kopi till mottagare kopia do
odbiorca dw vastaanottaja
""".split()
)


class Uses(NameColumns):
    """Works out the uses of a table's columns."""

    def work_out(self) -> list[Use | None]:
        """The use of each column, None where it has none."""
        self._of_whom([qualifier(title) for title in self.header])
        for n in range(len(self.titles)):
            self.fields[n] = self._by_itself(n)
        self._of_messages()
        self._of_groups()
        self._repeated()
        self._whole_or_parts()
        self._find_names()
        self._miss_addresses()
        self._kinds_in_columns()
        self._miss_names()
        return self._of_people()

    def _of_messages(self) -> None:
        """In a table of messages whoever is written to is somebody else than the writer, and often several."""
        begins = [title.replace(":", " ").split()[:1] for title in self.raw]
        writers, readers = (
            [n for n, one in enumerate(begins) if one and one[0] in known] for known in (_WRITERS, _READERS)
        )
        many = [n for n in readers if self.content[n].addresses >= MOSTLY]
        if not many or not any(self.content[n].addresses >= MOSTLY for n in writers):
            return
        for n in readers:
            self.fields[n] = "people" if n in many else ""
        name = "names" if len(many) == 1 else "name"
        self._doubt(many[0], f"{listed([self._named(n) for n in many], 3)} {name} other people; each is a contact.")

    def _of_groups(self) -> None:
        """Where each row is a group, a cell holds all its members."""
        if any(field in (*NAMES, "both", "org") for field in self.fields):
            return
        titled = [n for n, field in enumerate(self.fields) if field == "address" and looks_like_name(self.shown[n])]
        if len(titled) > 1:
            for n in titled:
                self.fields[n] = "people"
            which = listed([self._named(n) for n in titled], 3)
            self._doubt(titled[0], f"{which} are titled like people; each address is a contact, without that name.")
        for n, cells in enumerate(self.cells):
            if self.fields[n] != "address" or not cells:
                continue
            each = [cell.count("@") for cell in cells]
            several = sum(number > 1 for number in each)
            if sum(each) > _ONE_S_OWN * len(each) or (several and 2 * several >= len(each) and _PEOPLE(self.raw[n])):
                self.fields[n] = "people"
                self.groups = [m for m, field in enumerate(self.fields) if not field and self.cells[m]]
                named = max(self.groups, key=lambda m: self.content[m].distinct, default=n)
                way = f"; --list-by '{visible(self.shown[named], 40)}' makes a list of each row" if named != n else ""
                self._doubt(n, f"{self._named(n)} names several people in a cell; each is a contact{way}.")

    def _of_whom(self, words: Sequence[tuple[str, ...]]) -> None:
        """Whoever has both a name and an address in a row is somebody of his own where the titles repeat his part,
        whatever it is: `Bride, Bride's email, Groom, Groom's email`."""
        own = [n for n, (role, _) in enumerate(self.whose) if not role]
        has_own = any(self._holds_names(n) or self.content[n].only_addresses >= MOSTLY for n in own)
        # Contact persons and the like are people of the row only where it has no others.
        for whose in dict.fromkeys(self.whose):
            if whose[0] in SECONDS or (whose[0] and has_own):
                continue
            mine = [n for n, one in enumerate(self.whose) if one == whose]
            parts = [part for part in dict.fromkeys(words[n] for n in mine) if self._is_somebody(part, mine, words)]
            if len(parts) < 2:
                continue
            named = [next(n for n in mine if words[n] == part and self._holds_names(n)) for part in parts]
            if any(self._repeats(n, named[0]) for n in named[1:]):
                continue
            for n in mine:
                if words[n] in parts:
                    self.whose[n] = ("", parts.index(words[n]) + 1)
                    self.titles[n] = self.titles[n]._replace(role="main")
            others = listed([self._named(n) for n in named[1:MOST_PEOPLE]], MOST_PEOPLE)
            name = "names another person" if len(named) == 2 else "name other people"
            self._doubt(named[1], f"{others} {name} of the same row; each comes in as a contact.")

    def _is_somebody(self, part: tuple[str, ...], mine: Sequence[int], words: Sequence[tuple[str, ...]]) -> bool:
        with_it = [n for n in mine if words[n] == part]
        has_address = any(self.content[n].only_addresses >= MOSTLY for n in with_it)
        return has_address and any(self._holds_names(n) for n in with_it)

    # One column by itself

    def _by_itself(self, n: int) -> str:
        """The field of a column, as its title says it and its cells allow; empty where it has none."""
        title, cells = self.titles[n], self.content[n]
        concept = title.concept
        if title.role == "somebody":
            return ""
        if cells.only_addresses >= MOSTLY and (concept != "note" or cells.only_addresses > 0.95):
            if concept in ("phone", "name", "given", "family", "both", "org", "job", "web"):
                self._doubt(n, f"{self._named(n)} holds addresses, whatever its title says, and is read as such.")
            return "address"
        if concept in ("email", "addr"):
            return self._address(n, concept, cells)
        if concept == "phone":
            if max(cells.dates, cells.yes_no, cells.counts) >= MOSTLY:
                return ""
            return "" if cells.filled and cells.phones + cells.digits < 0.3 <= cells.words else "phone"
        if concept in ("name", "given", "family", "both"):
            return self._name(n, concept, cells)
        if concept == "title":
            return "" if not cells.filled or cells.honorifics >= 0.3 or cells.distinct < 0.1 else "job"
        if concept in ("optout", "infix"):
            return concept
        if concept == "job" and cells.honorifics >= MOSTLY:
            return ""
        if concept in _PLAIN:
            answers = cells.yes_no if concept == "label" or not title.is_sure else 0.0
            return "" if max(cells.dates, answers) >= MOSTLY else concept
        if not title.concept and any(len(cell) <= 60 and is_out(cell) for cell in self.cells[n]):
            return "optout"  # a status
        if self.raw[n] == _VERSION:
            return "version"
        if cells.addresses >= MOSTLY and cells.length <= _SHORT:
            self._doubt(n, f"{self._named(n)} holds addresses among other things, and is read as such.")
            return "address"
        if title.is_thing:
            if cells.phones >= NEARLY_ALL and not _FAX.search(self.raw[n]):
                return self._phone_after_all(n)
            return ""
        return self._untitled(n, title, cells)

    def _address(self, n: int, concept: str, cells: Content) -> str:
        if concept == "addr":
            return "address" if cells.addresses >= MOSTLY else ""
        if cells.phones >= MOSTLY and cells.addresses < 0.2:
            return self._phone_after_all(n)
        if cells.filled and cells.meant_addresses < 0.2 and (cells.is_other or cells.words >= MOSTLY):
            if cells.addresses:
                way = f"--columns '{visible(self.shown[n], 40)}=address' reads it as such."
                self._doubt(n, f"{self._named(n)} holds addresses in few of its cells and is kept as a field; {way}")
            return ""
        return "address"

    def _phone_after_all(self, n: int) -> str:
        self._doubt(n, f"{self._named(n)} holds phone numbers, whatever its title says, and is read as such.")
        return "phone"

    def _name(self, n: int, concept: str, cells: Content) -> str:
        if cells.addresses >= MOSTLY:
            return "address"  # with names before them, or so that nobody could tell
        if cells.phones >= MOSTLY or (cells.digits >= MOSTLY and cells.words < 0.2):
            return self._phone_after_all(n)
        if cells.is_other:
            return ""
        if concept == "name" and not self.titles[n].is_sure and cells.filled and cells.names < 0.3:
            return "name?"
        return concept

    def _untitled(self, n: int, title: Title, cells: Content) -> str:
        """A column whose title says nothing of its content, or that has none."""
        if title.role and cells.phones < MOSTLY:  # `Member`, `Owner`, `Mother`
            return "" if cells.is_other or cells.words + cells.names < 0.3 else "name"
        if cells.signs >= 0.8:
            return "address"  # mistyped ones too
        if cells.phones >= 0.8 or (cells.digits >= 0.8 and (title.kind or not self.has_header)):
            return "phone"
        if cells.digits >= 0.8 and cells.spaced >= 0.5 and not title.is_sure:
            self._doubt(n, f"{self._named(n)} looks like phone numbers and is read as such.")
            return "phone"
        if cells.webs >= 0.8 and not cells.addresses:
            return "web" if cells.filled > 1 or self.has_header else ""
        return ""

    # Columns side by side

    def _repeated(self) -> None:
        """The same title for a name again begins another person: `Name, E-mail, Name, E-mail`, `Name 1, Name 2`."""
        places: dict[tuple[str, str], list[int]] = {}
        for n, field in enumerate(self.fields):
            if field in ("name", "given", "family", "both"):
                places.setdefault((field, self.whose[n][0]), []).append(n)
        for (_, role), found in places.items():
            numbers = [self.titles[n].number for n in found]
            if len(set(numbers)) > 1 and (len(set(numbers)) == len(numbers) or all(numbers)):
                self._number(role)
                return
        for (_, role), found in places.items():
            again = [n for n in found if self.raw[n] == self.raw[found[0]]]
            if len(again) > 1 and self.raw[again[0]]:
                starts = self._starts(again)
                if not all(self._reaches(start, end) for start, end in pairwise([*starts, len(self.fields)])):
                    return
                for n in range(len(self.fields)):
                    block = sum(n >= start for start in starts)
                    if self.whose[n][0] == role and block:
                        self.whose[n] = (role, block)
                return

    def _reaches(self, start: int, end: int) -> bool:
        """Whether some columns hold what somebody is reached by."""
        return any(field in ("address", "phone") for field in self.fields[start:end])

    def _starts(self, again: list[int]) -> list[int]:
        """Where each block begins: as far in front of a repeated name as the titles are the same in all blocks."""
        back = 0
        while (
            again[0] - back - 1 >= 0
            and len({self.raw[n - back - 1] for n in again}) == 1
            and (again[1] - back - 1 > again[0])
        ):
            back += 1
        return [n - back for n in again]

    def _number(self, role: str) -> None:
        """The numbers in titles are those of people."""
        for n, title in enumerate(self.titles):
            if self.whose[n][0] == role and title.number:
                self.whose[n] = (role, title.number)

    def _miss_addresses(self) -> None:
        """Where addresses are somebody else's alone, that is said: perhaps they are not."""
        if not {"address", "people"}.isdisjoint(self.fields):
            return
        for n, cells in enumerate(self.content):
            if cells.only_addresses >= MOSTLY:
                way = f"--columns '{visible(self.shown[n], 40)}=address' uses it for the contact."
                self._doubt(
                    n, f"No address was read: {self._named(n)} belongs to somebody else, and is kept as a field; {way}"
                )

    def _kinds_in_columns(self) -> None:
        """A column beside addresses or numbers that says of which kind each is: `Phone 1 kind, Phone 1`."""
        for n, field in enumerate(self.fields):
            if field in ("address", "phone"):
                about = _VALUE.sub("", self.raw[n]).strip(" -:")
                for m, raw in enumerate(self.raw):
                    its, cells = _KIND.sub("", raw), self.content[m]
                    if not about or its == raw or its.strip(" -:") != about or cells.addresses or cells.digits:
                        continue
                    if self.fields[m] in ("", field):
                        self.fields[m], self.whose[m] = f"kind of {field}", self.whose[n]
                        self.kind_from[n] = m

    def _miss_names(self) -> None:
        """Columns of names of which nothing is made are said: perhaps they are people of the row."""
        missed = [
            n
            for n, cells in enumerate(self.content)
            if not self.fields[n] and self.titles[n].role != "somebody" and not self.titles[n].is_thing
            and self.raw[n] and cells.names >= MOSTLY and not any(self._named(n) in one.sentence for one in self.doubts)
            and self._are_given_names(n)
        ]  # fmt: skip
        if missed:
            hold, kept = ("holds", "is kept as a field") if len(missed) == 1 else ("hold", "are kept as fields")
            way = f"--columns '{visible(self.shown[missed[0]], 40)}=name 2' makes people of them."
            self._doubt(missed[0], f"{listed([self._named(n) for n in missed], 4)} {hold} names, and {kept}; {way}")

    def _are_given_names(self, n: int) -> bool:
        """Whether many cells of a column begin or end with a given name; of all there are, few are known."""
        from barnacle.core.matching.short_forms import known_given_names  # a long table, for a doubt alone

        known = known_given_names()
        told = sum(any(fold(word) in known for word in (cell.split()[0], cell.split()[-1])) for cell in self.cells[n])
        return 3 * told >= len(self.cells[n])

    # The people of a row

    def _of_people(self) -> list[Use | None]:
        order = self._order()
        uses: list[Use | None] = []
        taken: Counter[tuple[str, int]] = Counter()
        for n, field in enumerate(self.fields):
            person = order.get(self.whose[n], 0)
            if not field or not person:
                uses.append(None)
                continue
            field = _FIELDS.get(field, field)
            if taken[field, person] and field not in _SEVERAL:
                self.spare_names += [n] if (field, person) == ("name", 1) else []
                uses.append(None)
                continue
            taken[field, person] += 1
            kind = self.titles[n].kind if field in ("address", "phone") else ""
            uses.append(Use(field, person, kind if kind != "mobile" or field == "phone" else ""))
        self._say_whom(order)
        return uses

    def _order(self) -> dict[tuple[str, int], int]:
        """The people of a row with their numbers: the row's own first. Somebody of whom there is neither name nor
        address is none."""
        found: dict[tuple[str, int], set[str]] = {}
        for n, field in enumerate(self.fields):
            if field:
                found.setdefault(self.whose[n], set()).add(field)
        known = [who for who, fields in found.items() if fields & {*NAMES, "both", "address", "org", "people"}]
        known.sort(key=lambda who: who[0] not in ("", "child"))
        if not any(who[0] == "" for who in known) and ("", 0) in found:
            # What names nobody belongs to whoever comes first.
            for n, who in enumerate(self.whose):
                if who == ("", 0) and known:
                    self.whose[n] = known[0]
        numbered = [who for who in known if who[0] == "" and who[1]]
        names, mine = {"name", "both", "given"}, found.get(("", 0), set())
        own = numbered and mine & names and found[numbered[0]] & names
        if "family" in mine and not mine & names and all("family" not in found[who] for who in numbered):
            self.family_of_all = bool(numbered)
        if ("", 0) in found and numbered and not own:
            # Columns without a number belong to the first of those that have one.
            self.whose = [numbered[0] if who == ("", 0) else who for who in self.whose]
            known = [who for who in known if who != ("", 0)]
            if numbered[0] not in known:
                known.insert(0, numbered[0])
        for who in known:
            if not found.get(who, set()) & {*NAMES, "both"} and who[0]:
                n = next(n for n, one in enumerate(self.whose) if one == who and self.fields[n])
                nameless = "belongs to somebody whom no column names: they are added without a name."
                self._doubt(n, f"{self._named(n)} {nameless}")
        for who in known[MOST_PEOPLE:]:
            n = self.whose.index(who)
            self._doubt(n, f"{self._named(n)} is of a tenth person of the row or a later one, and is kept as a field.")
        return {who: number for number, who in enumerate(known[:MOST_PEOPLE], 1)}

    def kinds(self, uses: Sequence[Use | None]) -> dict[str, str]:
        """What columns hold that become fields of one's own: days, numbers, yes or no; any other holds text."""
        found = {}
        for n, use in enumerate(uses):
            cells = self.content[n]
            days = "days" if self._are_days(n) else "days that rules cannot compare"
            are_numbers = cells.numbers if {*self.cells[n]} != {"0", "1"} else 0.0
            for kind, share, least in (
                (days, cells.dates, NEARLY_ALL), ("numbers", are_numbers, NEARLY_ALL),
                (YES_OR_NO, cells.yes_no, NEARLY_ALL), (f"mostly {YES_OR_NO}", cells.yes_no, MOSTLY),
            ):  # fmt: skip
                if use is None and share >= least:
                    found[self.shown[n]] = kind
                    break
        return found

    def _are_days(self, n: int) -> bool:
        """Whether nearly all cells of a column of days are written so that rules can tell which comes first."""
        told = sum(is_understood(cell, A_DAY) for cell in self.cells[n])
        return told >= NEARLY_ALL * len(self.cells[n])

    def _say_whom(self, order: dict[tuple[str, int], int]) -> None:
        if len(order) < 2:
            several = [n for n, field in enumerate(self.fields) if field == "address"]
            more = f"; {listed([self._named(n) for n in several], 3)} are addresses of the same person" * (
                len(several) > 1
            )
            others = [self._named(n) for n, field in enumerate(self.fields) if field == "people"]
            more += f", and everybody in {listed(others, 3)}" * bool(others)
            self.people = f"one person a row{more}"
            return
        of = []
        for who in order:
            mine = (n for n, one in enumerate(self.whose) if one == who)
            of.append(self._named(next((n for n in mine if self.fields[n] in (*NAMES, "both", "address")), 0)))
        self.people = f"{len(order)} people a row, named by {listed(of, MOST_PEOPLE)}"
