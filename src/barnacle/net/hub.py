"""Speaking to a hub by its JSON interface (docs/hub.md), and by CardDAV (RFC 6352) where one card is concerned."""

from __future__ import annotations

import logging
import socket
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from types import TracebackType
from urllib.parse import urlsplit

from msgspec import Raw

from barnacle.core.errors import HubError, SignedOutError, StoppedError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.sharing import Sharer
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple, TypeVar
from barnacle.net.answers import (
    Card,
    Happened,
    HubList,
    HubToken,
    Reply,
    read_as,
    read_history,
    read_lists,
    read_outcomes,
    read_page,
    read_people,
    read_replies,
    read_tokens,
    read_value,
)
from barnacle.net.http import httpx
from barnacle.net.tls import Trust

_SECONDS = 60.0
# The longest that one answer may take, however it drips.
_WHOLE_SECONDS = 900.0
# The most that is read of what has changed: a list of 100,000 cards of 2,500 octets.
_MOST = 256 << 20
# The most parts in which that comes, and so many requests together.
_PAGES, _TOGETHER = 2_000, 250
_ENDLESS = "The hub's answer does not end. Nothing more was changed; please tell whoever runs the hub."


# Where an answer stands that was given to several questions at once.
_LISTS = ("api/lists", "")
_LOG = logging.getLogger("barnacle.hub")
T = TypeVar("T")


class ChangedError(Exception):
    """The card at the hub is not the one that was meant to be changed."""


class GoneError(Exception):
    """A sync token that the hub does not know (any more)."""


class NoRightError(Exception):
    """The role does not let one, or has ended."""


class TooMuchError(Exception):
    """More at once than the hub takes, or a proxy before it."""


class UnreachedError(HubError):
    """Nobody answers, or nobody who can help: asking for anything else makes no sense now."""


class Outgoing(NamedTuple):
    """A card that goes to the hub: over the one with that ETag, or as a new one; without data it is taken off."""

    name: str
    data: str | None
    etag: str | None


class Wish(NamedTuple):
    """One of many requests that travel together."""

    method: str
    path: str
    body: Any = None


# For each card its new ETag, or what stands against it.
Outcomes = list[str | Exception]


class Response(NamedTuple):
    """What came back: the status, the media type, when to ask again (as the hub says it), and the body."""

    status: int
    kind: str
    again: str
    content: bytes


def check_url(url: str) -> str:
    """A hub's address, with a slash at its end. Raises UnclearError."""
    sentence = (
        f"`{visible(url, 80)}` is not a hub's address. Write https://HOST/, or http://127.0.0.1:PORT/ on this machine."
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
            "Over http:// your token would be sent unencrypted. Use https://, as whoever runs the hub will tell you."
        )
    return f"{parts.scheme}://{parts.netloc}{parts.path.rstrip('/')}/"


