"""A mail account while it is set up: looked for by its address, tried, and its password kept."""

from __future__ import annotations

from dataclasses import dataclass, replace

from barnacle.core.addresses import address_key
from barnacle.core.errors import UnclearError
from barnacle.core.text import count, listed, size_of
from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk import passwords
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.servers import ServerOffer
from barnacle.net.server import Server as Server
from barnacle.net.server import servers_called as servers_called

if TYPE_CHECKING:
    from barnacle.net.mail_hosts import Found

KEYRING, FILE = "keyring", "file"


@dataclass(frozen=True, slots=True)
class Suggestion:
    """A server that may be the right one for an address, and how it was found, in words."""

    server: Server
    how: str


def find_server(address: str) -> Suggestion | None:
    """The mail server of an address. Raises UnclearError."""
    from barnacle.net.mail_hosts import find_submission

    return _suggestion(address, find_submission(_domain(address)))


def find_mailbox(address: str) -> Suggestion | None:
    """The mailbox of an address. Raises UnclearError."""
    from barnacle.net.mail_hosts import find_mailbox

    return _suggestion(address, find_mailbox(_domain(address)))


def _suggestion(address: str, found: Found | None) -> Suggestion | None:
    if found is None:
        return None
    domain = _domain(address)
    if not found.named:
        how = "a guess: there is a server of that name"
    elif found.server.host == domain or found.server.host.endswith(f".{domain}"):
        how = f"named by {domain}"
    else:
        how = f"named by {domain}, but not part of it: is it yours?"
    return Suggestion(replace(found.server, user=address), how)


def _domain(address: str) -> str:
    return address_key(address).rpartition("@")[2]


def asking(*urls: str) -> list[Server]:
    """The mail server and the mailbox of these URLs, those of them that ask for a user. Raises UnclearError where none
    does."""
    servers = [servers_called(url, "imap" if url.startswith("imap") else "smtp", "")[0] for url in urls if url]
    with_users = [one for one in servers if one.user]
    if not with_users:
        raise UnclearError("A password for which server? Name it with --mail smtps://USER@HOST.")
    return with_users


def keep_password(desk: Desk, server: Server, secret: str, where: str) -> str:
    """Keep a password in the keyring or in a file, and nowhere else; returns where it is now, in words. Raises
    MailError, FileError."""
    if where == KEYRING:
        passwords.keep_in_keyring(passwords.account(server), secret)
        place = "your keyring"
    else:
        place = str(passwords.keep_in_file(desk, passwords.account(server), secret))
    forget_password(desk, server, but=where)
    return place


def forget_password(desk: Desk, server: Server, but: str = "") -> None:
    """Take a password out of the keyring and of the file, `but` one of them. Raises FileError."""
    if but != KEYRING:
        passwords.forget_in_keyring(passwords.account(server))
    if but != FILE:
        passwords.forget_in_file(desk, passwords.account(server))


def in_words(offered: ServerOffer) -> str:
    """What a mail server that was tried can do, as a sentence."""
    can = [name.upper() for name in ("8bitmime", "smtputf8") if offered.offers[name]]
    says = [
        "the connection is encrypted" if offered.offers["encrypted"] else "the connection is not encrypted",
        f"messages up to {size_of(offered.most_octets)}" if offered.most_octets else "",
        f"at most {count(offered.most_recipients, 'recipient')} at a time" if offered.most_recipients else "",
        listed(can),
        "" if offered.offers["smtputf8"] else "no addresses with letters outside a to z",
    ]
    works = (
        f"It lets you in, but takes no mail from this address ({offered.against})" if offered.against else "It works"
    )
    return f"{works}: {'; '.join(one for one in says if one)}."
