"""House lists in the JSON interface: below /api/house (docs/hub.md)."""

from __future__ import annotations

from starlette.responses import JSONResponse, Response

from barnacle.core.typed import Any
from barnacle.hub.base import Person
from barnacle.hub.house.held import Held
from barnacle.hub.house.houses import Houses
from barnacle.hub.house.people import HousePeople
from barnacle.hub.refusals import MissingError, WrongError

Doc = dict[str, Any]
_MOST_NUMBERS = 200


class HouseApi:
    """Answers requests about house lists."""

    def __init__(self, houses: Houses, people: HousePeople, held: Held) -> None:
        self.houses = houses
        self.people = people
        self.held = held

    def answer(self, method: str, parts: list[str], person: Person, doc: Doc) -> Response:
        """The answer to a request whose path has these names behind `house`. Raises RefusalError."""
        match method, parts:
            case "GET", []:
                return JSONResponse(self.houses.mine(person))
            case "POST", ["find"]:
                return JSONResponse(self.houses.find(person, str(doc.get("words", ""))))
            case "GET", ["held"]:
                return JSONResponse(self.held.waiting(person, None))
            case "POST", ["held"]:
                return JSONResponse(self._settle(person, doc))
            case "GET", [made]:
                return JSONResponse(self.houses.rules(person, made))
            case "POST", [made]:
                return JSONResponse(self.houses.open(person, made, str(doc.get("at", "")), doc), 201)
            case "PATCH", [made]:
                return JSONResponse(self.houses.change(person, made, doc))
            case "DELETE", [made]:
                return JSONResponse({"address": self.houses.close(person, made)})
            case "GET", [made, "held"]:
                return JSONResponse(self.held.waiting(person, made))
            case "GET", [made, "members"]:
                return JSONResponse(self.houses.members(person, made))
            case "GET", [made, "numbers"]:
                return JSONResponse(self.houses.numbers(person, made))
            case "POST", [made, "invite"]:
                return JSONResponse(self.people.invite(person, made, _people(doc)))
            case "POST", [made, "add"]:
                return JSONResponse(self.people.add(person, made, _people(doc)))
            case "POST", [made, "join"]:
                return JSONResponse({"state": self.people.join(person, made)})
            case "POST", [made, "leave"]:
                self.people.leave(person, made)
                return Response(status_code=204)
        raise MissingError("There is nothing here.")

    def _settle(self, person: Person, doc: Doc) -> list[Doc]:
        numbers, yes = doc.get("numbers"), doc.get("yes")
        good = isinstance(numbers, list) and 0 < len(numbers) <= _MOST_NUMBERS and isinstance(yes, bool)
        if not good or not all(type(one) is int and 0 < one < 1 << 53 for one in numbers or ()):
            raise WrongError(f"Name up to {_MOST_NUMBERS} numbers, and whether they are let through (`yes`).")
        return self.held.settle(person, numbers or [], bool(yes), str(doc.get("why") or ""))


def _people(doc: Doc) -> list[tuple[str, str]]:
    people = doc.get("people")
    if not isinstance(people, list) or not all(
        isinstance(one, list) and len(one) == 2 and all(isinstance(text, str) for text in one) for one in people
    ):
        raise WrongError("People are a list of pairs: address and name.")
    return [(address[:400], name[:400]) for address, name in people]
