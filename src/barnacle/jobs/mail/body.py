"""The text of a message: from the command line, from a file, or as it was written in another program."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from barnacle.core.errors import FileError, UnclearError
from barnacle.core.text import count, plain_body, visible
from barnacle.core.typed import TYPE_CHECKING, NamedTuple
from barnacle.files.encoding import find_encoding
from barnacle.files.mail_heads import is_message
from barnacle.files.missing import is_file, no_such_file
from barnacle.files.tables.document import is_document

if TYPE_CHECKING:
    from barnacle.core.mail.letter import Attachment
    from barnacle.core.mail.markdown_writer import Written

# So long may a text be; and a file may be, in which it is but a part.
BODY_LIMIT, _FILE_LIMIT = 5_000_000, 50_000_000
_UTF8 = ("utf-8", "utf-8-sig")
# How a web page begins, in small letters.
_WEB_PAGE = (b"<!doctype html", b"<html")


class Body(NamedTuple):
    """The text of a message, and the encoding that it was taken for where that was not UTF-8 (empty: it was). Also
    whether it is Markdown; and of one that was written elsewhere the subject that it had, the files enclosed in it, and
    what of it is left out."""

    text: str
    guessed: str = ""
    markdown: bool | None = None
    subject: str = ""
    enclosed: Sequence[Attachment] = ()
    left_out: Sequence[str] = ()


def read_body(path: Path | None, text: str | None) -> Body:
    """The text of a message from a file or the command line; `-` is standard input. In a file it may be in any encoding
    that an import takes. Raises FileError, UnclearError."""
    if path is None and text != "-":
        if text and "." in text and is_file(text):
            shown = visible(text, 60)
            raise UnclearError(f"`{shown}` is a file, and --text takes the words themselves: --body {shown} reads it.")
        return Body(plain_body(text or "", "The text"))
    if path is None or str(path) == "-":
        return _kept(sys.stdin.buffer.read(_FILE_LIMIT + 1), "standard input")
    octets = _octets(path, _FILE_LIMIT)
    return _read(octets, path) if path.is_file() else _kept(octets, path.name)


def read_file(path: Path, limit: int) -> str:
    """What a file of text says, in any encoding that an import takes. Raises FileError."""
    return _as_it_stands(_octets(path, limit, "Nothing was composed."), path, limit, "").text


def _kept(octets: bytes, name: str) -> Body:
    """The text of what can be read but once."""
    with tempfile.TemporaryDirectory() as folder:
        kept = Path(folder) / name
        kept.write_bytes(octets)
        return _read(octets, kept)


def _octets(path: Path, limit: int, instead: str = "The words themselves go in --text.") -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(limit + 1)
    except FileNotFoundError:
        raise FileError(f"{no_such_file(path)} {instead}") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be read: {error.strerror}.") from error


def _read(octets: bytes, path: Path) -> Body:
    """The text in a file's octets, by what it was written with."""
    name, head, kind = visible(path.name), octets[:4000], path.suffix.lower()
    instead = (
        "A message is text: save it as .docx, .odt or .txt, write Markdown (.md), or send it along with "
        f"--attach {name}."
    )
    if kind == ".eml" or (is_message(head) and b"mime-version:" in head.lower()):
        from barnacle.files.written_text import from_draft

        _need_short(octets, _FILE_LIMIT, path)
        draft = from_draft(octets, name, BODY_LIMIT)
        body = _as_body(draft.written)._replace(subject=draft.subject, enclosed=draft.enclosed)
    elif kind in (".html", ".htm") or head.removeprefix(b"\xef\xbb\xbf").lstrip().lower().startswith(_WEB_PAGE):
        from barnacle.files.written_text import from_page

        body = _as_body(from_page(_as_it_stands(octets, path, BODY_LIMIT, instead, plain=False).text))
    elif head.startswith(b"PK") and is_document(path):
        from barnacle.files.written_document import from_document

        _need_short(octets, _FILE_LIMIT, path)
        body = _as_body(from_document(path))
    else:
        body = _as_it_stands(octets, path, BODY_LIMIT, instead)
        return body._replace(markdown=kind in (".md", ".markdown") or None)
    if len(body.text) > BODY_LIMIT:
        raise FileError(f"{name} is too long for a message (over {BODY_LIMIT:,} characters).")
    return body._replace(text=plain_body(body.text, name))


def _as_it_stands(octets: bytes, path: Path, limit: int, instead: str, plain: bool = True) -> Body:
    """The text of a file that is nothing but text."""
    _need_short(octets, limit, path)
    encoding = find_encoding(path, instead)
    text = octets.decode(encoding.codec, encoding.errors).removeprefix("\ufeff")
    guessed = "" if encoding.codec in _UTF8 and encoding.errors == "replace" else encoding.label
    return Body(plain_body(text, visible(path.name)) if plain else text, guessed)


def _need_short(octets: bytes, limit: int, path: Path) -> None:
    if len(octets) > limit:
        raise FileError(f"{visible(str(path))} is too long for a message (over {limit:,} octets).")


def _as_body(written: Written) -> Body:
    left_out = [count(number, what) for what, number in written.left_out.items() if number]
    return Body(written.text, "", written.is_markdown or None, left_out=left_out)
