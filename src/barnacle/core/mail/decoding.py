"""What a text becomes when a reader's program decodes it: encodings on top of each other, markup, what nobody sees."""

from __future__ import annotations

import base64
import binascii
import contextlib
import html
import quopri
import re
import unicodedata
from collections.abc import Iterator
from email.errors import MessageError
from email.header import decode_header, make_header
from urllib.parse import unquote

# Decodings on top of each other that are followed, and the most readings of one excerpt.
_DEPTH = 4
_MOST_FORMS = 60
# Up to so many characters a text is looked at whole.
SMALL = 20_000

# Unicode's Default_Ignorable_Code_Point and Bidi_Control (UAX 44), and control characters but for white space.
_UNSEEN = re.compile(
    "[\x00-\x08\x0e-\x1f\x7f\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u202a-\u202e"
    "\u2060-\u206f\u3164\ufe00-\ufe0f\ufeff\uffa0\ufff0-\ufff8\U0001bca0-\U0001bca3\U0001d173-\U0001d17a"
    "\U000e0000-\U000e0fff]"
)
# IDNA takes these for a full stop too (UTS 46); NFKC leaves the first as it is.
_STOPS = str.maketrans("\u3002\uff0e\uff61", "...")
_REVERSING = re.compile("[\u202e\u2067\u202b]|bidi-override", re.IGNORECASE)

# Tags that end a word; all others may stand in the middle of one.
_BLOCK = (
    r"p|h|h[1-6]|div|br|hr|td|th|tr|li|ul|ol|dl|dt|dd|table|pre|blockquote|section|article|title|option|"  # HTML
    r"c|v|f|is|si|row|cell|tab|cr|tc|comment|author|text|"  # OOXML
    r"table-cell|table-row|line-break|s|annotation|list-item"  # OpenDocument
)
_BLOCK_TAG = re.compile(rf"</?(?:\w+:)?(?:{_BLOCK})(?=[\s/>])[^<>]*>", re.IGNORECASE)
ANY_TAG = re.compile(r"</?[a-zA-Z!?][^<>]*>")
_TAG_WITHOUT_AT = re.compile(r"<[^<>@]*>")
# What a reader does not see, though it stands there: from such a beginning to its end.
_NOT_SHOWN = (("<w:del ", "</w:del>"), ("<w:instrText", "</w:instrText>"), ("<script", "</script>"),
              ("<style", "</style>"), ("<text:tracked-changes", "</text:tracked-changes>"))  # fmt: skip
_HIDDEN = re.compile(r"<(\w+)\b[^<>]*display\s*:\s*none[^<>]*>[^<>]{0,400}</\1>", re.IGNORECASE)
_ESCAPE = re.compile(
    r"\\{1,8}(?:u\{0{0,6}([0-9a-fA-F]{1,6})\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|([0-3][0-7]{2})|'([0-9a-fA-F]{2}))"
)
_CSS_ESCAPE = re.compile(r"\\([0-9a-fA-F]{1,6})\s?")
_ESCAPED_SIGN = re.compile(r"\\{1,8}([nrt\"'/@.])")
_SIGN_OF = {"n": "\n", "r": "\r", "t": "\t"}
# ECMA-376 part 1, 18.3.1.46: codes in the headers and footers of a sheet.
_PAGE_CODES = re.compile(r"&(?:amp;)?(?:[A-Z]|\d+|\"[^\"]*\"|&quot;.*?&quot;)")
_ENCODED_WORD = re.compile(r"=\?[^?\s]{1,40}\?[bBqQ]\?[^?\s]{0,400}\?=")
# ECMA-376 part 1, 22.9.2.19: a letter by its number in the texts of a workbook.
_BY_NUMBER = re.compile(r"_x([0-9A-Fa-f]{4})_")
_JOINED = re.compile(r"[\"']\s*[+.&,]\s*[\"']")

