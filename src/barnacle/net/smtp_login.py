"""Logging in at a mail server (RFC 4954), with a password or with a token."""

from __future__ import annotations

import base64
import smtplib
import ssl

from barnacle.core.errors import MailError
from barnacle.core.text import visible
from barnacle.net import sasl
from barnacle.net.credentials import AccessToken, Credentials, need_password, tokens
from barnacle.net.server import Server
from barnacle.net.smtp_line import Line, text_of

# Ways to give a password that the library has.
_KNOWN = {"CRAM-MD5", "PLAIN", "LOGIN"}


def log_in(line: Line, server: Server, credentials: Credentials) -> None:
    """Log in as the server's user, if the server knows of logging in. Raises MailError with what to do about it, and
    smtplib.SMTPResponseException where the server turns everybody away just now."""
    if not isinstance(line.sock, ssl.SSLSocket) and not server.is_here:
        raise MailError(
            f"{server.host} offers no encryption, and the password would be sent unencrypted. Try smtps:// in "
            "`barnacle setup --mail`."
        )
    if not line.has_extn("auth"):
        return
    offered = line.esmtp_features.get("auth", "").upper().split()
    line.esmtp_features["auth"] = " ".join(offered)  # the library compares capitals
    if not credentials.by_token and sasl.only_tokens(offered):
        raise sasl.OnlySignInError(sasl.NOT_BY_PASSWORD.format(host=server.host))
    if not credentials.by_token and _KNOWN.isdisjoint(offered):
        ways = f"it offers {visible(', '.join(offered), 80)}" if offered else "it offers none"
        raise MailError(f"{server.host} takes no password in a way that Barnacle knows ({ways}).")
    secret = need_password(server, credentials)
    if isinstance(secret, AccessToken):
        _by_token(line, server, credentials, secret, sasl.mechanism(offered))
        return
    try:
        if not f"{server.user}{secret}".isascii():
            _in_utf8(line, server, secret, offered)
        else:
            line.login(server.user, secret)
    except ValueError:  # a challenge that cannot be read
        raise MailError(f"{server.host} answers the name {visible(server.user)} with what makes no sense.") from None
    except smtplib.SMTPAuthenticationError as error:
        raise MailError(
            f"{server.host} does not accept the name {visible(server.user)} with this password "
            f"({error.smtp_code} {text_of(error.smtp_error)})."
        ) from None


def _by_token(line: Line, server: Server, credentials: Credentials, first: str, mechanism: str | None) -> None:
    if mechanism is None:
        raise MailError(sasl.NOT_BY_TOKEN.format(host=server.host))
    why = ""
    for token in tokens(server, credentials, first):
        says = sasl.first_words(mechanism, server.user, token, server.host, server.port)
        code, reply = line.docmd("AUTH", f"{mechanism} {base64.b64encode(says).decode()}")
        said = ""
        if code == 334:  # it says why, and waits to hear that this was understood
            said = sasl.why_refused(text_of(reply))
            code, reply = line.docmd("AQ==")
        if code in (235, 503):
            return
        if code < 500:
            raise smtplib.SMTPResponseException(code, reply)
        why = f"{said}: {code} {text_of(reply)}" if said else f"{code} {text_of(reply)}"
    raise MailError(sasl.TOKEN_REFUSED.format(host=server.host, user=visible(server.user), why=why))


def _in_utf8(line: Line, server: Server, secret: str, offered: list[str]) -> None:
    """With a name or password that is not ASCII, by the one mechanism that says how it is written (RFC 4616)."""
    if "PLAIN" not in offered:
        raise MailError(
            f"{server.host} has no way to take a name or password with letters beyond a to z. Choose another password "
            "there."
        )
    answer = base64.b64encode(f"\0{server.user}\0{secret}".encode()).decode()
    code, reply = line.docmd("AUTH", f"PLAIN {answer}")
    if code not in (235, 503):
        raise smtplib.SMTPAuthenticationError(code, reply)
