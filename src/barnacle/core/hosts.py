"""Which machine a host name or address means."""

from __future__ import annotations

from ipaddress import ip_address


def is_loopback(host: str) -> bool:
    """Whether it is this machine, which nobody else can listen in on: an address of RFC 1122 section 3.2.1.3 or
    RFC 4291 section 2.5.3, or the name `localhost` (RFC 6761 section 6.3), and no name that only begins like one."""
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host.lower() == "localhost"
