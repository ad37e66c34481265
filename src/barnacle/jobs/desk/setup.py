"""Who you are, where mail is handed in, and the other settings."""

from __future__ import annotations

from typing import Any

from barnacle.book import settings
from barnacle.core.addresses import parse_mailbox
from barnacle.core.contact import check_name
from barnacle.core.errors import UnclearError
from barnacle.core.text import listed, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.settings import read_value
from barnacle.net.server import read_mailbox, read_server


def set_up(desk: Desk, me: str | None, mail: str | None, mailbox: str | None, region: str | None) -> bool:
    """Make the book where there is none, and keep who the user is, the mail server, the mailbox and the region.

    Returns whether the book is new. Raises UnclearError, BadAddressError, BookError.
    """
    changes: dict[str, str | None] = {}
    if me is not None:
        mine = parse_mailbox(check_name(me))
        if not mine.address.rpartition("@")[0].isascii():
            raise UnclearError(
                "Your own address has letters outside a to z before the @, which not every server takes."
            )
        changes["me.name"], changes["me.address"] = mine.name, mine.address
    if mail is not None:
        read_server(mail)
        changes["mail.server"] = mail
        changes["mail.server_takes"] = None  # of another server nothing is known
    if mailbox is not None:
        read_mailbox(mailbox)
        changes["mail.mailbox"] = mailbox
    if region is not None:
        if len(region) != 2 or not region.isascii() or not region.isalpha():
            raise UnclearError(
                f"`{visible(region, 20)}` is not a region: give the two letters of a country, such as GB."
            )
        changes["me.region"] = region.upper()
    is_new = not desk.path.exists()
    if is_new and me is None and not desk.setting("me.address"):
        raise UnclearError('Say who you are: `barnacle setup --me "Your Name <you@your.address>"`.')
    names = {
        "me.address": "who you are", "mail.server": "the mail server", "mail.mailbox": "the mailbox",
        "me.region": "the region",
    }  # fmt: skip
    title = f"Set {listed([what for key, what in names.items() if key in changes])}"
    with desk.open(make=True) as book, book.action("setup", title):
        settings.change(book, desk.settings_path, dict(changes))
    return is_new


def set_preference(desk: Desk, key: str, text: str) -> Any:
    """Change a setting; one action, which can be undone. Returns the value. Raises NotFoundError, UnclearError."""
    value = read_value(key, text)
    with desk.open() as book, book.action("settings", f"Set {key} to {visible(text, 60)}"):
        forgotten = {"mail.server_takes": None} if key == "mail.server" else {}
        settings.change(book, desk.settings_path, {key: value, **forgotten})
    return value
