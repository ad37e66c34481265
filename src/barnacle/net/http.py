"""The library for HTTP without its own command line, which takes longer to load than all the rest of it."""

from __future__ import annotations

import sys
from types import ModuleType

_COMMAND_LINE = ModuleType("httpx._main")
_COMMAND_LINE.main = None  # type: ignore[attr-defined]
sys.modules.setdefault("httpx._main", _COMMAND_LINE)

import httpx  # noqa: E402

__all__ = ["httpx"]
