"""Letting oneself in with a token in place of a password: OAUTHBEARER (RFC 7628), and XOAUTH2, which came before it."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable

from barnacle.core.errors import MailError
from barnacle.core.text import tidy

BEARER, OLDER = "OAUTHBEARER", "XOAUTH2"
_BY_PASSWORD = {"PLAIN", "LOGIN", "CRAM-MD5", "SCRAM-SHA-1", "SCRAM-SHA-256"}


class OnlySignInError(MailError):
    """A server that takes no password."""


def only_tokens(mechanisms: Iterable[str]) -> bool:
    """Whether a server that offers these lets nobody in with a password."""
    offered = {one.upper() for one in mechanisms}
    return bool(offered & {BEARER, OLDER}) and not offered & _BY_PASSWORD


def mechanism(mechanisms: Iterable[str]) -> str | None:
    """The one for a token, of those that a server offers."""
    offered = {one.upper() for one in mechanisms}
    return next((one for one in (BEARER, OLDER) if one in offered), None)


def first_words(which: str, user: str, token: str, host: str, port: int) -> bytes:
    """What the client says first."""
    if which == OLDER:
        return f"user={user}\1auth=Bearer {token}\1\1".encode()
    # RFC 5801 section 4: a comma and an equals sign in a name are written otherwise.
    name = user.replace("=", "=3D").replace(",", "=2C")
    return f"n,a={name},\1host={host}\1port={port}\1auth=Bearer {token}\1\1".encode()


def why_refused(challenge: str) -> str:
    """What a server says of a token that it does not take (RFC 7628 section 3.2.2), in Base64; empty where nothing."""
    try:
        says = json.loads(base64.b64decode(challenge))
        return tidy(str(says.get("status", "")), 60)
    except (ValueError, AttributeError, RecursionError):
        return ""


NOT_BY_PASSWORD = (
    "{host} does not accept passwords: one signs in with one's organisation (OAuth 2). Ask whoever runs your mail for "
    "the address of the sign-in and for a client ID, then: `barnacle setup --sign-in URL --client ID`."
)
NOT_BY_TOKEN = "{host} does not accept a sign-in with one's organisation (OAuth 2), only a password: `barnacle setup`."
TOKEN_REFUSED = (
    "{host} does not let {user} in with the sign-in that you have ({why}). Sign in again: `barnacle setup --sign-in`."
)
