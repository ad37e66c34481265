"""Which columns of a table hold names: whole ones or parts, whoever's they are."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from barnacle.core.text import fold, listed, visible
from barnacle.files.tables.blanks import says_nothing
from barnacle.files.tables.columns import NAMES, Doubt, Use
from barnacle.files.tables.content import look_at, looks_like_name
from barnacle.files.tables.titles import SECONDS, read_title

# Shares of cells from which on a column is what they look like.
MOSTLY, NEARLY_ALL = 0.6, 0.85
_ANSWERS = re.compile(
    r"\b(?:responsa[bv]|verantwortlich|ansvarlig|ansvarig|tutor|carer|betreu|opiekun|encargad|huoltaj)"
)
_LETTERS = re.compile(r"[^a-z]+")


def _is_empty(cell: str) -> bool:
    return not cell.strip() or says_nothing(cell.strip(), as_name=True)


class NameColumns:
    """The columns of a table while it is worked out what they hold, and how names are found among them. `titles` are
    the header's cells as they stand (empty without a header), `shown` what they are called, `body` the cells of the
    first rows. `fields` has the field of each column and `whose` the person: a role and a number."""

    def __init__(self, titles: Sequence[str], shown: Sequence[str], body: Sequence[Sequence[str]]) -> None:
        self.shown = shown
        self.header = titles
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
        self.spare_names: list[int] = []
        self.kind_from: dict[int, int] = {}
        self.family_of_all = False
        self.groups: list[int] = []  # columns that say something of a group, and nothing of a person

    def _whose(self, n: int) -> tuple[str, int]:
        title = self.titles[n]
        return (title.role if title.role in (*SECONDS, "somebody") else "", 0)

    def _holds_names(self, n: int) -> bool:
        title, cells = self.titles[n], self.content[n]
        if title.is_thing or title.number or title.concept not in ("", "name", "given", "family", "both"):
            return False
        return cells.names >= MOSTLY or (title.concept in ("given", "family") and cells.words >= MOSTLY)

    def _whole_or_parts(self) -> None:
        """Beside a given name `Name` is the family's, and beside a family name the given one, unless it is whole. A
        given name that has nothing beside it and two words in nearly every row is a whole one."""
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
                    beside = f"is beside {self._named(known)}, and is read as the {missing} name."
                    self._doubt(n, f"{self._named(n)} {beside}")
            named = [n for n in mine if self.fields[n] in (*NAMES, "both")]
            if len(named) == 1 and self.fields[named[0]] == "given" and self.content[named[0]].names >= NEARLY_ALL:
                self.fields[named[0]] = "name"  # `Jméno: Jan Holm`
            self._one_name_each(mine)

    def _one_name_each(self, mine: Sequence[int]) -> None:
        """Of two columns that name one person differently, one names somebody else, in whatever words its title asks:
        what is in parts goes first, then what the addresses repeat, then the title that was understood whole."""
        wholes = [n for n in mine if self.fields[n] in ("name", "both") and self.content[n].filled]
        chosen = [next((n for n in mine if self.fields[n] == field), -1) for field in ("given", "family")]
        if wholes and not any(self.titles[n].is_sure for n in wholes):
            for n in mine:
                if not self.fields[n] and self.content[n].names >= MOSTLY and self._names_the_row(n)[0]:
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
        return self._is_in(self._places_in_addresses(n), n), self.titles[n].is_sure, -n

    def _is_whole(self, n: int, part: int) -> bool:
        """Whether a column of names repeats what stands in the column of a part."""
        both = self._words_of(n, part)
        return bool(both) and sum(bool(one & other) for one, other in both) >= 0.4 * len(both)

    def _repeats(self, n: int, other: int) -> bool:
        """Whether two columns name the same people: couples have a word in common, too, but not all. Of two that are
        never both filled each is for where the other is empty, if its title is that of a name."""
        both = self._words_of(n, other)
        if not both:
            return self.titles[n].is_sure and not self.titles[n].role
        return sum(one <= two or two <= one for one, two in both) >= 0.4 * len(both)

    def _words_of(self, *columns: int) -> list[list[set[str]]]:
        """The words of columns in the rows where none of them is empty."""
        rows = [row for row in self.body if all(n < len(row) and not _is_empty(row[n]) for n in columns)]
        return [[set(fold(row[n]).replace(",", " ").split()) for n in columns] for row in rows]

    def _neighbour(self, known: int) -> int | None:
        """A column beside one with a part of the name that looks like the other part, under a title that says
        nothing."""
        for n in (known + 1, known - 1):
            if 0 <= n < len(self.fields) and not self.fields[n] and not self.titles[n].is_known:
                cells = self.content[n]
                if cells.words >= NEARLY_ALL and cells.distinct >= 0.5:
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
            if self.content[n].names >= MOSTLY:
                self.fields[n] = "name"
                self._doubt(n, f"{self._named(n)} looks like names and is read as such.", about_names=True)
                return
        if self._named_in_addresses(like):
            return
        somebody = [n for n, one in enumerate(self.titles) if one.role == "somebody" and one.concept == "name"]
        if self._named_in_addresses(somebody):
            self.whose = [("", 0) if n in somebody and self.fields[n] else who for n, who in enumerate(self.whose)]
            return
        likely = [n for n in dict.fromkeys([*like, *unsure]) if self.content[n].filled]
        if not likely and not somebody and "org" not in self.fields:  # rather too many named than nobody
            likely = [n for n, field in enumerate(self.fields) if not field and self.content[n].names >= MOSTLY]
        if likely:
            self._none_of(likely)
        elif somebody and not any(field == "org" for field in self.fields):
            self._none_of(somebody)
        elif somebody:
            n = somebody[0]
            way = f"--columns '{visible(self.shown[n], 40)}=name' uses it as the contact's name."
            self._doubt(n, f"{self._named(n)} is kept as somebody else; {way}")

    def _named_in_addresses(self, like: Sequence[int]) -> bool:
        """Take the columns for names whose words stand in the addresses beside them: a whole name, or its parts."""
        places = {n: self._places_in_addresses(n) for n in like}
        sure = [n for n in like if self._is_in(places[n], n)]
        whole = [n for n in sure if self.content[n].names >= MOSTLY]
        if len(whole) == 1:
            self.fields[whole[0]] = "name"
            sentence = f"{self._named(whole[0])} is read as names, because they also occur in the addresses."
        elif not whole and sure and (pair := self._pair(sure, like)) is not None:
            given, family = pair
            later = sum(place > places[family].get(row, place) for row, place in places[given].items())
            if 2 * later > len(places[given]):
                given, family = family, given
            self.fields[given], self.fields[family] = "given", "family"
            taken = f"{self._named(given)} is read as the given name and {self._named(family)} as the family name"
            sentence = f"{taken}, because they also occur in the addresses."
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

    def _is_in(self, places: Collection[int], n: int) -> bool:
        """Whether so many of a column's cells stand in addresses that it names those people."""
        return len(places) >= max(2, 0.4 * self.content[n].filled)

    def _none_of(self, likely: list[int]) -> None:
        named = listed([self._named(n) for n in likely], 3)
        use = f"--columns '{visible(self.shown[likely[0]], 40)}=name'"
        sentence = f"No column was read as names, though {named} may hold some: say so with {use}."
        self._doubt(likely[0], sentence, about_names=True)

    def _reads_as_names(self, n: int) -> bool:
        cells = self.content[n]
        return cells.distinct >= 0.4 and (
            cells.names >= MOSTLY or (cells.words >= NEARLY_ALL and cells.distinct >= 0.7)
        )

    def _without_header(self, free: list[int], like: list[int]) -> None:
        """No titles at all: the first column of names, or of a name's two parts."""
        whole = next((n for n in like if self.content[n].names >= MOSTLY), None)
        if whole is not None:
            self.fields[whole] = "name"
        elif len(like) > 1 and like[1] == like[0] + 1:
            self.fields[like[0]], self.fields[like[1]] = "given", "family"
            given, family = self._named(like[0]), self._named(like[1])
            sentence = f"There is no header; {given} is read as the given name and {family} as the family name."
            self._doubt(like[0], sentence, about_names=True)
        else:
            wordy = [n for n in free if self.content[n].words >= 0.8]
            if wordy:
                self.fields[wordy[0]] = "name"

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

    def _named(self, n: int) -> str:
        return f"`{visible(self.shown[n], 40)}`"

    def _doubt(self, n: int, sentence: str, about_names: bool = False) -> None:
        self.doubts.append(Doubt(self.shown[n], sentence, about_names))
