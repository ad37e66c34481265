"""Places in a text that somebody meant to fill in, as other programs and letters write them: `[Name]`, `%name%`,
`<<First name>>`, `«Vorname»`. A message would go out with them as they are."""

from __future__ import annotations

import re
from collections.abc import Iterator

from barnacle.core.mail import merge_fields
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple
from barnacle.files.tables.titles import read_title

_MOST_LETTERS = 40
_INSIDE = rf"([^\[\]{{}}<>«»%\n]{{1,{_MOST_LETTERS}}})"
_PLACES = re.compile(
    rf"(?<![\d%])%(?! ){_INSIDE}(?<! )%(?!\w)|"
    rf"\[\[?{_INSIDE}\]?\](?![(\[])|<<?{_INSIDE}>>?|«{_INSIDE}»|\{{\{{?{_INSIDE}\}}?\}}"
)
# A backslash with which Markdown keeps a sign as it is.
_KEPT_AS_IT_IS = re.compile(r"\\(?=[\[\]<>{}%])")
# What begins a note to whoever fills it in.
_TO_DO = frozenset("insert enter add fill please todo tbc tbd xx xxx xxxx einfügen insérer insertar inserire".split())
# Whose value a word asks for, by what column titles of that kind mean.
_FIELDS = {
    "name": "name",
    "both": "name",
    "given": "given",
    "family": "family",
    "email": "address",
    "org": "org",
    "job": "job",
}
_OTHERS = frozenset(("addr", "phone", "mobile", "title"))
# What else is left open between plain brackets, where many a word stands for another reason: `[Crew] Tides`.
_OPEN_WORDS = frozenset(
    "date time place day month year venue amount datum tag uhrzeit zeit ort betrag jour heure lieu montant fecha hora"
    " lugar data ora luogo tijd plaats tid sted dato plats dag".split()
)


class Placeholder(NamedTuple):
    """A place left open: as it is written, its line from 1, and the merge field that would fill it, where there is
    one."""

    written: str
    line: int
    field: str


def left_open(text: str, filled: bool) -> Iterator[Placeholder]:
    """The places left open in a text. In one that is `filled` for each person, `{given}` is none."""
    text = _KEPT_AS_IT_IS.sub("", text)
    seen = set()
    for match in _PLACES.finditer(text):
        written, word = match[0], next(filter(None, match.groups())).strip()
        if (filled and written[0] == "{" and written[1] != "{") or written in seen:
            continue
        if (field := _asks_for(word, is_plain=written[0] == "[")) is not None:
            seen.add(written)
            yield Placeholder(written, text.count("\n", 0, match.start()) + 1, field)


def field_meant(name: str) -> str:
    """The merge field that is meant by what other programs call it; empty where none is."""
    return name if name in merge_fields.NAMES else _FIELDS.get(read_title(name).concept, "")


def _asks_for(word: str, is_plain: bool) -> str | None:
    """The field that a word between brackets asks for; empty where it asks for something else, None where it asks for
    nothing."""
    title, said = read_title(word), fold(word)
    is_thing = said in _OPEN_WORDS if is_plain else title.is_thing
    is_asked = title.is_sure and (title.concept in _FIELDS or title.concept in _OTHERS or is_thing)
    if is_asked or word in merge_fields.NAMES or _TO_DO.intersection(said.split()[:1]):
        return field_meant(word)
    return None
