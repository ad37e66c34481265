"""What a search of files comes to, and how far it goes."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from barnacle.core.text import visible
from barnacle.core.typed import NamedTuple

# Octets of all that was unpacked, and of one piece; how deep things may stand in each other; how many of them; seconds.
MOST_OCTETS = 300_000_000
MOST_DEEP = 8
MOST_PIECES = 20_000
MOST_SECONDS = 60.0
# Texts are handed over in pieces of so many characters, which overlap by more than an address takes.
PIECE = 8 << 20
# Characters of a file's name that are shown, and that it is known by.
NAME_SHOWN = 80
OVERLAP = 4096


class Passage(NamedTuple):
    """A text that somebody can read, and where it stands (`the text of rota.xlsx`). `file` is the outermost file that
    it came with, as the message names it, empty for the message's own words."""

    where: str
    text: str
    file: str = ""


class Unsearched(NamedTuple):
    """A file, or something in it, that could not be searched, and why; `file` as in `Passage`."""

    name: str
    why: str
    file: str = ""


class Unread(NamedTuple):
    """What of a searched file nobody has read, in words (`pictures`), and that is no reason to stop."""

    what: str
    file: str = ""


Found = Passage | Unsearched | Unread


class TooMuchError(Exception):
    """More than is searched. The text says of what."""


class Locked(Exception):  # noqa: N818
    """What is there cannot be read without a password."""


class Bounds:
    """How far one search may still go."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self.octets = MOST_OCTETS
        self.pieces = MOST_PIECES
        self._clock = clock
        self._end = clock() + MOST_SECONDS

    def take(self, octets: int) -> None:
        """Count what was unpacked. Raises TooMuchError."""
        self.octets -= octets
        if self.octets < 0:
            raise TooMuchError("it unpacks to more than is searched")
        if self._clock() > self._end:
            raise TooMuchError("searching it takes too long")

    def one_more(self) -> None:
        """Count one more file in another. Raises TooMuchError."""
        self.pieces -= 1
        if self.pieces < 0:
            raise TooMuchError("it holds too many files")
        self.take(0)


def in_pieces(text: str) -> Iterator[str]:
    """A long text in pieces that overlap."""
    if len(text) <= PIECE:
        yield text
        return
    for start in range(0, len(text), PIECE - OVERLAP):
        yield text[start : start + PIECE]


class Trail:
    """Where one is: the files around this one, outermost first, how far the search may still go, and what opens one
    more. `office` says that this is part of a document: what is no text there shows nothing of itself."""

    def __init__(self, bounds: Bounds, opener: Opener, path: tuple[str, ...] = (), office: bool = False) -> None:
        self.bounds = bounds
        self.path = path
        self.office = office
        self._opener = opener
        self.apart: dict[str, memoryview] = {}  # what stands, in Base64, where a part of the message has only a mark

    def into(self, name: str) -> Trail:
        """One file further in. Raises TooMuchError."""
        if len(self.path) >= MOST_DEEP:
            raise TooMuchError(f"files are nested more than {MOST_DEEP} deep")
        return Trail(self.bounds, self._opener, (*self.path, visible(name, NAME_SHOWN)), self.office)

    def as_document(self) -> Trail:
        """The same place, known to be a document."""
        return Trail(self.bounds, self._opener, self.path, office=True)

    def open(self, name: str, data: bytes) -> Iterator[Found]:
        """Everything in a file that stands in this one."""
        return self._opener(name, data, self)

    @property
    def file(self) -> str:
        """The outermost file."""
        return self.path[0] if self.path else ""

    @property
    def place(self) -> str:
        """`members.xlsx in rota.zip`."""
        return " in ".join(reversed(self.path))

    def passage(self, text: str, what: str) -> Iterator[Found]:
        """A text of this file; `what` says which."""
        for piece in in_pieces(text):
            where = f"{what} of {self.place}" if what and self.path else what or self.place
            yield Passage(where, piece, self.file)

    def unsearched(self, why: str, name: str = "") -> Unsearched:
        """This file, or one in it, which cannot be searched."""
        place = visible(name, NAME_SHOWN) if name else ""
        return Unsearched(f"{place} in {self.place}" if place and self.path else place or self.place, why,
                          self.file or place)  # fmt: skip


Opener = Callable[[str, bytes, Trail], Iterator[Found]]
