"""A posting to a house list: its header field by field, octet for octet, and what is taken away and put in front.

What is left is never written anew: a signature over it (RFC 6376) still holds.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from email.errors import MessageError
from email.headerregistry import HeaderRegistry

from barnacle.core.addresses import Mailbox, check_address
from barnacle.core.errors import BadAddressError
from barnacle.core.mail.decoding import decoded_header
from barnacle.core.mail.list_id import list_id
from barnacle.core.text import tidy
from barnacle.core.typed import Any, NamedTuple

HEAD_LIMIT, FIELD_LIMIT, FIELDS = 256_000, 64_000, 500
_MOST_HOPS = 30
# What says nothing to a member, or was not for them (RFC 2369, RFC 2919, RFC 8058, RFC 8098 section 2.1).
_TAKEN = frozenset((
    b"bcc", b"return-path", b"disposition-notification-to", b"return-receipt-to", b"x-confirm-reading-to",
    b"delivered-to", b"x-original-to", b"envelope-to",
))  # fmt: skip
_NAME = re.compile(rb"[!-9;-~]+")
_BARE = re.compile(rb"\r(?!\n)|(?<!\r)\n")
# The fields that a signature covers.
_SIGNED = re.compile(r"(?:^|;)\s*h\s*=([^;]*)")
_REGISTRY = HeaderRegistry()


class UnfitError(Exception):
    """A posting that cannot be passed on as mail, with the reason and the status (RFC 3463)."""

    def __init__(self, reason: str, status: str = "5.6.0") -> None:
        super().__init__(reason)
        self.status = status


class Field(NamedTuple):
    """A header field: its name in lower case, and all its octets up to the last CRLF."""

    name: bytes
    raw: bytes

    @property
    def value(self) -> str:
        """What stands behind the colon, on one line, encoded words decoded (RFC 2047)."""
        text = self.raw.partition(b":")[2].decode("utf-8", "replace")
        return tidy(decoded_header(re.sub(r"\r\n[ \t]+", " ", text).strip()), 2_000)

    @property
    def plain(self) -> str:
        """The same as it was written."""
        return " ".join(self.raw.partition(b":")[2].decode("utf-8", "replace").split())


class Posting(NamedTuple):
    """A posting taken apart: its fields, and where the empty line stands in `raw` that ends its header."""

    raw: bytes
    fields: tuple[Field, ...]
    end: int

    def all(self, name: str) -> list[Field]:
        """The fields of a name."""
        return [field for field in self.fields if field.name == name.encode()]

    def first(self, name: str) -> str:
        """The value of the first field of a name, or nothing."""
        return next((field.value for field in self.all(name)), "")

    @property
    def body(self) -> memoryview:
        """All that follows the header, from the empty line on."""
        return memoryview(self.raw)[self.end :]


def read_posting(raw: bytes) -> Posting:
    """Take a posting apart. Raises UnfitError for what is no message, or might be taken for two."""
    if b"\0" in raw:
        raise UnfitError("it has a zero octet in it")
    if _BARE.search(raw):
        # RFC 5321 section 4.1.1.4: somebody else might take what follows for the end, and a second message.
        raise UnfitError("it has a line end that is not CRLF")
    end = 0 if raw.startswith(b"\r\n") else raw.find(b"\r\n\r\n") + 2
    if end == 1:
        end = len(raw)
        if not raw.endswith(b"\r\n"):
            raise UnfitError("its header does not end")
    if end > HEAD_LIMIT:
        raise UnfitError(f"its header has more than {HEAD_LIMIT:,} octets")
    fields: list[Field] = []
    for line in raw[:end].split(b"\r\n")[:-1]:
        if line[:1] in (b" ", b"\t"):
            if not fields:
                raise UnfitError("its header begins with a continuation")
            fields[-1] = Field(fields[-1].name, fields[-1].raw + line + b"\r\n")
            continue
        name, colon, _ = line.partition(b":")
        name = name.rstrip(b" \t")
        if not colon or not _NAME.fullmatch(name):
            raise UnfitError("its header has a line that is no field")
        fields.append(Field(name.lower(), line + b"\r\n"))
        if len(fields) > FIELDS:
            raise UnfitError(f"its header has more than {FIELDS} fields")
    if any(len(field.raw) > FIELD_LIMIT for field in fields):
        raise UnfitError(f"a field of its header has more than {FIELD_LIMIT:,} octets")
    return Posting(raw, tuple(fields), end)


def writer_of(posting: Posting) -> Mailbox:
    """The one address in the one From. Raises UnfitError: who wrote it is what everything hangs on."""
    fields = posting.all("from")
    if len(fields) != 1:
        raise UnfitError(f"it has {len(fields) or 'no'} From field{'s' if fields else ''}; one is needed", "5.6.0")
    try:
        parsed: Any = _REGISTRY("From", fields[0].plain)
        addresses, groups = parsed.addresses, parsed.groups
    except (MessageError, ValueError, IndexError, AttributeError, TypeError):
        raise UnfitError("its From cannot be read") from None
    if len(addresses) != 1 or any(group.display_name is not None for group in groups):
        raise UnfitError(f"its From has {len(addresses) or 'no'} addresses; one is needed")
    try:
        address = check_address(addresses[0].addr_spec)
    except BadAddressError:
        raise UnfitError("its From has no good address") from None
    return Mailbox(tidy(decoded_header(addresses[0].display_name), 200), address)


def why_circular(posting: Posting, sender: str, own_ids: Iterable[str], own_domains: Iterable[str]) -> str:
    """Why a posting may be a machine's, or one of ours that comes round again (RFC 3834, RFC 2919); nothing where it is
    not. `sender` is the envelope's."""
    if not sender:
        return "it has no return address, as reports have"
    domains = {domain.lower() for domain in own_domains}
    if sender.rpartition("@")[2].lower() in domains:
        return "a list sent it"
    automatic = posting.first("auto-submitted").partition(";")[0].strip().lower()
    if automatic not in ("", "no"):
        return "a program sent it by itself"
    if posting.first("precedence").strip().lower() in ("bulk", "junk", "list"):
        return "it is marked as bulk mail"
    ours = set(own_ids)
    if any(list_id(field.plain) in ours for field in posting.all("list-id")):
        return "it has been through a list of this house already"
    if len(posting.all("received")) > _MOST_HOPS:
        return f"it has passed more than {_MOST_HOPS} servers"
    return ""


