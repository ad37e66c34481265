"""Text from people, files and the network: compared, cleaned, and made safe to show."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from barnacle.core.errors import UnclearError
from barnacle.core.patterns import pattern

# C0, DEL, C1, line and paragraph separators, direction overrides and isolates, lone surrogates: none of these
# may reach a header (RFC 5322 section 2.2) or a terminal.
_UNSAFE_SIGNS = "\x00-\x1f\x7f-\x9f\u2028\u2029\u202a-\u202e\u2066-\u2069\ud800-\udfff"
_UNSAFE = pattern(f"[{_UNSAFE_SIGNS}]")
# Direction marks besides (UAX 9): they may stand in a name, and are shown where one looks at it.
_UNSEEN = pattern(f"[{_UNSAFE_SIGNS}\u061c\u200e\u200f]")
_UNSAFE_IN_BODY = pattern("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ud800-\udfff]")
# Letters that do not fall apart into a base letter and a mark (Unicode NFKD leaves them whole).
_WHOLE_LETTERS = str.maketrans(
    {"ø": "o", "đ": "d", "ł": "l", "æ": "ae", "œ": "oe", "þ": "th", "ð": "d", "ı": "i", "ħ": "h"}
)

TITLE_LIMIT = 120
NAME_LIMIT = 200
LABEL_LIMIT = 60
VALUE_LIMIT = 2000


def fold(text: str) -> str:
    """The comparable form of `text`: capitals and accents aside, white space single."""
    if text.isascii():
        return " ".join(text.lower().split())
    import unicodedata

    # Folding one letter may bring up another that folds further (U+1E9E becomes ss): again until nothing changes.
    while True:
        decomposed = unicodedata.normalize("NFKD", text.casefold())
        bare = "".join(c for c in decomposed if not unicodedata.combining(c)).translate(_WHOLE_LETTERS)
        if bare == text:
            return " ".join(bare.split())
        text = bare


def words(text: str) -> list[str]:
    """The folded words of `text`, punctuation aside."""
    return re.findall(r"\w+", fold(text))


def as_typed(text: str) -> str:
    """A text that was typed in another encoding than the terminal is said to have: what Python could not read, and kept
    as lone surrogates (PEP 383), is UTF-8, or else Windows-1252. Any other as it is."""
    if text.isascii() or not any("\ud800" <= sign <= "\udfff" for sign in text):
        return text
    octets = text.encode("utf-8", "surrogateescape")
    try:
        return octets.decode("utf-8")
    except UnicodeDecodeError:
        return octets.decode("cp1252", "replace")


def has_unsafe(text: str) -> bool:
    """Whether `text` holds a control, line-separating or direction-changing character."""
    return not (text.isascii() and text.isprintable()) and _UNSAFE.search(text) is not None


def tidy(text: str, limit: int = VALUE_LIMIT) -> str:
    """`text` from a file as a single clean line: unsafe characters become spaces, length is capped."""
    if text.isascii() and text.isprintable() and len(text) <= limit:
        return " ".join(text.split())
    return " ".join(_UNSAFE.sub(" ", text[: limit * 2]).split())[:limit]


def visible(text: str, limit: int | None = None) -> str:
    """`text` as it may be shown on a terminal: every unsafe character and direction mark as U+FFFD, cut at `limit`."""
    shown = text if text.isprintable() else _UNSEEN.sub("�", text)
    return shown[: limit - 1] + "…" if limit is not None and len(shown) > limit else shown


def with_escapes(text: str) -> str:
    """JSON text in which what `visible` would replace is an escape (RFC 8259 section 7); the line ends between its
    values stay."""
    if text.replace("\n", "").isprintable():
        return text
    return _UNSEEN.sub(lambda match: match[0] if match[0] == "\n" else f"\\u{ord(match[0]):04x}", text)


def visible_lines(text: str) -> str:
    """Like `visible` for a text of several lines, which stay."""
    return "\n".join(visible(line.replace("\t", "    ")) for line in text.splitlines())


def plain_value(text: str, what: str, limit: int = VALUE_LIMIT) -> str:
    """A value from the command line, stripped.

    Raises UnclearError where it holds an unsafe character or is longer than `limit` characters. `what` begins the
    sentence ("The subject").
    """
    found = None if text.isprintable() else _UNSAFE.search(text)
    if found:
        sign = "a line break" if found.group() in "\n\r\u2028\u2029" else "a character that cannot be shown"
        raise UnclearError(f"{what} has {sign} at place {found.start() + 1}. Remove it and try again.")
    if len(text) > limit:
        raise UnclearError(f"{what} has {len(text)} characters; {limit} is the most.")
    return " ".join(text.split())


# What words of the command line mean that are no titles.
_RESERVED = pattern(r"(?i)all|-|m\d+(?::.*)?|(?:label|find|where|directory)\s*:.*")


def plain_title(text: str) -> str:
    """A list's title, checked. Raises UnclearError when it is empty, too long or not plain text."""
    title = plain_value(text, "The title", TITLE_LIMIT)
    if not words(title):
        raise UnclearError("A list needs a title with at least one letter or digit.")
    if _RESERVED.fullmatch(title):
        raise UnclearError(
            f"`{title}` means something else on the command line, like all, m1, label:…, find:… and where:…. Choose "
            "another title."
        )
    return title


def plain_body(text: str, what: str) -> str:
    """The text of a message, with lines ended by a newline.

    Raises UnclearError, naming the line, where it holds a control character other than tab and line end.
    """
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    found = _UNSAFE_IN_BODY.search(text)
    if found:
        line = text.count("\n", 0, found.start()) + 1
        raise UnclearError(f"{what} has a control character in line {line}. Remove it and try again.")
    return text


def count(number: int, one: str, many: str | None = None) -> str:
    """`1 person`, `12 people`: a number with its noun (`many` defaults to `one` with an s)."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def people(number: int) -> str:
    """`1 person`, `12 people`."""
    return count(number, "person", "people")


def size_of(octets: int) -> str:
    """That many octets as people read sizes: `205 kB`, `1.2 MB` (of a thousand each); never less than a kB."""
    if octets < 999_500:
        return f"{max(round(octets / 1000), 1)} kB"
    return f"{octets / 1e6:.1f}".removesuffix(".0") + " MB"


def nearest(word: str, known: Iterable[str], cutoff: float = 0.6) -> str:
    """The most similar of what is known, if one is similar enough (of 1), or nothing."""
    import difflib  # only for a mistake: it costs start-up time

    return next(iter(difflib.get_close_matches(word, list(known), 1, cutoff)), "")


def listed(items: Sequence[str], most: int = 5) -> str:
    """`a, b and c`; beyond `most`, the first ones and how many more."""
    if len(items) > most:
        return ", ".join(items[:most]) + f" and {len(items) - most} more"
    return " and ".join([", ".join(items[:-1]), items[-1]] if len(items) > 1 else items)
