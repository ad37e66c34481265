"""The search of a finished message for addresses that it must not show, and for files that cannot be searched."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from email import message_from_bytes

from barnacle.core.mail.privacy import MOST_NAMED, Guard, OverlongError
from barnacle.core.typed import NamedTuple
from barnacle.files.contents.bounds import Bounds, Found, Locked, TooMuchError, Trail, Unread, Unsearched
from barnacle.files.contents.messages import in_message
from barnacle.files.contents.opening import open_file

# So many addresses of one file are told; after that the rest of it need not be searched.
_ENOUGH = 50
# What stands behind the place where a search had to end.
REST = "the rest of the message"
_LARGE = 1 << 20
_IN_BASE64 = b"\r\nContent-Transfer-Encoding: base64\r\n"


class Leak(NamedTuple):
    """An address that must not be seen, where it stands, and whose it is. `certain` is False where only somebody who
    guesses would read it as one."""

    address: str
    where: str
    owner: str
    certain: bool = True


@dataclass(slots=True)
class Searched:
    """What a search came to: addresses that were found; what could not be searched, and why; what of a file nobody has
    read; and who of the guarded is named in a file, by the file."""

    leaks: list[Leak] = field(default_factory=list)
    unsearched: list[Unsearched] = field(default_factory=list)
    unread: list[Unread] = field(default_factory=list)
    named: dict[str, set[str]] = field(default_factory=dict)

    def of(self, file: str) -> tuple[list[Unsearched], list[str]]:
        """What of a file could not be searched, or may not have been, and what nobody has read."""
        unsearched = [one for one in self.unsearched if one.file in (file, REST)]
        return unsearched, [one.what for one in self.unread if one.file == file]


def search(raw: bytes, guarded: Mapping[str, str]) -> Searched:
    """Look for guarded addresses in a message in wire format; `guarded` maps address keys to their owners' names.

    Header fields, texts, and files of all kinds that a recipient can open are searched, as docs/privacy.md says.
    """
    result = Searched()
    guard = Guard(guarded)
    found: dict[tuple[str, str], Leak] = {}
    full: set[str] = set()
    read: dict[str, int] = {}  # characters of each file that were read for names
    for one in _everything(raw) if guarded else ():
        if isinstance(one, Unsearched):
            result.unsearched.append(one)
        elif isinstance(one, Unread):
            if one not in result.unread:
                result.unread.append(one)
        elif (one.file or one.where) not in full:
            try:
                hits = guard.hits(one.text)
            except OverlongError:
                # What comes after it is read no further either, and is said by its own name.
                name = one.file or one.where
                if name not in full:
                    result.unsearched.append(Unsearched(name, "searching it takes too long", name))
                full.add(name)
                continue
            for hit in sorted(hits):
                found.setdefault((hit.key, one.where), Leak(hit.key, one.where, guarded[hit.key], hit.certain))
            if one.file:
                if (left := MOST_NAMED - read.get(one.file, 0)) > 0:
                    read[one.file] = read.get(one.file, 0) + len(one.text)
                    if names := guard.names(one.text[:left]):
                        result.named.setdefault(one.file, set()).update(names)
                if sum(leak.certain and leak.where.endswith(one.file) for leak in found.values()) > _ENOUGH:
                    full.add(one.file)
    result.leaks = sorted(found.values(), key=lambda leak: not leak.certain)
    return result


def _everything(raw: bytes) -> Iterator[Found]:
    trail = Trail(Bounds(), open_file)
    try:
        skeleton, trail.apart = _apart(raw)
        yield from in_message(message_from_bytes(skeleton), trail)
    except TooMuchError as error:
        yield Unsearched(REST, str(error), REST)
    except Locked:
        yield Unsearched(REST, "encrypted", REST)


def _apart(raw: bytes) -> tuple[bytes, dict[str, memoryview]]:
    """The message with the lines of each part in Base64 joined, which say the same: the library's parser looks at each,
    and a large file has a hundred thousand. Of the largest only a mark is left, since that parser takes eight times
    their size; behind it stands what is theirs."""
    pieces: list[bytes] = []
    apart: dict[str, memoryview] = {}
    done = 0
    while (field := raw.find(_IN_BASE64, done)) >= 0 and (begin := raw.find(b"\r\n\r\n", field)) >= 0:
        end = raw.find(b"\r\n--", begin)
        end = end if end >= 0 else len(raw)
        if end - begin < _LARGE:
            pieces += [raw[done : begin + 4], raw[begin + 4 : end].translate(None, b"\r\n")]
        else:
            mark = f"apart-{secrets.token_hex(16)}"
            apart[mark] = memoryview(raw)[begin + 4 : end]
            pieces += [raw[done : begin + 4], mark.encode()]
        done = end
    return b"".join([*pieces, raw[done:]]), apart


def find_leaks(raw: bytes, guarded: Mapping[str, str]) -> list[Leak]:
    """The addresses alone that `search` finds for certain."""
    return [leak for leak in search(raw, guarded).leaks if leak.certain]
