"""Whom a message comes from: oneself, or one of the addresses that one writes for, such as an office's."""

from __future__ import annotations

import re

from barnacle.book import settings
from barnacle.core.addresses import Mailbox, address_key, typed_mailbox
from barnacle.core.contact import check_name
from barnacle.core.errors import NotFoundError, UnclearError
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.net.server import Server, read_server

_SECTION = "senders."
ME = "me"


class Sender(NamedTuple):
    """Whom a message comes from, by the short name one calls it; `server` and `signature` are empty where it has
    none of its own."""

    name: str
    mailbox: Mailbox
    server: str = ""
    signature: str = ""


def every(desk: Desk) -> list[Sender]:
    """Those besides oneself."""
    found = []
    for key, value in desk.settings.items():
        if key.startswith(_SECTION) and isinstance(value, dict) and isinstance(value.get("address"), str):
            said = {name: str(value.get(name, "")) for name in ("name", "address", "server", "signature")}
            mailbox = Mailbox(said["name"], said["address"])
            found.append(Sender(key.removeprefix(_SECTION), mailbox, said["server"], said["signature"]))
    return sorted(found)


def need(desk: Desk, text: str) -> Sender:
    """The sender that is meant by its short name, its address, or the beginning of its name; `me` is oneself. Raises
    NotFoundError."""
    if fold(text) == ME or address_key(text) == address_key(desk.setting("me.address") or "-"):
        return myself(desk)
    some = every(desk)
    key = fold(text)
    for fits in (
        [one for one in some if fold(one.name) == key or address_key(one.mailbox.address) == address_key(text)],
        [one for one in some if key and fold(one.mailbox.name).startswith(key)],
    ):
        if len(fits) == 1:
            return fits[0]
    have = f"You can write as {listed([ME, *(one.name for one in some)])}."
    raise NotFoundError(
        f'There is no sender {visible(text, 60)}. {have} `barnacle setup --sender "Name <address>"` adds one.'
    )


def myself(desk: Desk) -> Sender:
    """Oneself. Raises UnclearError before `setup`."""
    return Sender(ME, desk.me, "", str(desk.setting("mail.signature")))


def of(desk: Desk, address: str) -> Sender | None:
    """The sender with an address, if it is one of them."""
    return next((one for one in every(desk) if address_key(one.mailbox.address) == address_key(address)), None)


def server_of(desk: Desk, address: str) -> Server | None:
    """The server of its own that mail from an address goes through, if it has one."""
    one = of(desk, address)
    return read_server(one.server) if one and one.server else None


def own_addresses(desk: Desk) -> list[str]:
    """All addresses that one writes from, one's own first."""
    me = desk.setting("me.address")
    return ([me] if me else []) + [one.mailbox.address for one in every(desk)]


def add(desk: Desk, text: str, server: str | None, signature: str | None) -> tuple[Sender, bool]:
    """Keep a sender, or change the one with that address. Returns it, and whether it is new. Raises UnclearError,
    BadAddressError."""
    mailbox = typed_mailbox(check_name(text))
    if server:
        read_server(server)
    old = of(desk, mailbox.address)
    name = old.name if old else _short_name(desk, mailbox.address)
    value: dict[str, Any] = {"name": mailbox.name, "address": mailbox.address}
    for key, said, before in (
        ("server", server, old.server if old else ""),
        ("signature", signature, old.signature if old else ""),
    ):
        if kept := before if said is None else said:
            value[key] = kept
    with desk.open() as book, book.action("setup", f"Set the sender {name}"):
        settings.change(book, desk.settings_path, {f"{_SECTION}{name}": value})
    desk.read_again()
    return need(desk, name), old is None


def remove(desk: Desk, text: str) -> Sender:
    """Forget a sender. Raises NotFoundError, UnclearError."""
    one = need(desk, text)
    if one.name == ME:
        raise UnclearError("You yourself cannot be removed; `barnacle setup --me` changes who you are.")
    with desk.open() as book, book.action("setup", f"Removed the sender {one.name}"):
        settings.change(book, desk.settings_path, {f"{_SECTION}{one.name}": None})
    desk.read_again()
    return one


def _short_name(desk: Desk, address: str) -> str:
    base = re.sub(r"[^a-z0-9_-]", "", address.partition("@")[0].lower()) or "sender"
    taken = {one.name for one in every(desk)} | {ME}
    return next(name for name in (base, *(f"{base}{n}" for n in range(2, 1000))) if name not in taken)
