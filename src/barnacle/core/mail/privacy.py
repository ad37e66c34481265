"""Addresses that must not be shown, found in a text however people, programs and mischief write them."""

from __future__ import annotations

import base64
import binascii
import contextlib
import html
import quopri
import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from email.errors import MessageError
from email.header import decode_header, make_header
from typing import NamedTuple
from urllib.parse import unquote

from barnacle.core.addresses import address_key
from barnacle.core.text import fold

# Decodings on top of each other that are followed, and the most readings of one excerpt.
_DEPTH = 4
_MOST_FORMS = 60
# Around a sign that may be an @, so many characters are looked at: an address of 254, each an entity of six, or cut
# up by the markup that text programs put between two letters.
_AROUND = 2000
# Up to so many characters a text is looked at whole.
_SMALL = 20_000
# Above so many characters, addresses that stand by themselves are judged one by one before anything is decoded.
_LARGE = 1 << 18
# Characters, in all their decoded forms, that are read of one message; an @ counts as that many.
_MOST_WORK = 400_000_000
_SIGN_COSTS = 2500
# So much of a text is read for names.
MOST_NAMED = 1 << 20

# Unicode's Default_Ignorable_Code_Point and Bidi_Control (UAX 44), and control characters but for white space.
_UNSEEN = re.compile(
    "[\x00-\x08\x0e-\x1f\x7f\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u202a-\u202e"
    "\u2060-\u206f\u3164\ufe00-\ufe0f\ufeff\uffa0\ufff0-\ufff8\U0001bca0-\U0001bca3\U0001d173-\U0001d17a"
    "\U000e0000-\U000e0fff]"
)
# IDNA takes these for a full stop too (UTS 46); NFKC leaves the first as it is.
_STOPS = str.maketrans("\u3002\uff0e\uff61", "...")
_REVERSING = re.compile("[\u202e\u2067\u202b]|bidi-override", re.IGNORECASE)

# RFC 5322 atext, with letters of all scripts (RFC 6532).
_BEFORE = re.compile(r"[\w.!#$%&'*+/=?^`{|}~-]+\Z")
_AFTER = re.compile(r"(?:[^\W_]|[.-])+")
_PLAIN_AFTER = re.compile(r"(?!xn--)((?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,})(?:[>,;\"')\]&]|\s(?!\s*[.(])|\Z)")
_QUOTED = re.compile(r'"[^"\n]{1,64}"\Z')
# Scripts that put no spaces between words (Thai to Hangul, in the order of Unicode).
_UNSPACED = re.compile("[\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u2e80-\ua4cf\uac00-\ud7ff\uf900-\ufaff\uff66-\uff9f]")
# Signs that may belong to an address and more often stand around one: both readings are tried.
_SHARED_SIGNS = re.compile(r"[!#$%&'*/=?^_`{|}~]")
_COMMENT = re.compile(r"\([^()]*\)")
_MARKS = re.compile(r"[\\*`~\"\u201c-\u201f\[\]{}|]|\]\([^()\s]*\)")
_APOSTROPHES = re.compile("['\u2018-\u201b]")
_SPACED_DOT = re.compile(r"\s*\.\s*")
_LETTER_BY_LETTER = re.compile(r"(?:\S\s){2,}\S\Z")
_LETTER_BY_LETTER_AFTER = re.compile(r"\S(?:\s\S(?!\w)){2,}")


# What stands for an @, as it is, encoded once, or encoded twice. Literal ones are looked for fastest.
_SIGNS = {
    "@": ("@",), "\uff20": ("\uff20",), "\ufe6b": ("\ufe6b",), "&": ("&commat",), "+": ("+AEA",),
    "_": ("_x0040_", "_xFF20_", "_xff20_"),
    "%": ("%40", "%2540", "%EF%BC%A0", "%26commat"), "=": ("=40", "=3D40", "=3d40", "=EF=BC=A0", "=?"),
    "\\": ("u0040", "U0040", "uff20", "uFF20", "ufe6b", "uFE6B", "\\x40", "\\x0040", "\\100", "\\'40", "\\40",
            "\\000040", "u{40}", "u{0040}"),
}  # fmt: skip
_NUMERIC = re.compile(r"(?:#|%23)(?:0*(?:64|65312|65131)|[xX]0*(?:40|[fF][fF]20|[fF][eE]6[bB]))\b")
_ALONE = re.compile(r"@((?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,})(?=[\"\s,;)]|</t></si>|</t></is>|</v>|</text:p>|\Z)")
# What stands before it, read backwards: a local part, and where a cell or a word begins.
_ALONE_BEFORE = re.compile(r"([A-Za-z0-9._+-]{1,64})(?:>(?:[^<>]{0,40} )?(?:t<>s?i|v|p:txet)s?<|[\"\s,;(])")

