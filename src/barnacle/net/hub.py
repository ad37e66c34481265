"""Speaking to a hub: CardDAV (RFC 6352, RFC 6578) for cards, a small JSON interface (docs/hub.md) for roles."""

from __future__ import annotations

import ssl
from collections.abc import Iterator
from types import TracebackType
from typing import Any, NamedTuple
from urllib.parse import quote, unquote, urlsplit
from xml.etree.ElementTree import Element

import httpx
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, iterparse

from barnacle.core.errors import HubError, Stopped, Unclear
from barnacle.core.text import tidy, visible

_DAV, _CARD, _OURS = "{DAV:}", "{urn:ietf:params:xml:ns:carddav}", "{urn:barnacle:hub}"
_SECONDS = 60.0
# The most of an answer that is read: a list of 100,000 cards of 2,500 octets.
_MOST = 256 << 20
_SYNC = """<?xml version="1.0" encoding="utf-8"?>
<d:sync-collection xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:carddav" xmlns:b="urn:barnacle:hub">
<d:sync-token>{token}</d:sync-token><d:sync-level>1</d:sync-level>
<d:prop><d:getetag/><c:address-data/><b:added-by/><b:added/></d:prop></d:sync-collection>"""


class Changed(Exception):
    """The card at the hub is not the one that was meant to be changed."""


class Gone(Exception):
    """A sync token that the hub does not know (any more)."""


class NoRight(Exception):
    """The role does not let one, or has ended."""


class Card(NamedTuple):
    """A card that has changed: its text, or None where it was taken off; who added it and when."""

    name: str
    etag: str
    data: str | None
    by: str
    added: str


def check_url(url: str) -> str:
    """A hub's address, with a slash at its end. Raises Unclear."""
    sentence = (
        f"`{visible(url, 80)}` is no hub's address. Write https://HOST/, or http://127.0.0.1:PORT/ on this machine."
    )
    try:
        parts = urlsplit(url if "://" in url else f"https://{url}")
        host = parts.hostname or ""
        _ = parts.port
    except ValueError:
        raise Unclear(sentence) from None
    if parts.scheme not in ("http", "https") or not host or parts.username or parts.query:
        raise Unclear(sentence)
    if parts.scheme == "http" and not host.startswith(("127.", "localhost", "::1")):
        raise Unclear("Over http:// your token would travel in clear. Use https://, as whoever runs the hub will tell.")
    return f"{parts.scheme}://{parts.netloc}{parts.path.rstrip('/')}/"


class Client:
    """A connection to a hub as somebody."""

    def __init__(self, url: str, address: str = "", token: str = "") -> None:
        self.url = url
        self._http = httpx.Client(
            base_url=url,
            auth=httpx.BasicAuth(address, token) if token else None,
            timeout=httpx.Timeout(_SECONDS, connect=15.0),
            # Making a context takes longer than a request; without TLS none is needed.
            verify=ssl.create_default_context() if url.startswith("https") else False,
            headers={"User-Agent": "Barnacle"},
        )

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._http.close()

    def ask(self, method: str, path: str, doc: Any = None) -> Any:
        """A request to the JSON interface. Raises HubError where the hub cannot be reached or turns us away, Stopped
        with its reason where it refuses."""
        answer = self._send(method, path, json=doc) if doc is not None else self._send(method, path)
        if answer.status_code >= 400:
            raise Stopped(f"The hub refuses: {_reason(answer)}")
        return answer.json() if answer.content else None

    def changes(self, remote: str, token: str) -> tuple[list[Card], str]:
        """What has changed in a list since a token (empty: everything), and the next token. Raises Gone, NoRight."""
        body = _SYNC.format(token=token.replace("&", "&amp;").replace("<", "&lt;"))
        headers = {"Content-Type": "application/xml; charset=utf-8", "Depth": "0"}
        with self._stream("REPORT", f"dav/lists/{remote}/", body, headers) as answer:
            if answer.status_code in (403, 409):
                answer.read()
                if b"valid-sync-token" in answer.content:
                    raise Gone
            if answer.status_code in (403, 404):
                raise NoRight
            if answer.status_code != 207:
                answer.read()
                raise HubError(f"The hub at {visible(self.url)} answered {answer.status_code}: {_reason(answer)}")
            return _read_changes(answer)

    def put(self, remote: str, name: str, data: str, etag: str | None) -> str:
        """Keep a card, over the one with that ETag or as a new one. Returns its new ETag. Raises Changed, NoRight,
        Stopped for a card that the hub does not take."""
        condition = {"If-Match": f'"{etag}"'} if etag else {"If-None-Match": "*"}
        headers = {"Content-Type": "text/vcard; charset=utf-8", **condition}
        answer = self._send("PUT", _path(remote, name), content=data.encode(), headers=headers)
        if answer.status_code in (409, 412):
            raise Changed
        if answer.status_code == 404 or (answer.status_code == 403 and b"<card:" not in answer.content):
            raise NoRight
        if answer.status_code >= 400:
            raise Stopped(f"The hub does not take a card: {_reason(answer)}")
        return str(answer.headers.get("etag", "")).strip('"')

    def delete(self, remote: str, name: str, etag: str) -> None:
        """Take a card off. One that is gone already is no trouble. Raises Changed, NoRight."""
        answer = self._send("DELETE", _path(remote, name), headers={"If-Match": f'"{etag}"'})
        if answer.status_code == 412:
            raise Changed
        if answer.status_code == 403:
            raise NoRight
        if answer.status_code >= 400 and answer.status_code != 404:
            raise Stopped(f"The hub refuses: {_reason(answer)}")

    def _send(self, method: str, path: str, **more: Any) -> httpx.Response:
        try:
            answer = self._http.request(method, path, **more)
        except (httpx.HTTPError, OSError) as error:
            raise HubError(self._unreached(error)) from error
        self._let_in(answer)
        return answer

    def _stream(self, method: str, path: str, body: str, headers: dict[str, str]) -> _Streamed:
        return _Streamed(self, self._http.build_request(method, path, content=body.encode(), headers=headers))

    def _let_in(self, answer: httpx.Response) -> None:
        if answer.status_code == 401:
            answer.read()
            raise HubError(
                f"The hub at {visible(self.url)} does not let you in: {_reason(answer)} Connect again with a new code: "
                "`barnacle hub connect`."
            )
        if answer.status_code == 429:
            raise HubError(f"The hub asks to wait {visible(answer.headers.get('retry-after', 'a few'), 10)} seconds.")
        if answer.status_code >= 500 and answer.status_code != 507:
            answer.read()
            raise HubError(f"The hub at {visible(self.url)} has trouble of its own: {_reason(answer)}")

    def _unreached(self, error: Exception) -> str:
        why = "no answer in time" if isinstance(error, httpx.TimeoutException) else tidy(str(error), 160)
        if "CERTIFICATE_VERIFY_FAILED" in why:
            why = "it could not prove that it is what it says"
        elif "refused" in why.lower():
            why = "nothing answers there"
        return (
            f"The hub at {visible(self.url)} cannot be reached ({why}). Nothing is lost; `barnacle sync` tries again."
        )


