"""Who asks: signing in by token, and slowing down who guesses or asks too much."""

from __future__ import annotations

import base64
import binascii
import threading
import time
from collections import deque

from barnacle.core.addresses import address_key
from barnacle.hub.base import Person, digest
from barnacle.hub.people import People
from barnacle.hub.refusals import SlowDownError, UnsignedError

# How many tokens that were good are remembered, so that somebody else's guessing does not lock their owners out.
_REMEMBERED = 10_000


class Guard:
    """Lets in who has a token. `requests` is how many one person may make in a second."""

    def __init__(self, people: People, requests: int) -> None:
        self.people = people
        self.requests = requests
        self._mutex = threading.Lock()  # requests are answered in several threads
        self._good: dict[str, None] = {}
        self._lately: dict[int, deque[float]] = {}

    def person(self, authorization: str, caller: str) -> Person:
        """Who asks, by HTTP Basic (RFC 7617: address and token) or Bearer (RFC 6750). Raises UnsignedError,
        SlowDownError."""
        address, secret = _credentials(authorization)
        if not secret:
            raise UnsignedError("Sign in with your address and a token.")
        keys = [f"caller {caller}", *([f"address {address_key(address)[:300]}"] if address else [])]
        known = digest(secret)
        if known not in self._good:
            self.hold_back(keys)
        person = self.people.who_has(secret, address)
        if person is None:
            with self._mutex:
                self._good.pop(known, None)
            self.people.failed(keys)
            raise UnsignedError("That token is not known, or has been revoked.")
        if known not in self._good:
            with self._mutex:
                self._good[known] = None
                if len(self._good) > _REMEMBERED:
                    del self._good[next(iter(self._good))]
            if address:
                self.people.forgive(keys[-1])
        self._not_too_fast(person)
        return person

    def hold_back(self, keys: list[str]) -> None:
        """Raises SlowDownError while these have to wait."""
        wait = self.people.wait_for(keys)
        if wait > 0:
            raise SlowDownError(wait)

    def _not_too_fast(self, person: Person) -> None:
        moment = time.monotonic()
        with self._mutex:
            lately = self._lately.setdefault(person.id, deque())
            while lately and lately[0] < moment - 1:
                lately.popleft()
            if len(lately) >= self.requests:
                raise SlowDownError(1 - (moment - lately[0]))
            lately.append(moment)


def _credentials(authorization: str) -> tuple[str | None, str]:
    scheme, _, rest = authorization.strip().partition(" ")
    if scheme.lower() == "bearer":
        return None, rest.strip()
    if scheme.lower() == "basic":
        try:
            address, _, secret = base64.b64decode(rest.strip(), validate=True).decode("utf-8").partition(":")
        except (binascii.Error, UnicodeDecodeError, ValueError):
            return None, ""
        return address, secret
    return None, ""
