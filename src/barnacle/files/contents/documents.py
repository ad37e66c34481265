"""Older documents: compound files (MS-CFB) of text programs, workbooks, slides and kept messages; Rich Text."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator

from barnacle.files.contents.bounds import Found, Locked, Trail
from barnacle.files.contents.words import runs

_ENCRYPTED = ("encryptedpackage", "encryptioninfo", "encryptedsummary")
# MS-XLS: records of a workbook's stream that a password makes unreadable, and that go on with the one before.
_FILEPASS, _CONTINUE = 0x2F, 0x3C
# MS-OXPROPS: the text of a kept message, plain (of both kinds) and compressed.
_PLAIN_TEXTS = ("__substg1.0_1000001f", "__substg1.0_1000001e")
_COMPRESSED_TEXT = "__substg1.0_10090102"
_OTHERS = (b"PK\x03\x04", b"%PDF-", b"\xd0\xcf\x11\xe0", b"{\\rtf", b"\x89PNG", b"\xff\xd8\xff")


def compound(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The streams of a compound file, read as stretches of text."""
    import olefile

    with olefile.OleFileIO(io.BytesIO(data)) as ole:
        streams = {"/".join(path): path for path in ole.listdir()}
        leaves = {key.rpartition("/")[2].lower() for key in streams}
        if leaves.intersection(_ENCRYPTED):
            raise Locked
        for key, path in streams.items():
            trail.bounds.one_more()
            content = ole.openstream(path).read()
            trail.bounds.take(len(content))
            leaf = key.rpartition("/")[2].lower()
            yield from trail.passage(key, "a name")
            if leaf == "worddocument" and len(content) > 12 and content[11] & 1:  # MS-DOC section 2.5.2: fEncrypted
                raise Locked
            if leaf in ("workbook", "book"):
                content += _continued(content)
            inside = [at for sign in _OTHERS if (at := content.find(sign, 0, 300)) >= 0]
            if inside:
                yield from trail.as_document().open(leaf.lstrip("\1\2\3\5") or "an object", content[min(inside) :])
            for text in runs(content):
                yield from trail.passage(text, "the text")
        if _COMPRESSED_TEXT in leaves and not leaves.intersection(_PLAIN_TEXTS):
            yield trail.unsearched("its text is compressed in a way that is not known")


def _continued(stream: bytes) -> bytes:
    """The records of a workbook that go on in others, joined: with the octet that says how the rest of a text is
    written (MS-XLS section 2.5.293), and without. Raises Locked."""
    joined: list[bytes] = []
    last = b""
    at = 0
    while at + 4 <= len(stream):
        kind, size = int.from_bytes(stream[at : at + 2], "little"), int.from_bytes(stream[at + 2 : at + 4], "little")
        body = stream[at + 4 : at + 4 + size]
        if kind == _FILEPASS:
            raise Locked
        if kind == _CONTINUE and last:
            joined.append(last[-300:] + body[1:301] + b"\0\0\0" + last[-300:] + body[:300] + b"\0\0\0")
        last = body
        at += 4 + size
    return b"".join(joined)


_HEX = re.compile(rb"\\'([0-9a-fA-F]{2})")
# A letter by its number, and the octets that stand for it where numbers are not understood.
_UNICODE = re.compile(rb"\\u(-?\d{1,6})(?: ?\\'[0-9a-fA-F]{2}| ?\?| )?")
_SURROGATE = re.compile(rb"\xed[\xa0-\xbf]")
_END = re.compile(rb"\\(?:par|line|cell|row|tab|sect|page)(?![a-z])-?\d*[ \r\n]?")
_CONTROL = re.compile(rb"\\[a-z]+-?\d*[ \r\n]?|\\\*|[{}\r\n]")
_HIDDEN = re.compile(rb"\{\\\*?\\?(?:fonttbl|colortbl|stylesheet)[^{}]*(?:\{[^{}]*\}[^{}]*)*\}")


def rich_text(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The words of a Rich Text file: with what is said of their looks, and without."""
    trail.bounds.take(3 * len(data))
    yield from trail.passage(data.decode("latin-1"), "the text")
    bare = _END.sub(b"\x0b", _HIDDEN.sub(b"", data).replace(b"\\\\", b"\\"))
    bare = _UNICODE.sub(lambda match: chr(int(match[1]) % 65536).encode("utf-8", "surrogatepass"), bare)
    bare = _CONTROL.sub(b"", _HEX.sub(lambda match: _octet(match[1]), bare)).replace(b"\x0b", b"\n")
    # A letter beyond U+FFFF is a pair of numbers.
    pairs = bare.decode("utf-8", "surrogatepass" if _SURROGATE.search(bare) else "replace")
    yield from trail.passage(pairs.encode("utf-16", "surrogatepass").decode("utf-16", "replace"), "the text")
    # Objects in it are written in hexadecimal digits.
    for number, block in enumerate(re.findall(rb"\\objdata\s*([0-9a-fA-F\s]{32,})", data), 1):
        digits = b"".join(block.split())
        content = bytes.fromhex(digits[: len(digits) // 2 * 2].decode())
        start = next((content.find(sign) for sign in _OTHERS if content.find(sign) >= 0), 0)
        yield from trail.as_document().open(f"object {number}", content[start:])


def _octet(digits: bytes) -> bytes:
    """An octet of the code page, as UTF-8. Which code page it is does not matter to an address in ASCII."""
    return bytes([int(digits, 16)]).decode("cp1252", "replace").encode()
