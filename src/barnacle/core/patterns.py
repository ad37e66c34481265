"""Regular expressions that are compiled when they are first asked: a command needs few of them, and starts sooner."""

from __future__ import annotations

import re
from typing import Any, cast


class _Lazy:
    def __init__(self, text: str, flags: int) -> None:
        self._said = text, flags

    def __getattr__(self, name: str) -> Any:
        found = getattr(re.compile(*self._said), name)
        # From the second time on it is found as quickly as on a pattern.
        self.__dict__[name] = found
        return found


def pattern(text: str, flags: int = 0) -> re.Pattern[str]:
    """Like `re.compile`, at the first use; a mistake in `text` is raised then."""
    return cast("re.Pattern[str]", _Lazy(text, flags))
