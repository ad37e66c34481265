"""Speaking to a hub by its JSON interface (docs/hub.md), and by CardDAV (RFC 6352) where one card is concerned."""

from __future__ import annotations

import socket
import ssl
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Any, NamedTuple
from urllib.parse import quote, urlsplit

from barnacle.core.errors import HubError, SignedOutError, StoppedError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.sharing import Sharer
from barnacle.core.text import tidy, visible
from barnacle.net.answers import (
    Card,
    HubList,
    HubToken,
    read_lists,
    read_outcomes,
    read_page,
    read_people,
    read_tokens,
    read_value,
)
from barnacle.net.http import httpx

_SECONDS = 60.0
# The longest that one answer may take, however it drips.
_WHOLE_SECONDS = 900.0
# The most that is read of what has changed: a list of 100,000 cards of 2,500 octets.
_MOST = 256 << 20
_ENDLESS = "The hub's answer has no end. Nothing more was changed; tell whoever runs the hub."


class ChangedError(Exception):
    """The card at the hub is not the one that was meant to be changed."""


class GoneError(Exception):
    """A sync token that the hub does not know (any more)."""


class NoRightError(Exception):
    """The role does not let one, or has ended."""


class Outgoing(NamedTuple):
    """A card that goes to the hub: over the one with that ETag, or as a new one."""

    name: str
    data: str
    etag: str | None


class Response(NamedTuple):
    """What came back: the status, the media type, when to ask again (as the hub says it), and the body."""

    status: int
    kind: str
    again: str
    content: bytes


def check_url(url: str) -> str:
    """A hub's address, with a slash at its end. Raises UnclearError."""
    sentence = (
        f"`{visible(url, 80)}` is no hub's address. Write https://HOST/, or http://127.0.0.1:PORT/ on this machine."
    )
    try:
        parts = urlsplit(url if "://" in url else f"https://{url}")
        host = parts.hostname or ""
        _ = parts.port
    except ValueError:
        raise UnclearError(sentence) from None
    if parts.scheme not in ("http", "https") or not host or parts.username or parts.query:
        raise UnclearError(sentence)
    if parts.scheme == "http" and not is_loopback(host):
        raise UnclearError(
            "Over http:// your token would travel in clear. Use https://, as whoever runs the hub will tell."
        )
    return f"{parts.scheme}://{parts.netloc}{parts.path.rstrip('/')}/"


