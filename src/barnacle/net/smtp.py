"""Handing messages to a mail server (RFC 5321), with TLS (RFC 3207, RFC 8314) and login (RFC 4954)."""

from __future__ import annotations

import re
import select
import smtplib
import socket
import ssl
from collections.abc import Callable, Iterator, Sequence

from barnacle.core.addresses import envelope_address
from barnacle.core.errors import MailError
from barnacle.core.mail.delivery import Answer, State, state_of
from barnacle.core.text import tidy, visible
from barnacle.net.server import Server, need_password

CONNECT_SECONDS = 30.0
# RFC 5321 section 4.5.3.2: five minutes for a command's answer, ten for the answer to the final dot.
COMMAND_SECONDS = 300.0
DOT_SECONDS = 600.0
# RFC 5321 section 4.5.3.1.10: "too many recipients" is 452; the rest go in the next transaction.
TOO_MANY = 452
CLOSING = 421
# So many commands at most are said before an answer is read: both sides must be able to hold them.
_AT_ONCE = 100


class LineLostError(Exception):
    """The connection broke in a mail transaction. `after_dot`: the message may have been taken."""

    def __init__(self, after_dot: bool, answers: list[Answer]) -> None:
        super().__init__()
        self.after_dot = after_dot
        self.answers = answers


