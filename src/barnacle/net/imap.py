"""A mailbox (IMAP, RFC 9051; special uses of its folders, RFC 6154): a draft put there, mail read and left as it is."""

from __future__ import annotations

import contextlib
import socket
import ssl
import time
from collections.abc import Iterator, Sequence
from datetime import date
from types import TracebackType

from imapclient import DRAFT, SEEN, IMAPClient, SocketTimeout, imap4, tls
from imapclient.exceptions import CapabilityError, IMAPClientAbortError, IMAPClientError, LoginError
from imapclient.imapclient import DRAFTS, SENT

from barnacle.core.errors import BarnacleError, MailError, NotFoundError
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import Any, NamedTuple, Self
from barnacle.net import sasl
from barnacle.net.credentials import AccessToken, Credentials, need_password, tokens
from barnacle.net.folder_names import called_so
from barnacle.net.reader import Reader
from barnacle.net.server import Server
from barnacle.net.tls import advice

CONNECT_SECONDS = 20.0
# A draft with attachments takes its time.
READ_SECONDS = 120.0
# One command with its answers, and octets of a line and of all answers of one.
WHOLE_SECONDS = 900.0
_LINE, _ALL = 1 << 20, 8 << 20
# Of a message, as much as its header and a report need; and how many are asked for at once.
HEADER_OCTETS, MESSAGE_OCTETS = 1 << 16, 1 << 18
_HEADERS_AT_ONCE, _MESSAGES_AT_ONCE = 400, 20
# What may be asked for of a header.
_FIELDS = (
    "FROM TO CC BCC REPLY-TO SENDER RETURN-PATH DATE SUBJECT MESSAGE-ID CONTENT-TYPE AUTO-SUBMITTED PRECEDENCE LIST-ID "
    "LIST-POST X-FAILED-RECIPIENTS"
)
# RFC 2177 section 3: said anew at least every 29 minutes.
IDLE_SECONDS = 25 * 60.0
_POLL_SECONDS = 60.0


class _Within:
    """What the library reads by, within bounds: so many octets a line and for each command, and so much time."""

    sock: socket.socket
    _reader: Reader | None = None
    _until: float | None = None
    _octets = _ALL

    def allow(self, octets: int = _ALL, seconds: float = WHOLE_SECONDS) -> None:
        """What the answers to the next command may come to."""
        self._until = time.monotonic() + seconds
        self._octets = octets
        if self._reader is not None:
            self._reader.allow(octets)

    def _bounded(self) -> Reader:
        if self._reader is None or self._reader.sock is not self.sock:
            self._reader = Reader(self.sock, self._octets)
        self._until = self._until or time.monotonic() + WHOLE_SECONDS
        self._reader.until = min(self._until, time.monotonic() + READ_SECONDS)
        return self._reader

    def readline(self) -> bytes:
        return self._bounded().line(_LINE)

    def read(self, size: int) -> bytes:
        return self._bounded().octets(size)


class _Plain(_Within, imap4.IMAP4WithTimeout):  # type: ignore[misc]  # the library has no types
    pass


class _Encrypted(_Within, tls.IMAP4_TLS):  # type: ignore[misc]
    pass


class _Client(IMAPClient):  # type: ignore[misc]
    def _create_IMAP4(self) -> Any:
        if self.ssl:
            return _Encrypted(self.host, self.port, self.ssl_context, CONNECT_SECONDS)
        return _Plain(self.host, self.port, CONNECT_SECONDS)


class Folder(NamedTuple):
    """A folder as it stands: which one it is by the server's count (it changes where the folder was made anew, RFC 9051
    section 2.3.1.1), the number that its next message will have, how many there are, and a number that grows with
    each change in it (HIGHESTMODSEQ, RFC 7162; 0: the server has none)."""

    name: str
    validity: int
    next: int
    messages: int
    modseq: int = 0