class Client:
    """A connection to a hub as somebody."""

    def __init__(self, url: str, address: str = "", token: str = "") -> None:
        self.url = url
        self._line: socket.socket | None = None
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

    def lists(self) -> list[HubList]:
        """The lists that one has joined or is offered. Raises HubError, as everything here does where the hub cannot be
        reached, turns us away, or is none."""
        return read_lists(self._asked("GET", "api/lists"))

    def people(self, remote: str) -> list[Sharer]:
        """Who has which role in a list. Raises StoppedError."""
        return read_people(self._asked("GET", f"api/lists/{remote}/people"))

    def tokens(self) -> list[HubToken]:
        """One's tokens."""
        return read_tokens(self._asked("GET", "api/tokens"))

    def make(self, path: str, doc: Any, key: str) -> str:
        """Have something made, such as a list; the value of the answer under `key`. Raises StoppedError."""
        return read_value(self._asked("POST", path, doc), key)

    def tell(self, method: str, path: str, doc: Any = None) -> None:
        """Something that the hub is to do. Raises StoppedError with its reason where it refuses."""
        self._asked(method, path, doc)

    def _asked(self, method: str, path: str, doc: Any = None) -> bytes:
        answer = self._send(method, path, **({} if doc is None else {"json": doc}))
        if answer.status < 400:
            return answer.content
        if reason := _given_reason(answer):
            raise StoppedError(f"The hub refuses: {reason}")
        where = visible(self.url)
        raise HubError(f"What answers at {where} is no hub (status {answer.status}). Nothing more was changed.")

    def changes(self, remote: str, token: str) -> tuple[list[Card], str]:
        """What has changed in a list since a token (empty: everything), and the next token. Raises GoneError,
        NoRightError."""
        cards: list[Card] = []
        octets = 0
        while True:
            content = self._page(remote, token)
            page = read_page(content)
            cards += page.cards
            token = page.token
            octets += len(content)
            if not page.more:
                return cards, token
            if not page.cards or octets > _MOST:
                raise HubError(_ENDLESS)

    def _page(self, remote: str, token: str) -> bytes:
        """The hub's answer to one question, which may be only a part."""
        answer = self._send("POST", f"api/lists/{remote}/changes", json={"since": token})
        if answer.status == 409:
            raise GoneError
        if answer.status in (403, 404):
            raise NoRightError
        if answer.status != 200:
            raise HubError(f"The hub at {visible(self.url)} answered {answer.status}: {_reason(answer)}")
        return answer.content

    def put(self, remote: str, cards: Sequence[Outgoing]) -> list[str | Exception]:
        """Keep many cards. For each its new ETag, or what stands against it: ChangedError where there is another one by
        now, StoppedError with the reason where the hub does not take it. Raises NoRightError."""
        sent = [{"name": one.name, "data": one.data} | ({"etag": one.etag} if one.etag else {}) for one in cards]
        answer = self._send("POST", f"api/lists/{remote}/cards", json={"cards": sent})
        if answer.status in (403, 404):
            raise NoRightError
        if answer.status >= 400:
            raise StoppedError(f"The hub refuses: {_reason(answer)}")
        outcomes: list[str | Exception] = []
        for one in read_outcomes(answer.content, len(sent)):
            if one.status in (409, 412):  # 409: somebody has put the same person there under another name
                outcomes.append(ChangedError())
            elif one.status >= 400:
                outcomes.append(StoppedError(f"The hub does not take a card: {one.error}"))
            else:
                outcomes.append(one.etag)
        return outcomes

    def delete(self, remote: str, name: str, etag: str) -> None:
        """Take a card off. One that is gone already is no trouble. Raises ChangedError, NoRightError."""
        answer = self._send("DELETE", _path(remote, name), headers={"If-Match": f'"{etag}"'})
        if answer.status == 412:
            raise ChangedError
        if answer.status == 403:
            raise NoRightError
        if answer.status >= 400 and answer.status != 404:
            raise StoppedError(f"The hub refuses: {_reason(answer)}")

    def _send(self, method: str, path: str, **more: Any) -> Response:
        """A request and its answer, of which no more is read than can be meant."""
        parts: list[bytes] = []
        octets = 0
        more["extensions"] = {"trace": self._traced}
        try:
            with self._in_time(), self._http.stream(method, path, **more) as answer:
                for part in answer.iter_bytes():
                    parts.append(part)
                    octets += len(part)
                    if octets > _MOST:
                        raise HubError(_ENDLESS)
        except (httpx.HTTPError, OSError) as error:
            raise HubError(self._unreached(error)) from error
        kind, again = (answer.headers.get(name, "") for name in ("content-type", "retry-after"))
        come = Response(answer.status_code, kind, again, b"".join(parts))
        self._let_in(come)
        return come

    def _traced(self, event: str, info: dict[str, Any]) -> None:
        """Told by the library what it does: the connection that it makes."""
        if event.endswith("connect_tcp.complete") and "return_value" in info:
            self._line = info["return_value"].get_extra_info("socket")

    @contextmanager
    def _in_time(self) -> Iterator[None]:
        """The library waits so long for each octet, not for all of them: after that, the line is cut."""

        def cut() -> None:
            with suppress(OSError, AttributeError):
                self._line.shutdown(socket.SHUT_RDWR)  # type: ignore[union-attr]

        timer = threading.Timer(_WHOLE_SECONDS, cut)
        timer.daemon = True
        timer.start()
        try:
            yield
        finally:
            timer.cancel()

    def _let_in(self, answer: Response) -> None:
        where = f"The hub at {visible(self.url)}"
        if answer.status == 401:
            raise SignedOutError(
                f"{where} does not let you in: {_reason(answer)} Connect again with a new code: `barnacle hub connect`."
            )
        if answer.status == 429:
            raise HubError(f"The hub asks to wait {visible(answer.again, 10) or 'a few'} seconds.")
        if answer.status >= 500 and answer.status != 507:
            raise HubError(f"{where} has trouble of its own: {_reason(answer)}")
        if 300 <= answer.status < 400:
            raise HubError(
                f"{where} sends you elsewhere (status {answer.status}). Ask whoever runs it for its address."
            )

    def _unreached(self, error: Exception) -> str:
        why = "no answer in time" if isinstance(error, httpx.TimeoutException) else tidy(str(error), 160)
        if "CERTIFICATE_VERIFY_FAILED" in why:
            why = "it could not prove that it is what it says"
        elif "refused" in why.lower():
            why = "nothing answers there"
        return (
            f"The hub at {visible(self.url)} cannot be reached ({why}). Nothing is lost; `barnacle sync` tries again."
        )


def _path(remote: str, name: str) -> str:
    return f"dav/lists/{remote}/{quote(name, safe='@=,!$()*~+')}"


def _reason(answer: Response) -> str:
    """What the hub gives as its reason, in a line; the status where it gives none."""
    return _given_reason(answer) or f"status {answer.status}."


def _given_reason(answer: Response) -> str:
    text = ""
    if "json" in answer.kind:
        with suppress(HubError):
            text = read_value(answer.content, "error")
    elif b":reason>" in answer.content:
        text = answer.content.partition(b":reason>")[2].partition(b"<")[0].decode("utf-8", "replace")
    return visible(tidy(text, 300))
