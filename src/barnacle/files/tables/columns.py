"""What the columns of a table hold, worked out from its header row and from the cells themselves."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

from barnacle.core.contact_fields import FIELDS as CONTACT_FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.text import fold, visible, words
from barnacle.core.typed import NamedTuple

FIELDS = (*(one.one or one.name for one in CONTACT_FIELDS), "uid", "infix", "optout", "version", "people")
NAMES = ("name", "given", "family")
_KINDS = {
    "work": "work", "office": "work", "business": "work", "home": "home", "private": "home", "personal": "home",
    "mobile": "mobile", "cell": "mobile", "other": "other",
}  # fmt: skip
# What forms call the moment of an answer, folded.
_STAMP = re.compile(
    "time ?stamp|zeitstempel|horodat|tid(?:s)?stampe?l|tijdstempel|marca (?:de tiempo|temporal)|carimbo de data"
    "|informazioni cronologiche|sygnatura czasowa|aikaleima|отметка времени|idobelyeg|casov[ae] (?:razitko|znacka)"
    "|submi(?:tted|ssion)|completion time|eingereicht|abgesendet|abgabezeit|fertigstellung|heure de fin|envoye le"
    "|soumis le|enviado|hora de fin|data invio|skickad|innsendt|indsendt|verzonden|ingediend|wyslano|przeslano|odeslano"
)
# So many people may come from one row.
MOST_PEOPLE = 9
_PEOPLE = tuple(str(number) for number in range(2, MOST_PEOPLE + 1))
_ORDINALS = ("", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth")


@dataclass(frozen=True, slots=True)
class Use:
    """What a column is taken for: a field of one of the people of its row, counted from 1, with a kind."""

    field: str
    person: int = 1
    kind: str = ""

    def __str__(self) -> str:
        kind = f"{self.kind} " if self.kind else ""
        return f"{kind}{self.field}" + (f" of the {_ORDINALS[self.person]} person" if self.person > 1 else "")


class Doubt(NamedTuple):
    """What could not be told for certain of a table: the column that it is about, and a sentence."""

    column: str
    sentence: str
    about_names: bool = False


@dataclass(slots=True)
class Columns:
    """The columns of a table: their titles and uses, and the row the header stands in (0: none).

    What stands in a column without a use is kept with the contact as it is, unless the column is `dropped`. The table's
    first column is number `left` of the sheet's, and its last row is `until`, where other tables stand beside and below
    it. `kinds` says of columns that are kept what they hold, where that is days, numbers, yes or no. `people` says whom
    each row brings, and why; `family_first` are those whose names begin with the family's. `spare_names` are the places
    of columns that name the first person again, for where the first of them is empty.
    `kind_from` has, by the place of a column of addresses or numbers, that of the column that says their kind.
    `family_of_all` says that the family name of the first person is that of all.
    """

    titles: list[str]
    uses: list[Use | None]
    header: int
    dropped: frozenset[str] = frozenset()
    left: int = 0
    until: int | None = None
    is_whole: bool = True  # nothing stands beside it or below it
    people: str = ""
    kinds: dict[str, str] = field(default_factory=dict)
    family_first: frozenset[int] = frozenset()
    spare_names: tuple[int, ...] = ()
    kind_from: dict[int, int] = field(default_factory=dict)
    family_of_all: bool = False
    doubts: list[Doubt] = field(default_factory=list)

    def described(self) -> dict[str, str | None]:
        """Each column's title with what it was taken for, None where it has no use here."""
        return {t: str(u) if u else None for t, u in zip(self.titles, self.uses, strict=True)}

    @property
    def names_people(self) -> bool:
        """Whether any column holds what somebody can be known by."""
        return any(use and use.field in ("name", "given", "family", "org", "address", "people") for use in self.uses)

    @property
    def filled_width(self) -> int:
        """How many columns the header names: nameless ones at the end are not expected to be filled."""
        width = len(self.titles)
        while width and self.titles[width - 1].startswith("column ") and self.uses[width - 1] is None:
            width -= 1
        return width

    @property
    def stamp(self) -> str:
        """The title of the column that says when each row was answered, where these are a form's answers: they stand in
        the order in which they came. Empty where there is none; a table of a book is no form's."""
        if any(use and use.field in ("uid", "version") for use in self.uses):
            return ""
        return next((title for title, kind in self.kinds.items() if "days" in kind and _STAMP.search(fold(title))), "")

    def place(self, name: str) -> int | None:
        """Where the column stands that has this title, capitals and accents aside, or else this letter."""
        folded = [fold(title) for title in self.titles]
        if fold(name) in folded:
            return folded.index(fold(name))
        letters = [letters_of(n + self.left) for n in range(len(self.titles))]
        return letters.index(name.upper()) if name.upper() in letters else None


