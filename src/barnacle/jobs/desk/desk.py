"""Where a person's things are: home folder, book, settings."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from barnacle.book import settings
from barnacle.book.opening import make_book, open_book, told_of_damage
from barnacle.book.store import Book
from barnacle.core.addresses import Mailbox
from barnacle.core.errors import AmbiguousError, BarnacleError, UnclearError
from barnacle.core.text import visible
from barnacle.core.typed import Any, TypeVar
from barnacle.jobs.desk.settings import EARLIER, check, default, unknown

T = TypeVar("T")
Choose = Callable[[str, Sequence[str]], int | None]
CANDIDATES_SHOWN = 12
# How settings end that name a command to be run.
COMMAND = "_command"


def _nobody_to_ask(question: str, candidates: Sequence[str]) -> int | None:
    return None


class Desk:
    """The folder and book that a command works with. `choose` asks the user which candidate is meant (its place in
    the list), or gives None where nobody can be asked; `secret` asks for a password, and gives nothing there."""

    def __init__(
        self,
        home: Path | None = None,
        book_path: Path | None = None,
        choose: Choose = _nobody_to_ask,
        secret: Callable[[str], str] = lambda question: "",
    ) -> None:
        self.home = home
        self.book_path = book_path
        self.choose = choose
        self.secret = secret
        self._settings: dict[str, Any] | None = None

    @property
    def settings_path(self) -> Path:
        """The settings file, in BARNACLE_HOME or the platform's folder for settings."""
        return (self._home() or _platform("config")) / settings.FILE_NAME

    @property
    def path(self) -> Path:
        """The book's file."""
        return self.book_path or (self._home() or _platform("data")) / "barnacle.book"

    @property
    def token_path(self) -> Path:
        """The file for the token of the hub, where there is no keyring."""
        return self.path.with_name(f"{self.path.name}.hub-token")

    @property
    def passwords_path(self) -> Path:
        """The file for passwords of mail servers, where there is no keyring."""
        return self.settings_path.with_name("mail-passwords.toml")

    @property
    def files_beside(self) -> dict[str, Path]:
        """The files that belong to a book, by the names that they have within a copy: the settings first, then what
        lets one in elsewhere."""
        return {
            settings.FILE_NAME: self.settings_path,
            "hub-token": self.token_path,
            self.passwords_path.name: self.passwords_path,
        }

    def read_beside(self) -> dict[str, str]:
        """Those that are there."""
        found = {}
        for name, path in self.files_beside.items():
            with suppress(OSError, UnicodeDecodeError):
                found[name] = path.read_text("utf-8")
        return found

    def _home(self) -> Path | None:
        named = os.environ.get("BARNACLE_HOME")
        return self.home or (Path(named) if named else None)

    @property
    def settings(self) -> dict[str, Any]:
        """All settings as `section.key`; read once."""
        if self._settings is None:
            self._settings = _by_now(settings.read(self.settings_path))
            if self.book_path and not self.settings_path.exists() and (text := self._came_along()):
                came = settings.parse(text, self.book_path)
                # Whoever made the copy must not have commands run here.
                self._settings = _by_now({key: value for key, value in came.items() if not key.endswith(COMMAND)})
        return self._settings

    def _came_along(self) -> str:
        """The settings within a copy of a book, which hold while it is used on a computer that has none."""
        from barnacle.book import copies

        return copies.beside(self.path).get(settings.FILE_NAME, "")

    def setting(self, key: str) -> Any:
        """A setting, or its default. Raises UnclearError where the file has a value that it cannot have."""
        value = self.settings.get(key, default(key))
        check(key, value)
        return value

    @staticmethod
    def may_have_changed() -> bool:
        """Whether any book was, or may have been, written to since the program began."""
        return Book.may_have_changed

    def read_again(self) -> None:
        """The settings have changed."""
        self._settings = None

    def unknown_settings(self) -> list[str]:
        """A sentence for each key in the settings file that means nothing, if the file was looked at."""
        return unknown(self._settings or {}, self.settings_path.name)

    @property
    def region(self) -> str:
        """The country (ISO 3166) that phone numbers without one are read as from."""
        region = str(self.setting("me.region")).upper()
        return "GB" if region == "UK" else region  # as people write it into the file

    @property
    def me(self) -> Mailbox:
        """The sender. Raises UnclearError before `setup`."""
        address = self.setting("me.address")
        if not address:
            raise UnclearError('First say who you are: `barnacle setup --me "Your Name <you@your.address>"`.')
        return Mailbox(self.setting("me.name"), address)

    @contextmanager
    def open(self, make: bool = False) -> Iterator[Book]:
        """The book, open for the length of the block. Raises BookError, also where it turns out to be damaged."""
        book = (make_book if make else open_book)(self.path)
        try:
            with told_of_damage(book):
                yield book
            if book.has_changed:
                self._copy_weekly(book)
        finally:
            book.close()

    def _copy_weekly(self, book: Book) -> None:
        """Where the user wants one, a copy each week; that it fails must not look as if the command had."""
        if self.setting("copies.weekly"):
            from barnacle.book import copies

            with suppress(BarnacleError, OSError):
                copies.make_weekly(book, self.read_beside())

    def pick(
        self, what: str, text: str, found: Sequence[T], tell_apart: Callable[[T], str], several: str = ""
    ) -> T | None:
        """The one of several that the user means; None when there is none. `several` is what they are called, if not
        `what` with an s. Raises AmbiguousError."""
        if len(found) < 2:
            return found[0] if found else None
        lines = [tell_apart(one) for one in found]
        if len(lines) <= CANDIDATES_SHOWN:
            chosen = self.choose(f"Which {what} is `{visible(text, 60)}`?", lines)
            if chosen is not None:
                return found[chosen]
        more = [f"… and {len(lines) - CANDIDATES_SHOWN} more"] if len(lines) > CANDIDATES_SHOWN else []
        raise AmbiguousError(
            f"`{visible(text, 60)}` fits {len(found)} {several or f'{what}s'}. Give more of the name, or the address:",
            lines[:CANDIDATES_SHOWN] + more,
        )


def _by_now(found: dict[str, Any]) -> dict[str, Any]:
    """Settings under the names that they have by now."""
    return {EARLIER[key]: found[key] for key in EARLIER.keys() & found.keys()} | {
        key: value for key, value in found.items() if key not in EARLIER
    }


def _platform(kind: str) -> Path:
    import platformdirs

    folder = platformdirs.user_config_dir if kind == "config" else platformdirs.user_data_dir
    return Path(folder("barnacle", appauthor=False))
