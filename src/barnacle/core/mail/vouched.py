"""Who wrote a message, as far as the organisation's own mail server vouches for it (RFC 8601)."""

from __future__ import annotations

from collections.abc import Iterable

import authres

from barnacle.core.addresses import address_key, ascii_domain
from barnacle.core.mail.posting import Posting
from barnacle.core.typed import NamedTuple

_MOST = 20_000


class Vouched(NamedTuple):
    """What is proven of a message: that its writer is who From says, and that a signature of that very domain holds."""

    writer: bool = False
    signed: bool = False


def read_results(posting: Posting, trusted: str, writer: str) -> Vouched:
    """What the server called `trusted` says of a message from `writer`. Only the topmost of its fields count, up to the
    first that is somebody else's: what stands below may have come with the message."""
    if not trusted:
        return Vouched()
    domain = _domain(writer)
    proven = signed = False
    for field in posting.fields:
        if field.name in (b"received", b"return-path", b"delivered-to", b"x-original-to", b"envelope-to"):
            continue
        if field.name != b"authentication-results":
            break
        if len(field.raw) > _MOST:
            break
        try:
            found = authres.AuthenticationResultsHeader.parse_value(field.plain)
        except (authres.AuthResError, ValueError, IndexError, AttributeError, TypeError):
            break
        if found.authserv_id.lower() != trusted.lower():
            break
        for result in found.results:
            if (result.result or "").lower() != "pass":
                continue
            of = {(one.type, one.name): one.value or "" for one in result.properties}
            method = result.method.lower()
            if method == "auth":
                # The server knows who handed it in; a name of its own says that it was somebody else than From.
                named = of.get(("smtp", "mailfrom")) or of.get(("smtp", "auth")) or ""
                proven |= "@" not in named or address_key(named) == address_key(writer)
            elif method == "dmarc":
                proven |= _domain(of.get(("header", "from"), writer)) == domain
            elif method == "dkim":
                by = of.get(("header", "d")) or of.get(("header", "i"), "")
                if _domain(by) == domain:
                    proven = signed = True
            elif method == "spf":
                proven |= _domain(of.get(("smtp", "mailfrom"), "")) == domain
    return Vouched(proven, signed)


def _domain(text: str) -> str:
    return ascii_domain(text.rpartition("@")[2].strip("<> .").lower())


def parents(domain: str) -> Iterable[str]:
    """The domains above one that may publish a policy for it, itself first; a top level never does."""
    labels = domain.split(".")
    return [".".join(labels[n:]) for n in range(max(1, len(labels) - 1))][:8]
