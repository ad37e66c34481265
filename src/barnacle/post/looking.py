"""A posting that was taken is looked through: does it name members, and does it go on under its writer's name."""

from __future__ import annotations

from email.header import Header
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8

import dns.exception
from sqlalchemy import Connection, and_, delete, select, update

from barnacle.core.addresses import Mailbox, address_key, ascii_domain
from barnacle.core.errors import BarnacleError
from barnacle.core.house import HOLD
from barnacle.core.mail.list_id import id_of
from barnacle.core.mail.posting import Posting, UnfitError, is_still_signed, kept_head, read_posting, writer_of
from barnacle.core.mail.vouched import parents
from barnacle.core.text import tidy
from barnacle.files.contents.search import search
from barnacle.hub import schema
from barnacle.hub.app import Hub
from barnacle.hub.house.held import hold
from barnacle.hub.house.queue import DROPPED, HELD, QUEUED, TAKEN, WAITING, C, P, octets
from barnacle.hub.house.rows import House, M, Settings, count, find_house
from barnacle.net.mail_hosts import texts_at

ALWAYS, NEVER, AUTO = "always", "never", "auto"
_MOST_NAMES = 3


def look_through(hub: Hub, number: int) -> None:
    """Let a posting that was taken go on, or hold it for a keeper."""
    with hub.houses.reading() as connection:
        about = select(P.list, P.sender, P.subject).where(and_(P.id == number, P.state == TAKEN))
        row = connection.execute(about).first()
        if row is None:
            return
        house = find_house(connection, row.list)
        guarded: dict[str, str] = {}
        if house is not None and house.rules.named == HOLD:
            whom = select(M.key, M.name).join(schema.copy_of, C.member == M.id).where(C.posting == number)
            guarded = {key: name or key for key, name in connection.execute(whom) if key != address_key(row.sender)}
    why = ""
    if house is None:
        why = "its list is gone"
    elif guarded:
        with hub.houses.reading() as connection:
            raw = b"".join(octets(connection, number))
        why = _named(raw, guarded)
    if why:
        hold_back(hub, number, why)
        return
    with hub.engine.begin() as connection:
        if _is_taken(connection, number):
            connection.execute(update(schema.posting).where(P.id == number).values(state=QUEUED))
            connection.execute(update(schema.copy_of).where(C.posting == number).values(state=WAITING))


def hold_back(hub: Hub, number: int, why: str) -> None:
    """Hold a posting for a keeper; where its list is gone, give it up."""
    with hub.engine.begin() as connection:
        if not _is_taken(connection, number):
            return
        row = connection.execute(select(P.list, P.sender, P.subject).where(P.id == number)).one()
        house = find_house(connection, row.list)
        connection.execute(delete(schema.copy_of).where(C.posting == number))
        state = DROPPED if house is None else HELD
        connection.execute(update(schema.posting).where(P.id == number).values(state=state))
        if house is not None:
            hold(connection, house.made, number, row.sender, row.subject, why)
            count(connection, house.made, "postings", -1)  # until somebody lets it through


def _is_taken(connection: Connection, number: int) -> bool:
    """Whether nobody was faster."""
    return connection.execute(select(P.state).where(P.id == number).with_for_update()).scalar() == TAKEN


def _named(raw: bytes, guarded: dict[str, str]) -> str:
    """Why a posting waits that shows members' addresses, or may; nothing where it does not."""
    found = search(raw, guarded)
    if found.leaks:
        owners = list(dict.fromkeys(leak.owner for leak in found.leaks))
        more = f" and {len(owners) - _MOST_NAMES} more" if len(owners) > _MOST_NAMES else ""
        return tidy(f"it shows the address of {', '.join(owners[:_MOST_NAMES])}{more} ({found.leaks[0].where})", 300)
    if found.unsearched:
        one = found.unsearched[0]
        return tidy(f"{one.file} could not be searched for members' addresses: {one.why}", 300)
    return ""


def outgoing(house: House, settings: Settings, signed: bool, first: bytes) -> tuple[bytes, memoryview]:
    """What all copies of a posting have in common: the header behind each member's own lines, and what stands behind it
    in the posting's `first` piece. `signed` says that a signature of the writer's own domain holds."""
    posting = read_posting(first)
    rewritten = _as_list(posting, house, settings, signed)
    return kept_head(posting, settings.trusted, rewritten), posting.body


def own_lines(house: House, link: str, token: str) -> bytes:
    """The lines of one member in front of a posting (RFC 2369, RFC 2919, RFC 8058)."""
    words = house.title if house.official else f"{house.title}, opened by {house.opener}"
    post = "NO" if house.rules.writers == "keepers" else f"<mailto:{house.address}>"
    ways = ", ".join(filter(None, (f"<{link}>" if link.startswith(("https:", "http:")) else "",
                                   f"<mailto:leave+{token}@{house.domain}?subject=leave>")))  # fmt: skip
    lines = [
        f"List-Id: {_phrase(words)} <{id_of(house.address)}>",
        f"List-Post: {post}",
        f"List-Owner: <mailto:{house.request}>",
        f"List-Help: <mailto:{house.request}?subject=help>",
        f"List-Unsubscribe: {ways}",
    ]
    if link.startswith("https:"):
        lines.append("List-Unsubscribe-Post: List-Unsubscribe=One-Click")
    return "".join(f"{line}\r\n" for line in lines).encode("ascii")


def _phrase(words: str) -> str:
    text = tidy(words, 120).replace('"', "'").replace("\\", "/").replace("<", "(").replace(">", ")")
    return f'"{text}"' if text.isascii() else Header(text, "utf-8").encode(linesep="\r\n")


def _as_list(posting: Posting, house: House, settings: Settings, signed: bool) -> list[bytes]:
    """The fields that stand in place of From and Reply-To where mail under the writer's own name would not arrive:
    nothing signs it, and the writer's domain asks that such mail be turned away (RFC 7489 section 6.3)."""
    try:
        writer = writer_of(posting)
    except UnfitError:
        return []
    if settings.rewrite == NEVER:
        return []
    if settings.rewrite == AUTO and ((signed and is_still_signed(posting)) or not _is_strict(writer.address)):
        return []
    message = EmailMessage(policy=SMTP if writer.address.isascii() else SMTPUTF8)
    local, _, domain = house.address.rpartition("@")
    message["From"] = Address(
        tidy(f"{writer.name or writer.address.partition('@')[0]} by {house.title}", 120), local, domain
    )
    message["Reply-To"] = _answers(posting, writer)
    return [bytes(message).partition(b"\r\n\r\n")[0], b"\r\n"]


def _answers(posting: Posting, writer: Mailbox) -> str:
    """Where answers go: as the writer wanted, else to the writer."""
    wanted = posting.all("reply-to")
    if len(wanted) == 1 and len(wanted[0].plain) < 500 and wanted[0].plain.isascii():
        return wanted[0].plain
    local, _, domain = writer.address.rpartition("@")
    return str(Address(writer.name, local, domain))


def _is_strict(address: str) -> bool:
    """Whether a domain asks that mail without its signature be turned away, or will not say."""
    own = ascii_domain(address.rpartition("@")[2].lower())
    for domain in parents(own):
        try:
            texts = texts_at(f"_dmarc.{domain}")
        except (dns.exception.DNSException, OSError, BarnacleError):
            return True
        for text in texts:
            tags = dict(part.strip().lower().split("=", 1) for part in text.split(";") if "=" in part)
            if tags.get("v") == "dmarc1":
                policy = tags.get("p", "")
                return (policy if domain == own else tags.get("sp", policy)) in ("quarantine", "reject")
    return False
