"""Regular expressions that are compiled when they are first asked: a command needs few of them, and starts sooner."""

from __future__ import annotations

import re

from barnacle.core.typed import Any, cast


class Lazy:
    """What `pattern` gives: like a compiled pattern to whoever asks it."""

    def __init__(self, text: str, flags: int) -> None:
        self._said = text, flags

    def compiled(self) -> re.Pattern[str]:
        """The pattern itself."""
        return re.compile(*self._said)

    def __getattr__(self, name: str) -> Any:
        found = getattr(self.compiled(), name)
        # From the second time on it is found as quickly as on a pattern.
        self.__dict__[name] = found
        return found


def pattern(text: str, flags: int = 0) -> re.Pattern[str]:
    """Like `re.compile`, at the first use; a mistake in `text` is raised then."""
    return cast("re.Pattern[str]", Lazy(text, flags))