_BASE64_WORD = re.compile(r"[A-Za-z0-9+/_-]+={0,2}")
_STEP = 256
_MIXED = re.compile(r"[a-z][A-Z]|[A-Z]{2}[a-z]|\d[A-Za-z]|[A-Za-z]\d|[A-Z]{4}")
_BASE64_AREA = re.compile(r"(?:[A-Za-z0-9+/_-]+={0,2}[\s>]*)+")
_BASE64_LINES = re.compile(r"(?:[A-Za-z0-9+/_-]{40,}={0,2}[\s>]*)+[A-Za-z0-9+/_-]*={0,2}")


def seen(text: str) -> str:
    """The text as one sees it: nothing unseen, each letter in its usual form (NFKC)."""
    if text.isascii() and text.isprintable():
        return text
    text = _UNSEEN.sub("", text)
    if text.isascii():
        return text
    return _UNSEEN.sub("", unicodedata.normalize("NFKC", text.translate(_STOPS)))


def forms(text: str) -> Iterator[str]:
    """`text` as it is seen, and what it becomes when a reader's program decodes it, up to four times."""
    known: set[str] = set()
    todo = [text]
    for _ in range(_DEPTH):
        fresh = [t for t in dict.fromkeys(todo) if t not in known]
        known.update(fresh)
        if len(known) > _MOST_FORMS:
            return
        for one in fresh:
            yield seen(one)
        todo = [decoded for t in fresh for decoded in _one_step(t) if decoded != t]


def _one_step(text: str) -> Iterator[str]:
    if _REVERSING.search(text):
        yield _UNSEEN.sub("", text)[::-1]
        yield "\n".join(part[::-1] for part in re.findall("[\u202e\u2067\u202b]([^\u202c\u2069\n]*)", text))
    if "%" in text:
        yield unquote(text)
    if "&" in text:
        yield html.unescape(text)
    if "=?" in text:
        if len(text) <= SMALL:
            yield decoded_header(text)
        yield _ENCODED_WORD.sub(lambda word: decoded_header(word.group()), text)
    if "=" in text:
        yield quopri.decodestring(text.encode("utf-8", "replace")).decode("utf-8", "replace")
    if "<" in text:
        text = _without(text, "<!--", "-->")
        yield _TAG_WITHOUT_AT.sub("", text)  # ada<b></b>@tidewick.example
        if "</" in text or "/>" in text:
            parted = _BLOCK_TAG.sub("\n", text)
            yield ANY_TAG.sub("", parted)
            yield ANY_TAG.sub("\n", text)
            shown = _HIDDEN.sub("", text)
            for begin, end in _NOT_SHOWN:
                shown = _without(shown, begin, end)
            if shown != text:
                yield ANY_TAG.sub("", _BLOCK_TAG.sub("\n", shown))
    if "eader>" in text or "ooter>" in text:
        yield _PAGE_CODES.sub("", text)
    if "_x" in text:
        yield _BY_NUMBER.sub(lambda match: _character(match[1]), text)
    if "\\" in text:
        yield _ESCAPED_SIGN.sub(lambda match: _SIGN_OF.get(match[1], match[1]), text)
        # JSON writes a letter beyond U+FFFF as a pair (RFC 8259 section 7).
        pairs = _ESCAPE.sub(_unescaped, text)
        yield pairs.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
        yield _CSS_ESCAPE.sub(lambda match: _character(match[1]), text)
    if "+A" in text:
        with contextlib.suppress(UnicodeError):
            yield text.encode("ascii").decode("utf-7")
    if "\r" in text or "\n" in text:
        # Lines folded by RFC 5322, 5545 and 6350, and quoted ones of RFC 3676.
        yield re.sub(r"\r?\n[ \t]", "", text)
        if "\n>" in text:
            yield re.sub(r"(?m)^[> ]+", "", text)
    if '"' in text or "'" in text:
        yield _JOINED.sub("", text)  # "ada" + "@tidewick.example"


