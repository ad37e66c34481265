"""A text that was written elsewhere, for a message: as a web page, or as a draft that a mail program saved (RFC 5322).
Its format becomes Markdown; what cannot be kept is counted."""

from __future__ import annotations

import re

from barnacle.core.errors import FileError
from barnacle.core.mail.letter import Attachment, attached
from barnacle.core.mail.markdown_writer import MarkdownWriter, Written
from barnacle.core.typed import TYPE_CHECKING, NamedTuple
from barnacle.files.contents.words import as_text
from barnacle.files.tables.web_page import Lenient

if TYPE_CHECKING:
    from email.message import MIMEPart


_INSTEAD = "Save it as text (.txt), or send it along with --attach."
_WHITE = re.compile(r"\s+")


class Draft(NamedTuple):
    """A message as it was begun in a mail program: its subject, its text, and the files enclosed."""

    subject: str
    written: Written
    enclosed: list[Attachment]


def from_page(text: str) -> Written:
    """The text of a web page."""
    page = _Page()
    page.feed(text)
    page.close()
    return page.writer.written()


class _Page(Lenient):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.writer = MarkdownWriter()
        self._kept = 0  # in how many `pre`, whose lines stay as they are

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self._kept += tag == "pre"
        self.writer.start(tag, dict(attrs))

    def handle_endtag(self, tag: str) -> None:
        self._kept -= tag == "pre" and self._kept > 0
        self.writer.end(tag)

    def handle_data(self, data: str) -> None:
        self.writer.say(data if self._kept else _WHITE.sub(" ", data))


def from_draft(octets: bytes, name: str, most: int) -> Draft:
    """The text of a message, which is that with a format where it has two. Raises FileError, with the file's name;
    also where the text is of more than `most` characters."""
    try:
        return _from_draft(octets, name, most)
    except FileError:
        raise
    except Exception as error:  # of the library, which has none of its own for what it cannot make sense of
        raise FileError(f"{name} is damaged, and was not read ({type(error).__name__}). {_INSTEAD}") from error


def _from_draft(raw: bytes, name: str, most: int) -> Draft:
    from email import message_from_bytes, policy
    from email.message import EmailMessage

    message = message_from_bytes(raw, EmailMessage, policy=policy.default)
    assert isinstance(message, EmailMessage)
    body = message.get_body(("html", "plain"))
    octets = body.get_payload(decode=True) if body is not None else b""
    text = as_text(octets, body.get_content_charset()) if body is not None and isinstance(octets, bytes) else ""
    is_page = body is not None and body.get_content_type() == "text/html"
    if len(text) > most:
        raise FileError(f"The text of {name} is too long for a message (over {most:,} characters).")
    if body is not None and str(body.get_param("format", "")).lower() == "flowed":
        text = _unwrapped(text, str(body.get_param("delsp", "")).lower() == "yes")
    written = from_page(text) if is_page else Written(text.replace("\r\n", "\n"), False, {})
    enclosed = [_enclosed(part) for part in message.walk() if part.get_content_disposition() == "attachment"]
    return Draft(" ".join(str(message["Subject"] or "").split()), written, enclosed)


def _unwrapped(text: str, without_space: bool) -> str:
    """Paragraphs as they were written, of lines that a space at their ends joins (RFC 3676 sections 4.1 to 4.4)."""
    lines: list[str] = []
    goes_on = False
    for line in text.splitlines():
        line = line.removeprefix(" ")
        lines[-1:] = [lines[-1] + line] if goes_on else [*lines[-1:], line]
        goes_on = line.endswith(" ") and line != "-- " and not line.startswith(">")
        if goes_on and without_space:
            lines[-1] = lines[-1][:-1]
    return "\n".join(lines) + "\n"


def _enclosed(part: MIMEPart) -> Attachment:
    octets = part.get_payload(decode=True)
    if not isinstance(octets, bytes):  # a message
        octets = b"".join(bytes(one) for one in part.iter_parts())
    name = (part.get_filename() or "").replace("\\", "/").rpartition("/")[2]
    return attached(name or "attachment", part.get_content_type(), octets)
