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
from barnacle.files.missing import no_such_file

if TYPE_CHECKING:
    from barnacle.core.mail.letter import Attachment
    from barnacle.core.mail.markdown_writer import Written

# So long may a text be; and a file may be, in which it is but a part.
BODY_LIMIT, _FILE_LIMIT = 5_000_000, 50_000_000
_UTF8 = ("utf-8", "utf-8-sig")
# How a web page begins, in small letters.
_WEB_PAGE = (b"<!doctype html", b"<html")


class Body(NamedTuple):
    """The text of a message, and the encoding that it was taken for where that was not UTF-8 (empty: it was). Of one
    that was written elsewhere also whether it is Markdown now, the subject that it had, the files
    enclosed in it, and what of it is left out."""

    text: str
    guessed: str = ""
    markdown: bool | None = None
    subject: str = ""
    enclosed: Sequence[Attachment] = ()
    left_out: Sequence[str] = ()


def read_body(path: Path | None, text: str | None, limit: int = BODY_LIMIT) -> Body:
    """The text of a message from a file or the command line; `-` is standard input. In a file it may be in any encoding
    that an import takes. Raises FileError, UnclearError."""
    if path is None and text != "-":
        if text and "." in text and "\n" not in text and len(text) < 256 and Path(text).is_file():
            shown = visible(text, 60)
            raise UnclearError(f"`{shown}` is a file, and --text takes the words themselves: --body {shown} reads it.")
        return Body(plain_body(text or "", "The text"))
    if path is None or str(path) == "-":
        return _kept(sys.stdin.buffer.read(limit + 1), "standard input", limit)
    if path.is_fifo():
        with path.open("rb") as pipe:
            return _kept(pipe.read(limit + 1), path.name, limit)
    return _read_text(path, limit)


def _kept(octets: bytes, name: str, limit: int) -> Body:
    """The text of what can be read but once."""
    with tempfile.TemporaryDirectory() as folder:
        kept = Path(folder) / name
        kept.write_bytes(octets)
        return _read_text(kept, limit)


def _read_text(path: Path, limit: int) -> Body:
    name = visible(path.name)
    instead = (
        "A message is text: save it as .docx, .odt or .txt, write Markdown (.md), or send it along with "
        f"--attach {name}."
    )
    body = _written_elsewhere(path, limit, instead)
    if body is None:
        raw = _octets(path, limit)
        encoding = find_encoding(path, instead)
        text = raw.decode(encoding.codec, encoding.errors).removeprefix("\ufeff")
        body = Body(text, "" if encoding.codec in _UTF8 and encoding.errors == "replace" else encoding.label)
    if len(body.text) > limit:
        raise FileError(f"{name} is too long for a message (over {limit:,} characters).")
    return body._replace(text=plain_body(body.text, name))


def read_file(path: Path, limit: int) -> str:
    """What a file of text says, in any encoding that an import takes. Raises FileError."""
    raw = _octets(path, limit, "Nothing was composed.")
    encoding = find_encoding(path, "")
    return plain_body(raw.decode(encoding.codec, encoding.errors).removeprefix("\ufeff"), visible(path.name))


def _octets(path: Path, limit: int, instead: str = "The words themselves go in --text.") -> bytes:
    try:
        with path.open("rb") as file:
            raw = file.read(limit + 1)
    except FileNotFoundError:
        raise FileError(f"{no_such_file(path)} {instead}") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be read: {error.strerror}.") from error
    if len(raw) > limit:
        raise FileError(f"{visible(str(path))} is too long for a message (over {limit:,} octets).")
    return raw


def _written_elsewhere(path: Path, limit: int, instead: str) -> Body | None:
    """The text of a document, a web page or a message; None where a file is none of these."""
    head = _octets(path, _FILE_LIMIT)[:4000]
    begins, kind = head.removeprefix(b"\xef\xbb\xbf").lstrip().lower(), path.suffix.lower()
    is_page = begins.startswith(_WEB_PAGE) or kind in (".html", ".htm")
    is_mail = kind == ".eml" or (is_message(head) and b"mime-version:" in begins)
    if not (is_page or is_mail or head.startswith(b"PK")):
        return None
    from barnacle.files import written_document, written_text
    from barnacle.files.tables.document import is_document

    if is_mail:
        draft = written_text.from_draft(_octets(path, _FILE_LIMIT), visible(path.name), limit)
        return _as_body(draft.written)._replace(subject=draft.subject, enclosed=draft.enclosed)
    if is_page:
        encoding = find_encoding(path, instead)
        return _as_body(written_text.from_page(_octets(path, limit).decode(encoding.codec, encoding.errors)))
    return _as_body(written_document.from_document(path)) if is_document(path) else None


def _as_body(written: Written) -> Body:
    left_out = [count(number, what) for what, number in written.left_out.items() if number]
    return Body(written.text, "", written.is_markdown or None, left_out=left_out)
