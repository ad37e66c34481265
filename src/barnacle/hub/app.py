"""The hub as an ASGI application: CardDAV below /dav/, a small JSON interface of our own below /api/ (docs/hub.md)."""

from __future__ import annotations

import asyncio
import json
import logging
import secrets
import time
from collections.abc import Callable, Sequence
from urllib.parse import unquote

from sqlalchemy import Engine, text
from sqlalchemy.exc import DataError, DBAPIError, OperationalError, SQLAlchemyError
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Route
from starlette.types import Receive, Scope, Send

from barnacle.core.addresses import address_key
from barnacle.core.errors import BarnacleError
from barnacle.core.typed import Any
from barnacle.hub.api import Api, parts_of, read_doc
from barnacle.hub.base import Person, now
from barnacle.hub.dav import Dav
from barnacle.hub.dav_parts import ROOT, XML, Asked
from barnacle.hub.davxml import BELOW, error
from barnacle.hub.guard import Guard
from barnacle.hub.house.api import HouseApi
from barnacle.hub.house.care import HouseCare
from barnacle.hub.house.held import Held
from barnacle.hub.house.houses import Houses
from barnacle.hub.house.people import HousePeople
from barnacle.hub.lists import Lists
from barnacle.hub.metrics import Metrics
from barnacle.hub.people import People
from barnacle.hub.refusals import (
    MissingError,
    NotJSONError,
    RefusalError,
    SlowDownError,
    TooLargeError,
    TooSlowError,
    UnmetError,
    UnsignedError,
    WrongError,
)
from barnacle.hub.shelves import Limits, Shelves

log = logging.getLogger("barnacle.hub")
JSON_OCTETS = 64_000
# How long an answer may take to be fetched.
ANSWER_SECONDS = 900
XML_OCTETS = 4_000_000
_CHALLENGE = 'Basic realm="Barnacle", charset="UTF-8", Bearer realm="Barnacle"'