_DOT = (
    r"(?:\.|\s{0,9}[(\[{<]\s{0,9}(?:dot|punkt|point|punto|ponto|\.)\s{0,9}[)\]}>]\s{0,9}|\s(?:dot|punkt|punto|ponto)\s)"
)
_AT_WORD = re.compile(
    rf"(?<![\w+'-])([\w.!#$%&'*+/=?^`{{|}}~-]{{1,64}}?(?:{_DOT}[\w+'-]{{1,64}}){{0,8}})"
    r"(?:\s{0,9}[(\[{<]\s{0,9}(?:at|ät|à|chez|bei|arroba|a|@)\s{0,9}[)\]}>]\s{0,9}|\s{1,9}(?:at|arroba)\s{1,9})"
    rf"([\w-]{{1,63}}(?:{_DOT}[\w-]{{1,63}}){{1,8}})",
    re.IGNORECASE,
)
_DOT_WORD = re.compile(_DOT, re.IGNORECASE)

# Tags that end a word; all others may stand in the middle of one.
_BLOCK = (
    r"p|h|h[1-6]|div|br|hr|td|th|tr|li|ul|ol|dl|dt|dd|table|pre|blockquote|section|article|title|option|"  # HTML
    r"c|v|f|is|si|row|cell|tab|cr|tc|comment|author|text|"  # OOXML
    r"table-cell|table-row|line-break|s|annotation|list-item"  # OpenDocument
)
_BLOCK_TAG = re.compile(rf"</?(?:\w+:)?(?:{_BLOCK})(?=[\s/>])[^<>]*>", re.IGNORECASE)
_ANY_TAG = re.compile(r"</?[a-zA-Z!?][^<>]*>")
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

_NAME = re.compile(r"[^\W\d_]+")
_BASE64_WORD = re.compile(r"[A-Za-z0-9+/_-]+={0,2}")
_STEP = 256
_MIXED = re.compile(r"[a-z][A-Z]|[A-Z]{2}[a-z]|\d[A-Za-z]|[A-Za-z]\d|[A-Z]{4}")
_BASE64_AREA = re.compile(r"(?:[A-Za-z0-9+/_-]+={0,2}[\s>]*)+")
_BASE64_LINES = re.compile(r"(?:[A-Za-z0-9+/_-]{40,}={0,2}[\s>]*)+[A-Za-z0-9+/_-]*={0,2}")


class Hit(NamedTuple):
    """A guarded address as found in a text. `certain` is False where only somebody who guesses would read it so: `ada
    (at) kelp.example`, or another form of it with a plus."""

    key: str
    certain: bool = True


class OverlongError(Exception):
    """A text that is made to take very long to search, or is very long."""


