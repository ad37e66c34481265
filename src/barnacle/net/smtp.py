"""Handing messages to a mail server (RFC 5321), with TLS (RFC 3207, RFC 8314) and login (RFC 4954)."""

from __future__ import annotations

import re
import smtplib
import socket
import ssl
import time
from collections.abc import Callable, Iterator, Sequence

from barnacle.core.addresses import envelope_address
from barnacle.core.errors import MailError
from barnacle.core.mail import refusals
from barnacle.core.mail.delivery import Answer, State
from barnacle.core.mail.refusals import About
from barnacle.net import tls
from barnacle.net.credentials import Credentials
from barnacle.net.server import Server
from barnacle.net.smtp_line import (
    CLOSING,
    CONNECT_SECONDS,
    ClosingError,
    EncryptedLine,
    Line,
    LineLostError,
    OutOfStepError,
    SenderRefusedError,
    UnreachableError,
    dotted,
    quoted,
    text_of,
    what_broke,
    why_unreachable,
)
from barnacle.net.smtp_login import log_in

# RFC 5321 section 4.5.3.2: five minutes for a command's answer, two for DATA's, ten for the answer to the final dot.
COMMAND_SECONDS = 300.0
DATA_SECONDS = 120.0
DOT_SECONDS = 600.0
# A whole transaction, and a goodbye.
WHOLE_SECONDS = 1800.0
QUIT_SECONDS = 10.0
# So many commands at most are said before an answer is read: both sides must be able to hold them.
_AT_ONCE = 100
# After so many put off in a row, a server that is asked gently has said enough.
_PUT_OFF_IN_A_ROW = 3