class Mailbox:
    """A mailbox, with the connection to it."""

    def __init__(self, server: Server, credentials: Credentials) -> None:
        """Connect, secure and log in. Raises MailError with what to do about it."""
        self.server = server
        self._credentials = credentials
        self._is_counted = False
        place = server.at
        context = credentials.trust.context(place) if server.implicit_tls else None
        try:
            # The library has no types.
            self._client: Any = _Client(
                server.host,
                server.port,
                ssl=server.implicit_tls,
                ssl_context=context,
                timeout=SocketTimeout(CONNECT_SECONDS, READ_SECONDS),
            )
        except ssl.SSLCertVerificationError as error:
            raise MailError(self._unproven(error)) from error
        except Exception as error:
            raise MailError(
                f"The mailbox at {place} cannot be reached ({_why(error)}). Check the name in `barnacle setup "
                "--mailbox` and the network."
            ) from error
        try:
            self._log_in()
        except BaseException as error:
            self.close()
            if isinstance(error, ssl.SSLCertVerificationError):
                raise MailError(self._unproven(error)) from error
            if isinstance(error, BarnacleError) or not isinstance(error, Exception):
                raise
            raise MailError(f"The mailbox at {place} turned Barnacle away: {_why(error)}.") from error

    def _unproven(self, error: ssl.SSLCertVerificationError) -> str:
        return (
            f"The mailbox at {self.server.at} could not prove that it is {self.server.host}: {error.verify_message}. "
            f"{advice('mail.ca_file', '--pin')}"
        )

    def _log_in(self) -> None:
        server, client = self.server, self._client
        if not server.implicit_tls:
            if client.has_capability("STARTTLS"):
                client.starttls(self._credentials.trust.context(server.at))
            elif not server.is_here:
                raise MailError(
                    f"{server.host} offers no encryption, and the password would be sent unencrypted. "
                    "Try imaps:// in `barnacle setup --mailbox`."
                )
        names = [name.decode("ascii", "replace").upper() for name in client.capabilities()]
        offered = [name.removeprefix("AUTH=") for name in names if name.startswith("AUTH=")]
        only_sign_in = not self._credentials.by_token and sasl.only_tokens(offered)
        if only_sign_in and "LOGINDISABLED" in names:
            raise sasl.OnlySignInError(sasl.NOT_BY_PASSWORD.format(host=server.host))
        secret = need_password(server, self._credentials)
        if isinstance(secret, AccessToken):
            self._log_in_by_token(secret, sasl.mechanism(offered))
            return
        try:
            if f"{server.user}{secret}".isascii():
                client.login(server.user, secret)
            else:  # by the one mechanism that says how it is written (RFC 4616)
                client.plain_login(server.user.encode(), secret.encode())
        except LoginError as error:
            if only_sign_in:  # LOGIN was not said to be off, and is
                raise sasl.OnlySignInError(sasl.NOT_BY_PASSWORD.format(host=server.host)) from None
            raise MailError(
                f"{server.host} does not accept the name {visible(server.user)} with this password ({_why(error)})."
            ) from None

    def _log_in_by_token(self, first: str, mechanism: str | None) -> None:
        server = self.server
        if mechanism is None:
            raise MailError(sasl.NOT_BY_TOKEN.format(host=server.host))
        why = ""
        for token in tokens(server, self._credentials, first):
            says = [sasl.first_words(mechanism, server.user, token, server.host, server.port)]

            def answer(challenge: bytes, says: list[bytes] = says) -> bytes:
                return says.pop() if says else b"\1"

            try:
                self._client.sasl_login(mechanism, answer)
                return
            except LoginError as error:
                why = _why(error)
        raise MailError(sasl.TOKEN_REFUSED.format(host=server.host, user=visible(server.user), why=why))

    def drafts(self) -> str | None:
        """The folder with the use \\Drafts, else one that is called so. Raises MailError."""
        return self._special(DRAFTS)

    def sent(self) -> str:
        """The folder with the use \\Sent, else one that is called so. Raises MailError where there is none."""
        folder = self._special(SENT)
        if folder is None:
            raise MailError("Your mailbox has no folder for sent mail. Make one called Sent in your mail program.")
        return folder

    def _special(self, use: bytes) -> str | None:
        with self._told():
            found: str | None = self._client.find_special_folder(use)
        return found or called_so(self._listed(), use)

    def add_sent(self, folder: str, raw: bytes) -> None:
        """Put a message into a folder as one that was sent and is read. Raises MailError."""
        with self._told("Your mailbox did not accept the copy"):
            self._client._imap.allow()
            self._client.append(folder, raw, flags=(SEEN,))

    def has(self, folder: str, message_id: str) -> bool:
        """Whether a folder holds a message with this Message-ID. Raises MailError."""
        with self._told():
            self._client.select_folder(folder, readonly=True)
            self._client.use_uid = True
            found = bool(self._client.search(["HEADER", "MESSAGE-ID", message_id]))
            self._client.close_folder()  # some servers take no message while one is open only to be read
            return found

    def folders(self) -> list[str]:
        """The names of all folders that can be opened."""
        return sorted(name for _, name in self._listed())

    def _listed(self) -> list[tuple[str, str]]:
        """Delimiter and name of each of them."""
        with self._told():
            return [
                (delimiter.decode("ascii", "replace") if isinstance(delimiter, bytes) else "", str(name))
                for flags, delimiter, name in self._client.list_folders()
                if b"\\noselect" not in {flag.lower() for flag in flags}
            ]

    def in_full(self, folder: str) -> str:
        """What the server calls a folder that somebody names as mail programs show it: some have all of one's own below
        INBOX (RFC 2342), or part names by dots. One that is not there is called as it is to be made. Raises
        MailError."""
        return self._in_full(folder, self.folders())

    def _in_full(self, folder: str, names: Sequence[str]) -> str:
        if folder in names:
            return folder
        prefix, delimiter = "", "/"
        with contextlib.suppress(MailError), self._told():
            if self._client.has_capability("NAMESPACE") and (own := self._client.namespace().personal):
                prefix, delimiter = (part or "" for part in own[0])
        full = f"{prefix}{folder.replace('/', delimiter or '/')}"
        there = {name.casefold(): name for name in names}
        return there.get(full.casefold()) or there.get(folder.casefold()) or full

    def open(self, folder: str, to_change: bool = False) -> Folder:
        """Go into a folder, without changing anything there unless that is asked for. Raises NotFoundError."""
        try:
            found = self._select(folder, to_change)
        except MailError:
            names = self.folders()
            if folder.upper() == "INBOX" or folder in names:
                raise
            if (full := self._in_full(folder, names)) not in names:
                there = listed([visible(name, 60) for name in names], 12)
                raise NotFoundError(f"Your mailbox has no folder {visible(folder, 80)}. It has {there}.") from None
            folder, found = full, self._select(full, to_change)
        return Folder(folder, *found)

    def _select(self, folder: str, to_change: bool) -> list[int]:
        with self._told():
            self._have_changes_counted()
            found = self._client.select_folder(folder, readonly=not to_change)
            return [int(found.get(key) or 0) for key in (b"UIDVALIDITY", b"UIDNEXT", b"EXISTS", b"HIGHESTMODSEQ")]

    def _have_changes_counted(self) -> None:
        """Ask once for HIGHESTMODSEQ, where there is one (RFC 5161, RFC 7162 section 3.1.2.1)."""
        client = self._client
        if self._is_counted:
            return
        self._is_counted = True
        if client.has_capability("ENABLE") and client.has_capability("CONDSTORE"):
            client.enable("CONDSTORE")

    def headers(self, folder: Folder, after: int = 0, since: date | None = None) -> Iterator[tuple[int, bytes]]:
        """The headers of a folder's messages with a number above `after`, with that number, in their order; no more of
        each than is read. `since` leaves out what came in before that day. Raises MailError."""
        what = f"BODY.PEEK[HEADER.FIELDS ({_FIELDS})]<0.{HEADER_OCTETS}>"
        for places in self._places(folder, after, since):
            for number, parts in self._fetch(places, what, HEADER_OCTETS + 4096):
                if number > after:
                    yield number, parts

    def _places(self, folder: Folder, after: int, since: date | None) -> Iterator[list[int]]:
        """The places of messages, some at a time. A folder may have a million: they are counted, not listed."""
        self._client.use_uid = False
        if not folder.messages or (after and folder.next and after >= folder.next - 1):
            return
        if after or since:
            with self._told():
                self._client._imap.allow(64 << 20)
                wish: list[Any] = (["UID", f"{after + 1}:*"] if after else []) + (["SINCE", since] if since else [])
                found = sorted(self._client.search(wish))
            for start in range(0, len(found), _HEADERS_AT_ONCE):
                yield found[start : start + _HEADERS_AT_ONCE]
            return
        for start in range(1, folder.messages + 1, _HEADERS_AT_ONCE):
            yield list(range(start, min(start + _HEADERS_AT_ONCE, folder.messages + 1)))

    def bodies(self, numbers: Sequence[int]) -> Iterator[tuple[int, bytes]]:
        """Messages by their numbers, no more of each than is read. Raises MailError."""
        self._client.use_uid = True
        for start in range(0, len(numbers), _MESSAGES_AT_ONCE):
            some = list(numbers[start : start + _MESSAGES_AT_ONCE])
            yield from self._fetch(some, f"BODY.PEEK[]<0.{MESSAGE_OCTETS}>", MESSAGE_OCTETS + 4096)

    def _fetch(self, numbers: Sequence[int], what: str, most: int) -> list[tuple[int, bytes]]:
        with self._told():
            self._client._imap.allow(most * len(numbers) + _ALL)
            found = self._client.fetch(numbers, ["UID", what])
            come = []
            for key in sorted(found):
                parts = found[key]
                octets = next((value for name, value in parts.items() if name.startswith(b"BODY[")), b"")
                come.append((int(parts.get(b"UID") or key), octets or b""))
            return come

    def move(self, numbers: Sequence[int], folder: str) -> None:
        """Move messages of the open folder to another one, made where it is not there (RFC 6851; without that, copied
        and taken away, RFC 4315). Raises MailError."""
        client = self._client
        with self._told(f"The mail could not be moved to {visible(folder, 60)}"):
            client.use_uid = True
            if not client.folder_exists(folder):
                client.create_folder(folder)
            if client.has_capability("MOVE"):
                client.move(numbers, folder)
            elif client.has_capability("UIDPLUS"):
                client.copy(numbers, folder)
                client.delete_messages(numbers)
                client.uid_expunge(numbers)
            else:
                raise MailError(f"{self.server.host} cannot move mail. It is where it was.")

    def wait(self, seconds: float) -> bool:
        """Wait until something comes into the open folder (RFC 2177), or so many seconds. Returns whether something
        may have. Raises MailError."""
        client = self._client
        seconds = min(seconds, IDLE_SECONDS)
        with self._told():
            if not client.has_capability("IDLE"):
                time.sleep(min(seconds, _POLL_SECONDS))
                client._imap.allow()
                return any(kind == b"EXISTS" for _, kind in _untagged(client.noop()[1]))
            client._imap.allow()
            client.idle()
            came = False
            end = time.monotonic() + seconds
            try:
                while not came and (left := end - time.monotonic()) > 0:
                    client._imap.allow(seconds=left)
                    came = client._imap.readline().rstrip().upper().endswith(b" EXISTS")
            except TimeoutError:
                pass
            client._imap.allow()
            _, more = client.idle_done()
            return came or any(kind == b"EXISTS" for _, kind in _untagged(more))

    @contextlib.contextmanager
    def _told(self, what: str = "") -> Iterator[None]:
        # Of what makes no sense the library has many ways to say so.
        try:
            yield
        except BarnacleError:
            raise
        except Exception as error:
            begin = what or f"The mailbox at {self.server.at} broke off"
            raise MailError(f"{begin}: {_why(error)}.") from error

    def close(self) -> None:
        """Say goodbye; a server that is gone already does not matter."""
        try:
            self._client._imap.allow(seconds=CONNECT_SECONDS)
            self._client.logout()
        except Exception:
            with contextlib.suppress(OSError):
                self._client.shutdown()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class Drafts(Mailbox):
    """A mailbox with its folder for drafts: the one with the use \\Drafts, else one that is called so."""

    def __init__(self, server: Server, credentials: Credentials) -> None:
        """Raises MailError, also where there is no such folder."""
        super().__init__(server, credentials)
        try:
            folder = self.drafts()
            if folder is None:
                raise MailError("Your mailbox has no folder for drafts. Make one called Drafts in your mail program.")
        except BaseException:
            self.close()
            raise
        self.folder: str = folder

    def add(self, raw: bytes) -> None:
        """Put a message there, marked as a draft (RFC 9051 section 6.3.12). Raises MailError."""
        with self._told("Your mailbox did not accept the draft"):
            self._client._imap.allow()
            self._client.append(self.folder, raw, flags=(DRAFT,))


def _untagged(answers: Sequence[Any]) -> Iterator[tuple[int, bytes]]:
    """Number and kind of what a server says by itself."""
    for one in answers:
        if isinstance(one, tuple) and len(one) >= 2 and isinstance(one[1], bytes):
            yield one[0], one[1].upper()


def _why(error: BaseException) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "nothing answers there"
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, IMAPClientAbortError):
        return "it closed the connection"
    if isinstance(error, CapabilityError):
        return "it does not support what this needs"
    if not isinstance(error, IMAPClientError | OSError):
        return "its answer makes no sense"
    return tidy(str(error), 200).rstrip(".") or type(error).__name__
