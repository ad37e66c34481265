"""What each column of a table is used for, by its title and its content together, and whom each row brings."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from barnacle.core.text import fold, listed, visible
from barnacle.files.tables.columns import MOST_PEOPLE, NAMES, Doubt, Use
from barnacle.files.tables.contact_columns import VERSION
from barnacle.files.tables.content import Content, look_at, looks_like_name
from barnacle.files.tables.status import is_out
from barnacle.files.tables.titles import SECONDS, Title, qualifier, read_title

_VERSION = fold(VERSION)
_MOSTLY, _NEARLY_ALL = 0.6, 0.85
_SAID = {"second": "partner or co-owner", "mother": "mother", "father": "father", "parent": "parent", "child": "child"}
_SEVERAL = ("address", "phone", "note", "label")
_FIELDS = {"email": "address", "addr": "address", "both": "name"}
# What a column can be taken for whose title says so, without a look at what else there is.
_ANSWERS = re.compile(
    r"\b(?:responsa[bv]|verantwortlich|ansvarlig|ansvarig|tutor|carer|betreu|opiekun|encargad|huoltaj)"
)
_FAX = re.compile(r"fa(?:x|ks)|telecopie|facsimile")
_LETTERS = re.compile(r"[^a-z]+")
_PLAIN = ("org", "job", "web", "note", "label", "uid")


class Uses:
    """Works out the uses of a table's columns. `titles` are the header's cells as they stand (empty without a header),
    `body` the cells of the first rows."""

    def __init__(self, titles: Sequence[str], shown: Sequence[str], body: Sequence[Sequence[str]]) -> None:
        self.shown = shown
        self.has_header = any(titles)
        self.titles = [read_title(title) for title in titles]
        self.raw = [fold(title) for title in titles]
        if any(title.role == "child" for title in self.titles):  # whoever answers for a child is a parent here
            self.titles = [
                title._replace(role="parent") if title.role == "somebody" and _ANSWERS.search(raw) else title
                for title, raw in zip(self.titles, self.raw, strict=True)
            ]
        self.body = body
        self.cells = [[row[n].strip() for row in body if n < len(row) and row[n].strip()] for n in range(len(titles))]
        self.content = [look_at(cells) for cells in self.cells]
        self.doubts: list[Doubt] = []
        self.fields = ["" for _ in titles]
        self.whose = [self._whose(n) for n in range(len(titles))]
        self.people = ""
        self._of_whom([qualifier(title) for title in titles])

    def work_out(self) -> list[Use | None]:
        """The use of each column, None where it has none."""
        for n in range(len(self.titles)):
            self.fields[n] = self._by_itself(n)
        self._repeated()
        self._whole_or_parts()
        self._find_names()
        self._miss_addresses()
        return self._of_people()

    def _of_whom(self, words: Sequence[tuple[str, ...]]) -> None:
        """Whoever has both a name and an address in a row is somebody of his own where the titles repeat his part,
        whatever it is: `Bride, Bride's email, Groom, Groom's email`."""
        own = [n for n, (role, _) in enumerate(self.whose) if not role]
        has_own = any(self._holds_names(n) or self.content[n].only_addresses >= _MOSTLY for n in own)
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
        has_address = any(self.content[n].only_addresses >= _MOSTLY for n in with_it)
        return has_address and any(self._holds_names(n) for n in with_it)

    def _holds_names(self, n: int) -> bool:
        title, cells = self.titles[n], self.content[n]
        if title.is_thing or title.number or title.concept not in ("", "name", "given", "family", "both"):
            return False
        return cells.names >= _MOSTLY or (title.concept in ("given", "family") and cells.words >= _MOSTLY)

    # One column by itself

    def _whose(self, n: int) -> tuple[str, int]:
        title = self.titles[n]
        return (title.role if title.role in (*SECONDS, "somebody") else "", 0)

    def _by_itself(self, n: int) -> str:
        """The field of a column, as its title says it and its cells allow; empty where it has none."""
        title, cells = self.titles[n], self.content[n]
        concept = title.concept
        if title.role == "somebody":
            return ""
        if cells.only_addresses >= _MOSTLY and (concept != "note" or cells.only_addresses > 0.95):
            if concept in ("phone", "name", "given", "family", "both", "org", "job", "web"):
                self._doubt(n, f"{self._named(n)} holds addresses, whatever its title says, and is taken for that.")
            return "address"
        if concept in ("email", "addr"):
            return self._address(n, concept, cells)
        if concept == "phone":
            if max(cells.dates, cells.yes_no) >= _MOSTLY:
                return ""
            return "" if cells.filled and cells.phones + cells.digits < 0.3 <= cells.words else "phone"
        if concept in ("name", "given", "family", "both"):
            return self._name(n, concept, cells)
        if concept == "title":
            return "" if not cells.filled or cells.honorifics >= 0.3 or cells.distinct < 0.1 else "job"
        if concept in ("optout", "infix"):
            return concept
        if concept == "job" and cells.honorifics >= _MOSTLY:
            return ""
        if concept in _PLAIN:
            return "" if cells.dates >= _MOSTLY or (concept == "label" and cells.yes_no >= _MOSTLY) else concept
        if not title.concept and any(len(cell) <= 60 and is_out(cell) for cell in self.cells[n]):
            return "optout"  # a status
        if self.raw[n] == _VERSION:
            return "version"
        if title.is_thing:
            if cells.phones >= _NEARLY_ALL and not _FAX.search(self.raw[n]):
                return self._phone_after_all(n)
            return ""
        return self._untitled(n, title, cells)

    def _address(self, n: int, concept: str, cells: Content) -> str:
        if concept == "addr":
            return "address" if cells.addresses >= _MOSTLY else ""
        if cells.phones >= _MOSTLY and cells.addresses < 0.2:
            return self._phone_after_all(n)
        if cells.filled and cells.meant_addresses < 0.2 and (cells.is_other or cells.words >= _MOSTLY):
            return ""
        return "address"

    def _phone_after_all(self, n: int) -> str:
        self._doubt(n, f"{self._named(n)} holds phone numbers, whatever its title says, and is taken for that.")
        return "phone"

    def _name(self, n: int, concept: str, cells: Content) -> str:
        if cells.addresses >= _MOSTLY:
            return "address"  # with names before them, or so that nobody could tell
        if cells.phones >= _MOSTLY or (cells.digits >= _MOSTLY and cells.words < 0.2):
            return self._phone_after_all(n)
        if cells.is_other:
            return ""
        if concept == "name" and not self.titles[n].is_sure and cells.filled and cells.names < 0.3:
            return "name?"
        return concept

    def _untitled(self, n: int, title: Title, cells: Content) -> str:
        """A column whose title says nothing of its content, or that has none."""
        if title.role and cells.phones < _MOSTLY:  # `Member`, `Owner`, `Mother`
            return "" if cells.is_other or cells.words + cells.names < 0.3 else "name"
        if cells.signs >= 0.8:
            return "address"  # mistyped ones too
        if cells.phones >= 0.8 or (cells.digits >= 0.8 and (title.kind or not self.has_header)):
            return "phone"
        if cells.digits >= 0.8 and cells.spaced >= 0.5 and not title.is_sure:
            self._doubt(n, f"{self._named(n)} looks like phone numbers and is taken for that.")
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
            if len(found) > 1 and len(set(numbers)) == len(numbers) and max(numbers):
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

    def _whole_or_parts(self) -> None:
        """Beside a given name `Name` is the family's, and beside a family name the given one, unless it is whole."""
        for whose in dict.fromkeys(self.whose):
            mine = [n for n in range(len(self.fields)) if self.whose[n] == whose]
            by = {field: [n for n in mine if self.fields[n] == field] for field in ("name", "given", "family", "both")}
            for part, missing in (("given", "family"), ("family", "given")):
                if not by[part] or by[missing]:
                    continue
                known = by[part][0]
                if candidates := [n for n in by["name"] + by["both"] if not self._is_whole(n, known)]:
                    self.fields[max(candidates, key=self._names_the_row)] = missing
                elif not by["name"] and not by["both"] and (n := self._neighbour(known)) is not None:
                    self.fields[n] = missing
                    beside = f"stands beside {self._named(known)} and is taken for the {missing} name."
                    self._doubt(n, f"{self._named(n)} {beside}")
            self._one_name_each(mine)

    def _one_name_each(self, mine: Sequence[int]) -> None:
        """Of two columns that name one person differently, one names somebody else, in whatever words its title asks:
        what is in parts goes first, then what the addresses repeat, then the title that was understood whole."""
        wholes = [n for n in mine if self.fields[n] in ("name", "both") and self.content[n].filled]
        chosen = [next((n for n in mine if self.fields[n] == field), -1) for field in ("given", "family")]
        if wholes and not any(self.titles[n].is_sure for n in wholes):
            free = [n for n in mine if not self.fields[n] and self.content[n].names >= _MOSTLY]
            for n in free:
                if self._names_the_row(n)[0]:
                    self.fields[n] = "name"
                    wholes.append(n)
        if -1 in chosen:
            chosen = [max(wholes, key=self._names_the_row)] if wholes else []
        for n in wholes:
            if n not in chosen and not all(self._repeats(n, one) for one in chosen):
                self.fields[n] = ""
                beside = " and ".join(self._named(one) for one in chosen)
                self._doubt(n, f"{self._named(n)} names other people than {beside}, and is kept as a field.")

    def _names_the_row(self, n: int) -> tuple[bool, bool, int]:
        in_addresses = len(self._places_in_addresses(n)) >= max(2, 0.4 * self.content[n].filled)
        return in_addresses, self.titles[n].is_sure, -n

    def _is_whole(self, n: int, part: int) -> bool:
        """Whether a column of names repeats what stands in the column of a part."""
        both = self._words_of(n, part)
        return bool(both) and sum(bool(one & other) for one, other in both) >= 0.4 * len(both)

    def _repeats(self, n: int, other: int) -> bool:
        """Whether two columns name the same people: couples have a word in common, too, but not all."""
        both = self._words_of(n, other)
        return bool(both) and sum(one <= two or two <= one for one, two in both) >= 0.4 * len(both)

    def _words_of(self, *columns: int) -> list[list[set[str]]]:
        """The words of columns in the rows where none of them is empty."""
        rows = [row for row in self.body if all(n < len(row) and row[n].strip() for n in columns)]
        return [[set(fold(row[n]).replace(",", " ").split()) for n in columns] for row in rows]

    def _neighbour(self, known: int) -> int | None:
        """A column beside one with a part of the name that looks like the other part, under a title that says
        nothing."""
        for n in (known + 1, known - 1):
            if 0 <= n < len(self.fields) and not self.fields[n] and not self.titles[n].is_known:
                cells = self.content[n]
                if cells.words >= _NEARLY_ALL and cells.distinct >= 0.5:
                    return n
        return None

    def _find_names(self) -> None:
        """Where no column is one of names by its title: one that looks like it, if there is just one."""
        unsure = [n for n, field in enumerate(self.fields) if field == "name?"]
        named = any(field in (*NAMES, "both") and not self.whose[n][0] for n, field in enumerate(self.fields))
        for n in unsure:
            self.fields[n] = ""
        if named:
            return
        free = [n for n, field in enumerate(self.fields) if not field and not self.titles[n].is_thing]
        free = [n for n in free if self.titles[n].role != "somebody" and not self.whose[n][0]]
        like = [n for n in free if self._reads_as_names(n)]
        if not self.has_header:
            self._without_header(free, like)
            return
        if not any(field in ("address", "phone") for field in self.fields):
            like = like or unsure
        if len(like) == 1 and (self.content[like[0]].names >= 0.8 or not self.titles[like[0]].is_known):
            (n,) = like
            if self.content[n].names >= _MOSTLY:
                self.fields[n] = "name"
                self._doubt(n, f"{self._named(n)} looks like names and is taken for that.", about_names=True)
                return
        if self._named_in_addresses(like):
            return
        somebody = [n for n, one in enumerate(self.titles) if one.role == "somebody" and one.concept == "name"]
        if "org" not in self.fields and self._named_in_addresses(somebody):
            self.whose = [("", 0) if n in somebody and self.fields[n] else who for n, who in enumerate(self.whose)]
            return
        likely = [n for n in dict.fromkeys([*like, *unsure]) if self.content[n].filled]
        if not likely and not somebody and "org" not in self.fields:  # rather too many named than nobody
            likely = [n for n, field in enumerate(self.fields) if not field and self.content[n].names >= _MOSTLY]
        if likely:
            self._none_of(likely)
        elif somebody and not any(field == "org" for field in self.fields):
            self._none_of(somebody)
        elif somebody:
            n = somebody[0]
            way = f"--columns '{visible(self.shown[n], 40)}=name' takes it for the contact's name."
            self._doubt(n, f"{self._named(n)} is kept as somebody else; {way}")

    def _named_in_addresses(self, like: Sequence[int]) -> bool:
        """Take the columns for names whose words stand in the addresses beside them: a whole name, or its parts."""
        places = {n: self._places_in_addresses(n) for n in like}
        sure = [n for n in like if len(places[n]) >= max(2, 0.4 * self.content[n].filled)]
        whole = [n for n in sure if self.content[n].names >= _MOSTLY]
        if len(whole) == 1:
            self.fields[whole[0]] = "name"
            sentence = f"{self._named(whole[0])} is taken for names, since they stand in the addresses, too."
        elif not whole and sure and (pair := self._pair(sure, like)) is not None:
            given, family = pair
            later = sum(place > places[family].get(row, place) for row, place in places[given].items())
            if 2 * later > len(places[given]):
                given, family = family, given
            self.fields[given], self.fields[family] = "given", "family"
            taken = f"{self._named(given)} is taken for the given name and {self._named(family)} for the family name"
            sentence = f"{taken}, since they stand in the addresses, too."
        else:
            return False
        self._doubt(sure[0], sentence, about_names=True)
        return True

    @staticmethod
    def _pair(sure: Sequence[int], like: Sequence[int]) -> tuple[int, int] | None:
        """Two columns side by side that are a name together: the one whose words stand in addresses first."""
        beside = [n for n in (sure if len(sure) > 1 else like) if abs(n - sure[0]) == 1]
        return (sure[0], beside[0]) if len(beside) == 1 else None

    def _places_in_addresses(self, n: int) -> dict[int, int]:
        """In which rows a column's first word stands in an address, and how far behind its beginning."""
        columns = [k for k, field in enumerate(self.fields) if field == "address"]
        found = {}
        for number, row in enumerate(self.body):
            words = fold(row[n]).split() if n < len(row) else []
            locals_ = " ".join(fold(row[k].partition("@")[0]) for k in columns if k < len(row))
            if words and len(words[0]) > 2 and words[0] in locals_:
                found[number] = locals_.index(words[0])
        return found

    def _none_of(self, likely: list[int]) -> None:
        named = listed([self._named(n) for n in likely], 3)
        use = f"--columns '{visible(self.shown[likely[0]], 40)}=name'"
        sentence = f"No column was taken for names, though {named} may hold some: say so with {use}."
        self._doubt(likely[0], sentence, about_names=True)

    def _reads_as_names(self, n: int) -> bool:
        cells = self.content[n]
        return cells.distinct >= 0.4 and (
            cells.names >= _MOSTLY or (cells.words >= _NEARLY_ALL and cells.distinct >= 0.7)
        )

    def _without_header(self, free: list[int], like: list[int]) -> None:
        """No titles at all: the first column of names, or of a name's two parts."""
        whole = next((n for n in like if self.content[n].names >= _MOSTLY), None)
        if whole is not None:
            self.fields[whole] = "name"
        elif len(like) > 1 and like[1] == like[0] + 1:
            self.fields[like[0]], self.fields[like[1]] = "given", "family"
            given, family = self._named(like[0]), self._named(like[1])
            sentence = f"There is no header; {given} is taken for the given name and {family} for the family name."
            self._doubt(like[0], sentence, about_names=True)
        else:
            wordy = [n for n in free if self.content[n].words >= 0.8]
            if wordy:
                self.fields[wordy[0]] = "name"

    def _miss_addresses(self) -> None:
        """Where addresses are somebody else's alone, that is said: perhaps they are not."""
        if "address" in self.fields:
            return
        for n, cells in enumerate(self.content):
            if cells.only_addresses >= _MOSTLY:
                way = f"--columns '{visible(self.shown[n], 40)}=address' takes it for the contact's."
                self._doubt(n, f"No address was taken: {self._named(n)} is kept as somebody else's; {way}")

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
        known = [who for who, fields in found.items() if fields & {*NAMES, "both", "address", "org"}]
        known.sort(key=lambda who: who[0] not in ("", "child"))
        if not any(who[0] == "" for who in known) and ("", 0) in found:
            # What names nobody belongs to whoever comes first.
            for n, who in enumerate(self.whose):
                if who == ("", 0) and known:
                    self.whose[n] = known[0]
        if (("", 0) in known or ("", 0) in found) and (numbered := [who for who in known if who[0] == "" and who[1]]):
            # Columns without a number belong to the first of those that have one.
            self.whose = [numbered[0] if who == ("", 0) else who for who in self.whose]
            known = [who for who in known if who != ("", 0)]
            if numbered[0] not in known:
                known.insert(0, numbered[0])
        for who in known:
            if not found.get(who, set()) & {*NAMES, "both"} and who[0]:
                n = next(n for n, one in enumerate(self.whose) if one == who and self.fields[n])
                nameless = "is of somebody whom no column names: such people come in without a name."
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
            for kind, share in (("days", cells.dates), ("yes or no", cells.yes_no), ("numbers", cells.numbers)):
                if use is None and share >= _NEARLY_ALL:
                    found[self.shown[n]] = kind
                    break
        return found

    def family_first(self, uses: Sequence[Use | None]) -> frozenset[int]:
        """The people of a row whose names stand with the family name first: as the addresses beside them tell, else as
        the title says."""
        votes = {}
        for n, use in enumerate(uses):
            if use and use.field == "name":
                mine = (k for k, one in enumerate(uses) if one and one.field == "address" and one.person == use.person)
                addresses = next(mine, None)
                votes[n] = self._votes(n, addresses) if addresses is not None else 0
        # Whoever has no address is written as the others are whose title says the same.
        alike = sum(vote for n, vote in votes.items() if self.titles[n].concept == "both")
        found = set()
        for n, vote in votes.items():
            turned = self.titles[n].concept == "both"
            if vote < 0 or (turned and not vote and alike <= 0):
                found.add(uses[n].person)  # type: ignore[union-attr]
        return frozenset(found)

    def _votes(self, names: int, addresses: int) -> int:
        """More than 0 where the addresses beside names say that the given name stands first (`maren.holt`, `m.holt` and
        `holt.m` of Maren Holt), less where the family name does."""
        first = last = 0
        for row in self.body:
            if max(names, addresses) >= len(row) or "," in row[names] or not looks_like_name(row[names]):
                continue
            one, *_, other = fold(row[names]).replace("-", " ").split()
            parts = [part for part in _LETTERS.split(fold(row[addresses].partition("@")[0])) if part]
            if len(parts) == 2 and one != other:
                short, long = sorted(parts, key=len)
                if len(short) == 1:  # an initial is a given name's
                    first += long == other and short == one[0]
                    last += long == one and short == other[0]
                else:
                    first += parts == [one, other]
                    last += parts == [other, one]
        if self.titles[names].concept == "both":
            return first - last
        return -1 if last >= 3 and last > 4 * first and 2 * last >= len(self.body) else max(first, 1)

    def _say_whom(self, order: dict[tuple[str, int], int]) -> None:
        if len(order) < 2:
            several = [n for n, field in enumerate(self.fields) if field == "address"]
            more = f"; {listed([self._named(n) for n in several], 3)} are addresses of the same person" * (
                len(several) > 1
            )
            self.people = f"one person a row{more}"
            return
        of = []
        for who in order:
            mine = (n for n, one in enumerate(self.whose) if one == who)
            of.append(self._named(next((n for n in mine if self.fields[n] in (*NAMES, "both", "address")), 0)))
        self.people = f"{len(order)} people a row, named by {listed(of, MOST_PEOPLE)}"

    def _named(self, n: int) -> str:
        return f"`{visible(self.shown[n], 40)}`"

    def _doubt(self, n: int, sentence: str, about_names: bool = False) -> None:
        self.doubts.append(Doubt(self.shown[n], sentence, about_names))