class Guard:
    """The addresses that must not be shown. `guarded` maps their keys to their owners' names."""

    def __init__(self, guarded: Mapping[str, str]) -> None:
        self.owners = guarded
        self._domains = {key.rpartition("@")[2] for key in guarded}
        self._without_plus: dict[str, str] = {}
        for key in guarded:
            if "+" in key and (bare := _without_plus(key)) not in guarded:
                self._without_plus.setdefault(bare, key)
        self._names: dict[tuple[str, str], set[str]] | None = None
        self._name_words: set[str] = set()
        self._left = _MOST_WORK

    def hits(self, text: str) -> set[Hit]:
        """Every guarded address in `text`, in any form that a reader's program or a reader would take for it. Raises
        OverlongError, for the first text that goes beyond what one message may take."""
        found: set[Hit] = set()
        if not self.owners:
            return found
        for excerpt in self._excerpts(text, found):
            self._decode(excerpt, found)
        for said in _said_in_base64(text):
            self._decode(said, found)
            self._spelt_out(said, found)
        self._spelt_out(text, found)
        certain = {hit.key for hit in found if hit.certain}
        return {hit for hit in found if hit.certain or hit.key not in certain}

    def _decode(self, text: str, found: set[Hit]) -> None:
        for form in _forms(text):
            self._left -= len(form)
            self._read(form, found)
            if self._left < 0:
                raise OverlongError

    def names(self, text: str) -> set[str]:
        """The guarded people whose first and last name stand in `text` beside each other, or with one word between.
        Of a very long text the beginning is read: `MOST_NAMED` characters."""
        if self._names is None:
            self._names = {}
            for owner in set(self.owners.values()):
                parts = _NAME.findall(fold(owner)) if "@" not in owner else []
                if len(parts) > 1:
                    pair = (parts[0], parts[-1])
                    self._names.setdefault(min(pair, pair[::-1]), set()).add(owner)
            self._name_words = {word for pair in self._names for word in pair}
        spoken = _NAME.findall(_ANY_TAG.sub("\n", text[:MOST_NAMED])) if self._names else []
        same = {word: fold(word) for word in set(spoken)}
        known = [one if (one := same[word]) in self._name_words else "" for word in spoken]
        pairs = {
            pair for step in (1, 2) for pair in zip(known, known[step:], strict=False) if pair[0] and pair[1]
        }  # fmt: skip
        return {owner for pair in pairs for owner in self._names.get(min(pair, pair[::-1]), ())}

    def _excerpts(self, text: str, found: set[Hit]) -> Iterator[str]:
        """What stands around each sign that may be an @. In a large text, addresses by themselves are judged at once:
        those of the guarded go into `found`."""
        places: list[int] = []
        for sign in (sign for first, signs in _SIGNS.items() if first in text for sign in signs):
            at = text.find(sign)
            while at >= 0:
                places.append(at)
                at = text.find(sign, at + 1)
        if "#" in text or "%23" in text:
            places += [match.start() for match in _NUMERIC.finditer(text)]
        if len(text) <= _SMALL:
            yield text
            return
        if not places:
            return
        if len(text) > _LARGE:
            places = self._not_alone(text, places, found)
        places.sort()
        start, end = 0, -1
        for place in places:
            if place - _AROUND > end:
                if end > 0:
                    yield text[start:end]
                start = max(0, place - _AROUND)
            end = place + _AROUND
        if end > 0:
            yield text[start:end]

    def _not_alone(self, text: str, places: list[int], found: set[Hit]) -> list[int]:
        alone: dict[int, str] = {match.start(): match[1] for match in _ALONE.finditer(text)}
        left = []
        for place in places:
            domain = alone.get(place)
            if domain is not None:
                if domain.lower() not in self._domains and "xn--" not in domain.lower():
                    continue
                if before := _ALONE_BEFORE.match(text[max(0, place - 140) : place][::-1]):
                    self._key(f"{before[1][::-1]}@{domain}", found)
                    continue
            left.append(place)
        return left

    def _key(self, address: str, found: set[Hit], certain: bool = True) -> None:
        key = address_key(address)
        if key in self.owners:
            found.add(Hit(key, certain))
        elif "+" in key and (bare := _without_plus(key)) in self.owners:
            found.add(Hit(bare, False))
        if key in self._without_plus:
            found.add(Hit(self._without_plus[key], False))

    def _read(self, text: str, found: set[Hit]) -> None:
        """All readings of everything around each @."""
        at = text.find("@")
        while at >= 0:
            left, right = text[max(0, at - 200) : at], text[at + 1 : at + 300]
            if (others := _PLAIN_AFTER.match(right)) and others[1].lower() not in self._domains:
                self._left -= 1
                at = text.find("@", at + 1)
                continue
            for before, after in _readings(left, right):
                self._whole(before, after, found)
            self._left -= _SIGN_COSTS
            if self._left < 0:
                raise OverlongError
            at = text.find("@", at + 1)

    def _whole(self, left: str, right: str, found: set[Hit]) -> None:
        after = _AFTER.match(right)
        if after is None:
            return
        domain = after.group().strip(".-")
        domains = [domain]
        if not domain.isascii() and (end := _UNSPACED.search(domain)):
            domains.append(domain[: end.start()].strip(".-"))  # the text goes on at once
        locals_: list[str] = []
        if quoted := _QUOTED.search(left):
            locals_.append(quoted.group())
        if before := _BEFORE.search(left):
            local = before.group()
            locals_.append(local)
            if not local.isascii():
                locals_.append(_UNSPACED.split(local)[-1])
        for local in locals_:
            starts = [0] if local.startswith('"') else [0, *(match.end() for match in _SHARED_SIGNS.finditer(local))]
            for start_at in starts[:40]:
                piece = local[start_at:]
                if bare := piece.strip("."):
                    for one in domains:
                        self._key(f"{piece}@{one}", found)
                        if bare != piece:
                            self._key(f"{bare}@{one}", found)

    def _spelt_out(self, text: str, found: set[Hit]) -> None:
        """`ada (at) kelp (dot) example`."""
        if len(text) > _LARGE and not any(
            sign in text for sign in ("(at)", "[at]", "(AT)", "{at}", "( at )", "[ at ]")
        ):
            return
        for match in _AT_WORD.finditer(_seen(text)):
            self._key(f"{_DOT_WORD.sub('.', match[1]).strip('.')}@{_DOT_WORD.sub('.', match[2])}", found, certain=False)


def _without_plus(key: str) -> str:
    local, _, domain = key.rpartition("@")
    return f"{local.partition('+')[0]}@{domain}"


