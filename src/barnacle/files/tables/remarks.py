"""What people write beside an address or a number in its cell, and behind a name: of which kind it is, that mail came
back, that somebody has died or wants no mail."""

from __future__ import annotations

from barnacle.core.asides import in_brackets
from barnacle.core.contact import OptOut
from barnacle.core.text import tidy, visible
from barnacle.files.drafts import Defect, Draft
from barnacle.files.tables.status import DIED, came_back, is_out
from barnacle.files.tables.titles import read_title

# In one letter, behind a number or an address.
_KIND_LETTERS = {"h": "home", "p": "home", "w": "work", "d": "work", "m": "mobile"}


def kind_of(beside: str) -> tuple[str, bool]:
    """Of which kind an address or a number is by what stands beside it, and whether that is all it says."""
    if letter := _KIND_LETTERS.get(beside.casefold()):
        return letter, True
    title = read_title(beside)
    return title.kind, title.is_sure and (title.kind != "" or title.concept in ("email", "phone"))


def kind_beside(cell: str, field_name: str) -> str:
    """The kind of an address or a number as a cell beside it says; empty where that is none of ours."""
    kind = kind_of(cell.strip(" *:"))[0]
    return "" if kind == "mobile" and field_name == "address" else kind


def is_remark(word: str) -> bool:
    """Whether a word beside an address says something of it, and cannot be a part of it."""
    return came_back(word) or is_out(word) or read_title(word).kind != ""


def mark_the_dead(draft: Draft, at: str, sheet: str = "") -> None:
    """Whoever has the sign of the dead at the name, which goes, or is said behind it to have died or to want no mail,
    must not be written to from `at` on (ISO 8601), and is doubtful."""
    for person in draft.people:
        name = person.name
        signed = not name.isascii() and DIED.search(name) is not None
        if not signed and not ("(" in name and any(is_out(one) for one in in_brackets(name))):
            continue
        person.opt_out = person.opt_out or OptOut(at, tidy(name, 200))
        why = "the sign says that they have died" if signed else "said to have died, or to want no mail"
        draft.doubtful.append(Defect(draft.row, "name", visible(name, 80), f"{why}: must not be written to", "", sheet))
        if signed:
            parts = (tidy(DIED.sub(" ", part)) for part in (name, person.given, person.family))
            person.name, person.given, person.family = parts
