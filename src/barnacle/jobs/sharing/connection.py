"""One's connection to a hub: the code for a token, the token kept safe, more tokens for other programs."""

from __future__ import annotations

import contextlib

from barnacle.book import shares
from barnacle.book.shares import Connection
from barnacle.book.store import Book
from barnacle.core.addresses import address_key, check_address
from barnacle.core.errors import SignedOutError, StoppedError
from barnacle.files.atomic import replacing
from barnacle.jobs.desk.desk import Desk
from barnacle.net.answers import HubToken
from barnacle.net.hub import Client, check_url

_SERVICE = "barnacle-hub"


def connect(desk: Desk, url: str, address: str | None, code: str, moved: bool = False) -> Connection:
    """Turn a code into a token, keep that in the keyring or a file that its owner alone may read, and remember the hub.
    `moved` says that it is the hub of before at a new place.

    Raises UnclearError, HubError, StoppedError where the book shares lists through another hub already.
    """
    url = check_url(url)
    address = check_address(address or desk.me.address)
    with desk.open() as book:
        old = shares.connection(book)
        elsewhere = old is not None and (old.url != url or address_key(old.address) != address_key(address))
        if old is not None and elsewhere and not moved and shares.every(book):
            raise StoppedError(
                f"This book shares lists through {old.url} as {old.address}. If that hub has moved, add --moved; "
                "otherwise leave those lists first (`barnacle share leave`), or use another book (--book)."
            )
        with Client(url, authority=_authority(desk)) as client:
            given = client.make("api/connect", {"address": address, "code": code, "name": _name()}, "token")
        _keep(desk, given)
        made = Connection(url, address)
        shares.connect(book, made)
        return made


def client_of(desk: Desk, book: Book) -> Client:
    """A connection to the book's hub. Raises SignedOutError where there is none."""
    hub = shares.connection(book)
    secret = _token(desk) if hub else None
    if hub is None or secret is None:
        raise SignedOutError(
            "Your book is not connected to a hub. Whoever runs one gives you its address and a code: "
            "`barnacle hub connect URL --as ADDRESS --code CODE`."
        )
    return Client(hub.url, hub.address, secret, _authority(desk))


def tokens(desk: Desk) -> list[HubToken]:
    """One's tokens at the hub."""
    with desk.open() as book, client_of(desk, book) as client:
        return client.tokens()


def _authority(desk: Desk) -> str:
    return desk.setting("hub.ca_file") or ""


def new_token(desk: Desk, name: str, everything: bool) -> tuple[str, Connection]:
    """A token for another program: to read and write cards, or for everything. Raises StoppedError where the name is
    taken."""
    with desk.open() as book, client_of(desk, book) as client:
        hub = shares.connection(book)
        assert hub is not None
        return client.make("api/tokens", {"name": name, "scope": "all" if everything else "cards"}, "token"), hub


def revoke(desk: Desk, name: str) -> None:
    """End a token."""
    with desk.open() as book, client_of(desk, book) as client:
        client.tell("POST", "api/tokens/revoke", {"name": name})


def _name() -> str:
    import socket

    return f"Barnacle on {socket.gethostname()[:40]}"


def _keep(desk: Desk, secret: str) -> None:
    import keyring
    import keyring.errors

    with contextlib.suppress(keyring.errors.KeyringError):
        keyring.set_password(_SERVICE, str(desk.path), secret)
        if keyring.get_password(_SERVICE, str(desk.path)) == secret:
            desk.token_path.unlink(missing_ok=True)
            return
    with replacing(desk.token_path) as file:
        file.write(secret)


def _token(desk: Desk) -> str | None:
    with contextlib.suppress(OSError):
        return desk.token_path.read_text("utf-8").strip()
    import keyring
    import keyring.errors

    with contextlib.suppress(keyring.errors.KeyringError):
        return keyring.get_password(_SERVICE, str(desk.path))
    return None
