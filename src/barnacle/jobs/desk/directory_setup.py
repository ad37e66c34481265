"""Where the organisation's directory is: kept, and tried."""

from __future__ import annotations

from barnacle.book import settings
from barnacle.core.errors import BarnacleError
from barnacle.core.typed import NamedTuple
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
    typed = ""

    def ask(question: str) -> str:
        nonlocal typed
        typed = desk.secret(question)
        return typed

    place = directory.place_of(desk)
    try:
        with directory.opened(desk, ask=ask) as line:
            line.search("(cn=a)", ["cn"], 1)
    except BarnacleError as error:
        return SetUp(place.url, str(error), "")
    name = directory.account(place.host, desk.setting("directory.user"))
    return SetUp(place.url, "", passwords.keep(desk, name, typed) if typed else "")
