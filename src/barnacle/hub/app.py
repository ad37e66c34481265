"""The hub as an ASGI application: CardDAV below /dav/, a small JSON interface of our own below /api/ (docs/hub.md)."""

from __future__ import annotations

import json
import logging
import secrets
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import unquote

import orjson
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
from barnacle.core.sharing import MORE, USUAL
from barnacle.hub.base import Person, now
from barnacle.hub.dav import ROOT, XML, Asked, Dav, is_name
from barnacle.hub.davxml import error
from barnacle.hub.guard import Guard
from barnacle.hub.lists import Lists
from barnacle.hub.people import People
from barnacle.hub.refusals import (
    ConflictError,
    MissingError,
    RefusalError,
    SlowDownError,
    TooLargeError,
    UnmetError,
    UnsignedError,
    WrongError,
)
from barnacle.hub.shelves import Limits, Shelves, Wanted

log = logging.getLogger("barnacle.hub")
JSON_OCTETS = 64_000
XML_OCTETS = 4_000_000
_CHALLENGE = 'Basic realm="Barnacle", charset="UTF-8", Bearer realm="Barnacle"'
Doc = dict[str, Any]


class Hub:
    """The parts of a hub over one database."""

    def __init__(self, engine: Engine, limits: Limits | None = None) -> None:
        self.engine = engine
        self.limits = limits or Limits()
        self.people = People(engine)
        self.lists = Lists(engine)
        self.shelves = Shelves(engine, self.limits)
        self.guard = Guard(self.people, self.limits.requests)
        self.dav = Dav(self.lists, self.shelves)

    def application(self) -> Logged:
        """What an ASGI server runs."""
        every = ["GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS", "PROPFIND", "PROPPATCH", "REPORT", "MKCOL", "COPY",
                 "MOVE", "LOCK", "UNLOCK", "ACL", "MKCALENDAR", "PATCH"]  # fmt: skip
        routes = [
            Route("/health", self._health),
            Route("/.well-known/carddav", _to_dav, methods=every),
            Route("/api/connect", self._connect, methods=["POST"]),
            Route("/api/{path:path}", self._api, methods=every),
            Route("/dav", _to_dav, methods=every),
            Route("/dav/{path:path}", self._dav, methods=every),
            Route("/{path:path}", self._nothing, methods=every),
        ]
        return Logged(Starlette(routes=routes))

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
            doc = _doc(body)
            address, code = str(doc.get("address", ""))[:320], str(doc.get("code", ""))[:200]
            keys = [f"caller {caller}", f"address {address_key(address)}"]
            self.guard.hold_back(keys)
            secret = self.people.redeem(address, code, str(doc.get("name", "")))
            if secret is None:
                self.people.failed(keys)
                raise UnsignedError("That code is not known, has been used, or is over a week old.")
            self.people.forgive(keys[-1])
            return JSONResponse({"token": secret})

        return await _guarded(request, JSON_OCTETS, redeem)

    async def _dav(self, request: Request) -> Response:
        most = self.limits.card_octets * 2 if request.method == "PUT" else XML_OCTETS

        def answer(person: Person, body: bytes) -> Response:
            path = request.scope.get("raw_path", b"").decode("latin-1").partition("?")[0] or request.url.path
            if "%2f" in path.lower() or "\\" in unquote(path) or "/../" in f"{unquote(path)}/":
                raise MissingError("There is nothing here.")
            headers = dict(request.headers)
            return self.dav.answer(Asked(request.method, path, headers, body, person))

        return await self._answer(request, most, answer)

    async def _api(self, request: Request) -> Response:
        def answer(person: Person, body: bytes) -> Response:
            parts = [unquote(part) for part in request.url.path.strip("/").split("/")[1:]]
            return self._api_answer(request.method, parts, person, _doc(body) if body.strip() else {})

        many = request.method == "POST" and request.url.path.endswith("/cards")
        return await self._answer(request, XML_OCTETS if many else JSON_OCTETS, answer)

    def _api_answer(self, method: str, parts: list[str], person: Person, doc: Doc) -> Response:
        match method, parts:
            case "GET", ["tokens"]:
                return JSONResponse(self.people.tokens(person))
            case "POST", ["tokens"]:
                return JSONResponse({"token": self.people.new_token(person, str(doc.get("name", "")))}, 201)
            case "DELETE", ["tokens", name]:
                self.people.revoke(person, name)
            case "GET", ["lists"]:
                return JSONResponse(self.lists.lists(person))
            case "POST", ["lists"]:
                made = self.lists.make_list(person, str(doc.get("title", "")), _fields(doc) or list(USUAL))
                return JSONResponse({"id": made}, 201)
            case "PATCH", ["lists", made]:
                title = doc.get("title")
                self.lists.change_list(person, made, None if title is None else str(title), _fields(doc))
            case "DELETE", ["lists", made]:
                self.lists.stop(person, made)
            case "GET", ["lists", made, "people"]:
                return JSONResponse(self.lists.roles(person, made))
            case "PUT", ["lists", made, "people", address]:
                return JSONResponse(self.lists.offer(person, made, address, str(doc.get("role", ""))))
            case "DELETE", ["lists", made, "people", address]:
                self.lists.end(person, made, address)
            case "POST", ["lists", made, "changes"]:
                return self._changes(person, made, str(doc.get("since", "")))
            case "POST", ["lists", made, "cards"]:
                return JSONResponse({"cards": self._keep(person, made, doc)})
            case "POST", ["lists", made, "opt-outs"]:
                self.shelves.opt_out(person, made, str(doc.get("card", "")), str(doc.get("since", "")))
            case "POST", ["lists", made, ("accept" | "decline") as word]:
                self.lists.answer(person, made, word == "accept")
            case _:
                raise MissingError("There is nothing here.")
        return Response(status_code=204)

    def _changes(self, person: Person, made: str, since: str) -> Response:
        """What has changed since a token, as REPORT sync-collection tells it, for programs of ours: a list of values
        for each card."""
        try:
            _, found, token, more = self.shelves.changes(person, made, since or None, None)
        except UnmetError as refusal:
            raise ConflictError(refusal.sentence) from None
        cards = [(one.name, one.etag, None if one.gone else one.data, one.by, one.added) for one in found]
        return Response(orjson.dumps({"cards": cards, "token": token, "more": more}), media_type="application/json")

    def _keep(self, person: Person, made: str, doc: Doc) -> list[Doc]:
        """Keep many cards: for each its new ETag, or the status and the reason why not."""
        cards = doc.get("cards")
        most = self.limits.at_once
        if not isinstance(cards, list) or len(cards) > most or not all(_is_card(one) for one in cards):
            raise WrongError(
                f"Cards are sent as a list of {most} at most, each with its name, its text and, to change it, its ETag."
            )
        if len({one["name"] for one in cards}) < len(cards):
            raise WrongError("Each card may be sent once.")
        wanted = [Wanted(one["name"], one["data"], one.get("etag"), "etag" not in one) for one in cards]
        return [
            {"status": outcome.status, "error": outcome.sentence}
            if isinstance(outcome, RefusalError)
            else {"status": 201 if outcome[1] else 204, "etag": outcome[0]}
            for outcome in self.shelves.put_many(person, made, wanted)
        ]

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
        return await _guarded(request, most, lambda body: answer(person, body))