def _seen(text: str) -> str:
    """The text as one sees it: nothing unseen, each letter in its usual form (NFKC)."""
    if text.isascii() and text.isprintable():
        return text
    text = _UNSEEN.sub("", text)
    if text.isascii():
        return text
    return _UNSEEN.sub("", unicodedata.normalize("NFKC", text.translate(_STOPS)))


def _forms(text: str) -> Iterator[str]:
    """`text` as it is seen, and what it becomes when a reader's program decodes it, up to four times."""
    seen: set[str] = set()
    todo = [text]
    for _ in range(_DEPTH):
        fresh = [t for t in dict.fromkeys(todo) if t not in seen]
        seen.update(fresh)
        if len(seen) > _MOST_FORMS:
            return
        for one in fresh:
            yield _seen(one)
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
        if len(text) <= _SMALL:
            yield decoded_header(text)
        yield _ENCODED_WORD.sub(lambda word: decoded_header(word.group()), text)
    if "=" in text:
        yield quopri.decodestring(text.encode("utf-8", "replace")).decode("utf-8", "replace")
    if "<" in text:
        text = _without(text, "<!--", "-->")
        yield _TAG_WITHOUT_AT.sub("", text)  # ada<b></b>@tidewick.example
        if "</" in text or "/>" in text or "<!--" in text:
            parted = _BLOCK_TAG.sub("\n", text)
            yield _ANY_TAG.sub("", parted)
            yield _ANY_TAG.sub("\n", text)
            shown = _HIDDEN.sub("", text)
            for begin, end in _NOT_SHOWN:
                shown = _without(shown, begin, end)
            if shown != text:
                yield _ANY_TAG.sub("", _BLOCK_TAG.sub("\n", shown))
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
    """A header's value with its encoded words (RFC 2047) decoded, as far as they can be."""
    try:
        return str(make_header(decode_header(value)))
    except (LookupError, ValueError, MessageError):
        return value


def _said_in_base64(text: str) -> set[str]:
    """What blocks of Base64 in a text say (RFC 4648), however long their lines are and whatever else cuts them up."""
    forms = [text]
    if len(text) <= _SMALL:
        forms += _one_step(text)
    if len(text) <= 1 << 20 and "<" in text:
        text = _PAGE_CODES.sub("", text) if "eader>" in text else text
        text = _BY_NUMBER.sub(lambda match: _character(match[1]), text)
        forms += [_ANY_TAG.sub("", text), _ANY_TAG.sub("\n", text)]
    if len(text) <= 1 << 20 and "\\" in text:
        forms.append(_ESCAPED_SIGN.sub(lambda match: _SIGN_OF.get(match[1], match[1]), text))
    return {said for form in set(forms) for said in _base64(form)}


def _base64(text: str) -> Iterator[str]:
    if len(text) > 1 << 22:
        # No reader decodes it in a part of a document; in other long texts it is looked for in steps.
        yield from () if text.startswith("<") else _in_very_long(text)
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


def _readings(left: str, right: str) -> Iterable[tuple[str, str]]:
    """What stands before and after an @, as it is and without what people put in between."""
    yield left, right
    if left[-1:].isspace() or right[:1].isspace() or ". " in right[:80] or " ." in right[:80] or " ." in left[-80:]:
        closed = _SPACED_DOT.sub(".", left.rstrip()), _SPACED_DOT.sub(".", right.lstrip())
        yield left.rstrip(), right.lstrip()
        yield closed
    if "(" in right or ")" in left:
        bare = _COMMENT.sub("", _COMMENT.sub("", left)), _COMMENT.sub("", _COMMENT.sub("", right))
        if bare != (left, right):
            yield bare
            yield bare[0].rstrip(), bare[1].lstrip()
    if _MARKS.search(left) or _MARKS.search(right):
        bare = _MARKS.sub("", left), _MARKS.sub("", right)
        yield bare
        yield bare[0].rstrip("_ \t\r\n"), bare[1].lstrip("_ \t\r\n")
    if _APOSTROPHES.search(left[-70:]) or _APOSTROPHES.search(right[:70]):
        yield _APOSTROPHES.sub("", left).rstrip(), _APOSTROPHES.sub("", right).lstrip()
    if left.endswith("_") or right.startswith("_"):
        yield left.rstrip("_"), right.lstrip("_")
    spelt = _LETTER_BY_LETTER.search(left[-150:].rstrip())
    spelt_after = _LETTER_BY_LETTER_AFTER.match(right.lstrip())
    if spelt or spelt_after:
        before = "".join(spelt.group().split()) if spelt else left.rstrip()
        after = "".join(spelt_after.group().split()) if spelt_after else right.lstrip()
        yield before, after
        yield before[1:], after  # its first letter was the last one of a word