class _Streamed:
    """An answer that is read while it comes."""

    def __init__(self, client: Client, request: httpx.Request) -> None:
        self.client = client
        self.request = request

    def __enter__(self) -> httpx.Response:
        try:
            self.answer = self.client._http.send(self.request, stream=True)
        except (httpx.HTTPError, OSError) as error:
            raise HubError(self.client._unreached(error)) from error
        try:
            self.client._let_in(self.answer)
        except BaseException:
            self.answer.close()
            raise
        return self.answer

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.answer.close()
        if isinstance(error, httpx.HTTPError | OSError):
            raise HubError(self.client._unreached(error)) from error


class _File:
    """An answer as a file, for the parser."""

    def __init__(self, parts: Iterator[bytes]) -> None:
        self.parts = parts
        self.rest = b""
        self.size = 0

    def read(self, size: int = -1) -> bytes:
        while not self.rest:
            part = next(self.parts, None)
            if part is None:
                return b""
            self.size += len(part)
            if self.size > _MOST:
                raise ParseError("too long")
            self.rest = part
        taken, self.rest = (self.rest[:size], self.rest[size:]) if size > 0 else (self.rest, b"")
        return taken


def _read_changes(answer: httpx.Response) -> tuple[list[Card], str]:
    cards: list[Card] = []
    token = ""
    try:
        for _, one in iterparse(_File(answer.iter_bytes()), forbid_dtd=True):
            if one.tag == f"{_DAV}response":
                if (card := _card(one)) is not None:
                    cards.append(card)
                one.clear()
            elif one.tag == f"{_DAV}sync-token":
                token = (one.text or "").strip()
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise HubError("The hub's answer was cut off or is no XML. Nothing was changed; try again.") from error
    if not token:
        raise HubError("The hub's answer was cut off. Nothing was changed; try again.")
    return cards, token


def _card(one: Element) -> Card | None:
    name = unquote(urlsplit(one.findtext(f"{_DAV}href", "").strip()).path).rpartition("/")[2]
    if not name:
        return None
    if "404" in one.findtext(f"{_DAV}status", ""):
        return Card(name, "", None, "", "")
    for part in one.findall(f"{_DAV}propstat"):
        prop = part.find(f"{_DAV}prop")
        if prop is not None and " 200" in part.findtext(f"{_DAV}status", ""):
            data = prop.findtext(f"{_CARD}address-data")
            etag = prop.findtext(f"{_DAV}getetag", "").strip().strip('"')
            by, added = (tidy(prop.findtext(f"{_OURS}{tag}", ""), 300) for tag in ("added-by", "added"))
            return Card(name, etag, data, by, added) if data is not None else None
    return None


def _path(remote: str, name: str) -> str:
    return f"dav/lists/{remote}/{quote(name, safe='@=,!$()*~+')}"


def _reason(answer: httpx.Response) -> str:
    """What the hub gives as its reason, in a line."""
    text = ""
    if "json" in answer.headers.get("content-type", ""):
        try:
            text = str(answer.json().get("error", ""))
        except (ValueError, AttributeError):
            text = ""
    elif b":reason>" in answer.content:
        text = answer.content.partition(b":reason>")[2].partition(b"<")[0].decode("utf-8", "replace")
    return visible(tidy(text, 300)) or f"status {answer.status_code}."
