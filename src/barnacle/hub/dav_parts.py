"""What CardDAV's answers are made of: places, texts, conditions of a GET."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from email.utils import format_datetime
from urllib.parse import quote, urlsplit
from xml.etree.ElementTree import Element

from starlette.responses import Response, StreamingResponse

from barnacle.core.typed import NamedTuple
from barnacle.hub import cards as card_texts
from barnacle.hub import conditions
from barnacle.hub.base import Person
from barnacle.hub.card_rows import StoredCard
from barnacle.hub.davxml import b, c, d, element, inside, multistatus
from barnacle.hub.refusals import UnmetError

# The most of a list's cards that one answer holds, where nobody asked for them in parts.
WHOLE_OCTETS = 64_000_000
ROOT, LISTS = "/dav/", "/dav/lists/"
COMPLIANCE = "1, 3, access-control, addressbook"
METHODS = "OPTIONS, GET, HEAD, PUT, DELETE, PROPFIND, PROPPATCH, REPORT"
XML = "application/xml; charset=utf-8"
VCARD = "text/vcard; charset=utf-8"


class Asked(NamedTuple):
    """A request, with its body read."""

    method: str
    path: str
    headers: dict[str, str]
    body: bytes
    person: Person


# Properties of a card that are a text: the name that a multistatus gives them, and the text.
Texts = dict[str, tuple[str, Callable[[StoredCard], str]]]
QUICK: Texts = {
    d("getetag"): ("d:getetag", lambda one: f'"{one.etag}"'),
    b("added-by"): ("b:added-by", lambda one: one.by),
    b("added"): ("b:added", lambda one: one.added),
}


# Reports for what has no members (RFC 3253 section 3.1.5), and, with `sync-collection`, for lists.
REPORTS = [c("addressbook-query"), c("addressbook-multiget"), d("acl-principal-prop-set"), d("principal-match"),
            d("principal-property-search"), d("principal-search-property-set"), d("expand-property")]  # fmt: skip


def report_set(tags: list[str]) -> Element:
    """A DAV:supported-report-set."""
    made = element(d("supported-report-set"))
    for tag in tags:
        made.append(element(d("supported-report"), children=[element(d("report"), children=[Element(tag)])]))
    return made


def is_name(name: str) -> bool:
    """Whether a card may be called so."""
    return 0 < len(name) <= 200 and name.isprintable() and "/" not in name and name not in (".", "..")


def path_of(made: str, name: str) -> str:
    """The path of a card."""
    return f"{LISTS}{made}/{quote(name, safe='@=,!$()*~+')}"


def path_in(text: str) -> str:
    """The path of a reference; of one that cannot be, nothing."""
    try:
        return inside(urlsplit(text).path)
    except ValueError:
        return ""


def shape_of(root: Element) -> Callable[[str], str]:
    """How a card's text becomes the address data that was asked for (RFC 6352 section 10.4)."""
    asked = root.find(f"{d('prop')}/{c('address-data')}")
    if asked is None:
        return lambda text: text
    version = asked.get("version", "")
    if asked.get("content-type", "text/vcard") != "text/vcard" or version not in ("", "3.0", "4.0"):
        raise UnmetError("supported-address-data", "Cards come as text/vcard, version 3.0 or 4.0.")
    names = {one.get("name", "").upper(): one.get("novalue") == "yes" for one in asked.findall(c("prop"))}

    def shape(text: str) -> str:
        text = card_texts.as_version(text, version) if version else text
        return card_texts.only(text, names) if names else text

    return shape


def unchanged(asked: Asked, etag: str) -> Response | None:
    """What a condition of a GET comes to: nothing, or that it is as it was. Raises UnmetError."""
    match, none_match = (asked.headers.get(name) for name in ("if-match", "if-none-match"))
    if match is not None and not conditions.names(match, etag):
        raise UnmetError("", "It has been changed since.", 412)
    if none_match is not None and conditions.names(none_match, etag, weakly=True):
        return Response(status_code=304, headers={"ETag": f'"{etag}"'})
    return None


def is_searched(root: Element, person: Person) -> bool:
    """Whether a search for principals (RFC 3744 section 9.4) finds the caller; nobody finds anybody else."""
    wishes = [one.findtext(d("match"), "").casefold() for one in root.findall(d("property-search"))]
    return all(wish in f"{person.name} {person.address}".casefold() for wish in wishes)


def http_date(moment: str) -> str:
    """A moment as HTTP writes it."""
    return format_datetime(datetime.fromisoformat(moment), usegmt=True)


def text_answer(asked: Asked, text: str, etag: str) -> Response:
    """Cards as a file."""
    body = text.encode()
    headers = {"ETag": etag, "Content-Length": str(len(body)), "Content-Type": VCARD,
               "X-Content-Type-Options": "nosniff"}  # fmt: skip
    return Response(b"" if asked.method == "HEAD" else body, headers=headers)


def multi(responses: Iterable[Element | bytes], token: str | None = None) -> Response:
    """A DAV:multistatus, given piece by piece."""
    return StreamingResponse(multistatus(responses, token), 207, media_type=XML)
