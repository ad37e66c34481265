"""Who you are, where mail is handed in, and the other settings."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from types import MappingProxyType

from barnacle.book import settings
from barnacle.core.addresses import Mailbox, check_address, typed_mailbox
from barnacle.core.contact import check_name
from barnacle.core.errors import UnclearError
from barnacle.core.text import listed, tidy, visible
from barnacle.core.typed import Any
from barnacle.jobs.desk.countries import read_country
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.settings import default, known, read_value
from barnacle.net.server import read_mailbox, read_server


def read_name(text: str) -> str:
    """Your name. Raises UnclearError."""
    if not text:
        raise UnclearError("Type your name, as recipients should see it.")
    return check_name(text)


def read_my_address(text: str) -> str:
    """Your address. Raises UnclearError, BadAddressError."""
    if not text:
        raise UnclearError("Type your e-mail address.")
    address = check_address(text)
    if not address.rpartition("@")[0].isascii():
        raise UnclearError("Your own address has letters outside a to z before the @, which not every server accepts.")
    return address


def guess_region() -> str:
    """The country of this computer's locale (POSIX.1-2017 section 8.2), or the default."""
    import phonenumbers

    named = next((os.environ[name] for name in ("LC_ALL", "LC_TELEPHONE", "LANG") if os.environ.get(name)), "")
    found = re.match(r"[A-Za-z]{2,3}_([A-Z]{2})(?![A-Za-z])", named)
    return found[1] if found and found[1] in phonenumbers.SUPPORTED_REGIONS else str(default("me.region"))


def set_up(
    desk: Desk,
    me: str | None,
    mail: str | None,
    mailbox: str | None,
    region: str | None,
    more: Mapping[str, str | None] = MappingProxyType({}),
) -> bool:
    """Make the book where there is none, and keep who the user is, the mail server, the mailbox, the region, and
    more by its settings, such as commands that print passwords. What is empty takes the one of before away.

    Returns whether the book is new. Raises UnclearError, BadAddressError, BookError.
    """
    changes: dict[str, str | None] = {}
    if me is not None:
        # Either alone leaves the other as it is.
        name, address = desk.setting("me.name"), desk.setting("me.address")
        is_name = address and (" " in me or me.isalpha()) and "@" not in me
        mine = Mailbox(tidy(check_name(me)), address) if is_name else typed_mailbox(check_name(me))
        changes["me.name"], changes["me.address"] = mine.name or name, read_my_address(mine.address)
    if mail is not None:
        if mail:
            read_server(mail)
        if mail != desk.setting("mail.server"):
            changes["mail.server_takes"] = None  # of another server nothing is known
        changes["mail.server"] = mail or None
    if mailbox is not None:
        if mailbox:
            read_mailbox(mailbox)
        changes["mail.mailbox"] = mailbox or None
    if region is not None:
        changes["me.region"] = read_country(region) if region else None
    changes |= {key: value or None for key, value in more.items() if value or desk.setting(key)}
    is_new = not desk.path.exists()
    if is_new and me is None and not desk.setting("me.address"):
        raise UnclearError('Say who you are: `barnacle setup --me "Your Name <you@your.address>"`.')
    names = {
        "me.address": "who you are", "mail.server": "the mail server", "mail.mailbox": "the mailbox",
        "me.region": "the country of phone numbers", "mail.password_command": "how to get the password",
        "mail.mailbox_password_command": "how to get the password of the mailbox",
        "mail.sign_in": "where you sign in", "mail.token_command": "how to get a token",
        "mail.ca_file": "whom to believe who a server is",
    }  # fmt: skip
    title = f"Set {listed([what for key, what in names.items() if key in changes])}"
    with desk.open(make=True) as book, book.action("setup", title):
        settings.change(book, desk.settings_path, dict(changes))
    desk.read_again()
    return is_new


def set_preference(desk: Desk, key: str, text: str) -> tuple[str, Any]:
    """Change a setting; one action, which can be undone. Returns its whole name and the value. Raises NotFoundError,
    UnclearError."""
    key = known(key)
    value = read_value(key, text)
    with desk.open() as book, book.action("settings", f"Set {key} to {visible(text, 60)}"):
        forgotten = {"mail.server_takes": None} if key == "mail.server" else {}
        settings.change(book, desk.settings_path, {key: value, **forgotten})
    return key, value
