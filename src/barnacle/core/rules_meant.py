"""What somebody is likely to have meant by a rule that cannot be read: other words for fields and comparisons, titles
and values of several words without quotes, a value alone behind `or`. Loaded for a mistake alone."""

from __future__ import annotations

import re
from collections.abc import Iterable
from contextlib import suppress

from barnacle.core import rules
from barnacle.core.errors import UnclearError
from barnacle.core.own_fields import day_of_a_year
from barnacle.core.text import fold, nearest
from barnacle.core.typed import NoReturn

_TOKEN = re.compile(r'"[^"]*"?|[()]|[<>=!~]+|[^\s()"<>=!~]+')
# Other words for fields, and for what is asked of them.
_FIELDS = """
org: company, organisation, organization, firm, employer
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
after: >, >=, over, above, since, later than, greater than, more than, is after, is over, is more than
before: <, <=, under, below, until, earlier than, less than, fewer than, is before, is under, is less than
missing: is empty, empty, is blank, blank, is missing
is not: !=, <>, isn't, isnt, is not, not, are not, does not equal
has not: does not contain, doesn't contain, does not include, has not
is in: is on, on, is in
"""
_JOINTS = {"and": "and", "or": "or", "&&": "and", "||": "or"}
# So many words at most make a title.
_LONGEST = 20
# How similar a mistyped field or comparison must be to one.
_NEARLY = 0.75


def _table(text: str) -> dict[str, str]:
    lines = (line.partition(": ") for line in text.strip().splitlines())
    return {word: meant for meant, _, words in lines for word in words.split(", ")}


def meant(text: str, own_titles: Iterable[str]) -> str:
    """The rule that was probably meant, if there is one that can be read; or nothing."""
    with suppress(UnclearError, IndexError):
        found = _Reader(text, own_titles).whole()
        rules.parse(found)
        return found
    return ""


def is_same(text: str, meant: str) -> bool:
    """Whether a rule is what was meant but for the word `field`, and quotes, at titles of fields of one's own."""
    titles = re.findall(r'field "([^"]*)"', meant)
    return _bare(text, titles) == _bare(meant, titles)


def _bare(text: str, titles: Iterable[str]) -> list[str]:
    folded = fold(text)
    for title in titles:
        folded = folded.replace(f'"{fold(title)}"', fold(title))
    return [word for word in folded.split() if word != "field"]


class _Reader:
    """Reads a rule word by word, as somebody may have written it."""

    def __init__(self, text: str, own_titles: Iterable[str]) -> None:
        self._tokens = [token for token in _TOKEN.findall(text)[:200] if token != ","]
        self._place = 0
        known = (*rules.TEXT_FIELDS, *rules.DATE_FIELDS)
        self._fields = _table(_FIELDS) | {one: one for one in known}
        self._fields |= {fold(title): f'field "{title}"' for title in own_titles if '"' not in title}
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
            elif low == "in":
                self._place += 1
                out.append(f"in {self._value()}")
            elif (found := self._named(self._fields, skip=("field", "the"))) is not None:
                field, verb = found, self._named(self._verbs) or self._in_a_month(found) or _none()
                out.append(self._test(field, verb))
            elif field and verb and out[-1] in ("or", "and"):
                out.append(self._test(field, verb))  # a value alone
            else:
                _none()
        return " ".join(out).replace("( ", "(").replace(" )", ")")

    def _in_a_month(self, field: str) -> str:
        """`Birthday in December`: what is meant by `in` there."""
        joint, value = [*self._tokens[self._place : self._place + 2], "", ""][:2]
        is_one = field.startswith("field ") and joint.lower() in ("in", "on")
        if not (is_one and (value.isdigit() or day_of_a_year(value))):
            return ""
        self._place += 1
        return "is"

    def _test(self, field: str, verb: str) -> str:
        if verb == "missing":
            return f"{field} missing"
        value = self._value()
        if verb == "is in":
            return f"in {value}"
        negated = verb.endswith(" not")
        return f"{'not ' if negated else ''}{field} {verb.removesuffix(' not')} {value}"

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

    def _value(self) -> str:
        """The words up to the next joint."""
        start = self._place
        while self._place < len(self._tokens):
            token = self._tokens[self._place]
            if token.lower() in _JOINTS or token in "()" or (self._place > start and token[0] == '"'):
                break
            self._place += 1
            if token[0] == '"':
                break
        some = self._tokens[start : self._place] or _none()
        one = " ".join(some).replace('"', "")
        return one if len(some) == 1 and some[0][0] != '"' else f'"{one}"'


def _none() -> NoReturn:
    raise IndexError
