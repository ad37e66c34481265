"""Putting a draft into a mailbox (IMAP, RFC 9051; special uses of mailboxes, RFC 6154)."""

from __future__ import annotations

import contextlib
import socket
import ssl
import time
from collections.abc import Callable
from types import TracebackType
from typing import Any

from imapclient import DRAFT, IMAPClient, SocketTimeout, imap4, tls
from imapclient.exceptions import CapabilityError, IMAPClientAbortError, IMAPClientError, LoginError
from imapclient.imapclient import DRAFTS

from barnacle.core.errors import MailError
from barnacle.core.text import tidy, visible
from barnacle.net.reader import Reader
from barnacle.net.server import Server, need_password

CONNECT_SECONDS = 20.0
# A draft with attachments takes its time.
READ_SECONDS = 120.0
# A whole session, and octets of a line and of all answers of one.
WHOLE_SECONDS = 900.0
_LINE, _ALL = 1 << 16, 8 << 20


class _Within:
    """What the library reads by, within bounds: so many octets a line and in all, and so much time in all."""

    sock: socket.socket
    _reader: Reader | None = None
    _until: float | None = None

    def _bounded(self) -> Reader:
        if self._reader is None or self._reader.sock is not self.sock:
            self._reader = Reader(self.sock, _ALL)
        # A draft with attachments takes its time; the answers to what is asked here do not.
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


class Drafts:
    """The folder for drafts of a mailbox, with the connection to it. `folder` is its name."""

    def __init__(self, server: Server, password: Callable[[], str | None]) -> None:
        """Connect, secure, log in and look for the folder with the use \\Drafts, else one that is called so. Raises
        MailError with what to do about it."""
        self.server = server
        place = f"{server.host}:{server.port}"
        try:
            # The library has no types.
            self._client: Any = _Client(
                server.host,
                server.port,
                ssl=server.implicit_tls,
                ssl_context=ssl.create_default_context(),
                timeout=SocketTimeout(CONNECT_SECONDS, READ_SECONDS),
            )
        except ssl.SSLCertVerificationError as error:
            raise MailError(self._unproven(error)) from error
        except (IMAPClientError, OSError) as error:
            raise MailError(
                f"The mailbox at {place} cannot be reached ({_why(error)}). Check the name in `barnacle setup "
                "--mailbox` and the network."
            ) from error
        try:
            self._log_in(password)
            self.folder = self._find()
        except BaseException as error:
            self.close()
            if isinstance(error, ssl.SSLCertVerificationError):
                raise MailError(self._unproven(error)) from error
            if isinstance(error, IMAPClientError | OSError):
                raise MailError(f"The mailbox at {place} turned Barnacle away: {_why(error)}.") from error
            raise

    def _unproven(self, error: ssl.SSLCertVerificationError) -> str:
        host = self.server.host
        return (
            f"The mailbox at {host}:{self.server.port} could not prove that it is {host}: {error.verify_message}. "
            "Ask whoever runs the server, or check the name in `barnacle setup --mailbox`."
        )

    def _log_in(self, password: Callable[[], str | None]) -> None:
        server, client = self.server, self._client
        if not server.implicit_tls:
            if client.has_capability("STARTTLS"):
                client.starttls(ssl.create_default_context())
            elif not server.is_here:
                raise MailError(
                    f"{server.host} offers no encryption, and the password would be sent unencrypted. "
                    "Try imaps:// in `barnacle setup --mailbox`."
                )
        secret = need_password(server, password)
        try:
            if f"{server.user}{secret}".isascii():
                client.login(server.user, secret)
            else:  # by the one mechanism that says how it is written (RFC 4616)
                client.plain_login(server.user.encode(), secret.encode())
        except LoginError as error:
            raise MailError(
                f"{server.host} does not accept the name {visible(server.user)} with this password ({_why(error)})."
            ) from None

    def _find(self) -> str:
        folder: str | None = self._client.find_special_folder(DRAFTS)
        if folder is None:
            raise MailError("Your mailbox has no folder for drafts. Make one called Drafts in your mail program.")
        return folder

    def add(self, raw: bytes) -> None:
        """Put a message there, marked as a draft (RFC 9051 section 6.3.12). Raises MailError."""
        try:
            self._client.append(self.folder, raw, flags=(DRAFT,))
        except (IMAPClientError, OSError) as error:
            raise MailError(f"Your mailbox did not accept the draft: {_why(error)}.") from error

    def close(self) -> None:
        """Say goodbye; a server that is gone already does not matter."""
        try:
            self._client.logout()
        except (IMAPClientError, OSError):
            with contextlib.suppress(OSError):
                self._client.shutdown()

    def __enter__(self) -> Drafts:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


def _why(error: BaseException) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "nothing answers there"
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, IMAPClientAbortError):
        return "it closed the connection"
    if isinstance(error, CapabilityError):
        return "it does not support what this needs"
    return tidy(str(error), 200).rstrip(".") or type(error).__name__
