"""Everything that can go wrong for a reason the user can understand.

BarnacleError            a sentence for the user; exit code 2
├── UnclearError              a value, or a command, that cannot be what it should be
│   └── BadAddressError       an e-mail address that cannot be one
├── NotFoundError             a name that fits nothing
├── AmbiguousError            a name that fits several; carries them
├── TakenError                a title that is used already
├── BookError            the book cannot be opened, read or written
│   └── UnwrittenError        a change could not be written
├── FileError            a file cannot be read as what it should be
├── UndoRefusedError          a later change was built on the one to take back
├── StoppedError              nothing was done, to protect privacy or because a question got no answer
├── MailError            the mail server cannot be reached or does not let us in
├── DirectoryError       the same of the organisation's directory
└── HubError             the same of the hub through which lists are shared
"""

from __future__ import annotations

from collections.abc import Sequence


class BarnacleError(Exception):
    """Base of all; `str()` is one or two plain sentences that say what to do next, `code` a word for scripts."""

    exit_code = 2
    code = "error"


class UnclearError(BarnacleError):
    """A value, or a command, that cannot be what it should be."""

    code = "unclear"


class BadAddressError(UnclearError):
    """An address that cannot be one. `reason` is the part after "is not an address: "."""

    code = "bad_address"

    def __init__(self, text: str, reason: str) -> None:
        self.text = text
        self.reason = reason
        super().__init__(f"`{text}` is not an address: {reason}.")


class NotFoundError(BarnacleError):
    """A name that fits nothing in the book."""

    code = "not_found"


class AmbiguousError(BarnacleError):
    """A name that fits several; `candidates` are lines that tell them apart."""

    code = "ambiguous"

    def __init__(self, sentence: str, candidates: Sequence[str]) -> None:
        self.candidates = list(candidates)
        super().__init__("\n".join([sentence, *(f"  {line}" for line in candidates)]))


class TakenError(BarnacleError):
    """A title that another list has already."""

    code = "taken"


class BookError(BarnacleError):
    """The book cannot be opened, read or written."""

    code = "book"


class UnwrittenError(BookError):
    """A change could not be written, and is not there. `why` is the part before that."""

    def __init__(self, why: str, remedy: str = "") -> None:
        self.why = why
        super().__init__(f"{why}. Nothing was changed{remedy and f'; {remedy}'}.")


class FileError(BarnacleError):
    """A file cannot be read as what it should be."""

    code = "file"


class UndoRefusedError(BarnacleError):
    """A change that cannot be taken back, with the reason."""

    code = "cannot_undo"


class StoppedError(BarnacleError):
    """Nothing was done: to protect somebody's privacy, or because a question was not answered."""

    code = "stopped"


class DirectoryError(BarnacleError):
    """The organisation's directory cannot be reached, or turns us away."""

    code = "directory"


class MailError(BarnacleError):
    """The mail server cannot be reached, or does not let us in."""

    code = "mail"


class HubError(BarnacleError):
    """The hub cannot be reached, or does not let us in."""

    code = "hub"


class SignedOutError(HubError):
    """There is no token for the hub, or the hub takes it no longer: trying again does not help."""

    code = "signed_out"
