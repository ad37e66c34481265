"""What somebody is likely to have meant by a rule that cannot be read: other words for fields and comparisons, titles
and values of several words without quotes, a value alone behind `or`, lists by their titles alone, days as people say
them. Loaded for a mistake alone."""

from __future__ import annotations

import re
from collections.abc import Iterable
from contextlib import suppress
from datetime import date, timedelta

from barnacle.core import rules
from barnacle.core.errors import UnclearError
from barnacle.core.moments import MONTHS, read_day
from barnacle.core.own_fields import day_of_a_year, is_birth
from barnacle.core.quotation_marks import straight
from barnacle.core.text import fold, nearest
from barnacle.core.typed import NoReturn

_TOKEN = re.compile(r'"[^"]*"?|[()]|[<>=!~]+|[^\s()"<>=!~]+')
# Other words for fields, and for what is asked of them.
_FIELDS = """
org: company, organisation, organization, firm, employer, works at, works for, work at, work for
address: email, e-mail, mail, e-mail address, email address, mailbox
phone: telephone, tel, mobile, phone number, number
family: surname, last name, family name, lastname
given: first name, given name, firstname, forename
job: role, position, function, job title
label: tag, category, labels, tags
note: notes, comment, remark
web: website, homepage, url
"""
_VERBS = """
is: =, ==, equals, equal to, is equal to, are, was
has: contains, includes, like, ~, with, contain, include
starts: begins, starts with, begins with
ends: ends with, ends in
after: >, over, above, later than, greater than, more than, is after, is over, is more than
before: <, under, below, earlier than, less than, fewer than, is before, is under, is less than
after or is: >=, since, from, at least, is at least
before or is: <=, until, up to, at most, is at most
not missing: is not empty, not empty, is not blank, is not missing, exists, {present}
missing: is empty, empty, is blank, blank, is missing
is not: !=, <>, isn't, isnt, is not, not, are not, does not equal
has not: does not contain, doesn't contain, does not include, has not
is in: is on, on, is in
""".replace("{present}", ", ".join(f"{word}, is {word}" for word in rules.PRESENT))
_JOINTS = {"and": "and", "or": "or", "&&": "and", "||": "or", "but": "and"}
# Between what somebody is and is not; in front of a list's title; and of a field that somebody has not, or has.
_MINUS = frozenset(("minus", "except", "without"))
_LIST_WORDS = ("list", "lists", "group", "groups")
_ON = (
    "members of", "member of", "people on", "on the list", "on list", "in list", "in the list", "on", "in",
    *(f"{what} {verb}" for what in _LIST_WORDS for verb in ("is", "=", "==", "has", "contains", "include")),
)  # fmt: skip
_OFF = (
    "is not on", "is not in", "are not on", "off",
    *(f"{what} {verb}" for what in _LIST_WORDS for verb in ("is not", "!=", "<>", "has not", "does not contain")),
)  # fmt: skip
_LACKS, _HAS = (
    ("has no", "have no", "with no", "without", "without a", "no", "lacks"),
    ("has a", "has an", "has", "with"),
)
# Words in front of a value that say no more than that.
_SKIPPED = ("one of", "any of", "either", "the", "a")
_AGO = re.compile(
    r"(more than|over|less than|within)? ?(?:(?:in )?the last )?(a|an|\d{1,3}) (day|week|month|year)s?(?: ago)?"
)
_DAYS = {"day": 1, "week": 7, "month": 30, "year": 365}
# What no rule asks, since lists come of rules: an option of `find` does.
ON_NO_LIST = frozenset("on no list, not on a list, not on any list, without a list, without list, no list".split(", "))
# So many words at most make a title.
_LONGEST = 20
# How similar a mistyped field or comparison must be to one.
_NEARLY = 0.75


def _table(text: str) -> dict[str, str]:
    lines = (line.partition(": ") for line in text.strip().splitlines())
    return {word: meant for meant, _, words in lines for word in words.split(", ")}


def meant(text: str, own_titles: Iterable[str], list_titles: Iterable[str], today: date) -> str:
    """The rule that was probably meant, if there is one that can be read; or nothing."""
    with suppress(UnclearError, IndexError):
        found = _Reader(straight(text), own_titles, list_titles, today).whole()
        rules.parse(found)
        return found
    return ""


def is_same(text: str, meant: str) -> bool:
    """Whether a rule is what was meant but for the word `field`, and quotes, at titles of fields of one's own."""
    titles = re.findall(r'field "([^"]*)"', meant)
    return _bare(text, titles) == _bare(meant, titles)


