"""Speaking to a hub by its JSON interface (docs/hub.md), and by CardDAV (RFC 6352) where one card is concerned."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from types import TracebackType
from typing import Any, NamedTuple
from urllib.parse import quote, urlsplit

import orjson

from barnacle.core.errors import HubError, Stopped, Unclear
from barnacle.core.hosts import is_loopback
from barnacle.core.text import tidy, visible
from barnacle.net.http import httpx

_SECONDS = 60.0
# The most that is read of what has changed: a list of 100,000 cards of 2,500 octets.
_MOST = 256 << 20
_ENDLESS = "The hub's answer has no end. Nothing was changed; tell whoever runs the hub."


class Changed(Exception):
    """The card at the hub is not the one that was meant to be changed."""


class Gone(Exception):
    """A sync token that the hub does not know (any more)."""


class NoRight(Exception):
    """The role does not let one, or has ended."""


class Outgoing(NamedTuple):
    """A card that goes to the hub: over the one with that ETag, or as a new one."""

    name: str
    data: str
    etag: str | None


class Card(NamedTuple):
    """A card that has changed: its text, or None where it was taken off; who added it and when."""

    name: str
    etag: str
    data: str | None
    by: str
    added: str


class Page(NamedTuple):
    """An answer about changes: the cards, the next token, whether there is more to be asked for with that, and how long
    it was (octets)."""

    cards: list[Card]
    token: str
    more: bool
    octets: int


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
    if parts.scheme == "http" and not is_loopback(host):
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
        cards: list[Card] = []
        octets = 0
        while True:
            page = self._page(remote, token)
            cards += page.cards
            token = page.token
            octets += page.octets
            if not page.more:
                return cards, token
            if not page.cards or octets > _MOST:
                raise HubError(_ENDLESS)

    def _page(self, remote: str, token: str) -> Page:
        """The hub's answer to one question, which may be only a part."""
        with self._stream("POST", f"api/lists/{remote}/changes", {"since": token}) as answer:
            if answer.status_code == 409:
                raise Gone
            if answer.status_code in (403, 404):
                raise NoRight
            if answer.status_code != 200:
                answer.read()
                raise HubError(f"The hub at {visible(self.url)} answered {answer.status_code}: {_reason(answer)}")
            parts, octets = [], 0
            for part in answer.iter_bytes():
                octets += len(part)
                if octets > _MOST:
                    raise HubError(_ENDLESS)
                parts.append(part)
            return read_page(b"".join(parts))

    def put(self, remote: str, cards: Sequence[Outgoing]) -> list[str | Exception]:
        """Keep many cards. For each its new ETag, or what stands against it: Changed where there is another one by now,
        Stopped with the reason where the hub does not take it. Raises NoRight."""
        sent = [{"name": one.name, "data": one.data} | ({"etag": one.etag} if one.etag else {}) for one in cards]
        answer = self._send("POST", f"api/lists/{remote}/cards", json={"cards": sent})
        if answer.status_code in (403, 404):
            raise NoRight
        if answer.status_code >= 400:
            raise Stopped(f"The hub refuses: {_reason(answer)}")
        outcomes: list[str | Exception] = []
        for one in answer.json()["cards"]:
            if one["status"] in (409, 412):  # 409: somebody has put the same person there under another name
                outcomes.append(Changed())
            elif one["status"] >= 400:
                outcomes.append(Stopped(f"The hub does not take a card: {tidy(str(one['error']), 300)}"))
            else:
                outcomes.append(str(one["etag"]))
        return outcomes

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

    def _stream(self, method: str, path: str, doc: Any) -> _Streamed:
        return _Streamed(self, self._http.build_request(method, path, json=doc))

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


def read_page(data: bytes) -> Page:
    """The hub's answer about changes. Raises HubError where it is none."""
    known: dict[str, str] = {}  # few have added many cards

    def tidied(text: str) -> str:
        if text not in known:
            known[text] = tidy(text, 300)
        return known[text]

    try:
        doc = orjson.loads(data)
        cards = [Card(name, etag, text, tidied(by), tidied(added)) for name, etag, text, by, added in doc["cards"]]
        page = Page(cards, doc["token"], bool(doc["more"]), len(data))
        texts = [page.token, *(value for card in cards for value in (card.name, card.etag, card.data or ""))]
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise HubError("The hub's answer was cut off or is none. Nothing was changed; try again.") from error
    if not page.token or not all(isinstance(text, str) for text in texts):
        raise HubError("The hub's answer is none. Nothing was changed; try again.")
    return page


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