def kept_head(posting: Posting, trusted: str, rewritten: Sequence[bytes] = ()) -> bytes:
    """The header as it goes on: without what was not for the members, without results that bear our own server's name
    (RFC 8601 section 5), without lists' fields, which would not be ours. `rewritten` stand in place of From and
    Reply-To."""
    kept = []
    for field in posting.fields:
        if field.name in _TAKEN or field.name.startswith(b"list-"):
            continue
        if field.name == b"authentication-results" and _server_of(field.plain) == trusted.lower():
            continue
        if rewritten and field.name in (b"from", b"reply-to", b"sender"):
            continue
        kept.append(field.raw)
    return b"".join([*rewritten, *kept])


def _server_of(results: str) -> str:
    return re.split(r"[\s;]", results.strip(), maxsplit=1)[0].lower()


def is_still_signed(posting: Posting) -> bool:
    """Whether the signatures (RFC 6376 section 3.5) cover nothing that is taken away here, nor a
    field of lists, of which there are others afterwards, whether there were some before or not."""
    named = {
        name.strip().lower().encode("ascii", "replace")
        for field in posting.all("dkim-signature")
        for names in _SIGNED.findall(field.plain)
        for name in names.split(":")
    }
    return not any(name.startswith(b"list-") or (name in _TAKEN and posting.all(name.decode())) for name in named)
