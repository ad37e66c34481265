"""Addresses that must not be shown, found in a text however people, programs and mischief write them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

from barnacle.core.addresses import address_key
from barnacle.core.mail.decoding import ANY_TAG, SMALL, forms, said_in_base64, seen
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple

# Around a sign that may be an @, so many characters are looked at: an address of 254, each an entity of six, or cut
# up by the markup that text programs put between two letters.
_AROUND = 2000
# Above so many characters, addresses that stand by themselves are judged one by one before anything is decoded.
_LARGE = 1 << 18
# Characters, in all their decoded forms, that are read of one message; an @ counts as that many.
_MOST_WORK = 400_000_000
_SIGN_COSTS = 2500
# So much of a text is read for names.
MOST_NAMED = 1 << 20

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
# Without one of these a large text is not read for such words.
_AT_SIGNS = ("(at)", "(AT)", "( at )", "[at]", "[ at ]", "{at}")

_NAME = re.compile(r"[^\W\d_]+")


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
        for said in said_in_base64(text):
            self._decode(said, found)
            self._spelt_out(said, found)
        self._spelt_out(text, found)
        certain = {hit.key for hit in found if hit.certain}
        return {hit for hit in found if hit.certain or hit.key not in certain}

    def _decode(self, text: str, found: set[Hit]) -> None:
        for form in forms(text):
            self._spend(len(form), text)
            self._read(form, text, found)

    def _spend(self, work: int, text: str) -> None:
        """Raises OverlongError. What is short is read whatever came before it."""
        self._left -= work
        if self._left < 0 and len(text) > SMALL:
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
        spoken = _NAME.findall(ANY_TAG.sub("\n", text[:MOST_NAMED])) if self._names else []
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
            places += [match.start() for match in re.finditer(re.escape(sign), text)]
        if "#" in text or "%23" in text:
            places += [match.start() for match in _NUMERIC.finditer(text)]
        if len(text) <= SMALL:
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

    def _read(self, text: str, of: str, found: set[Hit]) -> None:
        """All readings of everything around each @ in a form `of` a text."""
        at = text.find("@")
        while at >= 0:
            left, right = text[max(0, at - 200) : at], text[at + 1 : at + 300]
            if (others := _PLAIN_AFTER.match(right)) and others[1].lower() not in self._domains:
                at = text.find("@", at + 1)
                continue
            for before, after in _readings(left, right):
                self._whole(before, after, found)
            self._spend(_SIGN_COSTS, of)
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
        if len(text) > _LARGE and not any(sign[0] in text and sign in text for sign in _AT_SIGNS):
            return
        for match in _AT_WORD.finditer(seen(text)):
            self._key(f"{_DOT_WORD.sub('.', match[1]).strip('.')}@{_DOT_WORD.sub('.', match[2])}", found, certain=False)


def _without_plus(key: str) -> str:
    local, _, domain = key.rpartition("@")
    return f"{local.partition('+')[0]}@{domain}"


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
