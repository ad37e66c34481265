"""Whom a server's certificate is believed (RFC 5280): the usual authorities, one's own, or one certificate alone."""

from __future__ import annotations

import hashlib
import socket
import ssl
from collections.abc import Mapping
from types import MappingProxyType

from barnacle.core.errors import FileError, MailError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple

_SECONDS = 15.0


class Trust(NamedTuple):
    """Whom to believe besides the usual authorities: those in the file `authority`, which `setting` names; and, by
    HOST:PORT, the one certificate with a fingerprint (SHA-256 in hexadecimal)."""

    authority: str = ""
    setting: str = ""
    pins: Mapping[str, str] = MappingProxyType({})

    def context(self, place: str = "") -> ssl.SSLContext:
        """For a connection to HOST:PORT. Raises FileError where the authority's file cannot be used."""
        if pin := self.pins.get(place):
            return _pinned(pin)
        context = ssl.create_default_context()
        if self.authority:
            try:
                context.load_verify_locations(self.authority)
            except (OSError, ssl.SSLError) as error:
                empty = isinstance(error, ssl.SSLError)
                reason = "it holds no certificate" if empty else error.strerror or str(error)
                raise FileError(
                    f"The setting {self.setting} names {visible(self.authority)}, which cannot be used: "
                    f"{visible(reason)}."
                ) from error
        return context


def advice(setting: str, option: str = "") -> str:
    """What to do where a certificate is not believed."""
    pin = (
        f" Does the server have a certificate that it made itself? `barnacle setup {option}` shows it."
        if option
        else ""
    )
    return (
        f"Check the name. If your office has its own certificate authority, name its file: `barnacle settings "
        f"{setting} FILE`.{pin}"
    )


class _Pinned(ssl.SSLContext):
    pin = ""

    def wrap_socket(self, *args: Any, **more: Any) -> ssl.SSLSocket:
        line = super().wrap_socket(*args, **more)
        if fingerprint_of(line.getpeercert(True)) != self.pin:
            line.close()
            error = ssl.SSLCertVerificationError("another certificate than the one that you trust")
            error.verify_message = "it has another certificate than the one that you said to trust"
            raise error
        return line


def _pinned(pin: str) -> ssl.SSLContext:
    context = _Pinned(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    context.pin = pin
    return context


def fingerprint_of(certificate: bytes | None) -> str:
    """The fingerprint of a certificate (DER): SHA-256 in hexadecimal."""
    return hashlib.sha256(certificate or b"").hexdigest()


def read_fingerprint(text: str) -> str:
    """A fingerprint as people copy it, with or without colons; empty where it is none."""
    bare = text.lower().removeprefix("sha256:").replace(":", "").replace(" ", "")
    return bare if len(bare) == 64 and all(c in "0123456789abcdef" for c in bare) else ""


def in_groups(fingerprint: str) -> str:
    """A fingerprint as people read it out."""
    return ":".join(fingerprint[n : n + 2] for n in range(0, len(fingerprint), 2)).upper()


class Shown(NamedTuple):
    """What a server shows: its certificate's fingerprint, and why it is not believed (empty: it is)."""

    fingerprint: str
    trouble: str


def look_at(host: str, port: int, kind: str, trust: Trust) -> Shown:
    """The certificate that a mail server (`kind` smtps, smtp, imaps or imap) shows. Raises MailError."""
    trouble = ""
    try:
        _line(host, port, kind, trust.context()).close()
    except ssl.SSLCertVerificationError as error:
        trouble = error.verify_message
    except (OSError, ValueError) as error:
        raise MailError(f"{host}:{port} cannot be reached ({tidy(str(error), 120)}).") from error
    open_to_all = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    open_to_all.check_hostname, open_to_all.verify_mode = False, ssl.CERT_NONE
    try:
        with _line(host, port, kind, open_to_all) as line:
            return Shown(fingerprint_of(line.getpeercert(True)), trouble)
    except (OSError, ValueError) as error:
        raise MailError(f"{host}:{port} cannot be reached ({tidy(str(error), 120)}).") from error


def _line(host: str, port: int, kind: str, context: ssl.SSLContext) -> ssl.SSLSocket:
    """A connection that is encrypted, on which nothing else was said."""
    line = socket.create_connection((host, port), _SECONDS)
    try:
        if kind in ("smtp", "imap"):
            _ask_for_encryption(line, kind)
        return context.wrap_socket(line, server_hostname=host)
    except BaseException:
        line.close()
        raise


def _ask_for_encryption(line: socket.socket, kind: str) -> None:
    """RFC 3207, RFC 9051 section 6.2.1."""
    from barnacle.net.reader import Reader

    reader = Reader(line, 1 << 16)

    def heard() -> bytes:
        while len(answer := reader.line(4096)) > 3 and kind == "smtp" and answer[3:4] == b"-":
            pass
        return answer

    heard()
    if kind == "smtp":
        line.sendall(b"EHLO [127.0.0.1]\r\n")
        heard()
    line.sendall(b"STARTTLS\r\n" if kind == "smtp" else b"a STARTTLS\r\n")
    if not heard().startswith((b"220", b"a OK")):
        raise ValueError("it offers no encryption")
