"""What can be set, with its default and its meaning."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping

from barnacle.core.addresses import check_address
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.text import listed, nearest, plain_value, visible
from barnacle.core.typed import Any

KNOWN: dict[str, tuple[Any, str]] = {
    "me.name": ("", "your name, as recipients see it"),
    "me.address": ("", "your address"),
    "me.region": ("GB", "the country of phone numbers that do not give one"),
    "mail.server": ("", "the server that sends your mail: smtp://USER@HOST or smtps://USER@HOST"),
    "mail.mailbox": ("", "your mailbox, for drafts: imaps://USER@HOST"),
    "mail.password_command": ("", "a command that prints the password for your mail server and mailbox"),
    "mail.mailbox_password_command": ("", "the same for your mailbox, if it has another password"),
    "mail.token_command": (
        "",
        "a command that prints a token, where your mail takes no password (OAuth 2)",
    ),
    "mail.sign_in": ("", "where you sign in with your organisation in place of a password (its issuer): https://…"),
    "mail.sign_in_client": ("", "what it knows this program as: the client ID"),
    "mail.sign_in_secret": ("", "what it calls the client's secret, if it wants one"),
    "mail.sign_in_scope": ("", "what to ask it for, as whoever runs your mail says"),
    "mail.sign_in_endpoints": (
        [],
        "its pages for token, browser and code, where it does not tell them itself",
    ),
    "mail.ca_file": ("", "a file with your own certificate authority's certificates, for your mail"),
    "mail.pinned": ([], "servers whose one certificate you trust: HOST:PORT and its fingerprint"),
    "mail.sent_copy": (True, "put a copy of what you send into your mailbox's folder for sent mail"),
    "mail.sent_each": (True, "of what goes to each separately, too: the first one"),
    "mail.sent_bcc": (False, "name the recipients in that copy, in Bcc; whoever sees the folder sees them"),
    "mail.per_message": (50, "most recipients in one batch"),
    "mail.server_takes": (0, "most recipients your mail server accepts at once, as found out; 0: not known"),
    "mail.per_hour": (0, "most recipients in any hour; 0: no limit"),
    "mail.per_day": (0, "most recipients in any 24 hours; 0: no limit"),
    "mail.signature": ("", "added below each text, after a line with two dashes; \\n starts a new line"),
    "mail.patience": (300, "seconds to keep trying when the connection breaks or the server is away"),
    "directory.server": ("", "your organisation's directory (LDAP): ldaps://HOST/BASE"),
    "directory.user": ("", "the name that it lets you in by, a DN; empty: none; external: by your certificate"),
    "directory.password_command": ("", "a command that prints the password for it"),
    "directory.ca_file": ("", "a file with your own certificate authority's certificates, for the directory"),
    "directory.attributes": ([], "what it calls things, where it is not the usual: FIELD=ATTRIBUTE"),
    "hub.ca_file": ("", "a file with your own certificate authority's certificates, for the hub"),
    "copies.weekly": (False, "make a copy of the book each week, and keep the last five (true or false)"),
    "mail.pauses": ([5, 30, 120], "seconds before each new attempt at what the server deferred"),
}


# What some are called in settings that were written earlier.
EARLIER = {"hub.authority": "hub.ca_file"}


# The largest number that a setting can be, and the longest pause, in seconds: 30 days.
_MOST, _LONGEST = 1_000_000_000, 30 * 86_400


def default(key: str) -> Any:
    """What holds where nothing is set."""
    return KNOWN[key][0]


def shown(value: Any) -> str:
    """A value as it is typed."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def known(key: str) -> str:
    """The key of a setting, of which the last part is enough where no other ends so. Raises NotFoundError."""
    ends = [one for one in KNOWN if one.endswith(f".{key}")]
    key = EARLIER.get(key, ends[0] if len(ends) == 1 else key)
    if key not in KNOWN:
        raise NotFoundError(
            f"There is no setting `{visible(key, 60)}`. {_meant(key)}`barnacle settings` shows all of them."
        )
    return key


def _meant(key: str) -> str:
    if some := [one for one in KNOWN if one.startswith(f"{key}.")]:
        return f"{listed([f'`{one}`' for one in some], 6)} begin so. "
    near = nearest(key, KNOWN)
    return f"Did you mean `{near}`? " if near else ""


def unknown(kept: Mapping[str, Any], file: str) -> list[str]:
    """A sentence for each key that means nothing. Those of `columns` and `senders` have names of people's own."""
    sentences = []
    for key in kept:
        if key not in KNOWN and not key.startswith(("columns.", "senders.")):
            sentences.append(
                f"{file} has a setting `{visible(key, 60)}` that Barnacle does not know. {_meant(key)}".strip()
            )
    return sentences


def read_value(key: str, text: str) -> Any:
    """A setting's value from the command line: text, or a number or list as TOML writes it. Raises UnclearError, and
    FileError for a file of certificates that cannot be used."""
    like = default(known(key))
    value: Any = plain_value(text, "The value")
    if key == "me.region":
        from barnacle.jobs.desk.countries import read_country

        return read_country(value)
    if key == "mail.sign_in" and value:
        from barnacle.net.oauth import check_url

        return check_url(value)
    if key.endswith(".ca_file") and value:
        from pathlib import Path

        from barnacle.net.tls import Trust

        value = str(Path(value).expanduser().resolve())
        Trust(value, key).context()
        return value
    if isinstance(like, bool):
        value = {"yes": "true", "no": "false"}.get(value.lower(), value)
    if not isinstance(like, str):
        import tomllib

        with contextlib.suppress(tomllib.TOMLDecodeError):  # then it stays text, and `check` refuses it in words
            value = tomllib.loads(f"value = {value}")["value"]
    check(key, value)
    return value


def check(key: str, value: Any) -> None:
    """Raises UnclearError where a value cannot be the setting's."""
    like = default(key)
    fits = isinstance(value, type(like)) and isinstance(value, bool) == isinstance(like, bool)
    least = 1 if key == "mail.per_message" else 0
    if fits and isinstance(like, int):
        fits = least <= value <= _MOST
    if fits and key == "mail.pauses":
        fits = all(isinstance(p, int | float) and not isinstance(p, bool) and 0 <= p <= _LONGEST for p in value)
    if fits and key in ("mail.pinned", "mail.sign_in_endpoints", "directory.attributes"):
        fits = all(isinstance(one, str) for one in value)
    if fits and key == "me.region":
        fits = len(value) == 2 and value.isascii() and value.isalpha()
    if fits and key == "mail.pinned":
        fits = all(" " in one for one in value)
    if not fits:
        number = f"a whole number from {least} to {_MOST:,}"
        wanted = {bool: "true or false", int: number}.get(type(like), f"like `{like}`")
        raise UnclearError(f"The setting {key} cannot be `{visible(str(value), 60)}`; it should be {wanted}.")
    if key in ("mail.server", "mail.mailbox") and value:
        from barnacle.net.server import read_mailbox, read_server

        (read_server if key == "mail.server" else read_mailbox)(value)
    if key == "directory.server" and value:
        from barnacle.net.ldap import read_place

        read_place(value)
    if key == "me.address" and value:
        check_address(value)
