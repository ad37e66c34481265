"""Rules that keep a list's members up to date by themselves: the language, what it means, and why somebody fits.

    domain is tidewick.example and (label is crew or in "Night pilots") and not org has "Yard"

`directory "(ou=berthing)"` fits whom a filter of the organisation's directory found at the last refresh.

A parsed rule is a tree of plain lists, `["and", …]`, `["is", "domain", "tidewick.example"]`, `["in", list]`, so that it
can be stored and worked out without the grammar.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from barnacle.core.contact import Contact, comparable_numbers
from barnacle.core.contact_fields import FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.own_fields import asked_for, comparison, is_understood, own_value
from barnacle.core.phones import digits
from barnacle.core.text import VALUE_LIMIT, fold, visible
from barnacle.core.typed import Any, Protocol

Rule = list[Any]

TEXT_FIELDS = (*(field.one or field.name for field in FIELDS), "domain", "source")
DATE_FIELDS = ("added", "written")
TEXT_VERBS = ("is", "has", "starts", "ends")
DATE_VERBS = ("before", "after", "is")
_DEPTH = 40
# Words that say whether there is a value rather than which, where they stand without quotes; a label may be called so.
PRESENT = ("present", "there", "given", "known", "set", "filled")
_NO_VALUES = frozenset((*PRESENT, "empty", "blank"))
# How a rule's tree names a field of one's own: with its title behind.
OWN = "field:"

_GRAMMAR = r"""
?start: expr
?expr: term | term (_OR term)+        -> either
?term: factor | factor (_AND factor)+ -> both
?factor: _NOT factor           -> negated
       | "(" expr ")"
       | WORD VERB value       -> test
       | WORD VERB _NOT value  -> not_test
       | WORD _MISSING         -> missing
       | _FIELD value VERB value -> own
       | _FIELD value VERB _NOT value -> own_not
       | _FIELD value _MISSING -> own_missing
       | _IN value             -> member
       | _DIRECTORY QUOTED     -> found_there