class Logged:
    """Around the application: a line of JSON for each request, without addresses, titles or tokens."""

    def __init__(self, app: Starlette) -> None:
        self.app = app

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
            await self.app(scope, receive, noted)
        finally:
            # The first part of the path alone: what follows names people and lists.
            what = scope["path"].split("/")[1:3]
            known = what[0] if what[0] in ("dav", "api", "health", ".well-known") else "other"
            part = what[1] if len(what) > 1 and what[1] in ("lists", "people", "tokens", "connect") else ""
            line = {
                "at": now(), "request": number,
                "method": scope["method"] if scope["method"].isalpha() else "?", "what": f"{known}/{part}".rstrip("/"),
                "status": status, "ms": round((time.perf_counter() - begun) * 1000, 1),
            }  # fmt: skip
            log.info(json.dumps(line))


async def _guarded(request: Request, most: int, work: Callable[[bytes], Response]) -> Response:
    try:
        return await run_in_threadpool(work, await _body(request, most))
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


async def _body(request: Request, most: int) -> bytes:
    """What was sent, up to a bound. Raises TooLargeError."""
    length = request.headers.get("content-length", "")
    if length.isdigit() and int(length) > most:
        raise TooLargeError(f"That is more than the {most:,} octets that are taken here.")
    parts, size = [], 0
    async for part in request.stream():
        size += len(part)
        if size > most:
            raise TooLargeError(f"That is more than the {most:,} octets that are taken here.")
        parts.append(part)
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


def _is_card(one: object) -> bool:
    if not isinstance(one, dict) or not {"name", "data"} <= one.keys():
        return False
    return all(isinstance(one.get(name, ""), str) for name in ("name", "data", "etag")) and is_name(one["name"])


def _doc(body: bytes) -> Doc:
    try:
        doc = orjson.loads(body)
    except orjson.JSONDecodeError:
        raise WrongError("The request is no JSON.") from None
    if not isinstance(doc, dict):
        raise WrongError("The request must be a JSON object.")
    return doc


def _fields(doc: Doc) -> list[str] | None:
    """The fields to share that a request names; None where it names none."""
    some = doc.get("fields")
    if some is None:
        return None
    if not isinstance(some, list) or not all(isinstance(one, str) for one in some):
        raise WrongError("The fields to share must be a list of names.")
    if unknown := [one for one in some if one not in (*USUAL, *MORE)]:
        raise WrongError(f"There is no field {unknown[0][:40]} to share.")
    return [one for one in (*USUAL, *MORE) if one in some]


async def _to_dav(request: Request) -> Response:
    return RedirectResponse(ROOT, 301)