class Client:
    """A connection to a hub as somebody."""

    def __init__(self, url: str, address: str = "", token: str = "", authority: str = "") -> None:
        """`authority` is a file with the certificates of one's own certificate authority. Raises FileError."""
        self.url = url
        self._line: socket.socket | None = None
        self._foreseen: dict[tuple[str, str], Response] = {}
        self._http = httpx.Client(
            base_url=url,
            auth=httpx.BasicAuth(address, token) if token else None,
            timeout=httpx.Timeout(_SECONDS, connect=15.0),
            # Making a context takes longer than a request; without TLS none is needed.
            verify=Trust(authority, "hub.ca_file").context() if url.startswith("https") else False,
            # A proxy of the environment has no business with a hub on this machine, nor with a token for it.
            trust_env=not is_loopback(urlsplit(url).hostname or ""),
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

    def lists_by_now(self) -> list[HubList]:
        """The lists as they were when the latest changes were asked for, or after. Raises HubError."""
        known = self._foreseen.get(_LISTS)
        return read_lists(known.content) if known and known.status == 200 else self.lists()

    def people(self, remote: str) -> list[Sharer]:
        """Who has which role in a list. Raises StoppedError."""
        path = f"api/lists/{remote}/people"
        known = self._foreseen.pop((path, ""), None)
        return read_people(known.content if known and known.status == 200 else self._asked("GET", path))

    def history(self, remote: str) -> list[Happened]:
        """Who added, changed or took off whom of a list, the latest first. Raises StoppedError."""
        return read_history(self._asked("GET", f"api/lists/{remote}/history"))

    def tokens(self) -> list[HubToken]:
        """One's tokens."""
        return read_tokens(self._asked("GET", "api/tokens"))

    def make(self, path: str, doc: Any, key: str) -> str:
        """Have something made, such as a list; the value of the answer under `key`. Raises StoppedError."""
        return read_value(self._asked("POST", path, doc), key)

    def ask(self, kind: type[T], method: str, path: str, doc: Any = None) -> T:
        """A question whose answer is of that kind (`net.answers`). Raises StoppedError, HubError."""
        return read_as(kind, self._asked(method, path, doc))

    def tell(self, method: str, path: str, doc: Any = None) -> None:
        """Something that the hub is to do. Raises StoppedError with its reason where it refuses."""
        self._asked(method, path, doc)

    def _asked(self, method: str, path: str, doc: Any = None) -> bytes:
        # A change is always sent as JSON: nothing else is taken for one.
        body = {} if doc is None and method != "GET" and method != "DELETE" else doc
        answer = self._send(method, path, **({} if body is None else {"json": body}))
        if answer.status < 400:
            return answer.content
        if reason := _given_reason(answer):
            raise StoppedError(f"The hub refuses: {reason}")
        where = visible(self.url)
        raise HubError(f"What answers at {where} is not a hub (status {answer.status}). Nothing more was changed.")

    def many(self, wishes: Sequence[Wish]) -> list[Reply | None]:
        """Have many requests answered together, each by itself; None for one that no room was left for. Raises
        TooMuchError."""
        replies: list[Reply | None] = []
        for start in range(0, len(wishes), _TOGETHER):
            some = wishes[start : start + _TOGETHER]
            answer = self._send("POST", "api/many", json={"requests": [one._asdict() for one in some]})
            if answer.status == 413:
                raise TooMuchError(f"The hub refuses: {_reason(answer)}")
            if answer.status >= 400:
                raise HubError(f"The hub at {visible(self.url)} answered {answer.status}: {_reason(answer)}")
            replies += [one if one.status != 503 else None for one in read_replies(answer.content, len(some))]
        return replies

    def each(self, wishes: Sequence[Wish]) -> list[str]:
        """Have several things done, each by itself: for each why it was refused, or nothing. Raises HubError."""
        return [self._refusal(reply) for reply in self._insisted(wishes)]

    def make_each(self, wishes: Sequence[Wish], key: str) -> list[str]:
        """Have several things made; of each answer the value under `key`. Raises StoppedError with the reason of the
        first that is refused."""
        replies = self._insisted(wishes)
        for reply in replies:
            if reason := self._refusal(reply):
                raise StoppedError(f"The hub refuses: {reason}")
        return [read_value(bytes(reply.body), key) for reply in replies]

    def _insisted(self, wishes: Sequence[Wish]) -> list[Reply]:
        """The answers to many requests, those asked for again that had no room."""
        if not wishes:
            return []
        replies = dict(enumerate(self.many(wishes)))
        while left := [n for n, reply in replies.items() if reply is None]:
            again = self.many([wishes[n] for n in left])
            if not any(again):
                raise HubError(_ENDLESS)
            replies |= dict(zip(left, again, strict=True))
        return [reply for reply in replies.values() if reply is not None]

    def _refusal(self, reply: Reply) -> str:
        return _reason(_response(reply)) if reply.status >= 400 else ""

    def foresee(self, tokens: Mapping[str, str], people: Sequence[str]) -> None:
        """Ask at once for what has changed in some lists since their tokens, and for who has which role in some: who
        asks for one of these next gets that answer."""
        wishes = [Wish("POST", f"api/lists/{remote}/changes", {"since": token}) for remote, token in tokens.items()]
        wishes += [Wish("GET", f"api/lists/{remote}/people") for remote in people]
        if len(wishes) > 1:
            wishes.append(Wish("GET", "api/lists"))  # as they were after all that
            for wish, reply in zip(wishes, self.many(wishes), strict=True):
                if reply is not None:
                    key = (wish.path, (wish.body or {}).get("since", ""))
                    self._foreseen[key] = _response(reply)

    def changes(self, remote: str, token: str) -> tuple[list[Card], str]:
        """What has changed in a list since a token (empty: everything), and the next token. Raises GoneError,
        NoRightError."""
        cards: list[Card] = []
        octets = 0
        for _ in range(_PAGES):
            content = self._page(remote, token)
            page = read_page(content)
            cards += page.cards
            octets += len(content)
            if not page.more:
                return cards, page.token
            if not page.cards or octets > _MOST or page.token == token:
                break
            token = page.token
        raise HubError(_ENDLESS)

    def _page(self, remote: str, token: str) -> bytes:
        """The hub's answer to one question, which may be only a part."""
        path = f"api/lists/{remote}/changes"
        answer = self._foreseen.pop((path, token), None)
        if answer is None:
            answer = self._send("POST", path, json={"since": token})
            self._foreseen.pop(_LISTS, None)
        if answer.status == 409:
            raise GoneError
        if answer.status in (403, 404) and _given_reason(answer):
            raise NoRightError
        if answer.status != 200:
            raise HubError(f"The hub at {visible(self.url)} answered {answer.status}: {_reason(answer)}")
        return answer.content

    def put(self, some: Mapping[str, Sequence[Outgoing]]) -> dict[str, Outcomes | Exception]:
        """Keep cards of some lists, by the lists' ids. For each card its new ETag, or what stands against it:
        ChangedError where there is another one by now, StoppedError with the reason where the hub does not take it; for
        a list of which nothing was taken, what it comes to: NoRightError, HubError. Raises TooMuchError."""
        paths = {remote: f"api/lists/{remote}/cards" for remote in some}
        bodies = {remote: {"cards": [_sent(one) for one in cards]} for remote, cards in some.items()}
        answers: list[Reply | None]
        if len(some) == 1:
            [remote] = some
            answer = self._send("POST", paths[remote], json=bodies[remote])
            if answer.status == 413:
                raise TooMuchError(f"The hub refuses: {_reason(answer)}")
            answers = [Reply(answer.status, Raw(answer.content))]
        else:
            answers = self.many([Wish("POST", paths[remote], bodies[remote]) for remote in some])
        return {
            remote: self._outcomes(answer, len(cards))
            for (remote, cards), answer in zip(some.items(), answers, strict=True)
        }

    def _outcomes(self, answer: Reply | None, number: int) -> Outcomes | Exception:
        if answer is None:
            return HubError("The hub had no room for this list in its answer; it goes next time.")
        reason = _given_reason(_response(answer))
        if answer.status in (403, 404) and reason:
            return NoRightError()
        if answer.status >= 400:
            return HubError(f"The hub refuses: {reason or f'status {answer.status}.'}")
        outcomes: Outcomes = []
        try:
            told = read_outcomes(bytes(answer.body), number)
        except HubError as error:
            return error
        for one in told:
            if one.status in (409, 412):  # 409: somebody has put the same person there under another name
                outcomes.append(ChangedError())
            elif one.status >= 400 and one.status != 404:
                outcomes.append(StoppedError(f"The hub does not accept a card: {one.error}"))
            else:
                outcomes.append(one.etag)
        return outcomes

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
            raise UnreachedError(self._unreached(error)) from error
        kind, again = (answer.headers.get(name, "") for name in ("content-type", "retry-after"))
        come = Response(answer.status_code, kind, again, b"".join(parts))
        _LOG.debug("%s %s: %d, %d octets", method, path.partition("?")[0], come.status, octets)
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
            raise UnreachedError(f"The hub asks to wait {visible(answer.again, 10) or 'a few'} seconds.")
        if answer.status >= 500 and answer.status != 507:
            raise UnreachedError(f"{where} is having problems: {_reason(answer)}")
        if 300 <= answer.status < 400:
            raise UnreachedError(
                f"{where} redirects elsewhere (status {answer.status}). Ask whoever runs it for its address."
            )

    def _unreached(self, error: Exception) -> str:
        why = "no answer in time" if isinstance(error, httpx.TimeoutException) else tidy(str(error), 160)
        if "CERTIFICATE_VERIFY_FAILED" in why:
            why = (
                "it could not prove its identity; if your office has its own certificate authority, "
                "name its file: `barnacle settings hub.ca_file FILE`"
            )
        elif "refused" in why.lower():
            why = "nothing answers there"
        return (
            f"The hub at {visible(self.url)} cannot be reached ({why}). Nothing is lost; `barnacle sync` tries again."
        )


def _response(reply: Reply) -> Response:
    return Response(reply.status, "application/json", "", bytes(reply.body))


def _sent(one: Outgoing) -> dict[str, Any]:
    return {"name": one.name, "data": one.data} | ({"etag": one.etag} if one.etag else {})


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
