"""Where the organisation's directory is: kept, and tried."""

from __future__ import annotations

from typing import NamedTuple

from barnacle.book import settings
from barnacle.core.errors import BarnacleError
from barnacle.core.text import visible
from barnacle.jobs.desk import directory, passwords
from barnacle.jobs.desk.desk import Desk


class SetUp(NamedTuple):
    """The directory, why it does not work (empty: it does), and where its password is kept, if it is."""

    url: str
    trouble: str
    kept: str


def set_up(desk: Desk, url: str | None, user: str | None) -> SetUp:
    """Keep a directory and the name that it lets one in by (empty ones are taken away), and try it; a password that is
    typed meanwhile and works is kept. Raises UnclearError."""
    from barnacle.net.ldap import read_place

    if url:
        read_place(url)
    said = {"directory.server": url, "directory.user": user}
    with desk.open() as book, book.action("setup", "Set the directory"):
        changes = {key: value or None for key, value in said.items() if value is not None}
        settings.change(book, desk.settings_path, changes)
    desk.read_again()
    if not directory.is_known(desk):
        return SetUp("", "", "")
    typed: list[str] = []
    ask = desk.secret

    def secret(question: str) -> str:
        typed.append(ask(question))
        return typed[-1]

    desk.secret = secret
    place = directory.place_of(desk)
    try:
        with directory.opened(desk) as line:
            line.search("(cn=a)", ["cn"], 1)
    except BarnacleError as error:
        return SetUp(place.url, str(error), "")
    finally:
        desk.secret = ask
    return SetUp(place.url, "", _keep(desk, directory.account(place.host, desk.setting("directory.user")), typed))


def _keep(desk: Desk, name: str, typed: list[str]) -> str:
    if not typed or not typed[-1]:
        return ""
    if passwords.has_keyring():
        passwords.keep_in_keyring(name, typed[-1])
        return "your keyring"
    return visible(str(passwords.keep_in_file(desk, name, typed[-1])))