def read_mapping(text: str) -> dict[str, str]:
    """`TITLE=USE, TITLE=USE`: what each column shall be taken for. Raises UnclearError."""
    result: dict[str, str] = {}
    for part in re.split(r"[,;\n]", text):
        title, sign, use = part.partition("=")
        if part.strip() and not (sign and title.strip() and use.strip()):
            raise UnclearError(
                f"`{visible(part.strip(), 60)}` does not say what a column is. "
                "Write TITLE=USE, such as `E-mail=address, Boat=note`."
            )
        if part.strip() and _is_use(title) and not _is_use(use):
            told = visible(f"{use.strip()}={title.strip()}", 80)
            raise UnclearError(f"The column's title stands first: `{told}`.")
        if part.strip():
            read_use(use)
            result[title.strip()] = use.strip()
    return result


def read_use(text: str) -> Use | str | None:
    """`work address`, `name 2`, `keep` (None) or `drop`. Raises UnclearError with the uses there are."""
    for number, ordinal in enumerate(_ORDINALS[1:], 1):
        text = text.replace(f"of the {ordinal} person", str(number))
    found = words(text)
    person = int(found.pop()) if found[-1:] and found[-1] in _PEOPLE else 1
    kind = found.pop(0) if len(found) == 2 and found[0] in _KINDS else ""
    if len(found) == 1 and found[0] in FIELDS:
        return Use(found[0], person, _KINDS.get(kind, ""))
    if found in (["keep"], ["drop"]):
        return None if found == ["keep"] else "drop"
    field, mobile = _called_otherwise(" ".join(found))
    if field:
        return Use(field, person, mobile or _KINDS.get(kind, ""))
    raise UnclearError(
        f"A column cannot be `{visible(text.strip(), 40)}`. Uses are {', '.join(FIELDS)}, keep and drop; "
        "with a kind before it (`work address`) and a number after it for another person in the row (`name 2`)."
    )


def _called_otherwise(text: str) -> tuple[str, str]:
    """The field that others call so, and `mobile` if it says that: `email`, `Firma`, `Handy`; empty where there is
    none."""
    from barnacle.files.tables.titles import read_title  # not needed by who uses our words

    title = read_title(text)
    field = {"email": "address", "mobile": "phone"}.get(title.concept, title.concept)
    is_all = title.is_sure and text.replace(" ", "").isalpha() and not title.role and title.kind in ("", "mobile")
    return (field, title.kind) if is_all and field in FIELDS else ("", "")


def _is_use(text: str) -> bool:
    try:
        return bool(read_use(text))
    except UnclearError:
        return False


def mapped(columns: Columns, wanted: dict[str, str]) -> Columns:
    """The columns with the uses that somebody said they have; doubts about those are settled. Raises UnclearError."""
    uses, dropped = list(columns.uses), set(columns.dropped)
    settled = set()
    for title, text in wanted.items():
        place = columns.place(title)
        if place is not None:
            use = read_use(text)
            uses[place] = use if isinstance(use, Use) else None
            settled.add(columns.titles[place])
            if use == "drop":
                dropped.add(columns.titles[place])
    named = any(use and use.field in NAMES for use in uses)
    doubts = [one for one in columns.doubts if one.column not in settled and not (named and one.about_names)]
    return replace(columns, uses=uses, dropped=frozenset(dropped), doubts=doubts)


def letters_of(number: int) -> str:
    """0 is A, 26 is AA, as spreadsheets name columns."""
    result = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        result = chr(65 + rest) + result
    return result