value: QUOTED | WORD
_AND.3: /and(?![^\s()"])/i
_OR.3: /or(?![^\s()"])/i
_NOT.3: /not(?![^\s()"])/i
_IN.3: /in(?![^\s()"])/i
_FIELD.3: /field(?=\s+("|[^\s()"]+\s+(is|has|starts|ends|before|after|missing)(?![^\s()"])))/i
_DIRECTORY.3: /directory(?=\s+")/i
_MISSING.3: /missing(?![^\s()"])/i
VERB.3: /(is|has|starts|ends|before|after)(?![^\s()"])/i
QUOTED: /"[^"]*"/
WORD: /[^\s()"]+/
%ignore /\s+/
"""
_EXPECTED = {
    "WORD": "a field",
    "QUOTED": "a value",
    "_IN": "`in`",
    "_FIELD": "`field`",
    "_NOT": "`not`",
    "_DIRECTORY": "`directory`",
    "LPAR": "an opening bracket",
    "VERB": "`is`, `has`, `starts`, `ends`, `before`, `after`",
    "_MISSING": "`missing`",
    "_AND": "`and`",
    "_OR": "`or`",
    "RPAR": "a closing bracket",
    "$END": "the end",
}


class Facts(Protocol):
    """What a rule asks about a contact."""

    contact: Contact

    def is_on(self, number: int) -> bool:
        """Whether the contact is on the list with that number."""

    def is_found_by(self, directory_filter: str) -> bool:
        """Whether a filter of the organisation's directory found the contact at the last refresh."""

    @property
    def written(self) -> str:
        """When a message was last sent to the contact (ISO 8601), empty if never."""


def parse(text: str) -> Rule:
    """The tree of a rule; lists in it are still titles. Raises UnclearError, pointing at the word that does not fit."""
    from lark import Lark, UnexpectedInput

    if len(text) > VALUE_LIMIT:
        raise UnclearError(f"The rule has {len(text)} characters; {VALUE_LIMIT} is the most.")
    from barnacle.core.quotation_marks import straight

    text = straight(text)
    try:
        tree = Lark(_GRAMMAR, parser="lalr").parse(text)
    except UnexpectedInput as error:
        raise _unexpected(text, error) from None
    return _plain(text, tree, 0)


def _unexpected(text: str, error: Any) -> UnclearError:
    at = min(max(getattr(error, "pos_in_stream", len(text)) or 0, 0), len(text))
    if getattr(error, "token", None) is not None and error.token.type == "$END":
        at = len(text)
    names = getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", ())
    expected = [said for name, said in _EXPECTED.items() if name in (names or ())]
    if "QUOTED" in (names or ()):  # a value may be a bare word too; then no field is meant
        expected = [_EXPECTED["QUOTED"]]
    wanted = f" Here {_either(expected)} could go." if expected else ""
    if at >= len(text.rstrip()):
        return _pointing(text, len(text.rstrip()), 1, f"The rule ends too early.{wanted}")
    word = re.match(r'"[^"]*"?|[()]|[^\s()"]+|.', text[at:])
    length = len(word.group()) if word else 1
    if text[at] == '"' and text.count('"', at) == 1:
        return _pointing(text, at, len(text) - at, "A quote opens here and is never closed.")
    return _pointing(text, at, length, f"`{visible(text[at : at + length], 40)}` does not belong here.{wanted}")


def _either(choices: list[str]) -> str:
    return " or ".join([", ".join(choices[:-1]), choices[-1]] if len(choices) > 1 else choices)


def _pointing(text: str, at: int, length: int, sentence: str) -> UnclearError:
    line = visible(" ".join(text.splitlines()) if "\n" in text else text)
    return UnclearError(f"{sentence}\n  {line}\n  {' ' * at}{'^' * max(1, length)}")


def _plain(text: str, tree: Any, depth: int) -> Rule:
    if depth > _DEPTH:
        raise UnclearError(f"The rule has more than {_DEPTH} brackets inside each other.")
    kind = tree.data
    if kind in ("either", "both"):
        return ["or" if kind == "either" else "and", *(_plain(text, child, depth + 1) for child in tree.children)]
    if kind == "negated":
        return ["not", _plain(text, tree.children[0], depth + 1)]
    if kind in ("not_test", "own_not"):
        tree.data = "test" if kind == "not_test" else "own"
        return ["not", _plain(text, tree, depth + 1)]
    if kind == "member":
        return ["in", _value(tree.children[0])]
    if kind == "found_there":
        return ["directory", str(tree.children[0]).strip('"')]
    if kind in ("own", "own_missing"):
        field = f"{OWN}{_value(tree.children[0])}"
        if kind == "own_missing":
            return ["missing", field]
        verb, value = tree.children[1].lower(), _value(tree.children[2])
        if _is_missing(verb, tree.children[2]):
            return ["missing", field]
        if verb in ("before", "after") and not asked_for(verb, value):
            token = tree.children[2].children[0]
            wrong = f"`{visible(value, 40)}` is neither a day nor a number; write a day like 2026-11-23."
            raise _pointing(text, token.start_pos, len(token), wrong)
        return [verb, field, value]
    field = _field(text, tree.children[0])
    if kind == "missing":
        return ["missing", field]
    verb, value = tree.children[1], _value(tree.children[2])
    if _is_missing(verb.lower(), tree.children[2]):
        return ["missing", field]
    allowed = DATE_VERBS if field in DATE_FIELDS else TEXT_VERBS
    if verb.lower() not in allowed:
        raise _pointing(
            text, verb.start_pos, len(verb), f"With {field}, use {', '.join(allowed)} or missing, not `{verb}`."
        )
    if field in DATE_FIELDS and not re.fullmatch(r"\d{4}-\d\d(-\d\d)?|\d{4}", value):
        token = tree.children[2].children[0]
        raise _pointing(
            text, token.start_pos, len(token), f"`{visible(value, 40)}` is not a date; write it like 2026-11-23."
        )
    token = tree.children[2].children[0]
    if field != "label" and verb.lower() == "is" and token.lower() in _NO_VALUES:
        raise _pointing(text, token.start_pos, len(token), f"`{token}` is no {field}; if it is one, put it in quotes.")
    return [verb.lower(), field, value]


def _field(text: str, token: Any) -> str:
    field = token.lower()
    known = (*TEXT_FIELDS, *DATE_FIELDS)
    if field in known:
        return str(field)
    other = "a field of your own is called by its title, a list by in TITLE."
    hint = f"Fields are {', '.join(known)}; {other}"
    raise _pointing(text, token.start_pos, len(token), f"There is no field `{visible(token, 40)}`. {hint}")


def _is_missing(verb: str, value: Any) -> bool:
    """Whether `is missing` was written, without quotes."""
    return verb == "is" and str(value.children[0]).lower() == "missing"


def _value(tree: Any) -> str:
    return str(tree.children[0]).strip('"')


def write(rule: Rule, title: Callable[[Any], str] = str, inside: str = "") -> str:
    """The rule as text that parses to the same tree; `title` gives the title of a list in it."""
    kind = rule[0]
    if kind in ("and", "or"):
        text = f" {kind} ".join(write(part, title, kind) for part in rule[1:])
        return f"({text})" if inside in ("not", "and") and inside != kind else text
    if kind == "not":
        return f"not {write(rule[1], title, 'not')}"
    if kind == "in":
        return f"in {quoted(title(rule[1]))}"
    if kind == "directory":
        return f'directory "{rule[1]}"'
    own = own_title(rule[1])
    field = rule[1] if own is None else f'field "{own}"'
    return f"{field} missing" if kind == "missing" else f"{field} {kind} {quoted(rule[2])}"


def own_title(field: str) -> str | None:
    """The title of a field of one's own that a rule asks for, or None for one that every contact has."""
    return field.removeprefix(OWN) if field.startswith(OWN) else None


def own_tests_in(rule: Rule) -> Iterator[tuple[str, str]]:
    """The titles of one's own fields that a rule refers to, each with what it takes the values for
    (`own_fields.asked_for`)."""
    if rule[0] in ("and", "or", "not"):
        for part in rule[1:]:
            yield from own_tests_in(part)
    elif rule[0] not in ("in", "directory") and (title := own_title(rule[1])) is not None:
        yield title, asked_for(rule[0], rule[2]) if rule[2:] else ""


def quoted(value: str) -> str:
    """A value or a title as it stands in a rule."""
    from barnacle.core.quotation_marks import straight  # not needed to look at lists

    # As a word alone, these say something.
    says = value.lower() in ("missing", "not", *_NO_VALUES) or straight(value) != value
    return value if not says and re.fullmatch(r'[^\s()"]+', value) else f'"{value.replace(chr(34), "")}"'


def lists_in(rule: Rule) -> Iterator[Any]:
    """The lists that a rule refers to: titles as parsed, numbers once resolved."""
    if rule[0] == "in":
        yield rule[1]
    elif rule[0] in ("and", "or", "not"):
        for part in rule[1:]:
            yield from lists_in(part)


def directory_filters_in(rule: Rule) -> Iterator[str]:
    """The filters of the organisation's directory that a rule refers to (RFC 4515)."""
    if rule[0] == "directory":
        yield rule[1]
    elif rule[0] in ("and", "or", "not"):
        for part in rule[1:]:
            yield from directory_filters_in(part)


def resolved(rule: Rule, number: Callable[[str], int]) -> Rule:
    """The rule with each list's title replaced by its number."""
    if rule[0] == "in":
        return ["in", number(rule[1])]
    if rule[0] in ("and", "or", "not"):
        return [rule[0], *(resolved(part, number) for part in rule[1:])]
    return rule


def with_numbers_at_home(rule: Rule, at_home: Callable[[str], str]) -> Rule:
    """The rule with each number that has a country's prefix of one's own asked for as it is written there, too."""
    if rule[0] in ("and", "or", "not"):
        return [rule[0], *(with_numbers_at_home(part, at_home) for part in rule[1:])]
    if rule[0] in ("is", "starts") and rule[1] == "phone" and (home := at_home(rule[2])):
        return ["or", rule, [rule[0], "phone", home]]
    return rule


def matches(rule: Rule, facts: Facts) -> bool:
    """Whether a contact fits a rule. Capitals and accents aside; a field with several values fits by any of them."""
    kind = rule[0]
    if kind == "and":
        return all(matches(part, facts) for part in rule[1:])
    if kind == "or":
        return any(matches(part, facts) for part in rule[1:])
    if kind == "not":
        return not matches(rule[1], facts)
    if kind == "in":
        return facts.is_on(rule[1])
    if kind == "directory":
        return facts.is_found_by(rule[1])
    if (title := own_title(rule[1])) is not None:
        return _own_matches(kind, own_value(facts.contact, title), rule[2:])
    values = values_of(rule[1], facts)
    if kind == "missing":
        return not values
    if rule[1] in DATE_FIELDS:
        # A day, month or year: what is in it is neither before nor after it.
        return any(
            v[: len(rule[2])] < rule[2] if kind == "before" else v[: len(rule[2])] > rule[2] if kind == "after"
            else v.startswith(rule[2])
            for v in values
        )  # fmt: skip
    wanted = digits(rule[2]) if rule[1] == "phone" else fold(rule[2])
    test = {"is": str.__eq__, "has": str.__contains__, "starts": str.startswith, "ends": str.endswith}[kind]
    return bool(wanted) and any(test(value, wanted) for value in values)


def _own_matches(kind: str, value: str, wanted: list[str]) -> bool:
    if kind == "missing" or not value:
        return kind == "missing" and not value
    if compares := comparison(kind, wanted[0]):
        return compares(value, wanted[0])
    mine, theirs = fold(value), fold(wanted[0])
    test = {"is": str.__eq__, "has": str.__contains__, "starts": str.startswith, "ends": str.endswith}[kind]
    return bool(theirs) and test(mine, theirs)


def told(rule: Rule, facts: Facts, inside: Callable[[Any], bool | None]) -> bool | None:
    """Whether a contact fits a rule, or None where that hangs on a field of one's own which says nothing of the kind
    that the rule takes it for. `inside` says the same of a list in the rule."""
    kind = rule[0]
    if kind in ("and", "or"):
        parts = [told(part, facts, inside) for part in rule[1:]]
        decides = kind == "or"
        return decides if decides in parts else None if None in parts else not decides
    if kind == "not":
        part = told(rule[1], facts, inside)
        return None if part is None else not part
    if kind == "in":
        return inside(rule[1])
    own = own_title(rule[1]) if rule[2:] else None
    value = own and own_value(facts.contact, own)
    return None if value and not is_understood(value, asked_for(kind, rule[2])) else matches(rule, facts)


def why(rule: Rule, facts: Facts, title: Callable[[Any], str]) -> str:
    """The part of a rule that a contact fits by, as text."""
    if rule[0] == "or":
        return next((why(part, facts, title) for part in rule[1:] if matches(part, facts)), "")
    if rule[0] == "and":
        return " and ".join(why(part, facts, title) for part in rule[1:])
    return write(rule, title)


def values_of(field: str, facts: Facts) -> list[str]:
    """A contact's values for a field, comparable, empty ones left out."""
    contact = facts.contact
    given, family = contact.parts()
    found: list[str]
    if field == "address":
        found = [a.address for a in contact.addresses]
    elif field == "domain":
        found = [key.rpartition("@")[2] for key in contact.address_keys()]
    elif field == "phone":
        return comparable_numbers(contact)
    elif field == "label":
        found = contact.labels
    elif field in ("given", "family"):
        found = [given if field == "given" else family]
    elif field == "written":
        found = [facts.written]
    elif field == "name":
        found = [contact.called]
    else:
        found = [getattr(contact, field)]
    return [fold(value) for value in found if value]