class Submission:
    """A connection to a mail server."""

    def __init__(self, server: Server, password: Callable[[], str | None], seconds: float = CONNECT_SECONDS) -> None:
        """Connect, secure and log in, waiting for each at most so many seconds. Raises MailError with what to do about
        it."""
        self.server = server
        self._seconds = seconds
        place = f"{server.host}:{server.port}"
        try:
            self._smtp = self._connect()
            self._smtp.ehlo_or_helo_if_needed()
            if not server.implicit_tls and self._smtp.has_extn("starttls"):
                self._smtp.starttls(context=ssl.create_default_context())
                self._smtp.ehlo()
            if server.user:
                self._login(password)
        except ssl.SSLCertVerificationError as error:
            raise MailError(
                f"The mail server {place} could not prove that it is {server.host}: {error.verify_message}. "
                "Nothing was sent. Ask whoever runs the server, or check the name in `barnacle setup --mail`."
            ) from error
        except smtplib.SMTPResponseException as error:
            raise MailError(
                f"The mail server {place} turned us away: {error.smtp_code} {_text(error.smtp_error)}. "
                "Nothing was sent."
            ) from error
        except (smtplib.SMTPException, OSError) as error:
            raise MailError(
                f"The mail server {place} cannot be reached ({_why(error)}). Nothing was sent; "
                "check the name in `barnacle setup --mail` and the network, then send again."
            ) from error
        if self._smtp.sock is not None:
            self._smtp.sock.settimeout(COMMAND_SECONDS)
            # The dot leaves by itself, after the message: held back until that is acknowledged (RFC 896) it would cost
            # 40 ms a message.
            self._smtp.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def _connect(self) -> smtplib.SMTP:
        where = (self.server.host, self.server.port)
        # The host's own name in EHLO would tell the network more than it needs (RFC 5321 section 4.1.3 allows
        # an address literal).
        if self.server.implicit_tls:
            return smtplib.SMTP_SSL(
                *where,
                local_hostname="[127.0.0.1]",
                timeout=self._seconds,
                context=ssl.create_default_context(),
            )
        return smtplib.SMTP(*where, local_hostname="[127.0.0.1]", timeout=self._seconds)

    def _login(self, password: Callable[[], str | None]) -> None:
        server = self.server
        secured = isinstance(self._smtp.sock, ssl.SSLSocket)
        if not secured and not server.is_here:
            raise MailError(
                f"{server.host} offers no encryption, and the password would travel in clear. Nothing was sent. "
                "Try smtps:// in `barnacle setup --mail`."
            )
        if not self._smtp.has_extn("auth"):
            return
        secret = need_password(server, password)
        try:
            self._smtp.login(server.user, secret)
        except smtplib.SMTPAuthenticationError as error:
            raise MailError(
                f"{server.host} does not accept the name {visible(server.user)} with this password "
                f"({error.smtp_code} {_text(error.smtp_error)}). Nothing was sent."
            ) from None

    def transact(
        self,
        sender: str,
        recipients: Sequence[str],
        raw: bytes,
        before_dot: Callable[[list[str]], None],
        meanwhile: Callable[[], None] = lambda: None,
    ) -> list[Answer]:
        """One mail transaction. `before_dot` is called with the recipients that the server took, after the message
        and before the dot that ends it (RFC 5321 section 4.1.1.4); when it returns the dot leaves. `meanwhile` is
        called while the server works on the message, and must not raise.

        Returns an answer for each recipient. Recipients beyond what the server takes at once come back as
        `waiting`. Raises LineLostError when the connection breaks, MailError when the server refuses the sender or
        the message as such.
        """
        answers: dict[str, Answer] = {}
        dotted = False
        try:
            taken = self._envelope(sender, recipients, len(raw), answers)
            if not taken:
                if self.is_open:
                    self._smtp.rset()
                return list(answers.values())
            code, reply = self._smtp.docmd("DATA")
            if code == 354:
                # RFC 5321 section 4.5.2: a line that begins with a dot gets another.
                self._smtp.send(re.sub(rb"(?m)^\.", b"..", raw))
                before_dot(taken)
                if self._has_spoken():
                    # It hung up or gave its verdict before the message was whole: the dot stays here.
                    code, reply = self._smtp.getreply()
                    self._smtp.close()
                else:
                    # A send that fails has sent nothing of these three octets; only the answer can be in doubt.
                    self._smtp.send(b".\r\n")
                    dotted = True
        except (smtplib.SMTPServerDisconnected, OSError):
            self._smtp.close()
            raise LineLostError(False, list(answers.values())) from None
        except MailError:
            raise
        except BaseException:
            # Whatever else stops us (the book cannot be written, Ctrl-C) finds a message half said: a QUIT now would
            # become part of it, and its answer would never come.
            self._smtp.close()
            raise
        if dotted:
            meanwhile()
            try:
                if self._smtp.sock is not None:
                    self._smtp.sock.settimeout(DOT_SECONDS)
                code, reply = self._smtp.getreply()
                if not 200 <= code < 600:
                    raise smtplib.SMTPException("no answer that means anything")
            except (smtplib.SMTPException, OSError):
                self._smtp.close()
                raise LineLostError(True, list(answers.values())) from None
            if self._smtp.sock is not None:
                self._smtp.sock.settimeout(COMMAND_SECONDS)
        for address in taken:
            answers[address] = Answer(address, state_of(code), code, _text(reply))
        if code == CLOSING:
            self._smtp.close()
        return [answers[a] for a in recipients]

    def _has_spoken(self) -> bool:
        """Whether the server sent something, or the end of the line, without being asked."""
        sock = self._smtp.sock
        return sock is not None and bool(select.select([sock], [], [], 0)[0])

    def _envelope(self, sender: str, recipients: Sequence[str], size: int, answers: dict[str, Answer]) -> list[str]:
        """MAIL and RCPT. Fills in `answers` for everybody; returns whom the server took."""
        options = [f"SIZE={size}"] if self._smtp.has_extn("size") else []  # RFC 1870
        utf8 = self._smtp.has_extn("smtputf8")
        if utf8 and any(not r.isascii() for r in recipients):
            options.append("SMTPUTF8")  # RFC 6531
            self._smtp.command_encoding = "utf-8"
        sendable = []
        for recipient in recipients:
            if utf8 or envelope_address(recipient).isascii():
                sendable.append(recipient)
            else:
                why = "the mail server cannot take addresses with letters outside a to z (no SMTPUTF8)"
                answers[recipient] = Answer(recipient, State.REFUSED, None, why)
        if not sendable:
            return []
        # Addresses have been checked when they came into the book; the library would parse each once more.
        mail = " ".join([f"MAIL FROM:<{envelope_address(sender)}>", *options])
        replies = self._replies([mail, *(f"RCPT TO:<{envelope_address(r)}>" for r in sendable)])
        code, reply = next(replies)
        if not 200 <= code < 400:
            for _ in replies if self._pipelines and code != CLOSING else ():
                pass  # what was said in one go is answered in one go
        if 400 <= code < 500:
            if code == CLOSING:
                self._smtp.close()
            answers.update({r: Answer(r, State.DEFERRED, code, _text(reply)) for r in sendable})
            return []
        if code >= 500:
            raise MailError(
                f"{self.server.host} does not take this message from {visible(sender)}: {code} {_text(reply)}. "
                "Its recipients wait; `barnacle send … --resume` goes on once that is mended."
            )
        taken: list[str] = []
        for number, recipient in enumerate(sendable):
            code, reply = next(replies)
            if 200 <= code < 300:
                taken.append(recipient)
                continue
            answers[recipient] = Answer(recipient, state_of(code), code, _text(reply))
            if code == CLOSING:
                self._smtp.close()
                rest = [*taken, *sendable[number + 1 :]]
                answers.update({r: Answer(r, State.DEFERRED, code, _text(reply)) for r in rest})
                return []
            if code == TOO_MANY and taken:
                rest = sendable[number : None if not self._pipelines else number + 1]
                answers.update({r: Answer(r, State.WAITING, code, _text(reply)) for r in rest})
                if not self._pipelines:
                    break
        return taken

    @property
    def _pipelines(self) -> bool:
        return self._smtp.has_extn("pipelining")

    def _replies(self, commands: list[str]) -> Iterator[tuple[int, bytes]]:
        """The answers to commands, one after the other; where the server lets us, many are said before the first answer
        is read (RFC 2920), so that a batch costs one way there and back and not fifty."""
        if not self._pipelines:
            for command in commands:
                yield self._smtp.docmd(command)
            return
        for first in range(0, len(commands), _AT_ONCE):
            group = commands[first : first + _AT_ONCE]
            if any("\r" in command or "\n" in command for command in group):
                raise ValueError("a command with a line break")
            self._smtp.send("".join(f"{command}\r\n" for command in group))
            for _ in group:
                yield self._smtp.getreply()

    @property
    def most_octets(self) -> int:
        """The largest message that the server says it takes (RFC 1870); 0 where it does not say."""
        size = self._smtp.esmtp_features.get("size", "") if self._smtp.does_esmtp else ""
        return int(size) if size.isdecimal() else 0

    @property
    def most_recipients(self) -> int:
        """How many recipients the server says it takes in one transaction (RFC 9422); 0 where it does not say."""
        limits = self._smtp.esmtp_features.get("limits", "") if self._smtp.does_esmtp else ""
        found = re.search(r"\bRCPTMAX=(\d{1,9})\b", limits, re.IGNORECASE)
        return int(found[1]) if found else 0

    @property
    def offers(self) -> dict[str, bool]:
        """What the server says it can do (RFC 3207, 4954, 6531, 6152), and whether the line is encrypted."""
        named = {name: self._smtp.has_extn(name) for name in ("auth", "smtputf8", "8bitmime")}
        return {"encrypted": isinstance(self._smtp.sock, ssl.SSLSocket), **named}

    @property
    def is_open(self) -> bool:
        """Whether the connection stands as far as we know."""
        return self._smtp.sock is not None

    def close(self) -> None:
        """Say goodbye; a server that is gone already does not matter."""
        if not self.is_open:
            return
        try:
            self._smtp.quit()
        except (smtplib.SMTPException, OSError):
            self._smtp.close()


def _text(reply: bytes | str) -> str:
    text = reply.decode("utf-8", "replace") if isinstance(reply, bytes) else reply
    return tidy(text, 300)


def _why(error: Exception) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "nothing answers there"
    if isinstance(error, socket.gaierror):
        return "no machine has that name"
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, smtplib.SMTPServerDisconnected):
        return "it closed the line"
    if isinstance(error, ssl.SSLError):
        return f"encryption failed: {error.reason or error}"
    return tidy(str(error)) or type(error).__name__
