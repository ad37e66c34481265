"""Who asks: signing in by token, and slowing down who guesses or asks too much."""

from __future__ import annotations

import base64
import binascii
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager

from barnacle.core.addresses import address_key
from barnacle.hub.base import Person
from barnacle.hub.people import People
from barnacle.hub.refusals import SlowDownError, UnsignedError

# So many requests of one person are answered at a time.
AT_ONCE = 32


class Guard:
    """Lets in who has a token. `requests` is how many one person may make in a second."""

    def __init__(self, people: People, requests: int) -> None:
        self.people = people
        self.requests = requests
        self._mutex = threading.Lock()  # requests are answered in several threads
        self._lately: dict[int, deque[float]] = {}
        self._at_work: dict[int, int] = {}
        self.wrong = 0  # tries, since the start

    def person(self, authorization: str, caller: str) -> Person:
        """Who asks, by HTTP Basic (RFC 7617: address and token) or Bearer (RFC 6750). A token that is good is let in
        whatever others have tried: nobody guesses 256 random bits. Raises UnsignedError, SlowDownError."""
        address, secret = _credentials(authorization)
        if not secret:
            raise UnsignedError("Sign in with your address and a token.")
        person = self.people.who_has(secret, address, caller)
        if person is None:
            self.wrong_try([f"caller {caller}", *([f"address {address_key(address)[:300]}"] if address else [])])
            raise UnsignedError("That token is wrong, or has been revoked.")
        self.not_too_fast(person)
        return person

    def wrong_try(self, keys: list[str]) -> None:
        """Somebody tried what is no token and no code. Raises SlowDownError where they have to wait by now."""
        self.wrong += 1
        self.hold_back(keys)
        self.people.failed(keys)

    @contextmanager
    def at_work(self, person: Person) -> Iterator[None]:
        """A request of somebody is being answered. Raises SlowDownError where too many of theirs are already."""
        with self._mutex:
            if self._at_work.get(person.id, 0) >= AT_ONCE:
                raise SlowDownError(1)
            self._at_work[person.id] = self._at_work.get(person.id, 0) + 1
        try:
            yield
        finally:
            with self._mutex:
                self._at_work[person.id] -= 1
                if not self._at_work[person.id]:
                    del self._at_work[person.id]

    def hold_back(self, keys: list[str]) -> None:
        """Raises SlowDownError while these have to wait."""
        wait = self.people.wait_for(keys)
        if wait > 0:
            raise SlowDownError(wait)

    def not_too_fast(self, person: Person, number: int = 1) -> None:
        """Count requests of somebody. Raises SlowDownError where they are too many in a second."""
        moment = time.monotonic()
        with self._mutex:
            lately = self._lately.setdefault(person.id, deque())
            while lately and lately[0] < moment - 1:
                lately.popleft()
            if len(lately) >= self.requests:
                raise SlowDownError(1 - (moment - lately[0]))
            lately.extend([moment] * number)


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
