"""Why the hub does not do what it was asked, each with its status (RFC 9110, RFC 4918)."""

from __future__ import annotations

from barnacle.core.errors import BarnacleError


class RefusalError(BarnacleError):
    """A request that is answered with a status of 4xx or 5xx and a sentence."""

    status = 400

    def __init__(self, sentence: str) -> None:
        super().__init__(sentence)
        self.sentence = sentence


class WrongError(RefusalError):
    """What was sent cannot be what it should be."""


class UnsignedError(RefusalError):
    """Nobody, or somebody with a token that is none, asks."""

    status = 401


class ForbiddenError(RefusalError):
    """A role that lacks the right."""

    status = 403


class MissingError(RefusalError):
    """What is not there, or is nobody's business to know of."""

    status = 404


class ConflictError(RefusalError):
    """What the state of things does not allow."""

    status = 409


class TooLargeError(RefusalError):
    """More octets than the hub takes."""

    status = 413


class NotJSONError(RefusalError):
    """A body of another media type."""

    status = 415


class TooSlowError(RefusalError):
    """A request that does not come to an end (RFC 9110 section 15.5.9)."""

    status = 408


class SlowDownError(RefusalError):
    """Too many tries; `seconds` is how long to wait (RFC 9110 section 10.2.3)."""

    status = 429

    def __init__(self, seconds: float) -> None:
        super().__init__("Too many attempts. Wait a little, then try again.")
        self.seconds = max(1, round(seconds + 0.5))


class NeedsMoreError(RefusalError):
    """No room (RFC 4918 section 11.5)."""

    status = 507


class UnmetError(RefusalError):
    """A precondition that a standard names (RFC 4918 section 16, RFC 6352 section 6.3.2.1) does not hold; `href` is the
    card that stands in the way."""

    def __init__(self, condition: str, sentence: str, status: int = 403, href: str = "") -> None:
        super().__init__(sentence)
        self.condition = condition
        self.status = status
        self.href = href