class Hub:
    """The parts of a hub over one database."""

    def __init__(self, engine: Engine, limits: Limits | None = None) -> None:
        self.engine = engine
        self.limits = limits or Limits()
        self.people = People(engine, self.limits.tokens)
        self.lists = Lists(engine, self.limits.lists)
        self.shelves = Shelves(engine, self.limits)
        self.guard = Guard(self.people, self.limits.requests)
        self.dav = Dav(self.lists, self.shelves)
        self.houses = Houses(engine)
        self.house_people = HousePeople(engine, self.shelves)
        self.house_care = HouseCare(engine, self.house_people)
        self.held = Held(engine, self.house_people)
        house = HouseApi(self.houses, self.house_people, self.held)
        self.api = Api(self.people, self.lists, self.shelves, self.guard, house)
        self.metrics: Metrics | None = None

    def application(self, path: str = "", pages: Sequence[Route] = ()) -> Below:
        """What an ASGI server runs; below the path of a proxy, if any. `pages` are for people without a token."""
        every = ["GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS", "PROPFIND", "PROPPATCH", "REPORT", "MKCOL", "COPY",
                 "MOVE", "LOCK", "UNLOCK", "ACL", "MKCALENDAR", "PATCH"]  # fmt: skip
        routes = [
            *pages,
            Route("/health", self._health),
            Route("/.well-known/carddav", _to_dav, methods=every),
            Route("/api/connect", self._connect, methods=["POST"]),
            Route("/api/{path:path}", self._api, methods=every),
            Route("/dav", _to_dav, methods=every),
            Route("/dav/{path:path}", self._dav, methods=every),
            Route("/{path:path}", self._nothing, methods=every),
        ]
        return Below(Logged(Starlette(routes=routes), self), path)

    async def _health(self, request: Request) -> Response:
        def alive() -> None:
            with self.people.reading() as connection:
                connection.execute(text("SELECT 1"))

        try:
            await run_in_threadpool(alive)
        except SQLAlchemyError:
            return JSONResponse({"ok": False}, 503)
        return JSONResponse({"ok": True})

    async def _nothing(self, request: Request) -> Response:
        return await self._answer(request, 0, self._refuse_all)

    def _refuse_all(self, person: Person, body: bytes) -> Response:
        raise MissingError("There is nothing here.")

    async def _connect(self, request: Request) -> Response:
        """A code for a token."""
        caller = _caller(request)

        def redeem(body: bytes) -> Response:
            _hold_to_json(request, body)
            doc = read_doc(body)
            address, code = str(doc.get("address", ""))[:320], str(doc.get("code", ""))[:200]
            keys = [f"caller {caller}", f"address {address_key(address)}"]
            secret = self.people.redeem(address, code, str(doc.get("name", "")))
            if secret is None:
                self.guard.wrong_try(keys)
                raise UnsignedError("That code is wrong, has been used, or is over a week old.")
            self.people.forgive(keys[-1])
            return JSONResponse({"token": secret}, headers={"Cache-Control": "no-store"})

        return await _guarded(request, JSON_OCTETS, self.limits.seconds * 6, redeem)

    async def _dav(self, request: Request) -> Response:
        most = self.limits.card_octets * 2 if request.method == "PUT" else XML_OCTETS

        def answer(person: Person, body: bytes) -> Response:
            path = _raw_path(request)
            if "%2f" in path.lower() or "\\" in unquote(path) or "/../" in f"{unquote(path)}/":
                raise MissingError("There is nothing here.")
            headers = dict(request.headers)
            return self.dav.answer(Asked(request.method, path, headers, body, person))

        return await self._answer(request, most, answer)

    async def _api(self, request: Request) -> Response:
        answered = await self._api_checked(request)
        answered.headers["Cache-Control"] = "no-store"  # some have secrets in them
        return answered

    async def _api_checked(self, request: Request) -> Response:
        def answer(person: Person, body: bytes) -> Response:
            _hold_to_json(request, body)
            doc = read_doc(body) if body.strip() else {}
            return self.api.answer(request.method, parts_of(_raw_path(request)), person, doc)

        many = request.method == "POST" and request.url.path.endswith(("/cards", "/many"))
        return await self._answer(request, XML_OCTETS if many else JSON_OCTETS, answer)

    async def _answer(self, request: Request, most: int, answer: Callable[[Person, bytes], Response]) -> Response:
        """Sign in, read the body and answer, in a thread of its own since the database is waited for."""
        # Nobody's body is read before it is known who sends it.
        try:
            authorization = request.headers.get("authorization", "")
            person = await run_in_threadpool(self.guard.person, authorization, _caller(request))
        except RefusalError as refusal:
            return _said(request, refusal)
        except SQLAlchemyError as error:
            return _broken(request, error)
        try:
            with self.guard.at_work(person):
                return await _guarded(request, most, self.limits.seconds * 6, lambda body: answer(person, body))
        except SlowDownError as refusal:
            return _said(request, refusal)


class Logged:
    """Around the application: a line of JSON for each request, without addresses, titles or tokens."""

    def __init__(self, app: Starlette, hub: Hub) -> None:
        self.app = app
        self.hub = hub

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        begun, status = time.perf_counter(), 500
        number = secrets.token_hex(4)

        async def noted(message: Any) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message.get("headers", []), (b"x-request-id", number.encode())]
            await send(message)

        try:
            async with asyncio.timeout(ANSWER_SECONDS):
                await self.app(scope, receive, noted)
        except TimeoutError:
            log.warning(json.dumps({"at": now(), "request": number, "trouble": "an answer that nobody fetches"}))
        finally:
            # The first part of the path alone: what follows names people and lists.
            what = scope["path"].split("/")[1:3]
            known = what[0] if what[0] in ("dav", "api", "house", "health", ".well-known") else "other"
            named = ("lists", "people", "tokens", "connect", "house", "leave", "yes")
            part = what[1] if len(what) > 1 and what[1] in named else ""
            line = {
                "at": now(), "request": number,
                "method": scope["method"] if scope["method"].isalpha() else "?", "what": f"{known}/{part}".rstrip("/"),
                "caller": (scope.get("client") or ["?"])[0],
                "status": status, "ms": round((time.perf_counter() - begun) * 1000, 1),
            }  # fmt: skip
            log.info(json.dumps(line))
            if self.hub.metrics is not None:
                self.hub.metrics.answered(str(line["what"]), status, time.perf_counter() - begun)


