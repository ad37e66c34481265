"""A line to a mail server on which answers are read one by one, within bounds, and none that was not asked for."""

from __future__ import annotations

import logging
import smtplib
import socket
import ssl
import time
from collections.abc import Iterator, Sequence

from barnacle.core.errors import MailError
from barnacle.core.mail.delivery import Answer
from barnacle.core.text import tidy
from barnacle.net.reader import Reader, TooMuchError

CONNECT_SECONDS = 30.0
CLOSING = 421
# Octets of one line of an answer, of one answer, and of all answers of a connection.
_LINE, _ANSWER, _ALL = 4096, 1 << 16, 64 << 20

# So many octets of a message are said at once.
_PIECE = 1 << 17

_LOG = logging.getLogger("barnacle.smtp")


class OutOfStepError(smtplib.SMTPException):
    """An answer that nobody asked for, or that is none to what was said."""


class ClosingError(smtplib.SMTPServerDisconnected):
    """The server said, without being asked, that it closes the line."""


class UnreachableError(MailError):
    """The server is not there, or turns everybody away just now: it may be back soon."""


class LineLostError(Exception):
    """A transaction that broke: the connection did, or the answers were not those to what was said.
    `after_dot`: the message may have been taken. `earlier` are recipients whose acceptance, told before, is in
    doubt."""

    def __init__(self, after_dot: bool, answers: list[Answer], why: str = "", earlier: Sequence[str] = ()) -> None:
        super().__init__()
        self.after_dot = after_dot
        self.answers = answers
        self.why = why
        self.earlier = earlier


class SenderRefusedError(Exception):
    """The server takes nothing from this sender, or nothing of this size: code and reply."""

    def __init__(self, code: int, reply: str) -> None:
        super().__init__(reply)
        self.code = code
        self.reply = reply


class Line(smtplib.SMTP):
    """The library's line, with answers read here. `seconds` is how long the next one may take, `until` the moment
    (time.monotonic) by which all must be there."""

    reader: Reader | None = None
    seconds = CONNECT_SECONDS
    until: float | None = None

    def getreply(self) -> tuple[int, bytes]:
        reader = self.ready()
        reader.until = time.monotonic() + self.seconds
        if self.until is not None:
            reader.until = min(reader.until, self.until)
        lines: list[bytes] = []
        size = 0
        while True:
            line = reader.line(_LINE)
            if not line:
                self.close()
                raise smtplib.SMTPServerDisconnected("Connection unexpectedly closed")
            size += len(line)
            if size > _ANSWER:
                raise TooMuchError("the server's answer does not end")
            lines.append(line[4:].strip(b" \t\r\n"))
            code = int(line[:3]) if line[:3].isdigit() else -1
            if code < 0 or line[3:4] != b"-":
                if _LOG.isEnabledFor(logging.DEBUG):
                    _LOG.debug("answer %d %s", code, b" / ".join(lines).decode("utf-8", "replace")[:500])
                return code, b"\n".join(lines)

    def putcmd(self, cmd: str, args: str = "") -> None:
        self.need_quiet()
        _LOG.debug("says %s", cmd.partition(" ")[0])  # never what follows: addresses, and passwords
        super().putcmd(cmd, args)

    def need_quiet(self) -> None:
        """Before anything is said: nothing may have been. Raises OutOfStepError; ClosingError where the server closes
        the line, which it may say at any time (RFC 5321 section 3.8)."""
        if not self.ready().has_unread:
            return
        code, reply = self.getreply()
        if code == CLOSING:
            raise ClosingError(reply.decode("utf-8", "replace"))
        raise OutOfStepError("the server gave an answer that it was not asked for")

    def ready(self) -> Reader:
        """The reader of this connection. Raises OutOfStepError where something is left of one before encryption."""
        sock = self.sock
        if sock is None:
            raise smtplib.SMTPServerDisconnected("please run connect() first")
        if self.reader is None or self.reader.sock is not sock:
            if self.reader is not None and self.reader.has_kept:
                raise OutOfStepError("the server spoke before the connection was encrypted")
            self.reader = Reader(sock, _ALL)
        return self.reader


class EncryptedLine(Line, smtplib.SMTP_SSL):
    """The same with TLS from the first octet (RFC 8314)."""


def text_of(reply: bytes | str) -> str:
    """What a server said, on one line."""
    return tidy(reply.decode("utf-8", "replace") if isinstance(reply, bytes) else reply, 300)


def quoted(code: int, reply: bytes | str) -> str:
    """The same with its code, to go into a sentence."""
    return f"{code} {text_of(reply)}".rstrip(".")


def dotted(parts: Sequence[bytes | memoryview]) -> Iterator[bytes]:
    """A message in pieces, each line that begins with a dot with another one (RFC 5321 section 4.5.2)."""
    begins = True
    for part in parts:
        for start in range(0, len(part), _PIECE):
            piece = bytes(part[start : start + _PIECE])
            said = piece.replace(b"\n.", b"\n..")
            yield b"." + said if begins and piece.startswith(b".") else said
            begins = piece.endswith(b"\n")


def what_broke(error: Exception) -> str:
    """What broke a transaction, in words."""
    if isinstance(error, OutOfStepError | TooMuchError):
        return str(error)
    return "no answer in time" if isinstance(error, TimeoutError) else "the connection broke"


def why_unreachable(error: Exception) -> str:
    """Why a server cannot be reached, in words."""
    if isinstance(error, ConnectionRefusedError):
        return "nothing answers there"
    if isinstance(error, socket.gaierror):
        return "no computer has that name"
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, smtplib.SMTPServerDisconnected):
        return "it closed the connection"
    if isinstance(error, ssl.SSLError):
        return f"encryption failed: {error.reason or error}"
    return tidy(str(error)) or type(error).__name__
