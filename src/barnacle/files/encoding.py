"""Which encoding a text file is in."""

from __future__ import annotations

import codecs
import re
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple

_BLOCK = 1 << 20
_SAMPLE = 1 << 18
MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig", "UTF-8 with a mark"),
    (codecs.BOM_UTF32_LE, "utf-32", "UTF-32"),  # begins like UTF-16's, so it comes first
    (codecs.BOM_UTF32_BE, "utf-32", "UTF-32"),
    (codecs.BOM_UTF16_LE, "utf-16", "UTF-16"),
    (codecs.BOM_UTF16_BE, "utf-16", "UTF-16"),
)
# Names of several Western code pages whose letters are those of Windows-1252.
_WESTERN = frozenset(("cp1252", "latin_1", "iso8859_15", "iso8859_9", "cp1254", "ascii"))
# What people most often name .csv and is no text, by its first bytes.
_OTHERS = (
    (b"PK\x03\x04", "an archive, or a document of an office program"),
    (b"\xd0\xcf\x11\xe0", "a document of an office program"),
    (b"%PDF", "a PDF"),
    (b"\x89PNG", "a picture"),
    (b"\xff\xd8\xff", "a picture"),
    (b"SQLite format 3", "a database"),
    (b"\x00\x01\x00\x00Standard ", "a database"),
    (b"!BDN", "a mail program's store"),
    (b"GIF8", "a picture"),
    (b"Rar!", "an archive"),
    (b"7z\xbc\xaf", "an archive"),
    (b"\x1f\x8b", "packed"),
    (b"{\\rtf", "a letter in RTF"),
    (b"ID;P", "a table in SYLK"),
    (b"TABLE\r\n0,1", "a table in DIF"),
    (b"TABLE\n0,1", "a table in DIF"),
)


_AS_TABLE = "Save the table as CSV and import that; text can be copied and pasted into `barnacle import -`."


class Encoding(NamedTuple):
    """The codec's name for Python, a name for people, and what to do with octets that do not fit it."""

    codec: str
    label: str
    errors: str = "replace"


def _as_1252(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeDecodeError)
    return error.object[error.start : error.end].decode("cp1252", "replace"), error.end


codecs.register_error("barnacle.1252", _as_1252)


def named_encoding(name: str) -> Encoding:
    """The encoding that a person names. Raises FileError."""
    try:
        found = codecs.lookup(name)
    except LookupError:
        raise FileError(
            f"There is no encoding `{visible(name, 40)}`. Such names are utf-8, windows-1250 and iso-8859-2."
        ) from None
    return Encoding(found.name, found.name)


def first_octets(path: Path, number: int = 4096) -> bytes:
    """How a file begins. Raises FileError where it is missing or unreadable."""
    try:
        if path.is_dir():
            raise FileError(f"{visible(str(path))} is a folder, not a file: name the files in it.")
        with path.open("rb") as file:
            return file.read(number)
    except FileNotFoundError:
        from barnacle.files.missing import no_such_file  # only for a mistake

        raise FileError(no_such_file(path)) from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be read: {error.strerror}.") from error


def find_encoding(path: Path, instead: str = _AS_TABLE) -> Encoding:
    """UTF-8, UTF-16 or UTF-32 with or without mark; else the code page that the letters speak for, most often
    Windows-1252. A file in UTF-8 with a few stray octets is still UTF-8: those are read as Windows-1252.

    Raises FileError where the file is missing, unreadable or not text, with what to do `instead`.
    """
    shown = visible(path.name)
    head = first_octets(path)
    for mark, codec, label in MARKS:
        if head.startswith(mark):
            return Encoding(codec, label)
    for magic, what in _OTHERS:
        if head.startswith(magic):
            raise FileError(f"{shown} is {what}, which is not read. {instead}")
    wide = _utf16(head)
    if wide:
        return wide
    if _is_binary(head):
        raise FileError(f"{shown} is not a text file: it holds binary data.")
    sample = _first_beyond_ascii(path)
    if not sample:
        return Encoding("utf-8", "UTF-8")
    loose = sample.decode("utf-8", "barnacle.1252")
    strict = sample.decode("utf-8", "replace")
    stray = strict.count("\ufffd")
    proper = sum(c > "\x7f" for c in strict) - stray
    if proper > 2 * stray or (proper and loose == strict):
        return Encoding("utf-8", "UTF-8, with characters in Windows-1252", "barnacle.1252")
    return _code_page(sample)