class Below:
    """Around all: a hub that stands below a path of a proxy. What lies beside is not there, but for the place where
    programs ask first (RFC 6764 section 5)."""

    def __init__(self, app: Logged, path: str) -> None:
        self.app = app
        self.path = path

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        BELOW.set(self.path)
        if self.path and scope["type"] == "http":
            path, raw = scope["path"], scope.get("raw_path") or b""
            if path.startswith(f"{self.path}/"):
                cut = len(self.path)
                scope = {**scope, "path": path[cut:], "raw_path": raw[cut:]}
            elif not path.startswith("/.well-known/"):
                scope = {**scope, "path": "/nothing", "raw_path": b"/nothing"}
        await self.app(scope, receive, send)


async def _guarded(request: Request, most: int, seconds: float, work: Callable[[bytes], Response]) -> Response:
    try:
        return await run_in_threadpool(work, await _body(request, most, seconds))
    except RefusalError as refusal:
        return _said(request, refusal)
    except BarnacleError as error:  # a title or an address that cannot be one
        return _said(request, WrongError(str(error)))
    except ClientDisconnect:
        return Response(status_code=400)
    except SQLAlchemyError as error:
        return _broken(request, error)


def _broken(request: Request, error: SQLAlchemyError) -> Response:
    """The database does not answer, is full, or is being restarted: nothing was changed; it may be tried again. What it
    cannot hold at all (a zero octet, in PostgreSQL) is the request's own fault."""
    if isinstance(error, DataError):
        return _said(request, WrongError("The request has characters in it that cannot be."))
    kind = type(getattr(error, "orig", None) or error).__name__
    log.error(json.dumps({"at": now(), "trouble": kind}))
    passing = isinstance(error, OperationalError) or (isinstance(error, DBAPIError) and error.connection_invalidated)
    sentence = "The hub's data cannot be reached or written at the moment. Nothing was changed."
    return JSONResponse({"error": sentence}, 503 if passing else 500, {"Retry-After": "5"})


async def _body(request: Request, most: int, seconds: float) -> bytes:
    """What was sent, up to a bound, if it comes in so many seconds. Raises TooLargeError, TooSlowError."""
    length = request.headers.get("content-length", "")
    if length.isdigit() and int(length) > most:
        raise TooLargeError(f"That is more than the {most:,} octets accepted here.")
    parts, size = [], 0
    try:
        async with asyncio.timeout(seconds):
            async for part in request.stream():
                size += len(part)
                if size > most:
                    raise TooLargeError(f"That is more than the {most:,} octets accepted here.")
                parts.append(part)
    except TimeoutError:
        raise TooSlowError(f"That took more than {seconds:.0f} seconds to arrive.") from None
    return b"".join(parts)


def _said(request: Request, refusal: RefusalError) -> Response:
    headers: dict[str, str] = {}
    if isinstance(refusal, UnsignedError):
        headers["WWW-Authenticate"] = _CHALLENGE
    if isinstance(refusal, SlowDownError):
        headers["Retry-After"] = str(refusal.seconds)
    if request.url.path.startswith(ROOT):
        condition = refusal.condition if isinstance(refusal, UnmetError) else ""
        condition = "max-resource-size" if isinstance(refusal, TooLargeError) and request.method == "PUT" else condition
        href = refusal.href if isinstance(refusal, UnmetError) else ""
        path = request.url.path.rpartition("/")[0] + f"/{href}" if href else ""
        return Response(error(condition, refusal.sentence, path), refusal.status, headers, XML)
    return JSONResponse({"error": refusal.sentence}, refusal.status, headers)


def _caller(request: Request) -> str:
    return request.client.host if request.client else "?"


def _raw_path(request: Request) -> str:
    """The path as it was sent, its escapes and all."""
    return request.scope.get("raw_path", b"").decode("latin-1").partition("?")[0] or request.url.path


def _hold_to_json(request: Request, body: bytes) -> None:
    """What changes something is sent as JSON: so no page of somebody else's can have a browser send it. Raises
    WrongError."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if (body or request.method in ("POST", "PUT", "PATCH")) and kind != "application/json":
        raise NotJSONError("Send it as application/json.")


async def _to_dav(request: Request) -> Response:
    return RedirectResponse(BELOW.get() + ROOT, 301)
