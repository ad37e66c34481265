"""Files that hold files: ZIP with the documents that are made of it, tar, 7z, and what is only compressed."""

from __future__ import annotations

import bz2
import io
import lzma
import tarfile
import zipfile
import zlib
from collections.abc import Iterator

from barnacle.core.typed import IO
from barnacle.files.contents.bounds import Found, Locked, TooMuchError, Trail, Unread
from barnacle.files.contents.words import addresses_in

_BLOCK = 1 << 20
# Parts of documents that show a reader nothing of their own.
_SILENT = ("printersettings", "thumbnail", "layout-cache", ".odttf", ".fntdata", "calcchain.xml", "/theme/")


def zipped(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The files of a ZIP archive, or the parts of a document (OOXML, ISO/IEC 29500; OpenDocument, ISO/IEC 26300)."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        infos = archive.infolist()
        names = {info.filename for info in infos}
        document = "[Content_Types].xml" in names or "META-INF/manifest.xml" in names or "mimetype" in names
        if document and "META-INF/manifest.xml" in names:
            manifest = _read(archive.open("META-INF/manifest.xml"), trail)
            if b"encryption-data" in manifest:
                raise Locked
        if archive.comment:
            yield from trail.passage(archive.comment.decode("utf-8", "replace"), "the comment")
        inner = trail.as_document() if document else trail
        for info in infos:
            trail.bounds.one_more()
            if info.comment:
                yield from trail.passage(info.comment.decode("utf-8", "replace"), "a comment")
            if info.is_dir():
                yield from trail.passage(info.filename, "the name of a folder")
                continue
            if info.flag_bits & 1:
                yield trail.unsearched("encrypted", info.filename)
                continue
            try:
                with archive.open(info) as part:
                    content = _read(part, trail)
            except TooMuchError:
                raise
            except Exception:  # whatever a library says of octets that are not what they should be
                yield trail.unsearched("damaged, or packed in a way that is not known", info.filename)
                continue
            lower = info.filename.lower()
            if document and lower.endswith("vbaproject.bin"):
                yield Unread("macros", trail.file)
            if document and any(part in lower for part in _SILENT) and not addresses_in(content):
                continue
            yield from inner.open(_spoken(lower, info.filename) if document else info.filename, content)


def _spoken(lower: str, name: str) -> str:
    """What a part of a document is to its reader."""
    for sign, word in (
        ("comment", "a comment"), ("docprops/", "the properties"), ("meta.xml", "the properties"),
        ("sharedstrings", "the cells"), ("worksheets/", "a sheet"), ("word/document", "the text"),
        ("content.xml", "the content"), ("notesslide", "the notes of a slide"), ("slides/", "a slide"),
        ("header", "a header"), ("footer", "a footer"), ("footnotes", "a footnote"), (".rels", "a link"),
    ):  # fmt: skip
        if sign in lower:
            return word
    return name


def _read(part: IO[bytes] | None, trail: Trail) -> bytes:
    """A file's octets, counted while they are unpacked. Raises TooMuchError."""
    blocks = []
    while part and (block := part.read(_BLOCK)):
        trail.bounds.take(len(block))
        blocks.append(block)
    return b"".join(blocks)


def squeezed(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """A file compressed with gzip (RFC 1952), bzip2 or xz."""
    blocks: list[bytes] = []
    rest = data
    while rest:
        if data.startswith(b"\x1f\x8b"):
            unpack = zlib.decompressobj(wbits=31)
            while rest and not unpack.eof:
                block = unpack.decompress(rest, _BLOCK)
                rest = unpack.unconsumed_tail
                trail.bounds.take(len(block) + 1)
                blocks.append(block)
                if not block and not rest:
                    break
            if not unpack.eof:
                raise EOFError("cut short")
            rest = unpack.unused_data.lstrip(b"\0")
            if not rest.startswith(b"\x1f\x8b"):
                break
        else:
            maker = bz2.BZ2Decompressor() if data.startswith(b"BZh") else lzma.LZMADecompressor(memlimit=200 << 20)
            feed = rest
            while not maker.eof:
                block = maker.decompress(feed, _BLOCK)
                feed = b""
                trail.bounds.take(len(block) + 1)
                blocks.append(block)
                if not block and maker.needs_input:
                    raise EOFError("cut short")
            rest = maker.unused_data.lstrip(b"\0")
    inner = name.rpartition(".")[0] or name
    yield from trail.open(inner, b"".join(blocks))


def tarred(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The files of a tar archive (POSIX.1 ustar and pax)."""
    with tarfile.open(fileobj=io.BytesIO(data), mode="r:") as archive:
        for info in archive:
            trail.bounds.one_more()
            if info.isfile():
                part = archive.extractfile(info)
                yield from trail.open(info.name, _read(part, trail))
            else:
                yield from trail.passage(f"{info.name} {info.linkname}", "a name")


def seven(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """The files of a 7z archive, where the library for it is there."""
    try:
        import py7zr
        from py7zr.io import BytesIOFactory
    except ImportError:
        yield trail.unsearched(
            "an archive of a kind that Barnacle cannot open here (the package py7zr is not installed)"
        )
        return
    try:
        opened = py7zr.SevenZipFile(io.BytesIO(data))
    except py7zr.exceptions.PasswordRequired:
        raise Locked from None
    with opened as archive:
        if archive.needs_password():
            raise Locked
        size = sum(info.uncompressed or 0 for info in archive.list())
        trail.bounds.take(size)
        factory = BytesIOFactory(max(size, 1))
        archive.extractall(factory=factory)
        for inner, part in factory.products.items():
            trail.bounds.one_more()
            part.seek(0)
            yield from trail.open(inner, part.read())
