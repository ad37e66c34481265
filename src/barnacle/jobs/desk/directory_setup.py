"""Where the organisation's directory is: kept, and tried."""

from __future__ import annotations

from barnacle.book import settings
from barnacle.core.errors import BarnacleError, DirectoryError
from barnacle.core.text import visible
from barnacle.core.typed import TYPE_CHECKING, NamedTuple
from barnacle.jobs.desk import directory, passwords
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from barnacle.net.ldap import Directory


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
            trouble = _tried(line)
    except BarnacleError as error:
        return SetUp(place.url, str(error), "")
    if trouble:
        return SetUp(place.url, trouble, "")
    name = directory.account(place.host, desk.setting("directory.user"))
    return SetUp(place.url, "", passwords.keep(desk, name, typed) if typed else "")


def _tried(line: Directory) -> str:
    """What is wrong with a directory that lets one in, in words; empty where it shows somebody. Raises
    DirectoryError."""
    try:
        found = line.search("(cn=*)", ["cn"], 1)
    except DirectoryError:  # some answer nothing so general
        line.search("(cn=a)", ["cn"], 1)
        return ""
    if found.entries or found.more or found.elsewhere:
        return ""
    return (
        f"{line.place.host} answers, but shows nobody at {visible(line.place.base, 120) or 'the top'}. Check the end "
        "of its address; or a name may be needed: `barnacle setup --directory-user DN`."
    )