def _without(text: str, begin: str, end: str) -> str:
    """The text without what stands between two signs; what is never ended stays."""
    at = text.find(begin)
    if at < 0:
        return text
    kept, done = [], 0
    while at >= 0 and (close := text.find(end, at)) >= 0:
        kept.append(text[done:at])
        done = close + len(end)
        at = text.find(begin, done)
    return "".join([*kept, text[done:]])


def _unescaped(match: re.Match[str]) -> str:
    octal = match[4]
    return chr(int(octal, 8)) if octal else _character(next(group for group in match.groups() if group))


def _character(digits: str) -> str:
    number = int(digits, 16)
    return chr(number) if number < 0x110000 else ""


def decoded_header(value: str) -> str:
    """A header's value with its encoded words (RFC 2047) decoded, as far as they can be: of a long one its beginning,
    since the library takes quadratic time."""
    if "=?" not in value:
        return value
    try:
        return str(make_header(decode_header(value[:SMALL]))) + value[SMALL:]
    except (LookupError, ValueError, MessageError):
        return value


def said_in_base64(text: str) -> set[str]:
    """What blocks of Base64 in a text say (RFC 4648), however long their lines are and whatever else cuts them up."""
    cut = [text]
    if len(text) <= SMALL:
        cut += _one_step(text)
    if len(text) <= 1 << 20 and "<" in text:
        text = _PAGE_CODES.sub("", text) if "eader>" in text else text
        text = _BY_NUMBER.sub(lambda match: _character(match[1]), text)
        cut += [ANY_TAG.sub("", text), ANY_TAG.sub("\n", text)]
    if len(text) <= 1 << 20 and "\\" in text:
        cut.append(_ESCAPED_SIGN.sub(lambda match: _SIGN_OF.get(match[1], match[1]), text))
    return {said for form in set(cut) for said in _base64(form)}


def _base64(text: str) -> Iterator[str]:
    if len(text) > 1 << 20 and "</" in text[:2000]:
        return  # no reader decodes it in a part of a document
    if len(text) > 1 << 22:
        yield from _in_very_long(text)
        return
    if len(text) > 1 << 16:
        for block in _BASE64_LINES.finditer(text):
            yield from _decoded_base64("".join(_BASE64_WORD.findall(block.group())))
        return
    for area in _BASE64_AREA.finditer(text):
        parts = _BASE64_WORD.findall(area.group())
        mixed = [_MIXED.search(part) is not None for part in parts]
        for first in range(min(len(parts), 4000)):
            # Words before it would put it out of step: each may be the first.
            if any(mixed[first : first + 3]):
                yield from _decoded_base64("".join(parts[first:] if first == 0 else parts[first : first + 400]))


def _in_very_long(text: str) -> Iterator[str]:
    """Blocks that are longer than a step. Looking at each character would take seconds."""
    at = 0
    while at < len(text):
        piece = text[at : at + 12]
        if (
            piece.isalnum()
            and not piece.isdigit()
            and (begin := _BASE64_LINES.search(text, max(0, at - 200), at + 400))
        ):
            block = _BASE64_LINES.match(text, begin.start())
            if block is not None:
                yield from _decoded_base64("".join(_BASE64_WORD.findall(block.group())))
                at = max(at, block.end())
        at += _STEP


def _decoded_base64(block: str) -> Iterator[str]:
    bare = block.rstrip("=").replace("-", "+").replace("_", "/")
    if "=" in bare:  # padded in the middle: several in a row
        for part in re.split("=+", block):
            if len(part) > 7:
                yield from _decoded_base64(part)
        return
    bare = bare[: len(bare) - 1] if len(bare) % 4 == 1 else bare
    if len(bare) < 8:
        return
    with contextlib.suppress(binascii.Error, ValueError):
        decoded = base64.b64decode(bare + "=" * (-len(bare) % 4))
        if b"@" in decoded:
            yield decoded.decode("utf-8", "replace")
