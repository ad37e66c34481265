"""Principals and privileges as WebDAV shows them (RFC 3744, RFC 5397); who may do what is decided by roles."""

from __future__ import annotations

from urllib.parse import quote
from xml.etree.ElementTree import Element

from barnacle.core.sharing import OWNER, READER
from barnacle.hub.base import Person
from barnacle.hub.davxml import Props, d, element, href

PEOPLE = "/dav/people/"


def principal(person: Person) -> str:
    """The path of a person."""
    return f"{PEOPLE}{quote(person.address, safe='@')}/"


def common(person: Person, role: str) -> Props:
    """What every resource has (RFC 3744 section 5, RFC 5397)."""
    me = principal(person)
    rights = ["read", "read-current-user-privilege-set"]
    if role != READER:
        rights += ["write-content", "bind", "unbind"]
    if role == OWNER:
        rights += ["write-properties"]

    def privilege(name: str) -> Element:
        return element(d("privilege"), children=[Element(d(name))])

    def ace() -> Element:
        who = element(d("principal"), children=[href(me)])
        grant = element(d("grant"), children=[privilege(name) for name in rights])
        return element(d("acl"), children=[element(d("ace"), children=[who, grant, Element(d("protected"))])])

    def supported() -> Element:
        under = [_supported(name, "") for name in ("read", "write-content", "write-properties", "bind", "unbind",
                                                   "read-current-user-privilege-set")]  # fmt: skip
        every = _supported("all", "everything")
        every.extend(under)
        return element(d("supported-privilege-set"), children=[every])

    return {
        d("current-user-principal"): lambda: element(d("current-user-principal"), children=[href(me)]),
        d("principal-collection-set"): lambda: element(d("principal-collection-set"), children=[href(PEOPLE)]),
        d("current-user-privilege-set"): lambda: element(
            d("current-user-privilege-set"), children=[privilege(name) for name in rights]
        ),
        d("acl"): ace,
        d("supported-privilege-set"): supported,
        d("acl-restrictions"): lambda: element(d("acl-restrictions"), children=[Element(d("no-invert"))]),
        d("inherited-acl-set"): lambda: Element(d("inherited-acl-set")),
        # Who owns a list is told by the JSON interface, to those who have joined it.
        d("owner"): lambda: Element(d("owner")),
        d("group"): lambda: Element(d("group")),
    }


def _supported(name: str, description: str) -> Element:
    privilege = element(d("privilege"), children=[Element(d(name))])
    return element(d("supported-privilege"), children=[privilege, element(d("description"), description or name)])
