"""XML of WebDAV (RFC 4918) and CardDAV (RFC 6352): requests read without entities and within bounds, and answers."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from contextvars import ContextVar
from xml.etree.ElementTree import Element, SubElement, register_namespace, tostring
from xml.sax.saxutils import escape

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import DefusedXMLParser, ParseError

from barnacle.hub.refusals import WrongError

DAV, CARD, OURS = "DAV:", "urn:ietf:params:xml:ns:carddav", "urn:barnacle:hub"
register_namespace("d", DAV)
register_namespace("card", CARD)
register_namespace("b", OURS)
_DEPTH = 40
# What one request may ask for of each card.
MOST_PROPS = 100
# What XML 1.0 (section 2.2) has no way to write.
_NOT_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def d(name: str) -> str:
    """The tag of a DAV element."""
    return f"{{{DAV}}}{name}"


def c(name: str) -> str:
    """The tag of a CardDAV element."""
    return f"{{{CARD}}}{name}"


def b(name: str) -> str:
    """The tag of an element of our own."""
    return f"{{{OURS}}}{name}"


def read(body: bytes) -> Element | None:
    """A request's body; None where it has none. Raises WrongError for no XML, a document type, or too deep a tree."""
    if not body.strip():
        return None
    parser = DefusedXMLParser(forbid_dtd=True, forbid_entities=True, forbid_external=True)
    try:
        parser.feed(body)
        root: Element = parser.close()
    except DefusedXmlException:
        raise WrongError("The request's XML has a document type or entities, which are not accepted.") from None
    except (ParseError, ValueError, LookupError):
        raise WrongError("The request is not well-formed XML.") from None
    except RecursionError:
        raise WrongError("The request's XML is too deep.") from None
    level = [root]
    for _ in range(_DEPTH):
        level = [child for one in level for child in one]
        if not level:
            return root
    raise WrongError("The request's XML is too deep.")


def element(tag: str, text: str | None = None, children: Iterable[Element] = ()) -> Element:
    """An element with text or children."""
    made = Element(tag)
    if text is not None:
        made.text = _NOT_XML.sub("", text)
    made.extend(children)
    return made


# The path of a proxy below which the hub stands.
BELOW: ContextVar[str] = ContextVar("BELOW", default="")


def outside(path: str) -> str:
    """A path of the hub as others see it."""
    return BELOW.get() + path if path.startswith("/dav/") else path


def inside(path: str) -> str:
    """A path that others named as the hub knows it."""
    below = BELOW.get()
    return path[len(below) :] if below and path.startswith(f"{below}/") else path


def href(path: str) -> Element:
    """A DAV:href."""
    return element(d("href"), outside(path))


def response(path: str, found: Iterable[Element], missing: Iterable[str]) -> Element:
    """The properties of one resource (RFC 4918 section 14.24): those that it has, and the tags of others."""
    made = element(d("response"), children=[href(path)])
    for status, props in (("200 OK", list(found)), ("404 Not Found", [Element(tag) for tag in missing])):
        if props:
            part = SubElement(made, d("propstat"))
            part.append(element(d("prop"), children=props))
            part.append(element(d("status"), f"HTTP/1.1 {status}"))
    if len(made) == 1:
        made.append(element(d("status"), "HTTP/1.1 200 OK"))
    return made


def status_of(path: str, status: str, condition: str = "") -> Element:
    """The status of one resource without properties."""
    made = element(d("response"), children=[href(path), element(d("status"), f"HTTP/1.1 {status}")])
    if condition:
        made.append(element(d("error"), children=[Element(d(condition))]))
    return made


def quick_response(path: str, props: Iterable[tuple[str, str]]) -> bytes:
    """The same as `response` where there are but texts, each with its tag as `multistatus` names it: in a tenth of the
    time."""
    texts = "".join([f"<{tag}>{escape(_NOT_XML.sub('', text))}</{tag}>" for tag, text in props])
    return (
        f"<d:response><d:href>{escape(outside(path))}</d:href><d:propstat><d:prop>{texts}</d:prop>"
        "<d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>"
    ).encode()


def multistatus(responses: Iterable[Element | bytes], token: str | None = None) -> Iterator[bytes]:
    """A DAV:multistatus, piece by piece (RFC 4918 section 13), with a sync token (RFC 6578) where there is one."""
    yield (
        f'<?xml version="1.0" encoding="utf-8"?>\n<d:multistatus xmlns:d="{DAV}" xmlns:card="{CARD}" xmlns:b="{OURS}">'
    ).encode()
    part: list[bytes] = []
    for one in responses:
        part.append(one if isinstance(one, bytes) else tostring(one, "utf-8"))
        if len(part) == 100:
            yield b"".join(part)
            part = []
    if token is not None:
        part.append(f"<d:sync-token>{token}</d:sync-token>".encode())
    yield b"".join(part) + b"</d:multistatus>"


# The conditions of RFC 3253, 4918 and 6578; all others are CardDAV's.
_OF_DAV = ("supported-report", "propfind-finite-depth", "valid-sync-token")


def error(condition: str, sentence: str, path: str = "") -> bytes:
    """A DAV:error (RFC 4918 section 16) with the condition's element and a sentence for people."""
    made = Element(d("error"))
    if condition:
        tag = SubElement(made, d(condition) if condition in _OF_DAV else c(condition))
        if path:
            tag.append(href(path))
    made.append(element(b("reason"), sentence))
    return b'<?xml version="1.0" encoding="utf-8"?>\n' + tostring(made)


# What makes each property that a resource has.
Props = dict[str, Callable[[], Element]]
# Those that are given only to who asks for them by name (RFC 3744 section 5, RFC 6578 section 3.1).
_NOT_IN_ALL = frozenset(
    map(d, ("acl", "supported-privilege-set", "current-user-privilege-set", "sync-token", "supported-report-set"))
)


def wanted_by(root: Element | None) -> list[str] | str:
    """The tags that a request asks for; `all` or `names` (RFC 4918 section 9.1). Raises
    WrongError for more than anybody needs."""
    if root is None or root.find(d("allprop")) is not None:
        return "all"
    if root.find(d("propname")) is not None:
        return "names"
    prop = root.find(d("prop"))
    tags = list(dict.fromkeys(one.tag for one in prop)) if prop is not None else []
    if len(tags) > MOST_PROPS:
        raise WrongError(f"Ask for {MOST_PROPS} properties at most.")
    return tags


def answer_for(path: str, props: Props, wanted: list[str] | str) -> Element:
    if wanted == "names":
        return response(path, [Element(tag) for tag in props], [])
    if isinstance(wanted, str):
        return response(path, [make() for tag, make in props.items() if tag not in _NOT_IN_ALL], [])
    return response(path, [props[tag]() for tag in wanted if tag in props], [tag for tag in wanted if tag not in props])


def limit_in(root: Element, holder: str, name: str) -> int | None:
    text = root.findtext(f"{holder}/{name}", "").strip()
    return int(text[:9]) or None if text.isascii() and text.isdigit() else None  # no list has more than that


def document(root: Element) -> bytes:
    return b'<?xml version="1.0" encoding="utf-8"?>\n' + tostring(root)