def _bare(text: str, titles: Iterable[str]) -> list[str]:
    folded = fold(straight(text))
    for title in titles:
        folded = folded.replace(f'"{fold(title)}"', fold(title))
    return [word for word in folded.split() if word != "field"]


class _Reader:
    """Reads a rule word by word, as somebody may have written it."""

    def __init__(self, text: str, own_titles: Iterable[str], list_titles: Iterable[str], today: date) -> None:
        self._tokens = [token for token in _TOKEN.findall(text)[:200] if token != ","]
        self._place = 0
        self._today = today
        known = (*rules.TEXT_FIELDS, *rules.DATE_FIELDS)
        self._fields = _table(_FIELDS) | {one: one for one in known}
        self._fields |= {fold(title): f'field "{title}"' for title in own_titles if '"' not in title}
        self._lists = {fold(title): f"in {rules.quoted(title)}" for title in list_titles if '"' not in title}
        self._verbs = _table(_VERBS) | {one: one for one in (*rules.TEXT_VERBS, *rules.DATE_VERBS, "missing")}

    def whole(self) -> str:
        """The rule. Raises IndexError where it cannot be told."""
        out: list[str] = []
        field = verb = ""
        while self._place < len(self._tokens):
            token = self._tokens[self._place]
            low = token.lower()
            if low in _JOINTS or low == "not" or token in "()":
                out.append(_JOINTS.get(low, low))
                self._place += 1
            elif low in _MINUS and out and out[-1] not in ("and", "or", "not", "("):
                out.append("and not")
                self._place += 1
            elif said := self._list() or self._lacking():
                out.append(said)
            elif (found := self._named(self._fields, skip=("field", "the"))) is not None:
                field, verb = found, self._verb(found)
                out.append(self._test(field, verb))
            elif field and verb and out[-1] in ("or", "and"):
                out.append(self._test(field, verb))  # a value alone
            else:
                out.append(self._address())
        return " ".join(out).replace("( ", "(").replace(" )", ")")

    def _next(self, phrases: Iterable[str]) -> bool:
        """Whether one of some phrases comes next, behind which more stands; it is passed over."""
        for phrase in phrases:
            number = phrase.count(" ") + 1
            if self._place + number < len(self._tokens) and self._words(number) == phrase:
                self._place += number
                return True
        return False

    def _words(self, number: int) -> str:
        return fold(" ".join(self._tokens[self._place : self._place + number]))

    def _list(self) -> str:
        """A list by its title, with `in` or `on` in front or without."""
        start = self._place
        is_off = self._next(_OFF)
        is_on = is_off or self._next(_ON)
        for number in range(min(len(self._tokens) - self._place, _LONGEST), 0, -1):
            if found := self._lists.get(self._words(number).strip('"')):
                self._place += number
                return f"not {found}" if is_off else found
        if is_on and self._tokens[start].lower() == "in":
            return f"in {self._value()}"
        self._place = start
        return ""

    def _lacking(self) -> str:
        """A field that somebody has not, or has: `no phone`, `has a phone`, `never written to`."""
        start = self._place
        if self._next(("never",)) and self._words(1) == "written":
            self._place += 1
            self._place += self._words(1) == "to"
            return "written missing"
        self._place = start
        for phrases, missing in ((_LACKS, "{} missing"), (_HAS, "not {} missing")):
            if self._next(phrases) and (field := self._named(self._fields)) and self._at_end():
                return missing.format(field)
            self._place = start
        return ""

    def _at_end(self) -> bool:
        return self._place == len(self._tokens) or self._tokens[self._place].lower() in (*_JOINTS, *_MINUS, ")")

    def _address(self) -> str:
        """Somebody by an address, or by what is behind the @."""
        token = self._tokens[self._place]
        if not re.fullmatch(r"(?:[\w.+-]{0,64}@)?[\w-]{1,63}(?:\.[\w-]{1,63}){1,9}", token):
            _none()
        self._place += 1
        field = "address is" if "@" in token.lstrip("@") else "domain is"
        return f"{field} {token.lstrip('@')}"

    def _verb(self, field: str) -> str:
        """How a field is compared; `is` where nothing says so."""
        if self._at_end():
            _none()
        if field == "address" and self._next(("at",)):
            return "at"
        if self._next(("between",)):
            return "between"
        if any(_AGO.fullmatch(self._words(number)) for number in range(2, 7)):
            return "is"
        start = self._place
        found = self._named(self._verbs)
        if found is not None and not (found == "is in" and field.startswith("field ")):
            return found
        self._place = start
        if field.startswith("field ") or field in rules.DATE_FIELDS:
            self._next(("is in", "is on", "in", "on", "is"))
        else:
            self._next((":", "at"))
        return "is"

    def _test(self, field: str, verb: str) -> str:
        if verb.endswith("missing"):
            return f"{verb.removesuffix('missing')}{field} missing"
        if verb == "between":
            first = self._value()
            self._next(("and",))
            return f"{field} after {first} and {field} before {self._value()}"
        values = self._values()
        if verb == "is in":
            return f"in {values[0]}"
        if verb == "at":
            field, verb = "domain", "is"
        if verb.endswith(" or is"):
            how = verb.removesuffix(" or is")
            tests = [f"{field} {self._dated(field, one, values[0], '')}" for one in (how, "is")]
            return f"({' or '.join(tests)})"
        how, is_not = verb.removesuffix(" not"), verb.endswith(" not")
        negated, ahead = (" not" if is_not and how == "is" else ""), ("not " if is_not and how != "is" else "")
        tests = [f"{ahead}{field} {self._dated(field, how, value, negated)}" for value in values]
        return tests[0] if len(tests) == 1 else f"({(' and ' if is_not else ' or ').join(tests)})"

    def _dated(self, field: str, verb: str, value: str, negated: str) -> str:
        """A comparison with a value; one with a day as people say it, as rules name days."""
        is_own, said = field.startswith("field "), value.strip('"').lower()
        if is_own or field in rules.DATE_FIELDS:
            yearly = is_own and is_birth(fold(field.removeprefix("field ").strip('"')))
            if said in ("this month", "last month"):
                last = self._today.replace(day=1) - timedelta(days=1)
                then = self._today if said == "this month" else last
                return f"{verb}{negated} {MONTHS[then.month - 1].capitalize() if yearly else f'{then:%Y-%m}'}"
            if said in ("this year", "last year"):
                return f"{verb}{negated} {self._today.year - (said == 'last year')}"
            if found := _AGO.fullmatch(said):
                number = 1 if found[2] in ("a", "an") else int(found[2])
                then = self._today - timedelta(days=number * _DAYS[found[3]])
                lately = found[1] in ("less than", "within") or "last" in said
                return f"{'after' if lately else 'before'} {then:%Y-%m-%d}"
            if yearly and said == "today":
                return f'{verb}{negated} "{self._today.day} {MONTHS[self._today.month - 1].capitalize()}"'
            in_order = re.fullmatch(r"\d{4}(-\d\d){0,2}", said) or (is_own and day_of_a_year(said))
            if not in_order and (day := read_day(said, self._today, past=True)):
                return f"{verb}{negated} {day:%Y-%m-%d}"
        return f"{verb}{negated} {value}"

    def _named(self, names: dict[str, str], skip: tuple[str, ...] = ()) -> str | None:
        """What the next words are called in a table, as many of them as that takes."""
        start = self._place
        while start < len(self._tokens) - 1 and self._tokens[start].lower() in skip:
            start += 1
        for end in range(min(len(self._tokens), start + _LONGEST), start, -1):
            words = fold(" ".join(self._tokens[start:end])).strip('":').replace("= =", "==")
            if words in names:
                self._place = end
                return names[words]
        word = fold(self._tokens[start]) if start < len(self._tokens) else ""
        if near := nearest(word, names, _NEARLY):
            self._place = start + 1
            return names[near]
        return None

    def _values(self) -> list[str]:
        """The values up to the next joint: several where commas part them."""
        self._next(_SKIPPED)
        value = self._value()
        if "," not in value or self._tokens[self._place - 1][-1] == '"':
            return [value]
        parts = [part.strip() for part in value.strip('"').split(",") if part.strip()]
        return [rules.quoted(part) for part in parts]

    def _value(self) -> str:
        """The words up to the next joint."""
        start = self._place
        while self._place < len(self._tokens):
            token = self._tokens[self._place]
            ends = token.lower() in (*_JOINTS, *_MINUS) or token in "()"
            if ends or (self._place > start and token[0] == '"'):
                break
            self._place += 1
            if token[0] == '"':
                break
        some = self._tokens[start : self._place] or _none()
        if some == ["between"]:
            _none()
        one = " ".join(some).replace('"', "")
        return one if len(some) == 1 and some[0][0] != '"' else f'"{one}"'


def _none() -> NoReturn:
    raise IndexError