class Submission:
    """A connection to a mail server."""

    def __init__(
        self,
        server: Server,
        credentials: Credentials,
        seconds: float = CONNECT_SECONDS,
        so_far: str = "",
        advice: str = "Check the name in `barnacle setup` and the network.",
    ) -> None:
        """Connect, secure and log in, waiting for each at most so many seconds. Raises MailError with what to do about
        it, which `advice` says of a server that is not there; `so_far` says what that means for what was to be sent."""
        self.server = server
        self._seconds = seconds
        self._so_far = so_far
        self._credentials = credentials
        self.gently = False  # one command after the other, and no more than it takes to see that nothing is taken
        self.most_taken: int | None = None  # recipients in one transaction, where the server said that it was too many
        self.cut_off = False  # whether, in the last transaction, a server that had taken some put off all the rest
        self.put_off = False  # whether the last message was put off at MAIL, which is about none of its recipients
        self._carried = 0  # messages that were accepted over this line
        self._last: list[str] = []  # whom the last transaction reached
        self._in_vain = False  # whether DATA was said last for nobody: servers count that as a mistake
        place = f"{server.host}:{server.port}"
        self._smtp = self._line()
        try:
            self._open()
        except ssl.SSLCertVerificationError as error:
            raise MailError(
                f"The mail server {place} could not prove that it is {server.host}: {error.verify_message}.{so_far} "
                f"{tls.advice('mail.ca_file', '--pin')}"
            ) from error
        except smtplib.SMTPResponseException as error:
            kind = UnreachableError if 400 <= error.smtp_code < 500 else MailError
            raise kind(
                f"The mail server {place} turned Barnacle away: {quoted(error.smtp_code, error.smtp_error)}.{so_far}"
            ) from error
        except (smtplib.SMTPException, OSError) as error:
            raise UnreachableError(
                f"The mail server {place} cannot be reached ({why_unreachable(error)}).{so_far} {advice}"
            ) from error
        self._smtp.until = None
        self._smtp.seconds = COMMAND_SECONDS
        if self._smtp.sock is not None:
            self._smtp.sock.settimeout(COMMAND_SECONDS)
            # The dot leaves by itself, after the message: held back until that is acknowledged (RFC 896) it would cost
            # 40 ms a message.
            self._smtp.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def _line(self) -> Line:
        # The host's own name in EHLO would tell the network more than it needs (RFC 5321 section 4.1.3 allows
        # an address literal).
        if self.server.implicit_tls:
            context = self._credentials.trust.context(self.server.at)
            line: Line = EncryptedLine(local_hostname="[127.0.0.1]", timeout=self._seconds, context=context)
        else:
            line = Line(local_hostname="[127.0.0.1]", timeout=self._seconds)
        line._host = self.server.host  # type: ignore[attr-defined]  # what the library checks a certificate against
        line.seconds = self._seconds
        line.until = time.monotonic() + 4 * self._seconds
        return line

    def _open(self) -> None:
        try:
            code, reply = self._smtp.connect(self.server.host, self.server.port)
            if code != 220:
                raise smtplib.SMTPConnectError(code, reply)
            self._smtp.ehlo_or_helo_if_needed()
            if not self.server.implicit_tls and self._smtp.has_extn("starttls"):
                self._smtp.starttls(context=self._credentials.trust.context(self.server.at))
                self._smtp.ehlo()
            if self.server.user:
                log_in(self._smtp, self.server, self._credentials)
        except BaseException as error:
            self._smtp.close()
            if isinstance(error, MailError):  # nobody was let in
                raise type(error)(f"{error}{self._so_far}") from None
            raise

    def transact(
        self,
        sender: str,
        recipients: Sequence[str],
        raw: bytes | Sequence[bytes | memoryview],
        before_dot: Callable[[list[str]], None],
        meanwhile: Callable[[], None] = lambda: None,
        options: Sequence[str] = (),
        at_first: Callable[[], None] = lambda: None,
    ) -> list[Answer]:
        """One mail transaction; the message may come in parts. `before_dot` is called with the recipients that the
        server took, after the message and before the dot that ends it (RFC 5321 section 4.1.1.4); when it returns the
        dot leaves. `at_first` is called as soon as the server has something to do, `meanwhile` while it works on the
        message; that one must not raise. `options` are said with MAIL where the server knows of them; of SMTPUTF8 it
        must.

        Returns an answer for each recipient. Recipients beyond what the server takes at once come back as `waiting`.
        Raises LineLostError when the connection breaks or the answers are out of step, SenderRefusedError when the
        server wants nothing of this sender or size.
        """
        answers: dict[str, Answer] = {}
        parts = [raw] if isinstance(raw, bytes) else raw
        self._smtp.until = time.monotonic() + WHOLE_SECONDS
        self.cut_off = self.put_off = False
        try:
            try:
                self._smtp.need_quiet()
            except ClosingError:
                self._last = []
                raise
            self._last = []
            replies = self._replies(self._commands(sender, recipients, sum(map(len, parts)), options), at_first)
            taken = self._envelope(recipients, replies, answers)
            if taken:
                code, reply = self._data(replies, parts, taken, before_dot)
            elif self.is_open:
                self._smtp.rset()
        except (smtplib.SMTPException, OSError) as error:
            self._smtp.close()
            raise LineLostError(False, list(answers.values()), what_broke(error), self._last) from None
        except SenderRefusedError:
            raise
        except BaseException:
            # Whatever else stops us (the book cannot be written, Ctrl-C) finds a message half said: a QUIT now would
            # become part of it, and its answer would never come.
            self._smtp.close()
            raise
        if not taken:
            return [answers[a] for a in recipients]
        if code == 0:  # the dot has left
            meanwhile()
            code, reply = self._verdict(answers)
        state = State.ACCEPTED
        if code == 250:
            self._last = taken
            self._carried += 1
        else:
            about = refusals.of_message(code, text_of(reply), len(taken))
            state = _STATES[about]
            if about is About.TOO_MANY:
                self._too_many(taken, answers)
        for address in taken:
            answers[address] = Answer(address, state, code, text_of(reply))
        if code == CLOSING:
            self._smtp.close()
        return [answers[a] for a in recipients]

    def against(self, sender: str) -> str:
        """What the server says for good against mail from an address, asked about a message to itself of which nothing
        is sent: many say it at RCPT alone. Empty where it would take one, or means the mailbox. Raises OSError,
        smtplib.SMTPException."""
        self._smtp.until = time.monotonic() + CONNECT_SECONDS
        code, reply = self._smtp.docmd(f"MAIL FROM:<{sender}>")
        is_meant = code >= 500
        if code == 250:
            code, reply = self._smtp.docmd(f"RCPT TO:<{sender}>")
            is_meant = refusals.of_recipient(code, text_of(reply), 0) is About.MESSAGE
        return quoted(code, reply) if is_meant else ""

    def _data(
        self,
        replies: Iterator[tuple[int, bytes]],
        parts: Sequence[bytes | memoryview],
        taken: list[str],
        before_dot: Callable[[list[str]], None],
    ) -> tuple[int, bytes]:
        """The message, up to and with the dot that ends it. Returns the server's refusal where it gave one before that,
        else 0."""
        self._smtp.seconds = DATA_SECONDS
        code, reply = next(replies) if self._says_data else self._smtp.docmd("DATA")
        self._smtp.seconds = COMMAND_SECONDS
        self._in_vain = False
        self._no_more()
        if code != 354:
            return _refusal(code, reply)
        if self._smtp.sock is not None:
            self._smtp.sock.settimeout(WHOLE_SECONDS)
        for piece in dotted(parts):
            self._smtp.send(piece)
        before_dot(taken)
        if self._smtp.ready().has_unread:
            # It hung up or gave its verdict before the message was whole: the dot stays here.
            code, reply = self._smtp.getreply()
            self._smtp.close()
            return _refusal(code, reply)
        # A send that fails has sent nothing of these three octets; only the answer can be in doubt.
        self._smtp.send(b".\r\n")
        return 0, b""

    def _verdict(self, answers: dict[str, Answer]) -> tuple[int, bytes]:
        """The answer to the dot: only 250, and nothing with it, says that the message was taken (RFC 5321 section
        4.3.2). Raises LineLostError."""
        try:
            self._smtp.seconds = DOT_SECONDS
            code, reply = self._smtp.getreply()
            self._smtp.seconds = COMMAND_SECONDS
            if code != CLOSING and self._smtp.ready().has_kept:
                raise OutOfStepError("the server gave more answers than it was asked for")
            return (code, reply) if code == 250 else _refusal(code, reply)
        except (smtplib.SMTPException, OSError) as error:
            self._smtp.close()
            raise LineLostError(True, list(answers.values()), what_broke(error)) from None
        except BaseException:
            self._smtp.close()
            raise

    def _too_many(self, taken: Sequence[str], answers: dict[str, Answer]) -> None:
        """The server takes fewer at once than were said. Whoever it refused for that alone waits."""
        beyond = sum(answer.state is State.WAITING for answer in answers.values())
        self.most_taken = len(taken) if beyond else max(len(taken) // 2, 1)

    def _commands(self, sender: str, recipients: Sequence[str], size: int, more: Sequence[str]) -> list[str]:
        """MAIL and RCPT; none where the server cannot take such addresses."""
        options = [f"SIZE={size}"] if self._smtp.has_extn("size") else []  # RFC 1870
        options += [one for one in more if one != "SMTPUTF8" and self._smtp.has_extn(one.rpartition("=")[2])]
        letters = "SMTPUTF8" in more or any(not envelope_address(r).isascii() for r in (sender, *recipients))
        if letters and not self._smtp.has_extn("smtputf8"):
            return []
        if letters:
            options.append("SMTPUTF8")  # RFC 6531
        self._smtp.command_encoding = "utf-8" if letters else "ascii"
        # Addresses have been checked when they came into the book; the library would parse each once more.
        mail = " ".join([f"MAIL FROM:<{envelope_address(sender)}>", *options])
        return [mail, *(f"RCPT TO:<{envelope_address(r)}>" for r in recipients)]

    def _envelope(
        self, recipients: Sequence[str], replies: Iterator[tuple[int, bytes]], answers: dict[str, Answer]
    ) -> list[str]:
        """The answers to MAIL and RCPT. Fills in `answers` for everybody; returns whom the server took. Raises
        SenderRefusedError."""
        first = next(replies, None)
        if first is None:
            why = "the mail server does not accept addresses with letters outside a to z (no SMTPUTF8)"
            answers.update({r: Answer(r, State.NOT_TAKEN, None, why) for r in recipients})
            return []
        code, raw_reply = first
        reply = text_of(raw_reply)
        if code != 250:
            letters = self._smtp.command_encoding != "ascii"
            about = refusals.of_message(code, reply, 1)
            if about is About.NONSENSE:
                raise OutOfStepError("the server's answer does not fit the question")
            # What was said in one go with MAIL is in vain, and some servers answer each mistake later than the one
            # before: nobody waits for that.
            if code == CLOSING or self._pipelines:
                self._smtp.close()
            else:
                self._no_more()
            if about is About.MESSAGE and not letters:
                raise SenderRefusedError(code, reply)
            state = State.DEFERRED if about is About.LATER else State.NOT_TAKEN
            self.put_off = about is About.LATER
            answers.update({r: Answer(r, state, code, reply) for r in recipients})
            return []
        return self._recipients(recipients, replies, answers)

    def _recipients(
        self, recipients: Sequence[str], replies: Iterator[tuple[int, bytes]], answers: dict[str, Answer]
    ) -> list[str]:
        taken: list[str] = []
        put_off = 0  # since somebody was taken last
        for number, recipient in enumerate(recipients):
            code, raw_reply = next(replies)
            reply = text_of(raw_reply)
            about = refusals.of_recipient(code, reply, len(taken))
            if about is About.TAKEN:
                taken.append(recipient)
                put_off = 0
                continue
            if about is About.NONSENSE:
                raise OutOfStepError("the server's answer does not fit the question")
            answers[recipient] = Answer(recipient, _STATES[about], code, reply)
            if code == CLOSING:
                self._smtp.close()
                if taken:
                    self.most_taken, self.cut_off = len(taken), True
                rest = [*taken, *recipients[number + 1 :]]
                answers.update({r: Answer(r, State.DEFERRED, code, reply) for r in rest})
                return []
            put_off += about is About.LATER
            enough = about is About.TOO_MANY or put_off >= _PUT_OFF_IN_A_ROW
            if enough and not self._pipelines:
                answers.update({r: Answer(r, State.WAITING, code, reply) for r in recipients[number + 1 :]})
                break
        if not taken:
            self._nobody(replies)
        if any(answer.state is State.WAITING for answer in answers.values()) and taken and not put_off:
            self.most_taken = len(taken)
        self.cut_off = bool(taken and put_off)
        return taken

    def _nobody(self, replies: Iterator[tuple[int, bytes]]) -> None:
        """Nobody is to get the message: what was said in one go is answered in one go. Raises OutOfStepError."""
        answers = [code for code, _ in replies] if self._pipelines else []
        if self._says_data:
            self._in_vain = True
            if answers[-1] == 354:  # it waits for a message all the same, and shall have none
                self._smtp.close()
        self._no_more()

    def _no_more(self) -> None:
        """As many answers as commands, and no more. Raises OutOfStepError."""
        if self.is_open and self._smtp.ready().has_kept:
            raise OutOfStepError("the server gave more answers than it was asked for")

    @property
    def _pipelines(self) -> bool:
        return not self.gently and self._smtp.has_extn("pipelining")

    @property
    def _says_data(self) -> bool:
        """Whether DATA is said with the last recipient, before it is known whether anybody is taken."""
        return self._pipelines and not self._in_vain

    def _replies(self, commands: list[str], at_first: Callable[[], None]) -> Iterator[tuple[int, bytes]]:
        """The answers to commands, one after the other. Where the server lets us, many are said before the first
        answer is read, mostly with DATA behind the last (RFC 2920), so that a batch costs one way there and back and
        not fifty; then its answer is the last. `at_first` is called when the first ones are said."""
        size = _AT_ONCE if self._pipelines else 1
        if self._says_data and commands:
            commands = [*commands, "DATA"]
        for first in range(0, len(commands), size):
            group = commands[first : first + size]
            self._smtp.need_quiet()
            if any("\r" in command or "\n" in command for command in group):
                raise ValueError("a command with a line break")
            self._smtp.send("".join(f"{command}\r\n" for command in group))
            if not first:
                at_first()
            for _ in group:
                yield self._smtp.getreply()

    @property
    def most_octets(self) -> int:
        """The largest message that the server says it takes (RFC 1870); 0 where it does not say."""
        size = self._smtp.esmtp_features.get("size", "") if self._smtp.does_esmtp else ""
        return int(size) if size.isascii() and size.isdecimal() and len(size) < 16 else 0

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
    def is_spent(self) -> bool:
        """Whether the server took messages over this line and then put one off: many take so many and no more over one
        line, and the next over a new one at once."""
        return self.put_off and self._carried > 0

    @property
    def is_open(self) -> bool:
        """Whether the connection stands as far as we know."""
        return self._smtp.sock is not None

    def close(self) -> list[str]:
        """Say goodbye; a server that is gone already does not matter. Returns those of the last transaction whom the
        server refused after all, though it had said that it took them."""
        if not self.is_open:
            return []
        doubted: list[str] = []
        try:
            self._smtp.until, self._smtp.seconds = None, QUIT_SECONDS
            code, _ = self._smtp.docmd("QUIT")
            if 400 <= code < 600 and code not in (CLOSING, 500, 502):
                doubted = self._last
        except OutOfStepError:
            doubted = self._last
        except (smtplib.SMTPException, OSError):
            pass
        self._smtp.close()
        return doubted


_STATES = {
    About.MAILBOX: State.REFUSED,
    About.MAYBE: State.REFUSED,
    About.MESSAGE: State.NOT_TAKEN,
    About.LATER: State.DEFERRED,
    About.TOO_MANY: State.WAITING,
}


def _refusal(code: int, reply: bytes) -> tuple[int, bytes]:
    """A refusal; whatever else came is no answer to what was said. Raises OutOfStepError."""
    if 400 <= code < 600:
        return code, reply
    raise OutOfStepError("the server's answer does not fit the question")
