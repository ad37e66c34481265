"""The library for HTTP without its own command line, which takes longer to load than all the rest of it."""

from __future__ import annotations

import sys

# As if that were not installed, which the library is ready for.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]

import httpx  # noqa: E402

__all__ = ["httpx"]
