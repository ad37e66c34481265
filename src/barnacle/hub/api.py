"""The JSON interface below /api/ (docs/hub.md): for what no standard covers, and for many cards at once."""

from __future__ import annotations

from urllib.parse import unquote

import orjson
from starlette.responses import JSONResponse, Response

from barnacle.core.errors import BarnacleError
from barnacle.core.sharing import MORE, USUAL
from barnacle.core.typed import Any
from barnacle.hub.base import CARDS, EVERYTHING, Person
from barnacle.hub.dav_parts import is_name
from barnacle.hub.guard import Guard
from barnacle.hub.house.api import HouseApi
from barnacle.hub.lists import Lists
from barnacle.hub.people import People
from barnacle.hub.refusals import ConflictError, ForbiddenError, MissingError, RefusalError, UnmetError, WrongError
from barnacle.hub.shelves import Put, Shelves, Wanted

Doc = dict[str, Any]


class Api:
    """Answers requests below /api/, but for the one that asks for a token."""

    def __init__(self, people: People, lists: Lists, shelves: Shelves, guard: Guard, house: HouseApi) -> None:
        self.people = people
        self.lists = lists
        self.shelves = shelves
        self.guard = guard
        self.house = house

    def answer(self, method: str, parts: list[str], person: Person, doc: Doc) -> Response:
        """The answer to a request whose path has these names. Raises RefusalError."""
        if person.scope != EVERYTHING and not _about_cards(method, parts):
            raise ForbiddenError("This token reads and writes cards, and nothing else.")
        match method, parts:
            case "POST", ["many"]:
                return self._many(person, doc)
            case "GET", ["tokens"]:
                return JSONResponse(self.people.tokens(person))
            case "POST", ["tokens"]:
                scope = str(doc.get("scope", CARDS))
                return JSONResponse({"token": self.people.new_token(person, str(doc.get("name", "")), scope)}, 201)
            case "POST", ["tokens", "revoke"]:  # any name, also one that no path can have
                self.people.revoke(person, str(doc.get("name", "")))
            case "DELETE", ["tokens", name]:
                self.people.revoke(person, name)
            case _, ["house", *rest]:
                return self.house.answer(method, rest, person, doc)
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
            case "GET", ["lists", made, "history"]:
                return JSONResponse(self.shelves.history(person, made))
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

    def _many(self, person: Person, doc: Doc) -> Response:
        """Many requests answered together, each as by itself. Once the answer is full, those that are left are answered
        with 503: they may be asked again."""
        requests = doc.get("requests")
        if (
            not isinstance(requests, list)
            or len(requests) > self.shelves.limits.together
            or not all(map(_is_request, requests))
        ):
            raise WrongError(f"Requests are a list of {self.shelves.limits.together} at most: method, path, body.")
        self.guard.not_too_fast(person, len(requests) - 1)
        answers: list[Doc] = []
        octets = 0
        for one in requests:
            if octets > self.shelves.limits.answer_octets:
                answers.append({"status": 503, "body": {"error": "This answer is full. Ask again."}})
                continue
            reply = self._one_of_many(person, one)
            octets += len(reply.body)
            body = orjson.Fragment(reply.body) if reply.body else None
            answers.append({"status": reply.status_code, "body": body})
        return Response(orjson.dumps({"answers": answers}), media_type="application/json")

    def _one_of_many(self, person: Person, one: Doc) -> Response:
        parts = parts_of(one["path"])
        if parts == ["many"]:
            raise WrongError("Not within each other.")
        try:
            return self.answer(one["method"], parts, person, one.get("body") or {})
        except RefusalError as refusal:
            return JSONResponse({"error": refusal.sentence}, refusal.status)
        except BarnacleError as error:
            return JSONResponse({"error": str(error)}, 400)

    def _changes(self, person: Person, made: str, since: str) -> Response:
        """What has changed since a token, as REPORT sync-collection tells it, for programs of ours: a list of values
        for each card."""
        try:
            _, found, token, more = self.shelves.changes(person, made, since or None, None)
        except UnmetError as refusal:
            raise ConflictError(refusal.sentence) from None
        cards = [
            (one.name, one.etag, None if one.gone else one.data, one.by, one.added, one.last_by, one.changed)
            for one in found
        ]
        return Response(orjson.dumps({"cards": cards, "token": token, "more": more}), media_type="application/json")

    def _keep(self, person: Person, made: str, doc: Doc) -> list[Doc]:
        """Keep many cards: for each its new ETag, or the status and the reason why not."""
        cards = doc.get("cards")
        most = self.shelves.limits.at_once
        if not isinstance(cards, list) or len(cards) > most or not all(_is_card(one) for one in cards):
            raise WrongError(
                f"Cards are sent as a list of {most} at most, each with its name, its text and, to change it, its ETag."
            )
        if len({one["name"] for one in cards}) < len(cards):
            raise WrongError("Each card may be sent once.")
        wanted = [
            Wanted(one["name"], one["data"], one.get("etag"), None if "etag" in one or one["data"] is None else "*")
            for one in cards
        ]
        return [_outcome(one) for one in self.shelves.put_many(person, made, wanted)]


def _outcome(one: Put | RefusalError) -> Doc:
    if isinstance(one, RefusalError):
        return {"status": one.status, "error": one.sentence}
    return {"status": 201 if one.new else 204, "etag": one.etag} if one.etag else {"status": 204, "gone": True}


def _about_cards(method: str, parts: list[str]) -> bool:
    """Whether a request reads lists and cards, or writes cards."""
    match method, parts:
        case ("GET", ["lists"] | ["lists", _, "people"]) | ("POST", ["many"]):
            return True
        case "POST", ["lists", _, "changes" | "cards" | "opt-outs"]:
            return True
        case "GET", ["lists", _, "history"]:
            return True
    return False


def parts_of(path: str) -> list[str]:
    """The names in a path below `/api/`, each decoded once: what is a slash in a name does not part it."""
    return [unquote(part) for part in path.strip("/").split("/")[1:]]


def _is_request(one: object) -> bool:
    return (
        isinstance(one, dict)
        and isinstance(one.get("method"), str)
        and isinstance(one.get("path"), str)
        and one["path"].startswith("api/")
        and isinstance(one.get("body"), dict | None)
    )


def _is_card(one: object) -> bool:
    if not isinstance(one, dict) or not {"name", "data"} <= one.keys():
        return False
    texts = all(isinstance(one.get(name, ""), str) for name in ("name", "etag"))
    return texts and isinstance(one["data"], str | None) and is_name(one["name"])


def read_doc(body: bytes) -> Doc:
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
