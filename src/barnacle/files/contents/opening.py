"""A file opened as a recipient can open it: what kind it is, and everything in it that is text."""

from __future__ import annotations

from collections.abc import Iterator

from barnacle.files.contents import archives, databases, documents, media, messages, pdf, plain
from barnacle.files.contents.bounds import Bounds, Found, Locked, Opener, Passage, TooMuchError, Trail
from barnacle.files.contents.words import addresses_in, is_text, runs
from barnacle.files.worker import Limits, StoppedWorkerError, ahead

# Parsers of others' libraries work in a process of their own, with so much memory and time.
_LIMITS = Limits(seconds=45, octets=1_500_000_000)


def open_file(name: str, data: bytes, around: Trail) -> Iterator[Found]:
    """Everything in a file that somebody who gets it can read, with what could not be searched. Never raises for what
    is in it."""
    try:
        trail = around.into(name)
        yield from trail.passage(f"{name} {name.rpartition('.')[0]}", "the name")
        yield from _opened(name, data, trail)
    except TooMuchError as error:
        yield around.unsearched(str(error), name)


def _opened(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    try:
        opener, alone = _opener(name, data, trail)
        if not alone:
            yield from opener(name, data, trail)
            return
        for found in ahead(_apart, opener, name, data, trail.path, trail.office, limits=_LIMITS):
            if isinstance(found, Passage):
                trail.bounds.take(len(found.text))
            yield found
    except Locked:
        yield trail.unsearched("encrypted")
    except StoppedWorkerError:
        yield trail.unsearched("opening it takes too much time or memory")
    except TooMuchError:
        raise
    except RecursionError:
        yield trail.unsearched("it is nested too deeply")
    except Exception as error:
        # Whatever a broken or made-up file does to a parser, it was not searched to its end.
        yield trail.unsearched(f"damaged, or of a kind that cannot be opened ({type(error).__name__})")


def _apart(opener: Opener, name: str, data: bytes, path: tuple[str, ...], office: bool) -> Iterator[Found]:
    """In a process of its own."""
    trail = Trail(Bounds(), open_file, path, office)
    try:
        yield from opener(name, data, trail)
    except Locked:
        yield trail.unsearched("encrypted")


def _opener(name: str, data: bytes, trail: Trail) -> tuple[Opener, bool]:
    """What opens a file, by how it begins, and whether in a process of its own."""
    head = data[:1024]
    if head.startswith((b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08")):
        return archives.zipped, False
    if head.startswith((b"\x1f\x8b", b"BZh", b"\xfd7zXZ\0")):
        return archives.squeezed, False
    if head[257:262] == b"ustar":
        return archives.tarred, False
    if head.startswith(b"7z\xbc\xaf\x27\x1c"):
        return archives.seven, True
    if head.startswith((b"Rar!", b"\x28\xb5\x2f\xfd", b"MSCF", b"\x04\x22\x4d\x18")):
        return _unknown_archive, False
    if b"%PDF-" in head:
        return pdf.pages, True
    if head.startswith(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"):
        return documents.compound, True
    if head.startswith(b"SQLite format 3\0"):
        return databases.tables, True
    if head.startswith(b"{\\rtf"):
        return documents.rich_text, False
    if media.is_media(data):
        return media.metadata, False
    if messages.is_message(name, head):
        return messages.message, False
    if is_text(data):
        return plain.plain, False
    return _unknown, False


def _unknown_archive(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    yield trail.unsearched("an archive of a kind that Barnacle cannot open")


def _unknown(name: str, data: bytes, trail: Trail) -> Iterator[Found]:
    """A kind that nothing is known of: its stretches of text are searched, and that this is not all is said. Within a
    document such parts are fonts, printers' settings and the like."""
    trail.bounds.take(len(data))
    for text in runs(data) if len(data) < 1 << 22 else (addresses_in(data),):
        yield from trail.passage(text, "the text")
    if not trail.office:
        yield trail.unsearched("of an unknown kind")
