"""Mail where it is: in files, or in one's own mailbox, of which only what is new is read, and nothing changed."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from barnacle.book import mail_state
from barnacle.book.mail_state import UpTo
from barnacle.book.store import Book
from barnacle.core.text import count, visible
from barnacle.core.typed import TYPE_CHECKING
from barnacle.files.mailbox import Mail, mail_of, mails
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail.drafts import mailbox
from barnacle.jobs.mail.sign_in import credentials

if TYPE_CHECKING:
    from barnacle.net.imap import Folder, Mailbox

INBOX = "INBOX"
_Tick = Callable[[int, int | None], None]


@dataclass(slots=True)
class Place:
    """Where to look, and how. Without `paths` it is the mailbox of the settings: these folders, and of them only what
    came since the last time for this `purpose`, unless `everything` is asked for. `since` is a day (ISO 8601)."""

    purpose: str
    paths: Sequence[Path] = ()
    folders: Sequence[str] = (INBOX,)
    everything: bool = False
    since: str = ""
    tick: _Tick = lambda done, total: None
    remarks: list[str] = field(default_factory=list)

    def files(self, headers_only: bool) -> Iterator[tuple[str, Mail]]:
        """The messages of the files, each with the name of its file. Raises FileError."""
        number = 0
        for path in self.paths:
            for mail in mails(path, headers_only):
                number += 1
                self.tick(number, None)
                yield path.name, mail


class Inbox:
    """One's mailbox while it is read; to be used with `with`, before the book is held."""

    def __init__(self, desk: Desk, place: Place) -> None:
        """Raises MailError."""
        from barnacle.net.imap import Mailbox

        server = mailbox(desk)
        self._place = place
        self.at = server.url
        self.goes_on: dict[str, bool] = {}  # whether a folder's reading continues an earlier one
        self.box: Mailbox = Mailbox(server, credentials(desk, server))
        self._read: dict[str, UpTo] = {}

    def __enter__(self) -> Inbox:
        return self

    def __exit__(self, *about: object) -> None:
        self.box.close()

    def messages(self, book: Book, wanted: Callable[[Mail], bool] | None = None) -> Iterator[tuple[str, Mail]]:
        """The messages of its folders, each with the name of its folder and under its number there: their headers, and,
        where that is `wanted`, all of it. Raises MailError, NotFoundError."""
        opened: set[str] = set()
        for name in self._place.folders:
            folder = self.box.open(name)
            if folder.name in opened:  # two names of one
                continue
            opened.add(folder.name)
            if (after := self._begin(book, folder)) is not None:
                yield from self._of(folder, after, wanted)

    def _begin(self, book: Book, folder: Folder) -> int | None:
        """After which message to begin; None where nothing in the folder has changed since."""
        validity, last, modseq = mail_state.read_up_to(book, self.at, folder.name, self._place.purpose)
        if last and validity != folder.validity:
            self._place.remarks.append(
                f"Your mail server has numbered {visible(folder.name)} anew, so all of it is read again."
            )
            last = 0
        if self._place.everything or self._place.since:
            last = 0
        self._read[folder.name] = UpTo(folder.validity, last, folder.modseq)
        self.goes_on[folder.name] = last > 0
        return None if last and modseq and modseq == folder.modseq else last

    def _of(self, folder: Folder, after: int, wanted: Callable[[Mail], bool] | None) -> Iterator[tuple[str, Mail]]:
        since = date.fromisoformat(self._place.since) if self._place.since else None
        total = None if after or since else folder.messages
        waiting = array("Q")
        for done, (number, octets) in enumerate(self.box.headers(folder, after, since), 1):
            mail = mail_of(number, octets, headers_only=True)
            self._place.tick(done, total)
            read = self._read[folder.name]
            self._read[folder.name] = read._replace(last=max(read.last, number))
            if wanted is not None and wanted(mail):
                waiting.append(number)
            else:
                yield folder.name, mail
        for number, octets in self.box.bodies(waiting):
            yield folder.name, mail_of(number, octets, headers_only=False)

    def has_new(self, folder: Folder) -> bool:
        """Whether something came into a folder since it was read."""
        return folder.next > self._read.get(folder.name, UpTo()).last + 1

    def remember(self, book: Book) -> None:
        """Keep how far each folder was read, inside a running transaction."""
        for name, read in self._read.items():
            mail_state.remember(book, self.at, name, self._place.purpose, read)

    def file_away(self, numbers: dict[str, list[int]], folder: str) -> str:
        """Move messages of the mailbox to a folder. Returns what was done, as a sentence. Raises MailError."""
        moved = 0
        full = self.box.in_full(folder)
        for name, some in numbers.items():
            if some and name != full:
                self.box.open(name, to_change=True)
                self.box.move(some, full)
                moved += len(some)
        return f"{count(moved, 'message')} moved to {visible(folder)}."
