"""Where the mail of an address is handed in and kept, as far as the DNS tells.

By the service records of its domain (RFC 6186, RFC 8314 section 5.1), else by names that many domains use. What the
DNS says is a suggestion for somebody to look at: it is not signed, and proves nothing (RFC 6186 section 6).
"""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator, Sequence

import dns.exception
import dns.resolver

from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.net.server import Server

# How long one question to the DNS, and one connection, may take, in seconds.
_ASK_SECONDS, _CONNECT_SECONDS = 3.0, 3.0
# So many questions without an answer are enough to see that nobody is there.
_UNANSWERED = 2
# Services in the order in which they are to be used: encrypted from the start first (RFC 8314 section 3).
_SUBMISSION = (("_submissions", True), ("_submission", False))
_MAILBOX = (("_imaps", True), ("_imap", False))
# Names that many domains use, with the ports that are tried there.
_SUBMISSION_NAMES = ("smtp", "mail")
_MAILBOX_NAMES = ("imap", "mail")
SUBMISSION_PORTS = ((465, True), (587, False))
MAILBOX_PORTS = ((993, True), (143, False))
_MOST_RECORDS = 20


class Found(NamedTuple):
    """A server for the mail of a domain. `named` says that the domain itself names it; else it is a guess."""

    server: Server
    named: bool


def find_submission(domain: str) -> Found | None:
    """The server that takes mail from the people of a domain. Raises UnclearError for a DNS server in BARNACLE_DNS
    that cannot be one."""
    return _find(domain, "smtp", _SUBMISSION, _SUBMISSION_NAMES, SUBMISSION_PORTS)


def find_mailbox(domain: str) -> Found | None:
    """The server that keeps the mail of the people of a domain (IMAP). Raises as above."""
    return _find(domain, "imap", _MAILBOX, _MAILBOX_NAMES, MAILBOX_PORTS)


def _find(
    domain: str,
    kind: str,
    services: Sequence[tuple[str, bool]],
    names: Sequence[str],
    ports: Sequence[tuple[int, bool]],
) -> Found | None:
    asking = _Asking()
    for service, tls in services:
        for host, port in asking.records(f"{service}._tcp.{domain}."):
            return Found(Server(host, port, tls, kind=kind), True)
    for name in names:
        host = f"{name}.{domain}"
        for place in asking.addresses(host):
            for port, tls in ports:
                if _answers(place, port):
                    return Found(Server(host, port, tls, kind=kind), False)
    return None


def _resolver() -> dns.resolver.Resolver:
    """Of the system, or the one that BARNACLE_DNS names as HOST:PORT."""
    named = os.environ.get("BARNACLE_DNS")
    try:
        ask = dns.resolver.Resolver(configure=named is None)
        if named is not None:
            host, _, port = named.rpartition(":")
            ask.nameservers, ask.port = [host], int(port)
    except dns.resolver.NoResolverConfiguration:
        ask = dns.resolver.Resolver(configure=False)
        ask.nameservers = []
    except ValueError:
        raise UnclearError(f"BARNACLE_DNS is `{visible(named or '', 60)}`; write it as 192.0.2.53:53.") from None
    ask.timeout = ask.lifetime = _ASK_SECONDS
    return ask


class _Asking:
    """Several questions to the DNS. Where it leaves some without an answer, no more are asked."""

    def __init__(self) -> None:
        self._resolver = _resolver()
        self._unanswered = 0

    def records(self, name: str) -> Iterator[tuple[str, int]]:
        """Hosts and ports of service records (RFC 2782), the ones to be used first leading."""
        answers = self._answer(name, "SRV")[:_MOST_RECORDS]
        for one in sorted(answers, key=lambda one: (one.priority, -one.weight)):
            host = one.target.to_text(omit_final_dot=True)
            # A dot alone says that there is no such service.
            if host not in ("", ".") and host.isascii() and host.replace(".", "").replace("-", "").isalnum():
                yield host.lower(), one.port

    def addresses(self, host: str) -> list[str]:
        """Some addresses of a host."""
        return [one.address for kind in ("A", "AAAA") for one in self._answer(f"{host}.", kind)[:2]]

    def _answer(self, name: str, kind: str) -> list[Any]:
        if self._unanswered >= _UNANSWERED:
            return []
        try:
            return [*self._resolver.resolve(name, kind, search=False)]
        except dns.exception.Timeout:
            self._unanswered += 1
        except (dns.exception.DNSException, OSError, ValueError, UnicodeError):
            pass  # nothing is said of it, or nobody to ask
        return []


def _answers(place: str, port: int) -> bool:
    try:
        socket.create_connection((place, port), _CONNECT_SECONDS).close()
    except OSError:
        return False
    return True


def texts_at(name: str) -> list[str]:
    """The text records (RFC 1035 section 3.3.14) of a name in the DNS; none where there is no such name. Raises
    dns.exception.DNSException where that cannot be found out."""
    try:
        answers = _resolver().resolve(f"{name}.", "TXT", search=False)
    except (dns.resolver.NXDOMAIN, dns.resolver.NoAnswer):
        return []
    return [b"".join(one.strings).decode("ascii", "replace") for one in [*answers][:_MOST_RECORDS]]