def _is_binary(head: bytes) -> bool:
    """Whether it is no text: there are control characters in most of its lines. In a few, they are cleaned later."""
    lines = [line for line in re.split(rb"[\r\n]+", head) if line]
    bad = [line for line in lines if sum(octet < 32 and octet not in b"\t\f" for octet in line) > len(line) * 0.03]
    return len(bad) > 0.5 * len(lines)


def _first_beyond_ascii(path: Path) -> bytes:
    """Nothing where the file is UTF-8; else some of it from where it stops being that."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    with path.open("rb") as file:
        sample = b""
        while block := file.read(_BLOCK):
            sample = sample or (b"" if block.isascii() else block[:_SAMPLE])
            try:
                decoder.decode(block)
            except UnicodeDecodeError as error:
                # A mend of the block's edge: what was begun in the last block stands before this one.
                return sample if not sample.isascii() else block[max(0, error.start - 200) :][:_SAMPLE]
        try:
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return sample
    return b""


# Code pages of Latin letters that sheets come in, the most usual first, with their names for people.
_LATIN = {
    "cp1252": "Windows-1252", "cp1250": "Windows-1250", "iso8859-15": "ISO 8859-15", "iso8859-2": "ISO 8859-2",
    "cp1257": "Windows-1257", "mac_roman": "Mac Roman", "cp850": "code page 850",
}  # fmt: skip
# The letters beyond a to z of languages and of neighbours that share them.
_LETTERS = tuple(
    frozenset(letters + letters.upper())
    for letters in (
        "äöüßéèàáóçñâêôî", "éèêëàâîïôûùçœæÿüäö", "áéíóúñüçïàèòº", "àèéìòùî", "ãõáéíóúâêôçàü", "äëïéèóöüáí", "æøåéäöüó",
        "åäöéüèà", "ąćęłńóśźż", "áčďéěíňóřšťúůýž", "áéíóöőúüű", "ăâîșțşţ", "čšžćđ", "ąčęėįšųūž", "āčēģīķļņšūž",
        "äöõüšž",
    )
)  # fmt: skip
_QUOTES = frozenset("–—’‘“”„‚…«»€§°•´©®™\xa0")


def _code_page(sample: bytes) -> Encoding:
    """The code page of text that is no UTF-8: the one in which its letters are most like those of one language."""
    beyond = [octet for octet in sample if octet > 127]
    if len(beyond) < len(sample) * 0.25:
        text = sample[: 1 << 16]
        scores = {codec: _likeness(text, codec) for codec in _LATIN}
        best = max(scores, key=lambda codec: scores[codec])
        if scores[best] > 0.5:
            return Encoding(best, _LATIN[best])
    from charset_normalizer import from_bytes

    found = from_bytes(sample[: 1 << 16]).best()
    if found is None or found.encoding in _WESTERN:
        return Encoding("cp1252", "Windows-1252")
    return Encoding(found.encoding, found.encoding.upper().replace("_", "-"))


def _likeness(sample: bytes, codec: str) -> float:
    """How much of what is beyond ASCII reads, in a code page, as letters of one language within words (0 to 1; less
    where it reads as what stands in no word)."""
    text = sample.decode(codec, "replace")
    letters: dict[str, int] = {}
    wrong = right = 0
    for place, char in enumerate(text):
        if char < "\x80":
            continue
        before, after = text[place - 1 : place], text[place + 1 : place + 2]
        within = before.isalpha() or after.isalpha()
        if char == "\ufffd" or ("\x80" <= char < "\xa0"):
            wrong += 2
        elif char.isalpha():
            # A capital behind a small letter stands in no word.
            if char.isupper() and before.islower():
                wrong += 1
            else:
                letters[char] = letters.get(char, 0) + 1
        elif before.isalpha() and after.isalpha() and char not in "’´·\xa0":
            wrong += 2
        elif within and char not in _QUOTES:
            wrong += 1
        else:
            right += 1
    number = sum(letters.values()) + wrong + right
    of_one = max((sum(times for char, times in letters.items() if char in some) for some in _LETTERS), default=0)
    return (of_one + right - wrong) / number if number else 0.0


def _utf16(head: bytes) -> Encoding | None:
    """UTF-16 without a mark: in Latin text every other byte is zero."""
    even, odd = head[0::2], head[1::2]
    if len(head) >= 4 and odd.count(0) > len(odd) * 0.4 and not even.count(0):
        return Encoding("utf-16-le", "UTF-16")
    if len(head) >= 4 and even.count(0) > len(even) * 0.4 and not odd.count(0):
        return Encoding("utf-16-be", "UTF-16")
    return None
