"""Why the hub does not do what it was asked, each with its status (RFC 9110, RFC 4918)."""

from __future__ import annotations

from barnacle.core.errors import BarnacleError


class Refusal(BarnacleError):
    """A request that is answered with a status of 4xx or 5xx and a sentence."""

    status = 400

    def __init__(self, sentence: str) -> None:
        super().__init__(sentence)
        self.sentence = sentence


class Wrong(Refusal):
    """What was sent cannot be what it should be."""


class Unsigned(Refusal):
    """Nobody, or somebody with a token that is none, asks."""

    status = 401


class Forbidden(Refusal):
    """A role that lacks the right."""

    status = 403


class Missing(Refusal):
    """What is not there, or is nobody's business to know of."""

    status = 404


class Conflict(Refusal):
    """What the state of things does not allow."""

    status = 409


class TooLarge(Refusal):
    """More octets than the hub takes."""

    status = 413


class Slower(Refusal):
    """Too many tries; `seconds` is how long to wait (RFC 9110 section 10.2.3)."""

    status = 429

    def __init__(self, seconds: float) -> None:
        super().__init__("Too many tries. Wait a little, then try again.")
        self.seconds = max(1, round(seconds + 0.5))


class NeedsMore(Refusal):
    """No room (RFC 4918 section 11.5)."""

    status = 507


class Unmet(Refusal):
    """A precondition that a standard names (RFC 4918 section 16, RFC 6352 section 6.3.2.1) does not hold; `href` is the
    card that stands in the way."""

    def __init__(self, condition: str, sentence: str, status: int = 403, href: str = "") -> None:
        super().__init__(sentence)
        self.condition = condition
        self.status = status
        self.href = href
